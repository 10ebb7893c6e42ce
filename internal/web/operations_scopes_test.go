package web_test

import (
	"bufio"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/badges"
	"kanban/internal/core/learning"
	"kanban/internal/core/permission"
	"kanban/internal/standin/platform"
	"kanban/internal/standin/register"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/wire/api"
)

// half is one of two parts of the institution that have nothing in common, with everything that is there of it.
type half struct {
	course, section string // ids
	code, learner   string // a code of its section, and the register's id of a learner of it who is nowhere else
	ids             map[permission.Subject][]string
	marks           []string // what names something of it and of nothing else
}

func (h *half) has(of permission.Subject, ids ...string) {
	if h.ids == nil {
		h.ids = map[permission.Subject][]string{}
	}
	h.ids[of] = append(h.ids[of], ids...)
	h.marks = append(h.marks, ids...)
}

// halves makes two of them.
func (x *talk) halves() (left, right *half) {
	t, ctx := x.site.t, x.site.t.Context()
	x.World.Read(x.Register(), false)
	left, right = &half{code: "PROP-A", learner: "stu-001"}, &half{code: "ORCH-A", learner: "stu-037"}
	workspace := x.Workspace().ID
	issuer := made[api.Issuer](x, "/issuers", api.NewIssuer{Name: "Fernmoor", URL: "https://fernmoor.example"})
	badge := made[api.Badge](x, "/badges", api.NewBadge{
		IssuerID: issuer.ID, Name: "Cuttings", Description: "Takes cuttings", Criteria: "Take some",
		State: "published",
	})
	for _, h := range []*half{left, right} {
		section, person := x.Section(h.code), x.Person(h.learner)
		h.course, h.section = section.CourseID, section.ID
		h.marks = append(h.marks, person.Name())
		h.has(permission.OfSection, section.ID)
		h.has(permission.OfCourse, section.CourseID)
		h.has(permission.OfPerson, person.ID)
		p := made[api.Pairing](x, "/pairings", api.NewPairing{SectionID: section.ID, InterfaceID: workspace})
		h.has(permission.OfPairing, p.ID)
		preview := made[api.Preview](x, "/pairings/"+p.ID+"/previews", nil)
		h.has(permission.OfPreview, preview.ID)
		run := made[api.Run](x, "/runs", api.NewRun{PreviewID: preview.ID})
		require.NoError(t, x.Runs.Work(ctx, run.ID, true))
		h.has(permission.OfRun, run.ID)
		e := x.Record(eventstore.Event{
			Type: "section.joined", NaturalKey: db.NewID(), PersonID: &person.ID, SectionID: &section.ID,
			CourseID: &section.CourseID, OccurredAt: time.Now().UTC(), Data: map[string]any{"role": "student"},
		})
		h.marks = append(h.marks, e.ID)
		given, err := x.Badges.AwardByHand(ctx, badges.Anybody("Maud"), badge.ID, []string{person.ID},
			badges.Wish{SectionID: section.ID}, true)
		require.NoError(t, err)
		h.has(permission.OfAward, given[0].AwardID)
		delivery, task := db.NewID(), db.NewID()
		x.sql(`INSERT INTO deliveries (id, event_id, position, action, person_id, section_id, state)
			VALUES ($1, $2, 0, '{"kind": "open-task"}', $3, $4, 'delivered')`, delivery, e.ID, person.ID, section.ID)
		h.has(permission.OfDelivery, delivery)
		x.sql(`INSERT INTO tasks (id, delivery_id, title, person_id, section_id) VALUES ($1, $2, $3, $4, $5)`, task,
			delivery, "Call "+person.Name(), person.ID, section.ID)
		h.has(permission.OfTask, task)
	}
	for _, h := range []*half{left, right} {
		x.do(204, "PUT", "/courses/"+h.course+"/outline", learning.Outline{Modules: []learning.Module{{
			ID: "m-" + h.code, Title: "Module of " + h.code,
			Activities: []learning.Activity{{ID: "a-" + h.code, Title: "First", Kind: learning.Assignment}},
		}}})
		h.marks = append(h.marks, "Module of "+h.code)
	}
	set := made[api.LinkedSet](x, "/linked-sets", api.NewSet{
		LeadID: x.Section("PROP-B").ID, Sections: []string{x.Section("PROP-C").ID},
	})
	left.has(permission.OfSet, set.ID)
	x.scoresOf(right)
	return left, right
}

