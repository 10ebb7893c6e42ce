package web_test

import (
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/access"
	"kanban/internal/app/connections"
	"kanban/internal/core/learning"
	"kanban/internal/core/roster"
	"kanban/internal/core/stage"
	"kanban/internal/core/visibility"
	"kanban/internal/standin/signin"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/wire/api"
	"kanban/internal/wire/webhook"
)

// talk makes requests as an administrator and holds every answer against the description.
type talk struct {
	*site
	*described
}

// do makes a request below /api/v1 and requires its status; body is JSON, or nil.
func (x *talk) do(want int, method, path string, body any, header ...string) string {
	x.site.t.Helper()
	text, _ := x.headed(want, method, path, body, header...)
	return text
}

func (x *talk) headed(want int, method, path string, body any, header ...string) (string, http.Header) {
	x.site.t.Helper()
	sent := ""
	switch b := body.(type) {
	case nil:
	case string:
		sent = b
	default:
		raw, err := json.Marshal(b)
		require.NoError(x.site.t, err)
		sent = string(raw)
	}
	resp, text := x.ask(method, "/api/v1"+path, sent, append(x.bearer(), header...)...)
	require.Equal(x.site.t, want, resp.StatusCode, "%s %s: %s", method, path, text)
	x.check(x.find(method, "/api/v1"+path), resp, text)
	return text, resp.Header
}

// as reads an answer.
func as[T any](x *talk, text string) T {
	x.site.t.Helper()
	var out T
	require.NoError(x.site.t, json.Unmarshal([]byte(text), &out), text)
	return out
}

func get[T any](x *talk, path string) T {
	x.site.t.Helper()
	return as[T](x, x.do(http.StatusOK, "GET", path, nil))
}

func made[T any](x *talk, path string, body any) T {
	x.site.t.Helper()
	return as[T](x, x.do(http.StatusCreated, "POST", path, body))
}

func post[T any](x *talk, path string, body any) T {
	x.site.t.Helper()
	return as[T](x, x.do(http.StatusOK, "POST", path, body))
}

// changes sends a change that was made from the present state, and one more from that
// state, which is refused.
func (x *talk) changes(method, path string, body any) string {
	x.site.t.Helper()
	_, header := x.headed(http.StatusOK, "GET", path, nil)
	seen := header.Get("ETag")
	require.NotEmpty(x.site.t, seen, path)
	want := x.find(method, "/api/v1"+path).success
	x.do(http.StatusPreconditionFailed, method, path, body, "If-Match", `"9999"`)
	text := x.do(want, method, path, body, "If-Match", seen)
	if method != http.MethodDelete {
		_, header = x.headed(http.StatusOK, "GET", path, nil)
		if header.Get("ETag") != seen { // it was another state before
			x.do(http.StatusPreconditionFailed, method, path, body, "If-Match", seen)
		}
	}
	return text
}

// Every operation of the API answers with the status and the body that it describes, with
// its success at least once, and with problems of the described form. The steps follow
// each other: what one makes, the next uses.
func TestEveryOperationAnswersAsDescribed(t *testing.T) {
	x, have := &talk{bare(t, nil), describe(t)}, story{}
	for _, step := range []struct {
		name string
		do   func(*talk, *story)
	}{
		{"sign-in", walkDoors},
		{"users", walkUsers},
		{"interfaces", walkInterfaces},
		{"roles", walkRoles},
		{"ways in", walkSignIn},
		{"signing in", walkSigningIn},
		{"matching", walkMatched},
		{
			"sections",
			walkSectionsOf,
		},
		{"people lists", walkPeopleLists},
		{"pairings", walkPairings},
		{
			"linked sets",
			walkLinkedSets,
		},
		{"batches", walkBatches},
		{"outlines", walkOutlines},
		{"badges", walkBadges},
		{"rules", walkRules},
		{
			"events",
			walkEvents,
		},
		{"awards", walkAwards},
		{"offers", walkOffers},
		{"stages", walkStages},
		{"scores", walkScores},
		{"reports", walkReports},
		{"proofs", walkProofs},
		{"why", walkWhy},
		{"seen", walkSeen},
		{"teaching", walkTeaching},
		{"course pages", walkCoursePages},
		{"persons", walkPersons},
		{"settings", walkSettings},
		{"config", walkConfig},
		{
			"findings",
			walkFindings,
		},
		{"ends", walkEnds},
	} {
		t.Run(step.name, func(t *testing.T) {
			x.site.t, x.described.t = t, t
			step.do(x, &have)
		})
		if t.Failed() {
			t.FailNow()
		}
	}
	x.described.t = t
	assert.Equal(
		t,
		[]string{"get-gradebook-package", "get-report-file", "get-safety-copy", "get-sheet-file", "get-stage-map", "get-taught-picture", "get-unfinished-work", "live"},
		x.unanswered(),
		"files and what streams are tested on their own",
	)
}

// story is what the steps have made so far.
type story struct {
	register, workspace, contacts, platform, labels, mail, shop string
	propA, propB, propC, course                                 string
	pairing, badge, rule                                        string
}

