package web_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/permission"
	"kanban/internal/core/pseudonym"
	"kanban/internal/store/db"
	"kanban/internal/wire/api"
)

// session is somebody who signed in, as a browser does.
type session struct {
	*talk
	cookie string
}

func (x *talk) session(email string) *session {
	x.site.t.Helper()
	resp, text := x.ask("POST", "/api/v1/session", fmt.Sprintf(`{"email": %q, "password": %q}`, email, password))
	require.Equal(x.site.t, 200, resp.StatusCode, text)
	for _, c := range resp.Cookies() {
		if c.Name == "kanban_session" {
			return &session{x, c.Name + "=" + c.Value}
		}
	}
	require.Fail(x.site.t, "there is no session")
	return nil
}

// in makes a request below /api/v1 in the session.
func (s *session) in(want int, method, path, body string) string {
	s.site.t.Helper()
	resp, text := s.ask(method, "/api/v1"+path, body, "Cookie", s.cookie)
	require.Equal(s.site.t, want, resp.StatusCode, "%s %s: %s", method, path, text)
	s.check(s.find(method, "/api/v1"+path), resp, text)
	return text
}

// walkSeen hides names, and looks as somebody else does.
func walkSeen(x *talk, _ *story) {
	t := x.site.t
	maud := x.session("maud@fernmoor.example")
	assert.False(t, as[api.Caller](x, maud.in(200, "GET", "/session", "")).NamesHidden)
	maud.in(200, "PUT", "/session/names", `{"hidden": true}`)
	assert.True(t, as[api.Caller](x, maud.in(200, "GET", "/session", "")).NamesHidden)
	maud.in(200, "PUT", "/session/names", `{"hidden": false}`)
	x.do(409, "PUT", "/session/names", api.Names{Hidden: true})
	ada := x.Person("stu-001")
	x.do(409, "POST", "/session/viewing", api.Viewing{PersonID: ada.ID})
	maud.in(422, "POST", "/session/viewing", `{"personId": "x"}`)
	maud.in(404, "POST", "/session/viewing", fmt.Sprintf(`{"personId": %q}`, db.NewID()))
	v := as[api.Viewed](x, maud.in(200, "POST", "/session/viewing", fmt.Sprintf(`{"personId": %q}`, ada.ID)))
	assert.Equal(t, api.Viewed{PersonID: ada.ID, Name: "Ada Alder"}, v)
	maud.in(204, "DELETE", "/session/viewing", "")
	maud.in(204, "DELETE", "/session/viewing", "")
}

// realNames finds the names, user names and addresses of everybody who is known.
func (x *talk) realNames() *regexp.Regexp {
	people, err := db.Rows[struct{ GivenName, FamilyName, Email, UserName string }](x.site.t.Context(), x.Store,
		"listing people",
		`SELECT given_name, family_name, email, user_name FROM people UNION SELECT name, '', email, '' FROM users`)
	require.NoError(x.site.t, err)
	var all []string
	for _, p := range people {
		for _, name := range []string{p.GivenName + " " + p.FamilyName, p.Email, p.UserName} {
			// A user name that is a plain word is one only where nothing else stands.
			if name = strings.TrimSpace(name); strings.ContainsAny(name, " @.0123456789") {
				all = append(all, regexp.QuoteMeta(name))
			}
		}
	}
	require.Greater(x.site.t, len(all), 60)
	return regexp.MustCompile(`(?i)\b(` + strings.Join(all, "|") + `)\b`)
}

// contentOf is what a file says, unpacked where it is packed.
func contentOf(t *testing.T, text string) string {
	t.Helper()
	if !strings.HasPrefix(text, "PK") {
		return text
	}
	z, err := zip.NewReader(strings.NewReader(text), int64(len(text)))
	require.NoError(t, err)
	var out strings.Builder
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		_, err = io.Copy(&out, r)
		require.NoError(t, err)
	}
	return out.String()
}

// files are addresses of everything that is given as a file.
func (h *half) files() []string {
	all := []string{
		"/api/v1/score-links/{score-link}/unfinished.csv", "/api/v1/score-links/{score-link}/unfinished.xlsx",
		"/api/v1/courses/{course}/outline.csv", "/api/v1/pairings/{pairing}/compare?format=csv",
	}
	for _, name := range []string{
		"completion", "stopped", "behind", "badges", "holdings", "rosters", "rules", "services", "scores",
	} {
		for _, form := range []string{"csv", "xlsx", "svg", "pdf"} {
			all = append(all, "/api/v1/reports/"+name+"/file."+form+"?section="+h.section)
		}
	}
	for i := range all {
		for of, ids := range h.ids {
			all[i] = strings.ReplaceAll(all[i], "{"+string(of)+"}", ids[0])
		}
	}
	return all
}