// scoresOf carries scores in a half.
func (x *talk) scoresOf(h *half) {
	t, at := x.site.t, x.Standins.Addresses
	source := x.Connect(adapter.KindGradebook, "Marks", map[string]string{
		"address": at.Platform, "tokenAddress": at.Platform + "/oauth/token", "clientId": platform.MarksID,
		"clientSecret": platform.MarksSecret, "late": "0",
	})
	book := x.Connect(adapter.KindGradebook, "Book", map[string]string{
		"address": at.Register, "tokenAddress": at.Register + "/oauth/token", "clientId": register.ClientID,
		"clientSecret": register.ClientSecret, "late": "0",
	})
	post[[]api.Report](x, "/interfaces/"+source.ID+"/probe", nil)
	post[[]api.Report](x, "/interfaces/"+book.ID+"/probe", nil)
	x.marked("cuttings-report", h.learner, 12)
	classes := get[api.Page[api.GradebookClass]](x, "/interfaces/"+source.ID+"/gradebook-classes").Items
	require.Len(t, classes, 1)
	l := made[api.ScoreLink](x, "/score-links", api.NewScoreLink{
		SectionID: h.section, SourceInterfaceID: source.ID, SourceClass: classes[0].ID, BookInterfaceID: book.ID,
	})
	h.has(permission.OfScoreLink, l.ID)
	h.has(permission.OfScorePreview, post[api.ScorePreview](x, "/score-links/"+l.ID+"/previews", nil).ID)
}

// as asks as somebody with a token.
func (x *talk) by(token, method, path, body string) (int, string) {
	x.site.t.Helper()
	resp, text := x.ask(method, path, body, "Authorization", "Bearer "+token)
	return resp.StatusCode, text
}

// What belongs to sections is there for whoever reaches one of them and for nobody else: every operation that can be
// done in a part of the institution is asked for by operators of two halves of it. A record of the other half looks
// exactly like one that does not exist, and lists name nothing of it.
func TestAPartOfTheInstitution(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	left, right := x.halves()
	narrowed, hidden := map[string]bool{}, 0
	for _, side := range []struct{ own, other *half }{{left, right}, {right, left}} {
		_, token := x.invited("operator-"+side.own.code, &permission.Grant{
			Role:  permission.Operator,
			Scope: permission.Scope{Kind: permission.Course, ID: side.own.course},
		}, "")
		for _, o := range x.operations {
			switch {
			case o.scope == "":
			case o.scope == string(permission.Listed):
				if o.method == http.MethodGet && !strings.Contains(o.path, "{") {
					hidden += x.listsOnly(token, o, side.own, side.other, narrowed)
				}
			default:
				x.onlyOwn(token, o, side.own, side.other)
			}
		}
	}
	for _, list := range []string{
		"board", "list-sections", "list-pairings", "list-runs", "list-sets", "list-score-links", "list-tasks",
		"list-findings", "today", "find-people", "list-events", "list-deliveries", "list-awards", "list-courses",
	} {
		assert.True(t, narrowed[list], "%s shows an administrator what it hides from others", list)
	}
	assert.Greater(t, hidden, 40)
}