func walkDoors(x *talk, _ *story) {
	t := x.site.t
	secret, err := x.Access.SetupSecret(t.Context())
	require.NoError(t, err)
	maud := post[api.Caller](x, "/setup", api.Setup{
		Secret: secret, Name: "Maud", Email: "maud@fernmoor.example",
		Password: password,
	})
	x.token, err = x.Access.NewToken(t.Context(), access.Caller{ID: maud.ID, Name: maud.Name},
		access.TokenDraft{Name: "test"})
	require.NoError(t, err)
	caller := post[api.Caller](x, "/session", api.SignIn{Email: "maud@fernmoor.example", Password: password})
	assert.Equal(t, "Maud", caller.Name)
	x.do(401, "POST", "/session", api.SignIn{Email: "maud@fernmoor.example", Password: "wrong-wrong-wrong"})
	assert.Equal(t, "Maud", get[api.Caller](x, "/session").Name)
	token := made[api.Token](x, "/tokens", api.NewToken{Name: "another"})
	assert.True(t, strings.HasPrefix(token.Token, "kbt_"))
	x.do(403, "POST", "/setup", api.Setup{
		Secret: "x", Name: "Otto", Email: "otto@fernmoor.example",
		Password: password,
	})
	assert.Equal(t, "http://kanban.example", get[api.Installation](x, "/installation").Address)
	assert.NotEmpty(t, get[[]map[string]any](x, "/kinds"))
	assert.NotEmpty(t, get[[]map[string]any](x, "/catalogue"))
	assert.Empty(t, get[[]api.Finding](x, "/today"))
	assert.NotEmpty(t, get[[]string](x, "/today/rest"), "nothing is connected")
	assert.Empty(t, get[api.OwnPage](x, "/session/page").Sections)
	sessions := get[api.Page[api.OwnSession]](x, "/sessions").Items
	require.Len(t, sessions, 2, "set up, and signed in")
	x.do(204, "DELETE", "/sessions/"+sessions[0].ID, nil)
	x.do(404, "DELETE", "/sessions/"+sessions[0].ID, nil)
	limited := made[api.Token](x, "/tokens", api.NewToken{Name: "reports", Role: "reader", Days: 7})
	tokens := get[api.Page[api.OwnToken]](x, "/tokens").Items
	require.Equal(t, []string{"reports", "reader"}, []string{tokens[0].Name, tokens[0].Role})
	mine := x.token
	x.token = limited.Token
	x.do(403, "GET", "/sections", nil)
	x.do(403, "DELETE", "/tokens/"+tokens[0].ID, nil)
	x.token = mine
	x.do(204, "DELETE", "/tokens/"+tokens[0].ID, nil)
	x.do(404, "DELETE", "/tokens/"+tokens[0].ID, nil)
	x.do(422, "POST", "/tokens", api.NewToken{Name: "x", Role: "king"})
	x.token = token.Token
	x.do(200, "DELETE", "/session", nil)
	x.do(401, "GET", "/session", nil)
	x.token = mine
}

func walkInterfaces(x *talk, h *story) {
	t, at := x.site.t, x.Standins.Addresses
	system := made[api.Connection](x, "/connections", api.NewConnection{Name: "Register", Owner: "Office"})
	assert.Empty(t, system.Interfaces)
	c := made[api.Interface](x, "/connections/"+system.ID+"/interfaces", api.NewInterface{
		Kind: "oneroster",
		Values: map[string]string{
			"address": at.Register, "tokenAddress": at.Register + "/oauth/token",
			"clientId": "kanban", "clientSecret": "green-fingers",
		},
	})
	h.register = c.ID
	assert.Equal(t, "Register", c.Name)
	x.do(422, "POST", "/connections", api.NewConnection{Name: "register"})
	x.do(422, "POST", "/connections", api.NewConnection{
		Name: "Other", Interfaces: []api.NewInterface{{Kind: "none"}},
	})
	x.do(422, "POST", "/connections/"+system.ID+"/interfaces",
		api.NewInterface{Kind: "xapi", Label: strings.Repeat("x", 300)})
	assert.Equal(t, c.ID, get[api.Connection](x, "/connections/"+system.ID).Interfaces[0].ID)
	named := as[api.Connection](x, x.changes("PATCH", "/connections/"+system.ID, map[string]any{"notes": "Ask first"}))
	assert.Equal(t, []string{"Office", "Ask first"}, []string{named.Owner, named.Notes})
	other := made[api.Connection](x, "/connections", api.NewConnection{
		Name: "Seed bank", Interfaces: []api.NewInterface{{Kind: "xapi"}, {Kind: "xapi"}},
	})
	assert.Equal(t, []string{"Seed bank", "Seed bank: activity"},
		[]string{other.Interfaces[0].Name, other.Interfaces[1].Name})
	assert.Empty(t, get[api.Removal](x, "/connections/"+other.ID+"/removal").Dependents)
	x.do(204, "DELETE", "/connections/"+other.ID, nil)
	x.do(404, "GET", "/interfaces/"+other.Interfaces[0].ID, nil)
	assert.Len(t, get[api.Page[api.Connection]](x, "/connections?removed=true").Items, 1)
	assert.Len(t, post[api.Connection](x, "/connections/"+other.ID+"/restore", api.Restored{}).Interfaces, 2)
	x.do(204, "DELETE", "/connections/"+other.ID, nil)
	assert.Equal(t, c.ID, get[api.Interface](x, "/interfaces/"+c.ID).ID)
	post[[]api.Report](x, "/interfaces/"+c.ID+"/probe", nil)
	run := made[api.Run](x, "/interfaces/"+c.ID+"/read", api.ReadRequest{})
	require.NoError(t, x.Registers.Work(t.Context(), run.ID, true))
	assert.Equal(t, "finished", get[api.Run](x, "/runs/"+run.ID).State)
	assert.NotEmpty(t, get[api.Page[api.Difference]](x, "/runs/"+run.ID+"/differences"))
	h.workspace, h.contacts, h.platform, h.labels, h.mail = x.Workspace().ID, x.Contacts().ID, x.Platform().ID,
		x.Labels().ID, x.Mail().ID
	h.shop = x.Shop().ID
	assert.Len(t, get[api.Page[api.Interface]](x, "/interfaces").Items, 7)
	edited := as[api.Interface](x, x.changes("PATCH", "/interfaces/"+h.contacts,
		map[string]any{"label": "events"}))
	assert.Equal(t, "Contacts: events", edited.Name)
	x.do(422, "PATCH", "/interfaces/"+h.contacts,
		map[string]any{"values": map[string]string{"address": "no address"}})

	x.do(409, "POST", "/interfaces/"+h.workspace+"/upload", "PK", "Content-Type", "application/zip")
	csv := made[api.Connection](x, "/connections", api.NewConnection{
		Name: "Files", Interfaces: []api.NewInterface{{Kind: "oneroster-csv"}},
	}).Interfaces[0]
	uploaded := as[api.Run](x, x.do(201, "POST", "/interfaces/"+csv.ID+"/upload", "PK", "Content-Type",
		"application/zip"))
	x.do(204, "DELETE", "/interfaces/"+csv.ID+"?name=Files", nil)
	assert.NotEmpty(t, uploaded.ID)
	removal := get[api.Removal](x, "/interfaces/"+h.contacts+"/removal")
	assert.Empty(t, removal.Dependents)
	x.do(204, "DELETE", "/interfaces/"+h.contacts, nil)
	post[api.Interface](x, "/interfaces/"+h.contacts+"/restore", api.Restored{})

	assert.Len(t, get[[]api.Operation](x, "/interfaces/"+h.labels+"/operations"), 2)
	one := "/interfaces/" + h.labels + "/operations/add-label"
	o := get[api.Operation](x, one)
	o.Title = "Add a label"
	x.changes("PUT", one, o)
	assert.Contains(t, get[[]string](x, "/interfaces/"+h.labels+"/choices?operation=add-label&field=label"),
		"learner")
	tried := post[api.OperationTried](x, one+"/try",
		map[string]any{"values": map[string]string{"email": "nobody@fernmoor.example", "label": "volunteer"}})
	assert.NotEmpty(t, tried)
	x.do(204, "DELETE", one, nil)
	x.do(404, "GET", one, nil)
	x.do(200, "PUT", one, o)
}

