package web_test

import (
	"net/url"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/wire/api"
)

// walkWhy asks why things have happened to somebody, or have not.
func walkWhy(x *talk, _ *story) {
	t := x.site.t
	ada := x.Person("stu-001").ID
	all := get[api.Page[api.Thing]](x, "/people/"+ada+"/things")
	kinds := map[string]int{}
	for _, one := range all.Items {
		kinds[one.Kind]++
	}
	assert.True(t, kinds["section"] > 0 && kinds["badge"] > 0 && kinds["rule"] > 0, kinds)
	few := get[api.Page[api.Thing]](x, "/people/"+ada+"/things?text=prop-a")
	require.Equal(t, 1, few.Total)
	ask := func(kind, id string) api.Why {
		return get[api.Why](x, "/people/"+ada+"/why?kind="+kind+"&thing="+id)
	}
	in := ask("section", x.Section("PROP-A").ID)
	assert.True(t, in.Steps[0].Met, in)
	out := ask("section", x.Section("ORCH-A").ID)
	assert.Equal(t, []any{false, 1, "it does not", "register office"},
		[]any{out.Happened, len(out.Steps), out.Steps[0].Found, out.Steps[0].Owner})
	for _, one := range all.Items {
		if one.Kind != "section" {
			a := ask(one.Kind, url.QueryEscape(one.ID))
			require.NotEmpty(t, a.Steps, one)
			for i, step := range a.Steps {
				assert.Equal(t, a.Happened || i < len(a.Steps)-1, step.Met, a)
				assert.NotEmpty(t, step.Needed+step.Found)
			}
		}
	}
	for _, bad := range []string{"section", "badge", "stage", "rule", "score", "event"} {
		x.do(404, "GET", "/people/"+ada+"/why?kind="+bad+"&thing=none", nil)
		x.do(404, "GET", "/people/"+ada+"/why?kind="+bad+"&thing=00000000-0000-7000-8000-000000000000", nil)
	}
	x.do(422, "GET", "/people/"+ada+"/why?kind=king&thing=x", nil)
	x.do(404, "GET", "/people/00000000-0000-7000-8000-000000000000/why?kind=section&thing=x", nil)
}

// walkPersons walks what is done with people whom two registers have.
func walkPersons(x *talk, _ *story) {
	t := x.site.t
	west := x.SecondSchool(
		apptest.Pupil{
			ID: "w-11", Identifier: "stu-011", Email: x.Person("stu-011").Email, Given: "Kira",
			Family: "Kale",
		},
		apptest.Pupil{
			ID: "w-14", Identifier: "stu-014", Email: "other@west.example", Given: "Nils",
			Family: "Nettle",
		},
		apptest.Pupil{
			ID: "w-15", Identifier: "stu-015", Email: "none@west.example", Given: "Somebody",
			Family: "Else",
		})
	require.NoError(t, x.site.Persons.LookFor(t.Context(), west.ID))
	page := get[api.SamePeople](x, "/same-people?limit=2")
	require.Len(t, page.Items, 2)
	assert.Equal(t, map[string]int{"sure": 1, "likely": 1, "unsure": 1}, page.Counts)
	rest := get[api.SamePeople](x, "/same-people?limit=2&cursor="+page.Next)
	require.Len(t, rest.Items, 1)
	assert.Equal(t, "unsure", rest.Items[0].Certainty)
	assert.Len(t, get[api.SamePeople](x, "/same-people?certainty=likely&text=nettle").Items, 1)
	x.do(422, "GET", "/same-people?certainty=perhaps", nil)

	x.do(422, "POST", "/same-people/two-people", api.Pairs{IDs: []string{}})
	assert.Equal(t, 1, post[api.Decided](x, "/same-people/two-people",
		api.Pairs{IDs: []string{rest.Items[0].ID}}).Count)
	two := get[api.Page[api.TwoPeople]](x, "/same-people/two-people").Items
	require.Len(t, two, 1)
	x.do(204, "DELETE", "/same-people/two-people/"+two[0].ID, nil)
	x.do(404, "DELETE", "/same-people/two-people/"+two[0].ID, nil)

	x.do(422, "POST", "/same-people/merge", api.MergeSame{})
	x.do(409, "POST", "/same-people/merge", api.MergeSame{Sure: true, Expected: 7})
	done := post[api.MergeOutcomes](x, "/same-people/merge", api.MergeSame{Sure: true, Expected: 1})
	assert.Equal(t, 1, done.Merged)
	kira := page.Items[0]
	shown := get[api.PersonPage](x, "/people/"+kira.B.PersonID)
	assert.Equal(t, kira.A.PersonID, shown.ID, "the id that she had leads to who she is")
	assert.Len(t, shown.Records, 2)
	require.Len(t, shown.Merges, 1)

	nils := page.Items[1]
	o := post[api.MergeOutcome](x, "/people/"+nils.B.PersonID+"/merge", api.MergePeople{OtherID: nils.A.PersonID})
	assert.Empty(t, o.Why)
	o = post[api.MergeOutcome](x, "/people/"+nils.B.PersonID+"/merge", api.MergePeople{OtherID: nils.A.PersonID})
	assert.Contains(t, o.Why, "one person already")
	assert.Len(t, get[api.Page[api.Merge]](x, "/merges").Items, 2)
	assert.Equal(t, shown.Merges[0].ID, post[api.Merge](x, "/merges/"+shown.Merges[0].ID+"/split", nil).ID)
	x.do(409, "POST", "/merges/"+shown.Merges[0].ID+"/split", nil)
	x.do(404, "POST", "/merges/00000000-0000-0000-0000-000000000000/split", nil)
	assert.Len(t, get[api.Page[api.Merge]](x, "/merges?person="+nils.B.PersonID).Items, 1)
}