// listsOnly requires a list to name nothing of the other half, and counts what it hides.
func (x *talk) listsOnly(token func() string, o operation, own, other *half, narrowed map[string]bool) (hidden int) {
	t := x.site.t
	query := url.Values{}
	if o.query["limit"] {
		query.Set("limit", "200")
	}
	if slices.Contains(o.required, "text") {
		query.Set("text", "fernmoor")
	}
	path := o.path + "?" + query.Encode()
	status, text := x.by(token(), o.method, path, "")
	require.Equal(t, 200, status, "%s: %s", o.id, text)
	resp, whole := x.ask(o.method, path, "", x.bearer()...)
	require.Equal(t, 200, resp.StatusCode, o.id)
	for _, mark := range other.marks {
		assert.NotContains(t, text, mark, o.id)
		if strings.Contains(whole, mark) {
			hidden++
			narrowed[o.id] = true
		}
	}
	seen := slices.ContainsFunc(own.marks, func(mark string) bool { return strings.Contains(text, mark) })
	shown := slices.ContainsFunc(own.marks, func(mark string) bool { return strings.Contains(whole, mark) })
	assert.Equal(t, shown, seen, "%s shows what is their own", o.id)
	return hidden
}

// onlyOwn requires what is the other half's not to be there, and what is their own to be.
func (x *talk) onlyOwn(token func() string, o operation, own, other *half) {
	t, of := x.site.t, permission.Subject(o.scope)
	at := func(id string) string {
		return strings.NewReplacer("{id}", id, "{kind}", "csv", "{section}", own.section, "{item}", id).Replace(o.path)
	}
	const none = "00000000-0000-7000-8000-000000000000"
	body := ""
	if o.body != "" {
		body = "{}"
	}
	require.NotEmpty(t, slices.Concat(own.ids[of], other.ids[of]), "%s: there is no %s", o.id, of)
	for _, id := range other.ids[of] {
		status, text := x.by(token(), o.method, at(id), body)
		assert.Equal(t, 404, status, "%s %s: %s", o.id, id, text)
		_, unknown := x.by(token(), o.method, at(none), body)
		assert.Equal(t, strings.ReplaceAll(unknown, none, id), text, o.id)
	}
	for _, id := range own.ids[of] {
		if o.method != http.MethodGet {
			continue // it would be done
		}
		status, text := x.by(token(), o.method, at(id), "")
		assert.NotContains(t, []int{403, 500}, status, "%s: %s", o.id, text)
		for _, mark := range other.marks {
			assert.NotContains(t, text, mark, "%s", o.id)
		}
		resp, whole := x.ask(o.method, at(id), "", x.bearer()...)
		assert.Equal(t, resp.StatusCode, status, "%s: %s: %s", o.id, text, whole)
	}
}