func walkMatched(x *talk, h *story) {
	t := x.site.t
	at := "/interfaces/" + h.workspace + "/matching"
	m := get[roster.Matching](x, at)
	post[api.Page[api.Touched]](x, at+"/preview", m)
	m.Keys = []roster.Key{roster.KeyEmail}
	x.changes("PUT", at, m)
	x.do(422, "PUT", at, map[string]any{"keys": []string{"shoe size"}, "domains": []string{}, "exclude": []string{}})
	_, err := x.Store.Pool.Exec(t.Context(), `UPDATE people SET user_name = 'preview.student2' WHERE id = $1`,
		x.Person("stu-009").ID)
	require.NoError(t, err)
	proposals := get[api.Page[api.Proposal]](x, "/interfaces/"+h.register+"/proposals").Items
	require.NotEmpty(t, proposals)
	x.do(422, "POST", "/interfaces/"+h.register+"/proposals", api.Verdict{Accept: true, People: []string{}})
	post[api.Decided](x, "/interfaces/"+h.register+"/proposals",
		api.Verdict{People: []string{proposals[0].PersonID}})
	marked := get[api.PersonPage](x, "/people/"+proposals[0].PersonID).Mark
	require.NotNil(t, marked)
	assert.Equal(t, "neither", marked.Kind)
	x.do(204, "DELETE", "/people/"+proposals[0].PersonID+"/mark", nil)
	assert.Nil(t, get[api.PersonPage](x, "/people/"+proposals[0].PersonID).Mark)
	found := get[api.Page[api.Person]](x, "/people?text=stu-001")
	require.Len(t, found.Items, 1)
	who := "/people/" + found.Items[0].ID
	get[api.PersonPage](x, who)
	get[api.Page[api.Candidate]](x, who+"/accounts/"+h.workspace)
	x.do(422, "PUT", who+"/accounts/"+h.workspace, api.AccountChoice{AccountID: "none"})
	account := x.account("otto.other@fernmoor.example")
	x.do(204, "PUT", who+"/accounts/"+h.workspace, api.AccountChoice{AccountID: account})
	x.do(409, "PUT", "/people/"+x.Person("stu-002").ID+"/accounts/"+h.workspace,
		api.AccountChoice{AccountID: account})
	x.do(204, "DELETE", who+"/accounts/"+h.workspace, nil)
	x.do(409, "DELETE", who+"/mark", nil)
}

func walkSectionsOf(x *talk, h *story) {
	t := x.site.t
	page := get[api.Page[api.Section]](x, "/sections?limit=4")
	require.Len(t, page.Items, 4)
	all := page.Items
	for page.Next != "" {
		page = get[api.Page[api.Section]](x, "/sections?limit=4&cursor="+page.Next)
		all = append(all, page.Items...)
	}
	ids := map[string]bool{}
	for _, s := range all {
		ids[s.ID] = true
		switch s.Code {
		case "PROP-A":
			h.propA, h.course = s.ID, s.CourseID
		case "PROP-B":
			h.propB = s.ID
		case "PROP-C":
			h.propC = s.ID
		}
	}
	assert.Len(t, ids, len(all), "a page after another repeats nothing")
	assert.Len(t, get[api.Page[api.Section]](x, "/sections?limit=1000").Items, len(all))
	get[api.Board](x, "/board")
	hidden := get[[]visibility.SectionRule](x, "/sections/hidden")
	x.changes("PUT", "/sections/hidden", append(hidden, visibility.SectionRule{Name: "Advisory", Title: "Advisory*"}))
	assert.NotEmpty(t, get[api.Page[api.RosterLine]](x, "/sections/"+h.propA+"/roster").Items)
	x.do(422, "GET", "/sections/"+h.propA+"/roster?at=yesterday", nil)
	get[api.Page[api.RosterLine]](x, "/sections/"+h.propA+"/movements")
	get[[]api.SpaceCandidate](x, "/sections/"+h.propA+"/candidates?interface="+h.workspace)
	assert.NotEmpty(t, get[api.Page[api.Linkable]](x, "/sections/"+h.propA+"/linkable").Items)
	assert.NotEmpty(t, get[api.Page[api.Organisation]](x, "/organisations").Items)
	assert.NotEmpty(t, get[api.Page[api.Course]](x, "/courses").Items)
}

func walkPeopleLists(x *talk, h *story) {
	t := x.site.t
	who := x.Person("stu-001").ID
	l := made[api.PeopleList](x, "/people-lists", api.NewPeopleList{
		Kind: "named", Name: "Helpers",
		People: []string{who},
	})
	x.do(422, "POST", "/people-lists", api.NewPeopleList{Kind: "course", OfID: "none"})
	at := "/people-lists/" + l.ID
	assert.Len(t, get[api.Page[api.PeopleList]](x, "/people-lists").Items, 1)
	assert.Len(t, get[api.Page[api.Listed]](x, at+"/people").Items, 1)
	changed := as[api.PeopleList](x, x.changes("PATCH", at,
		api.EditPeopleList{Name: ptr("Hands"), Add: []string{x.Person("stu-002").ID}}))
	assert.Equal(t, "Hands", changed.Name)
	x.changes("DELETE", at, nil)
	x.do(404, "GET", at, nil)
}