// With names hidden there is nobody's name, user name or address in any answer or file, whatever record it is about;
// what is made up is the same throughout a session, and cannot be written into records.
func TestNamesAreHiddenEverywhere(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	left, right := x.halves()
	real := x.realNames()
	maud, other := x.session("maud@fernmoor.example"), x.session("maud@fernmoor.example")
	require.NotEmpty(t, real.FindString(x.do(200, "GET", "/users", nil)))
	maud.in(200, "PUT", "/session/names", `{"hidden": true}`)
	looked, held := 0, 0
	look := func(path string) {
		t.Helper()
		_, shown := other.ask("GET", path, "", "Cookie", other.cookie)
		resp, text := maud.ask("GET", path, "", "Cookie", maud.cookie)
		assert.Less(t, resp.StatusCode, 500, "%s: %s", path, text)
		assert.Empty(t, real.FindString(strings.ReplaceAll(contentOf(t, text), pseudonym.Mark, "")), path)
		looked++
		if resp.StatusCode == 200 && real.MatchString(contentOf(t, shown)) {
			held++
		}
	}
	for _, o := range x.operations {
		if o.method != http.MethodGet || o.id == "live" {
			continue
		}
		ids := slices.Concat(left.ids[permission.Subject(o.scope)], right.ids[permission.Subject(o.scope)])
		if !strings.Contains(o.path, "{") {
			ids = []string{""}
		}
		for _, id := range ids {
			query := ""
			for _, name := range o.required {
				query += "&" + name + "=" + map[string]string{
					"text": "fernmoor", "kind": "section",
					"thing": left.section,
				}[name]
			}
			look(strings.NewReplacer("{id}", id, "{kind}", "csv", "{section}", left.section, "{item}",
				id).Replace(o.path) +
				"?" + strings.TrimPrefix(query, "&"))
		}
	}
	for _, path := range slices.Concat(left.files(), right.files()) {
		look(path)
	}
	assert.Greater(t, looked, 150)
	assert.Greater(t, held, 40, "so many of them hold names otherwise")

	ada := x.Person("stu-001")
	first := maud.in(200, "GET", "/people/"+ada.ID, "")
	assert.Equal(t, as[api.PersonPage](x, first).Name, as[api.PersonPage](x, maud.in(200, "GET", "/people/"+ada.ID,
		"")).Name)
	other.in(200, "PUT", "/session/names", `{"hidden": true}`)
	assert.NotEqual(t, as[api.PersonPage](x, first).Name,
		as[api.PersonPage](x, other.in(200, "GET", "/people/"+ada.ID, "")).Name, "another session makes up others")
	made := as[api.PersonPage](x, first).Name
	text := maud.in(409, "POST", "/people-lists", fmt.Sprintf(`{"name": "Of %s"}`, made))
	assert.Contains(t, text, "show names again before you change it")
	maud.in(409, "GET", "/config", "")
	maud.in(200, "PUT", "/session/names", `{"hidden": false}`)
	assert.Contains(t, maud.in(200, "GET", "/people/"+ada.ID, ""), "Ada Alder")

	// A program asks for it with each request; a reader never sees names.
	hide := []string{"Kanban-Hide-Names", "yes"}
	resp, text := x.ask("GET", "/api/v1/people/"+ada.ID, "", append(x.bearer(), hide...)...)
	require.Equal(t, 200, resp.StatusCode)
	assert.Empty(t, real.FindString(text))
	assert.NotContains(t, text, pseudonym.Mark)
	resp, _ = x.ask("POST", "/api/v1/people-lists", `{"name": "Some"}`, append(x.bearer(), hide...)...)
	assert.Equal(t, 409, resp.StatusCode)
	_, reader := x.invited("reader", &permission.Grant{
		Role: permission.Reader, Scope: permission.Scope{Kind: permission.Institution},
	}, "")
	status, own := x.by(reader(), "GET", "/api/v1/session", "")
	assert.Equal(t, 200, status)
	assert.Contains(t, own, `"name":"reader"`, "they see who they are themselves")
	assert.Contains(t, own, `"namesHidden":true`)
	for _, path := range []string{"/api/v1/reports/behind", "/api/v1/reports/holdings?section=" + left.section, "/api/v1/reports/rosters"} {
		resp, text := x.ask("GET", path, "", "Authorization", "Bearer "+reader())
		require.Equal(t, 200, resp.StatusCode, text)
		assert.Empty(t, real.FindString(text), path)
	}
}