// What names sections, pairings or people in its body is done to those that whoever asks reaches, and to no others.
func TestBodiesInAPartOfTheInstitution(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	left, right := x.halves()
	_, token := x.invited("operator", &permission.Grant{
		Role: permission.Operator, Scope: permission.Scope{Kind: permission.Section, ID: left.section},
	}, "")
	ask := func(want int, method, path, body string) string {
		t.Helper()
		status, text := x.by(token(), method, "/api/v1"+path, body)
		assert.Equal(t, want, status, "%s %s: %s", method, path, text)
		return text
	}
	workspace := get[api.Page[api.Interface]](x, "/interfaces").Items
	i := slices.IndexFunc(workspace, func(c api.Interface) bool { return c.Kind == adapter.KindSCIM })
	glass := x.Section("GLAS-A").ID
	ask(404, "POST", "/pairings", fmt.Sprintf(`{"sectionId": %q, "interfaceId": %q}`, glass, workspace[i].ID))
	ask(404, "POST", "/pairings", fmt.Sprintf(`{"sectionId": %q, "interfaceId": %q}`, x.Section("PROP-B").ID,
		workspace[i].ID))
	preview := func(h *half) string { return h.ids[permission.OfPreview][0] }
	ask(404, "POST", "/runs", fmt.Sprintf(`{"previewId": %q}`, preview(right)))
	ask(422, "POST", "/pairings/sync", `{}`)
	pairing := func(h *half) string { return h.ids[permission.OfPairing][0] }
	ask(404, "POST", "/pairings/sync", fmt.Sprintf(`{"pairings": [%q, %q]}`, pairing(left), pairing(right)))
	assert.Contains(t, ask(200, "POST", "/pairings/sync", fmt.Sprintf(`{"pairings": [%q]}`, pairing(left))), `1`)
	ask(404, "POST", "/linked-sets", fmt.Sprintf(`{"leadId": %q, "sections": [%q]}`, left.section, glass))
	ask(404, "POST", "/linked-sets/outlook", fmt.Sprintf(`{"leadId": %q, "sections": [%q]}`, glass, left.section))
	ask(404, "GET", "/linked-sets/"+left.ids[permission.OfSet][0], "")
	linkable := ask(200, "GET", "/sections/"+left.section+"/linkable", "")
	assert.NotContains(t, linkable, x.Section("PROP-B").ID)
	found := ask(200, "GET", "/findings", "")
	assert.NotContains(t, found, right.ids[permission.OfPairing][0])
	for _, f := range get[api.Page[api.Finding]](x, "/findings?limit=1000").Items {
		if strings.Contains(f.Link, right.ids[permission.OfPairing][0]) {
			ask(422, "PUT", "/findings/"+f.Key+"/acknowledgement", `{"note": "mine now"}`)
			x.do(204, "PUT", "/findings/"+f.Key+"/acknowledgement", map[string]string{"note": "it may stay"})
			ask(404, "DELETE", "/findings/"+f.Key+"/acknowledgement", "")
		}
		if strings.Contains(f.Link, left.ids[permission.OfPairing][0]) {
			ask(204, "PUT", "/findings/"+f.Key+"/acknowledgement", `{"note": "it may stay"}`)
			ask(204, "DELETE", "/findings/"+f.Key+"/acknowledgement", "")
		}
	}
	shared := x.Person("stu-012").ID // in Propagation A and B
	page := ask(200, "GET", "/people/"+shared, "")
	assert.Contains(t, page, "Propagation A")
	assert.NotContains(t, page, "Propagation B")
	ask(404, "GET", "/people/"+shared+"/progress/"+x.Section("PROP-B").ID, "")
}