func walkPairings(x *talk, h *story) {
	t := x.site.t
	p := made[api.Pairing](x, "/pairings", api.NewPairing{SectionID: h.propA, InterfaceID: h.workspace})
	h.pairing = p.ID
	at := "/pairings/" + p.ID
	x.do(409, "POST", "/pairings", api.NewPairing{SectionID: h.propA, InterfaceID: h.workspace})
	assert.Len(t, get[api.Page[api.Pairing]](x, "/pairings").Items, 1)
	preview := made[api.Preview](x, at+"/previews", nil)
	assert.Equal(t, preview.Fingerprint, get[api.Preview](x, "/previews/"+preview.ID).Fingerprint)
	run := made[api.Run](x, "/runs", api.NewRun{PreviewID: preview.ID})
	require.NoError(t, x.Runs.Work(t.Context(), run.ID, true))
	assert.Equal(t, "needs-person", get[api.Run](x, "/runs/"+run.ID).State)
	assert.NotEmpty(t, get[api.Page[api.Change]](x, "/runs/"+run.ID+"/changes").Items)
	x.do(409, "POST", "/runs/"+run.ID+"/resume", nil)
	x.do(409, "POST", "/runs/"+run.ID+"/cancel", nil)
	assert.Len(t, get[api.Page[api.Run]](x, "/runs?pairing="+p.ID).Items, 1)
	atWork := func() (ids []string) {
		for _, r := range get[api.Page[api.Run]](x, "/runs?active=true&single=true").Items {
			ids = append(ids, r.ID)
		}
		return ids
	}
	assert.NotContains(t, atWork(), run.ID, "it has ended")
	assert.NotEmpty(t, get[api.Page[api.Line]](x, at+"/comparison").Items)
	assert.Contains(t, x.do(200, "GET", at+"/comparison.csv", nil), "Ada")
	get[api.ClassEffects](x, at+"/effects?members=remove")
	post[api.Preview](x, at+"/ending", nil)
	back := post[api.Preview](x, "/runs/"+run.ID+"/revert", nil)
	assert.Equal(t, run.ID, back.Reverts)
	waiting := made[api.Run](x, "/runs", api.NewRun{PreviewID: back.ID, Approved: true})
	assert.Contains(t, atWork(), waiting.ID)
	stopped := post[api.Run](x, "/runs/"+waiting.ID+"/cancel", nil)
	require.NoError(t, x.Runs.Work(t.Context(), waiting.ID, true))
	stopped = get[api.Run](x, "/runs/"+stopped.ID)
	assert.Equal(t, "cancelled", stopped.State)
	post[api.Run](x, "/runs/"+waiting.ID+"/resume", nil)
	post[api.Run](x, "/runs/"+waiting.ID+"/cancel", nil)
	require.NoError(t, x.Runs.Work(t.Context(), waiting.ID, true))

	post[api.Pairing](x, at+"/hold", nil)
	get[api.OpeningOutlook](x, at+"/opening")
	x.do(422, "POST", at+"/open", api.Opening{At: ptr(time.Now().Add(-time.Hour))})
	post[api.Pairing](x, at+"/open", api.Opening{At: ptr(time.Now().Add(48 * time.Hour))})
	as[api.Pairing](x, x.do(200, "DELETE", at+"/opening", nil))
	post[api.Pairing](x, at+"/open", api.Opening{})
	x.changes("PATCH", at, map[string]any{"target": "Propagation, the first"})
	post[api.Pairing](x, at+"/take-over", api.TakeOver{})
	x.do(409, "POST", at+"/renew", nil)
	queued := post[api.Queued](x, "/pairings/sync", api.SyncNow{Pairings: []string{p.ID}})
	assert.Equal(t, 1, queued.Pairings)
	x.WorkAll()
	get[[]api.UnpairedClass](x, "/interfaces/"+h.platform+"/unpaired")
	x.do(204, "POST", "/interfaces/"+h.platform+"/unpaired/ignore",
		api.Ignoring{Refs: []string{"none"}, Ignore: true})
}

func ptr[T any](x T) *T { return &x }

func walkLinkedSets(x *talk, h *story) {
	t := x.site.t
	get[api.SetProposals](x, "/linked-sets/proposals?sameTeacher=false")
	wish := api.NewSet{LeadID: h.propA, Sections: []string{h.propB}}
	assert.Len(t, post[api.SetOutlook](x, "/linked-sets/outlook", wish).Sections, 2)
	ada := x.Person("stu-001").ID
	x.sql(`INSERT INTO progress (person_id, section_id, percent) VALUES ($1, $2, 50)`, ada, h.propA)
	x.sql(`INSERT INTO activity_progress (person_id, section_id, activity_id, first_at, last_at, completed, passed,
		failed, best) VALUES ($1, $2, 'https://p.example/check', now(), now(), false, true, true, 0.75)`, ada, h.propA)
	set := made[api.LinkedSet](x, "/linked-sets", wish)
	at := "/linked-sets/" + set.ID
	require.Len(t, set.Copies, 1)
	post[api.SetEdited](x, at+"/outlook", api.EditSet{Add: []string{h.propC}})
	x.changes("PATCH", at, api.EditSet{Add: []string{h.propC}})
	x.do(422, "PATCH", at, api.EditSet{Drop: []string{"none"}})
	assert.Len(t, get[[]api.LinkedSet](x, "/linked-sets"), 1)
	get[[]api.ClassEffects](x, at+"/unlinking?target=lead")
	get[api.PutBack](x, "/safety-copies/"+set.Copies[0].ID+"/outlook")
	x.do(409, "POST", "/safety-copies/"+set.Copies[0].ID+"/put-back", nil)
	x.sql(`DELETE FROM activity_progress`)
	assert.Len(t, post[api.PutBack](x, "/safety-copies/"+set.Copies[0].ID+"/put-back", nil).Back, 1)
	x.Sync(h.pairing, true)
	x.do(200, "PATCH", at, api.EditSet{Drop: []string{h.propC}})
	x.Sync(h.pairing, true)
	groups := get[[]api.LeftGroup](x, "/left-groups")
	require.Len(t, groups, 1)
	x.do(422, "POST", "/left-groups/remove", api.GroupToRemove{InterfaceID: h.workspace, Ref: "none"})
	x.do(204, "POST", "/left-groups/remove", api.GroupToRemove{InterfaceID: h.workspace, Ref: groups[0].Ref})
	assert.Empty(t, get[[]api.LeftGroup](x, "/left-groups"))
	post[api.LinkedSet](x, at+"/unlink", api.Unlinking{Target: "lead"})
	x.do(409, "POST", at+"/unlink", api.Unlinking{Target: "lead"})
	assert.Len(t, get[[]api.LinkedSet](x, "/linked-sets?unlinked=true"), 1)
}