// Whoever looks as a teacher or a learner sees what that person may by the register, and nothing else, and changes
// nothing; it is in the trail; and it ends with the role that allows it.
func TestViewingAsSomebody(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	left, right := x.halves()
	teacher, learner := x.Person("tea-002"), x.Person("stu-001")
	invitation := made[api.Invitation](x, "/users", api.NewUser{
		Name: "Hilda", Email: "hilda@users.example", Grant: &api.NewRoleGrant{Role: "support"},
	})
	hilda := invitation.User.ID
	post[api.Caller](x, "/invitations", api.AcceptInvitation{
		Secret: strings.SplitAfter(invitation.Link, "secret=")[1], Password: password,
	})
	s := x.session("hilda@users.example")
	begin := func(want int, person string) {
		t.Helper()
		s.in(want, "POST", "/session/viewing", fmt.Sprintf(`{"personId": %q}`, person))
	}
	assert.Contains(t, s.in(200, "GET", "/sections", ""), right.section)
	begin(200, teacher.ID)
	c := as[api.Caller](x, s.in(200, "GET", "/session", ""))
	assert.Equal(t, []string{"teacher"}, c.Roles)
	assert.Equal(t, teacher.ID, c.Viewing.PersonID)
	assert.Equal(t, hilda, c.ID, "who they are is not hidden from the service")
	sections := s.in(200, "GET", "/sections", "")
	assert.Contains(t, sections, left.section)
	assert.NotContains(t, sections, right.section)
	s.in(404, "GET", "/people/"+x.Person(right.learner).ID, "")
	for _, o := range x.operations {
		if o.id == "live" || o.id == "sign-out" {
			continue
		}
		path := strings.NewReplacer("{id}", left.section, "{kind}", "csv").Replace(o.path)
		resp, text := s.ask(o.method, path, map[bool]string{true: "{}"}[o.body != ""], "Cookie", s.cookie)
		switch {
		case o.method != http.MethodGet && !slices.Contains([]string{"hide-names", "end-view"}, o.id) &&
			o.act != "anyone":
			assert.Equal(t, 403, resp.StatusCode, "%s: %s", o.id, text)
		case o.act == string(permission.Own) && strings.HasPrefix(o.id, "list-own"):
			assert.Contains(t, text, "look as yourself again first", o.id)
		}
		if o.id == "end-view" {
			begin(200, teacher.ID)
		}
	}
	s.in(403, "POST", "/session/viewing", fmt.Sprintf(`{"personId": %q}`, learner.ID)) // first as oneself
	s.in(204, "DELETE", "/session/viewing", "")
	begin(200, learner.ID)
	assert.Contains(t, s.in(200, "GET", "/session/page", ""), `"name":"Ada Alder"`)
	s.in(403, "GET", "/sections", "")
	trail := get[api.Page[api.AuditEntry]](x, "/audit-entries?text=view&limit=3").Items
	assert.Equal(t, []string{
		"began to view as somebody", "ended viewing as somebody", "began to view as somebody",
	}, []string{trail[0].What, trail[1].What, trail[2].What})
	assert.Equal(t, "person/"+learner.ID, trail[0].Subject)
	assert.JSONEq(t, `{"name":"Ada Alder"}`, string(trail[0].Detail))

	role := "reader"
	x.do(200, "PATCH", "/users/"+hilda, api.EditUser{Role: &role})
	after := as[api.Caller](x, s.in(200, "GET", "/session", ""))
	assert.Nil(t, after.Viewing, "the role that allowed it is gone")
	assert.Equal(t, []string{"reader"}, after.Roles)
	s.in(403, "POST", "/session/viewing", fmt.Sprintf(`{"personId": %q}`, learner.ID))
	assert.False(t, bytes.Contains([]byte(s.in(200, "GET", "/session/page", "")), []byte("Ada Alder")))
}