// Who awards does so for the issuers and the people they were granted, by hand and by file.
func TestAwardersHaveIssuersAndSections(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	x.World.Read(x.Register(), false)
	badge := func(issuer string) api.Badge {
		i := made[api.Issuer](x, "/issuers", api.NewIssuer{Name: issuer, URL: "https://" + issuer + ".example"})
		return made[api.Badge](x, "/badges", api.NewBadge{
			IssuerID: i.ID, Name: "Badge of " + issuer, Description: "D", Criteria: "C", State: "published",
		})
	}
	own, other := badge("orchard"), badge("glasshouse")
	a := x.Section("PROP-A")
	id, token := x.invited("awarder", &permission.Grant{
		Role: permission.Awarder, Scope: permission.Scope{Kind: permission.Section, ID: a.ID}, Issuer: own.IssuerID,
	}, "")
	award := func(want int, badge api.Badge, section string, people ...string) string {
		t.Helper()
		body := fmt.Sprintf(`{"people": ["%s"], "sectionId": %q, "apply": true}`, strings.Join(people, `", "`), section)
		status, text := x.by(token(), "POST", "/api/v1/badges/"+badge.ID+"/awards", body)
		assert.Equal(t, want, status, text)
		return text
	}
	in, out := x.Person("stu-001").ID, x.Person("stu-030").ID
	assert.Contains(t, award(403, other, "", in), "may not award badges of this issuer")
	assert.Contains(t, award(422, own, "", in, out), "there is nobody with the id")
	assert.Contains(t, award(422, own, x.Section("PROP-C").ID, in), "there is no section")
	assert.Contains(t, award(200, own, a.ID, in), `"awarded"`)
	file := "person,badge\nstu-002,Badge of orchard\nstu-030,Badge of orchard\nstu-002,Badge of glasshouse\nnobody,\n"
	resp, text := x.ask("POST", "/api/v1/awards/upload?apply=true", file, "Authorization", "Bearer "+token(), "Content-Type",
		"text/csv")
	require.Equal(t, 200, resp.StatusCode, text)
	rows := as[api.Page[api.Awarding]](x, text).Items
	var said []string
	for _, r := range rows {
		said = append(said, r.Outcome+": "+r.Because)
	}
	assert.Equal(t, []string{
		"awarded: ", `refused: nobody has the identifier, e-mail address or user name "stu-030"`,
		"refused: you may not award badges of this issuer",
		`refused: nobody has the identifier, e-mail address or user name "nobody"`,
	}, said)
	assert.Equal(t, "stu-030", rows[1].Person, "nothing is said of people whom they do not reach")

	given := func(badge, person string) string {
		all, err := x.Badges.Awards(t.Context(), badgestore.AwardFilter{BadgeID: badge, PersonID: person, Limit: 9})
		require.NoError(t, err)
		require.Len(t, all, 1)
		return all[0].ID
	}
	for _, b := range []api.Badge{own, other} {
		both := []string{out, x.Person("stu-003").ID}
		_, err := x.Badges.AwardByHand(t.Context(), badges.Anybody("Maud"), b.ID, both, badges.Wish{}, true)
		require.NoError(t, err)
	}
	revoke := func(want int, award string) {
		t.Helper()
		status, text := x.by(token(), "POST", "/api/v1/awards/"+award+"/revoke", `{"reason": "a mistake"}`)
		assert.Equal(t, want, status, text)
	}
	revoke(200, given(own.ID, in))
	revoke(404, given(own.ID, out))
	revoke(403, given(other.ID, x.Person("stu-003").ID))
	status, text := x.by(token(), "GET", "/api/v1/badges/"+own.ID, "")
	assert.Equal(t, 200, status)
	counts := as[api.Badge](x, text)
	assert.Equal(t, []int{2, 1}, []int{counts.Awards, counts.Revoked}, "how many hold it elsewhere is not theirs to know")
	whole := get[api.Badge](x, "/badges/"+own.ID)
	assert.Equal(t, []int{3, 1}, []int{whole.Awards, whole.Revoked})
	now := post[api.User](x, "/users/"+id+"/grants", api.NewRoleGrant{
		Role: "awarder", Scope: "course", ScopeID: a.CourseID, IssuerID: other.IssuerID,
	})
	require.Len(t, now.Grants, 2)
	revoke(200, given(other.ID, x.Person("stu-003").ID))
	award(200, other, "", in)
	assert.Contains(t, award(422, own, "", x.Person("stu-031").ID), "there is nobody", "of that issuer only in A")

	short := made[api.Issuer](x, "/issuers", api.NewIssuer{Name: "Short", URL: "https://short.example"})
	gone, _ := x.invited("short", &permission.Grant{
		Role: permission.Awarder, Scope: permission.Scope{Kind: permission.Institution}, Issuer: short.ID,
	}, "")
	x.do(204, "DELETE", "/issuers/"+short.ID, nil)
	for _, u := range get[api.Page[api.User]](x, "/users").Items {
		assert.False(t, u.ID == gone && len(u.Grants) > 0, "an issuer's grants go with it")
	}
}