func (x *talk) sql(statement string, args ...any) {
	x.site.t.Helper()
	_, err := x.Store.Pool.Exec(x.site.t.Context(), statement, args...)
	require.NoError(x.site.t, err)
}

// atWorkspace makes a request to the chat workspace itself.
func (x *talk) atWorkspace(method, path, body string) (status int, id string) {
	x.site.t.Helper()
	req, err := http.NewRequest(method, x.Standins.Addresses.Workspace+"/scim/v2"+path, strings.NewReader(body))
	require.NoError(x.site.t, err)
	req.Header.Set("Authorization", "Bearer potting-shed")
	req.Header.Set("Content-Type", "application/scim+json")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(x.site.t, err)
	defer resp.Body.Close()
	var made struct{ ID string }
	_ = json.NewDecoder(resp.Body).Decode(&made)
	return resp.StatusCode, made.ID
}

func (x *talk) opened(interfaceID string) adapter.Interface {
	x.site.t.Helper()
	c, err := x.Connections.Open(x.site.t.Context(), interfaceID)
	require.NoError(x.site.t, err)
	return c
}

// account makes an account at the workspace.
func (x *talk) account(email string) string {
	x.site.t.Helper()
	status, id := x.atWorkspace(
		"POST",
		"/Users",
		`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"`+email+`","name":{"givenName":"Otto","familyName":"Other"},"emails":[{"value":"`+email+`"}]}`,
	)
	require.Equal(x.site.t, http.StatusCreated, status)
	return id
}

func walkBatches(x *talk, h *story) {
	t := x.site.t
	b := made[api.Batch](x, "/batches", api.Order{
		Act: "pair", Sections: []string{h.propB}, InterfaceID: h.workspace,
		WithoutRun: true,
	})
	post[api.Batch](x, "/batches/"+b.ID+"/do", api.Doing{})
	require.NoError(t, x.Batches.CarryOut(t.Context(), b.ID))
	assert.True(t, get[api.Batch](x, "/batches/"+b.ID).Items[0].Done)
	assert.Len(t, get[api.Page[api.ListedBatch]](x, "/batches").Items, 1)
	x.do(422, "POST", "/batches", api.Order{Act: "juggle"})
	get[[]api.Succession](x, "/next-term?days=400")
}

func walkOutlines(x *talk, h *story) {
	t := x.site.t
	at := "/courses/" + h.course + "/outline"
	table := "module,title,activity,kind\nSowing,Depth,https://platform.example/one,lesson\nSowing,Quiz,https://platform.example/quiz,assessment\n"
	o := post[api.Outline](x, "/outlines/read", api.OutlineSource{Kind: "table", Text: table})
	require.Len(t, o.Modules, 1)
	x.do(204, "PUT", at, o)
	_, header := x.headed(200, "GET", at, nil)
	x.do(204, "PUT", at, o, "If-Match", header.Get("ETag"))
	x.do(412, "PUT", at, o, "If-Match", `"another"`)
	post[api.OutlinePreview](x, at+"/preview", o)
	x.do(422, "PUT", "/courses/"+h.course+"/cartridge?prefix=https://platform.example/", "no manifest",
		"Content-Type", "application/xml")
	x.do(200, "PUT", "/courses/"+h.course+"/cartridge?prefix=https://platform.example/", cartridge, "Content-Type",
		"application/xml")
	x.do(204, "PUT", at, o)
	x.do(200, "GET", at+".csv", nil)
	x.changes("PUT", "/learning-settings", api.LearningSettings{Across: true})
	get[api.Verbs](x, "/verbs")
	x.do(204, "PUT", "/verbs", api.OwnVerbs{Own: []learning.VerbRule{{
		Verb: "https://verbs.example/grew",
		Says: "completed",
	}}})
	x.do(422, "PUT", "/verbs", map[string]any{"own": []any{map[string]any{"verb": "", "says": "completed"}}})
	get[api.Progress](x, "/people/"+x.Person("stu-001").ID+"/progress/"+h.propA)
}

const cartridge = `<?xml version="1.0" encoding="UTF-8"?>
<manifest identifier="m" xmlns="http://www.imsglobal.org/xsd/imsccv1p3/imscp_v1p1"><metadata><schema>IMS Common Cartridge</schema><schemaversion>1.3.0</schemaversion></metadata>
<organizations><organization identifier="o" structure="rooted-hierarchy"><item identifier="root"><item identifier="sowing"><title>Sowing</title><item identifier="depth" identifierref="r1"><title>Depth</title></item></item></item></organization></organizations>
<resources><resource identifier="r1" type="webcontent" href="depth.html"><file href="depth.html"/></resource></resources></manifest>`

func walkRules(x *talk, h *story) {
	t := x.site.t
	draft := api.NewRule{Name: "Welcome", Trigger: "section.joined", Actions: []api.Action{
		{Kind: "mail", InterfaceID: h.mail, Subject: "Welcome", Text: "Dear {{.person.givenName}}"},
		{
			Kind:    "award",
			BadgeID: h.badge,
		},
		{Kind: "task", Subject: "Greet"},
		{
			Kind: "append-row", Sheet: "Arrivals",
			Fields: map[string]string{"name": "person.name"},
		},
		{
			Kind: "send-event", InterfaceID: h.contacts,
			Fields: map[string]string{"email": "person.email", "name": "person.name", "label": `"learner"`},
		},
	}}
	r := made[api.Rule](x, "/rules", draft)
	h.rule = r.ID
	at := "/rules/" + r.ID
	x.do(422, "POST", "/rules", api.NewRule{
		Name: "Broken", Trigger: "section.joined", Condition: "person.",
		Actions: draft.Actions,
	})
	assert.Len(t, get[api.Page[api.Rule]](x, "/rules").Items, 1)
	get[api.Checklist](x, at+"/checklist")
	assert.NotEmpty(t, get[[]map[string]any](x, "/triggers/section.joined"))
	assert.Equal(t, "test@fernmoor.example", as[api.Recipient](x,
		x.do(200, "PUT", "/test-recipient", api.Recipient{Address: "test@fernmoor.example"})).Address)
	get[api.Recipient](x, "/test-recipient")
	trial := post[api.Trial](x, "/trials", map[string]any{"rule": draft, "made": true})
	assert.NotEmpty(t, trial)
	post[api.Trial](x, at+"/trial", api.TrialRequest{Made: true})
	verdict := post[api.TextVerdict](x, "/texts", api.TextCheck{
		Kind: "condition", Trigger: "section.joined",
		Text: "person.name ==",
	})
	assert.NotEmpty(t, verdict.Problem)
	draft.Name = "Welcome all"
	x.changes("PUT", at, draft)
	assert.Len(t, get[[]api.RuleVersion](x, at+"/versions"), 2)
	x.do(409, "POST", at+"/switch", api.Switch{On: true})
	post[api.Rule](x, at+"/switch", api.Switch{On: true, Untried: true})
	assert.Empty(t, get[api.Page[api.Unsubscribed]](x, at+"/unsubscribed").Items)
	x.do(204, "DELETE", at+"/unsubscribed/nobody%40fernmoor.example", nil)
}