// A class of linked sections is one for all of them: whoever minds one of them may bring it in step, and what holds
// for the others too is for those who mind all.
func TestOneSectionOfALinkedSet(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	x.World.Read(x.Register(), false)
	a, b := x.Section("PROP-A"), x.Section("PROP-B")
	set := made[api.LinkedSet](x, "/linked-sets", api.NewSet{LeadID: a.ID, Sections: []string{b.ID}})
	p := made[api.Pairing](x, "/pairings", api.NewPairing{SectionID: a.ID, InterfaceID: x.Workspace().ID})
	grant := func(sections ...string) func() string {
		id, token := x.invited("of-"+db.NewID(), &permission.Grant{
			Role: permission.Operator, Scope: permission.Scope{Kind: permission.Section, ID: sections[0]},
		}, "")
		for _, section := range sections[1:] {
			post[api.User](x, "/users/"+id+"/grants", api.NewRoleGrant{
				Role: "operator", Scope: "section", ScopeID: section,
			})
		}
		return token
	}
	one, both := grant(b.ID), grant(a.ID, b.ID)
	ask := func(want int, token func() string, method, path, body string) string {
		t.Helper()
		status, text := x.by(token(), method, "/api/v1"+path, body)
		assert.Equal(t, want, status, text)
		return text
	}
	preview := as[api.Preview](x, ask(201, one, "POST", "/pairings/"+p.ID+"/previews", ""))
	run := as[api.Run](x, ask(201, one, "POST", "/runs", fmt.Sprintf(`{"previewId": %q}`, preview.ID)))
	require.NoError(t, x.Runs.Work(t.Context(), run.ID, true))
	ask(200, one, "GET", "/runs/"+run.ID, "")
	assert.Contains(t, ask(403, one, "POST", "/pairings/"+p.ID+"/hold", ""), "sections beyond yours too")
	ask(403, one, "POST", "/linked-sets/"+set.ID+"/unlink", `{"target": "lead"}`)
	ask(403, one, "PATCH", "/pairings/"+p.ID, `{"paused": true}`)
	ask(200, both, "POST", "/pairings/"+p.ID+"/hold", "")
	ask(200, both, "PATCH", "/pairings/"+p.ID, `{"paused": true}`)
}

// Teachers see the sections that they teach, for as long as the register says so; learners see their own page only.
func TestTeachersComeFromTheRegister(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	left, right := x.halves()
	_, token := x.invited("teacher", nil, x.Person("tea-001").ID)
	sections := func() (codes []string) {
		status, text := x.by(token(), "GET", "/api/v1/sections?hidden=*&limit=1000", "")
		if status == 403 {
			return nil
		}
		require.Equal(t, 200, status, text)
		for _, s := range as[api.SectionPage](x, text).Items {
			codes = append(codes, s.Code)
		}
		return codes
	}
	taught := []string{"PROP-A", "ADV-1"}
	assert.Equal(t, taught, sections())
	_, text := x.by(token(), "GET", "/api/v1/session", "")
	me := as[api.Caller](x, text)
	assert.Equal(t, []string{"teacher"}, me.Roles)
	assert.Contains(t, me.May, "sync")
	assert.NotContains(t, me.May, "rosters")
	assert.Empty(t, me.MayAll)
	preview := left.ids[permission.OfPairing][0]
	status, text := x.by(token(), "POST", "/api/v1/pairings/"+preview+"/previews", "")
	require.Equal(t, 201, status, text)
	fresh := as[api.Preview](x, text)
	status, text = x.by(token(), "POST", "/api/v1/runs", fmt.Sprintf(`{"previewId": %q, "approved": true}`, fresh.ID))
	assert.Equal(t, 403, status, "to take out more than the guard allows is for those who say what it does: %s", text)
	assert.Contains(t, text, "approve removals")
	status, text = x.by(token(), "POST", "/api/v1/runs", fmt.Sprintf(`{"previewId": %q}`, fresh.ID))
	assert.Equal(t, 201, status, text)
	require.NoError(t, x.Runs.Work(t.Context(), as[api.Run](x, text).ID, true))
	status, _ = x.by(token(), "PATCH", "/api/v1/pairings/"+preview, `{"paused": true}`)
	assert.Equal(t, 403, status, "what a pairing does is for others to say")
	status, _ = x.by(token(), "GET", "/api/v1/sections/"+right.section+"/roster", "")
	assert.Equal(t, 404, status)

	x.sql(`UPDATE enrolments SET gone_at = now(), state = 'gone' WHERE person = 'tea-001'`)
	assert.Empty(t, sections(), "who left sees it no more")
	status, text = x.by(token(), "GET", "/api/v1/sections", "")
	assert.Equal(t, 403, status)
	assert.Contains(t, text, "your role (learner) does not allow this")
	x.sql(`UPDATE enrolments SET gone_at = NULL, state = 'present', role = 'student' WHERE person = 'tea-001'`)
	assert.Empty(t, sections(), "who became a learner there teaches it no more")
	x.sql(`UPDATE enrolments SET role = 'teacher' WHERE person = 'tea-001'`)
	assert.Equal(t, taught, sections())
}

// News tell whoever sees only a part that something changed, and never what; they end when roles change.
func TestNewsInAPartOfTheInstitution(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	x.World.Read(x.Register(), false)
	grant := permission.Grant{
		Role: permission.Support, Scope: permission.Scope{Kind: permission.Section, ID: x.Section("PROP-A").ID},
	}
	id, token := x.invited("support", &grant, "")
	news := x.listen(token())
	x.say("pairing", hiddenID)
	said := until(news, `"topic":"pairing"`)
	assert.NotContains(t, said, hiddenID)
	post[api.User](x, "/users/"+id+"/grants", api.NewRoleGrant{Role: "reader"})
	for line := range news { // until it ends
		assert.NotContains(t, line, hiddenID)
	}
	all := x.listen(x.token)
	x.say("pairing", hiddenID)
	assert.Contains(t, until(all, `"topic":"pairing"`), hiddenID, "an administrator is told what")
}

const hiddenID = "00000000-0000-7000-8000-0000000000aa"

// until reads news up to a line that has a text.
func until(news <-chan string, text string) string {
	for line := range news {
		if strings.Contains(line, text) {
			return line
		}
	}
	return ""
}

// listen gives the news that somebody is told, once they are told any; the channel is closed when they end.
func (x *talk) listen(token string) <-chan string {
	return x.listening("Authorization", "Bearer "+token)
}

func (x *talk) listening(name, value string) <-chan string {
	t := x.site.t
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, x.URL+"/api/v1/live", nil)
	require.NoError(t, err)
	req.Header.Set(name, value)
	resp, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	require.Equal(t, 200, resp.StatusCode)
	lines, news := bufio.NewScanner(resp.Body), make(chan string, 1000)
	for lines.Scan() && !strings.HasPrefix(lines.Text(), "data:") {
	}
	go func() {
		defer close(news)
		defer resp.Body.Close()
		for lines.Scan() {
			if strings.HasPrefix(lines.Text(), "data:") {
				news <- lines.Text()
			}
		}
	}()
	return news
}