// joined records that somebody joined a section.
func (x *talk) joined(who string) eventstore.Event {
	p, s := x.Person(who), x.Section("PROP-A")
	return x.Record(eventstore.Event{
		Type: "section.joined", NaturalKey: db.NewID(), PersonID: &p.ID,
		SectionID: &s.ID, CourseID: &s.CourseID, Data: map[string]any{"role": "student"},
		OccurredAt: time.Now().UTC(),
	})
}

func walkEvents(x *talk, h *story) {
	t := x.site.t
	e := x.joined("stu-014")
	x.Deliver()
	page := get[api.Page[api.Delivery]](x, "/deliveries?event="+e.ID+"&limit=2")
	assert.Len(t, page.Items, 2)
	require.NotEmpty(t, page.Next)
	assert.Len(t, get[api.Page[api.Delivery]](x, "/deliveries?event="+e.ID+"&limit=2&cursor="+page.Next).Items, 2)
	all := get[api.Page[api.Delivery]](x, "/deliveries?event="+e.ID).Items
	require.Len(t, all, 5)
	for _, d := range all {
		assert.Equal(t, "delivered", d.State, "%s %s", d.Action, d.Held)
		assert.NotEmpty(t, get[[]api.Attempt](x, "/deliveries/"+d.ID+"/attempts"))
		x.do(409, "POST", "/deliveries/"+d.ID+"/retry", nil)
	}
	assert.NotEmpty(t, get[api.Page[api.Event]](x, "/events?type=section.joined&limit=1").Items)
	assert.NotEmpty(t, get[api.Page[api.Event]](x, "/rules/"+h.rule+"/samples").Items)
	assert.NotEmpty(t, get[api.Page[api.Event]](x, "/triggers/section.joined/samples").Items)
	back := get[api.LookBack](x, "/rules/"+h.rule+"/look-back?days=1")
	require.NotEmpty(t, back.Would)
	x.do(409, "POST", "/rules/"+h.rule+"/catch-up", api.CatchUp{Since: back.Since, Count: len(back.Would) + 1})
	caught := post[api.CaughtUp](x, "/rules/"+h.rule+"/catch-up",
		api.CatchUp{Since: back.Since, Count: len(back.Would)})
	assert.Equal(t, len(back.Would), caught.Events)
	post[api.GivenUp](x, "/deliveries/give-up", api.GiveUpRequest{RuleID: h.rule, Reason: "the term is over"})
	x.do(422, "POST", "/deliveries/give-up", map[string]any{"ruleId": h.rule})
	e = x.joined("stu-005") // without an address
	x.Deliver()
	waiting := get[api.Page[api.Delivery]](x, "/deliveries?state=waiting&event="+e.ID).Items
	require.NotEmpty(t, waiting)
	x.do(204, "POST", "/deliveries/"+waiting[0].ID+"/retry", nil)
	post[api.Retried](x, "/deliveries/retry", api.RetryRequest{RuleID: h.rule})
	tasks := get[api.Page[api.Task]](x, "/tasks").Items
	require.Len(t, tasks, 1)
	x.do(204, "POST", "/tasks/"+tasks[0].ID+"/done", nil)
	assert.Len(t, get[api.Page[api.Task]](x, "/tasks?done=true").Items, 1)
	x.do(204, "POST", "/tasks/"+tasks[0].ID+"/open", nil)
	assert.Len(t, get[[]map[string]any](x, "/sheets"), 1)
	x.do(204, "POST", "/check-now", nil)
}

func walkOffers(x *talk, h *story) {
	t := x.site.t
	n := api.NewOffer{
		Name: "A place", InterfaceID: h.shop, Offer: "place", SectionIDs: []string{h.propB},
		AtEnd: "mark",
	}
	o := made[api.Offer](x, "/offers", n)
	at := "/offers/" + o.ID
	x.do(422, "POST", "/offers", api.NewOffer{Name: "Nowhere", InterfaceID: h.shop, Offer: "none", AtEnd: "mark"})
	get[api.Page[api.Offer]](x, "/offers")
	n.Name = "A place in B"
	x.changes("PUT", at, n)
	assert.False(t, post[api.Offer](x, at+"/switch", api.Switch{On: false}).On)
	x.do(409, "POST", at+"/accesses", api.NewAccess{PersonID: x.Person("stu-020").ID, Reason: "won it"})
	assert.True(t, post[api.Offer](x, at+"/switch", api.Switch{On: true}).On)
	given := post[api.Access](x, at+"/accesses", api.NewAccess{PersonID: x.Person("stu-020").ID, Reason: "won it"})
	assert.Len(t, get[api.Page[api.Access]](x, "/accesses?limit=1").Items, 1)
	get[[]api.Side](x, "/sides")
	get[[]api.Unmapped](x, "/unmapped")
	get[api.Page[api.Access]](x, "/accesses?offer="+o.ID)
	x.do(409, "POST", "/accesses/"+given.ID+"/person", api.Whose{PersonID: x.Person("stu-021").ID})
	x.do(204, "POST", "/accesses/"+given.ID+"/end", api.Ending{Reason: "over"})
	problems, err := x.Facts.Report(t.Context(), x.opened(h.shop),
		[]webhook.Received{{Event: webhook.Event{
			ID: "1", Source: "https://shop.example", Type: "purchase.completed",
			Subject: "order-1", Time: time.Now(),
		}, Data: []byte(`{"email": "", "offer": "place"}`)}})
	require.NoError(t, err)
	require.NoError(t, problems[0])
	bought := get[api.Page[api.Access]](x, "/accesses?troubled=true").Items
	require.Len(t, bought, 1)
	x.do(204, "POST", "/accesses/"+bought[0].ID+"/person", api.Whose{PersonID: x.Person("stu-022").ID})
	post[api.Meaning](x, "/interfaces/"+h.shop+"/meaning", api.MeaningTry{Values: map[string]string{}})
}

func walkStages(x *talk, h *story) {
	t := x.site.t
	o := get[api.Outline](x, "/courses/"+h.course+"/outline")
	n := api.NewStagePlan{
		Name: "Apprentice", CourseID: h.course,
		Stages: []stage.Stage{{Title: "Sower", Criteria: []stage.Criterion{{
			Kind:     "module",
			ModuleID: o.Modules[0].ID,
		}, {Kind: "approval", What: "Shows it"}}}},
	}
	post[api.StagePlanPreview](x, "/stage-plans/preview", n)
	p := made[api.StagePlan](x, "/stage-plans", n)
	at := "/stage-plans/" + p.ID
	x.do(422, "POST", "/stage-plans", api.NewStagePlan{Name: "None", CourseID: h.course})
	assert.Len(t, get[api.Page[api.StagePlan]](x, "/stage-plans").Items, 1)
	n.Name = "Apprentices"
	n.Stages = p.Stages
	x.changes("PUT", at, n)
	post[api.StagePlan](x, at+"/switch", api.Switch{On: true})
	x.Follow()
	page := get[api.Page[api.StagePlanPerson]](x, at+"/people?limit=2")
	assert.Len(t, page.Items, 2)
	approval := api.Approving{ApprovalID: p.Stages[0].Criteria[1].ApprovalID, People: []string{page.Items[0].PersonID}}
	x.do(204, "POST", at+"/approvals", approval)
	x.do(422, "POST", at+"/approvals", api.Approving{ApprovalID: "none", People: approval.People})
	x.do(200, "GET", at+"/people?atForDays=30", nil)
	get[api.StagePlanGroup](x, at+"/group?stuckDays=7")
	get[[]api.PersonStagePlan](x, "/people/"+x.Person("stu-001").ID+"/stage-plans")
	post[api.StagePlan](x, at+"/switch", api.Switch{On: false})
	x.do(204, "DELETE", at, nil)
}

func walkSettings(x *talk, h *story) {
	t := x.site.t
	list := get[[]api.Template](x, "/templates")
	x.changes("PUT", "/templates", append(list, api.Template{
		Name: "Plain", Target: "{section}",
		Policy: get[api.Pairing](x, "/pairings/"+h.pairing).Policy,
	}))
	assert.NotEmpty(t, x.do(200, "GET", "/templates/names?target="+url.QueryEscape("{section} {term}"), nil))
	x.changes("PUT", "/maintenance", map[string]any{"on": true, "note": "moving house"})
	x.do(200, "PUT", "/maintenance", map[string]any{"on": false})
	x.changes("PUT", "/full-comparison", map[string]any{"schedule": map[string]any{"kind": "daily", "at": "04:00"}})
	x.changes("PUT", "/history", api.HistoryEdit{Months: 24, Gone: 0})
	x.changes("PUT", "/views", []api.View{{Name: "mine", Query: map[string]string{"text": "Prop"}}})
}

func walkSigningIn(x *talk, _ *story) {
	t, at := x.site.t, x.Standins.Addresses.Contacts
	values := map[string]string{
		"address": at + "/api", "probe": "/labels", "letInBy": "signing in", "signInAt": at,
		"clientId": signin.ClientID, "clientSecret": signin.ClientSecret,
	}
	one := made[api.Connection](x, "/connections", api.NewConnection{
		Name: "Signed in", Interfaces: []api.NewInterface{{Kind: "http-api", Values: values}},
	})
	path := "/interfaces/" + one.Interfaces[0].ID
	assert.True(t, one.Interfaces[0].SignsIn)
	signs := func(account string) {
		t.Helper()
		u, err := url.Parse(post[api.SignInAt](x, path+"/sign-in", nil).Address)
		require.NoError(t, err)
		form := u.Query()
		form.Set("account", account)
		u.RawQuery = ""
		stays := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
		client := &http.Client{CheckRedirect: stays}
		resp, err := client.PostForm(u.String(), form)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		back, err := resp.Location()
		require.NoError(t, err)
		_, err = x.Connections.EndSignIn(t.Context(), get[api.Caller](x, "/session").ID, "Maud", connections.Returned{
			State: back.Query().Get("state"), Code: back.Query().Get("code"),
		})
		require.NoError(t, err)
	}
	x.do(409, "DELETE", path+"/grant", nil)
	x.do(409, "POST", path+"/grant", api.GrantDecision{})
	signs(signin.Accounts[0])
	shown := get[api.Interface](x, path)
	require.NotNil(t, shown.Grant)
	assert.Equal(t, signin.Accounts[0], shown.Grant.Account)
	signs(signin.Accounts[1])
	require.NotNil(t, get[api.Interface](x, path).Pending)
	shown = post[api.Interface](x, path+"/grant", api.GrantDecision{Take: true})
	assert.Equal(t, signin.Accounts[1], shown.Grant.Account)
	assert.Nil(t, shown.Pending)
	x.do(204, "DELETE", path+"/grant", nil)
	assert.Nil(t, get[api.Interface](x, path).Grant)
	x.do(204, "DELETE", "/connections/"+one.ID, nil)
}