// Somebody sees where they are signed in and ends one session from another; a new password ends all others. Pages that
// listen under them stop.
func TestSessionsEndFromElsewhere(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	enter := func(agent string) (cookie string) {
		resp, text := x.ask("POST", "/api/v1/session", `{"email": "maud@fernmoor.example", "password": "`+password+`"}`,
			"User-Agent", agent)
		require.Equal(t, 200, resp.StatusCode, text)
		for _, c := range resp.Cookies() {
			if c.Name == "kanban_session" {
				cookie = c.Name + "=" + c.Value
			}
		}
		return cookie
	}
	status := func(cookie, method, path, body string) (int, string) {
		resp, text := x.ask(method, "/api/v1"+path, body, "Cookie", cookie)
		return resp.StatusCode, text
	}
	here, phone, library := enter("here"), enter("phone"), enter("library"+strings.Repeat("x", 1000))
	news := x.listening("Cookie", phone)
	_, text := status(here, "GET", "/sessions", "")
	agents := map[string]string{}
	for _, s := range as[api.Page[api.OwnSession]](x, text).Items {
		agents[s.Agent[:min(len(s.Agent), 7)]] = s.ID
		assert.Equal(t, s.Agent == "here", s.Current)
		assert.LessOrEqual(t, len(s.Agent), 300)
	}
	require.Len(t, agents, 3)
	n, _ := status(here, "DELETE", "/sessions/"+agents["phone"], "")
	require.Equal(t, 204, n)
	for range news { // until it ends
	}
	n, _ = status(phone, "GET", "/session", "")
	assert.Equal(t, 401, n)
	n, text = status(here, "PUT", "/session/password", `{"old": "`+password+`", "password": "grow-even-more-plants"}`)
	require.Equal(t, 204, n, text)
	n, _ = status(library, "GET", "/session", "")
	assert.Equal(t, 401, n, "a new password ends the others")
	n, _ = status(here, "GET", "/session", "")
	assert.Equal(t, 200, n)

	me := get[api.Caller](x, "/session").ID
	link := post[api.Invitation](x, "/users/"+me+"/invitation", nil).Link
	_, secret, _ := strings.Cut(link, "secret=")
	post[api.Caller](x, "/invitations", api.AcceptInvitation{Secret: secret, Password: password})
	n, _ = status(here, "GET", "/session", "")
	assert.Equal(t, 401, n, "a password that is chosen by a link ends all others")

	token := made[api.Token](x, "/tokens", api.NewToken{Name: "nightly"}).Token
	told := x.listen(token)
	x.do(204, "DELETE", "/tokens/"+get[api.Page[api.OwnToken]](x, "/tokens").Items[0].ID, nil)
	for range told {
	}
	code, _ := x.by(token, "GET", "/api/v1/session", "")
	assert.Equal(t, 401, code)
}

// say tells everybody who listens that something changed.
func (x *talk) say(topic, id string) {
	require.NoError(x.site.t, x.Store.InTx(x.site.t.Context(), func(tx *db.Tx) error {
		return tx.Announce(x.site.t.Context(), topic, id)
	}))
}

// Institutions have schools below schools; a role in one holds for all below it, whatever rings registers
// make of them.
func TestOrganisationsHoldAllBelowThem(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	x.World.Read(x.Register(), false)
	var all []api.Organisation
	all = get[api.Page[api.Organisation]](x, "/organisations").Items
	require.NotEmpty(t, all)
	top := all[0]
	for _, org := range [][2]string{{"east", "school"}, {"house", "east"}, {"ring", "ring"}} {
		x.sql(`INSERT INTO orgs (interface_id, sourced_id, name, type, parent) SELECT interface_id, $2, $2, 'school', CASE $3 WHEN 'school' THEN sourced_id ELSE $3 END FROM orgs WHERE id = $1`, top.ID, org[0],
			org[1])
	}
	for section, school := range map[string]string{"ORCH-A": "house", "GLAS-A": "east", "SOIL-A": "ring"} {
		x.sql(`UPDATE sections SET org = $2 WHERE id = $1`, x.Section(section).ID, school)
	}
	of := map[string][]string{
		"house": {"ORCH-A"}, "east": {"GLAS-A", "ORCH-A"}, "ring": {"SOIL-A"}, top.Name: {
			"ADV-1", "BEES-A", "GLAS-A", "ORCH-A", "ORCH-B", "PROP-A", "PROP-B", "PROP-C",
		},
	}
	for _, org := range get[api.Page[api.Organisation]](x, "/organisations").Items {
		_, token := x.invited("of-"+strings.ReplaceAll(org.Name, " ", "-"), &permission.Grant{
			Role: permission.Support, Scope: permission.Scope{Kind: permission.Organisation, ID: org.ID},
		}, "")
		_, text := x.by(token(), "GET", "/api/v1/sections?hidden=*&limit=1000", "")
		codes := map[string]bool{}
		for _, s := range as[api.SectionPage](x, text).Items {
			codes[s.Code] = true
		}
		assert.Equal(t, of[org.Name], slices.Sorted(maps.Keys(codes)), org.Name)
	}
}