func walkConfig(x *talk, h *story) {
	t := x.site.t
	have := get[api.ConfigFiles](x, "/config")
	require.Contains(t, have.Files, "rules.yaml")
	shown := post[api.ConfigComparison](x, "/config/compare", have)
	assert.Empty(t, shown.Changes)
	assert.Empty(t, shown.Faults)
	more := api.ConfigApply{ConfigFiles: api.ConfigFiles{Files: map[string]string{"more.yaml": "outlines:\n" +
		"  - {course: NONE, modules: [{id: m, title: M, activities: [{id: 'https://x.example/a', title: A, kind: lesson}]}]}\n"}}}
	more.Fingerprint = "of another one"
	x.do(409, "POST", "/config/apply", more)
	more.Fingerprint = post[api.ConfigComparison](x, "/config/compare", more.ConfigFiles).Fingerprint
	done := post[api.ConfigComparison](x, "/config/apply", more)
	require.Len(t, done.Changes, 1)
	assert.Equal(t, "wait", done.Changes[0].What)
	assert.True(t, done.Applied)
	assert.Len(t, get[[]api.ConfigWaiting](x, "/config/waiting"), 1)
	x.do(204, "DELETE", "/config/waiting/outlines/NONE", nil)
	x.do(404, "DELETE", "/config/waiting/outlines/NONE", nil)
	refused := post[api.ConfigComparison](x, "/config/apply", api.ConfigFiles{Files: map[string]string{
		"wrong.yaml": "badges: [{name: B, issuer: Nobody, description: d, criteria: c}]",
	}})
	assert.False(t, refused.Applied)
	require.Len(t, refused.Faults, 1)
	assert.Equal(t, 1, refused.Faults[0].Line)
	x.do(200, "GET", "/config/schema", nil)
	assert.Len(t, get[api.ConfigFiles](x, "/config?kind=rules").Files, 2, "the rules, and the schema")
	ready := get[[]api.ReadyRule](x, "/ready-rules")
	require.NotEmpty(t, ready)
	x.do(422, "POST", "/ready-rules/to-repeat", api.NewReadyRule{})
	x.do(404, "POST", "/ready-rules/nothing", api.NewReadyRule{})
	helped := post[api.Rule](x, "/ready-rules/to-repeat", api.NewReadyRule{
		Name: "Help", Needs: map[string]string{"owner": "maud@fernmoor.example"},
	})
	assert.False(t, helped.On)
	x.do(204, "DELETE", "/rules/"+helped.ID, nil)
}

func walkFindings(x *talk, h *story) {
	t := x.site.t
	page := get[api.Page[api.Finding]](x, "/findings?limit=2")
	require.Len(t, page.Items, 2)
	all := page.Items
	for page.Next != "" {
		page = get[api.Page[api.Finding]](x, "/findings?limit=2&cursor="+page.Next)
		all = append(all, page.Items...)
	}
	assert.Len(t, get[api.Page[api.Finding]](x, "/findings?limit=1000").Items, len(all))
	one := slices.IndexFunc(all, func(f api.Finding) bool { return f.Key != "" })
	at := "/findings/" + url.PathEscape(all[one].Key) + "/acknowledgement"
	x.do(204, "PUT", at, api.Acknowledgement{Note: "known"})
	assert.NotEmpty(t, get[api.Page[api.Finding]](x, "/findings?seen=true").Items)
	x.do(204, "DELETE", at, nil)
	get[[]api.Finding](x, "/today")
}

func walkEnds(x *talk, h *story) {
	t, at := x.site.t, "/pairings/"+h.pairing
	status, _ := x.atWorkspace("DELETE", "/Groups/"+get[api.Pairing](x, at).TargetRef, "")
	require.Equal(t, http.StatusNoContent, status)
	x.do(409, "POST", at+"/previews", nil)
	assert.True(t, get[api.Pairing](x, at).Lost)
	assert.False(t, post[api.Pairing](x, at+"/renew", nil).Lost)
	x.changes("DELETE", at, nil)
	assert.Equal(t, "not-paired", string(get[api.Pairing](x, at).Section.State))
	x.do(204, "DELETE", "/offers/"+get[api.Page[api.Offer]](x, "/offers").Items[0].ID, nil)
	draft := made[api.Rule](x, "/rules", api.NewRule{
		Name: "Short", Trigger: "section.left",
		Actions: []api.Action{{Kind: "task", Subject: "x"}},
	})
	x.changes("DELETE", "/rules/"+draft.ID, nil)
	x.do(409, "DELETE", "/rules/"+h.rule, nil)
}

// Whoever is not signed in, asks for what is not there, or sends what is none, gets a
// problem that says so, from every operation.
func TestEveryOperationRefusesAsDescribed(t *testing.T) {
	s := open(t, nil)
	x := &talk{s, describe(t)}
	for _, o := range x.operations {
		t.Run(o.id, func(t *testing.T) {
			x.site.t, x.described.t = t, t
			path := o.path
			for _, segment := range o.segments {
				if strings.HasPrefix(segment, "{") {
					path = strings.Replace(path, segment, "00000000-0000-7000-8000-000000000000", 1)
				}
			}
			query := ""
			for _, name := range o.required {
				query += "&" + name + "=00000000-0000-7000-8000-000000000000"
			}
			path += "?" + strings.TrimPrefix(query, "&")
			if !o.open && o.id != "sign-out" { // whoever is out already is out
				resp, text := x.ask(o.method, path, "")
				assert.Equal(t, 401, resp.StatusCode, "without sign-in: %s", text)
				x.check(o, resp, text)
			}
			if o.body == "application/json" {
				for _, body := range []string{`{"none`, `"text"`, `{"noSuchField": 1}`} {
					resp, text := x.ask(o.method, path, body, x.bearer()...)
					assert.GreaterOrEqual(t, resp.StatusCode, 400, "%s: %s", body, text)
					assert.Less(t, resp.StatusCode, 500, "%s: %s", body, text)
					x.check(o, resp, text)
				}
			}
			if o.query["limit"] {
				for _, limit := range []string{"0", "-1", "1001", "x"} {
					resp, text := x.ask(o.method, path+"&limit="+limit, "", x.bearer()...)
					assert.Equal(t, 422, resp.StatusCode, "limit %s: %s", limit, text)
					x.check(o, resp, text)
				}
			}
			if o.query["cursor"] {
				resp, text := x.ask(o.method, path+"&cursor="+url.QueryEscape("no cursor of this list"), "",
					x.bearer()...)
				assert.Contains(t, []int{404, 422}, resp.StatusCode, text)
				x.check(o, resp, text)
			}
			if strings.Contains(o.path, "{") && o.body == "" {
				resp, text := x.ask(o.method, path, "", x.bearer()...)
				if o.id == "reopen-finding" { // it is so already
					assert.Equal(t, 204, resp.StatusCode, text)
				} else {
					assert.Contains(t, []int{404, 422}, resp.StatusCode, "of what is not there: %s", text)
				}
				x.check(o, resp, text)
			}
			if strings.Contains(o.path, "{id}") && o.id != "subscribe-again" {
				resp, text := x.ask(o.method, strings.Replace(path, "00000000-0000-7000-8000-000000000000", "no-id",
					1), "{}", x.bearer()...)
				assert.GreaterOrEqual(t, resp.StatusCode, 400, o.id)
				assert.Less(t, resp.StatusCode, 500, "an id that is none: %s", text)
			}
		})
	}
}
