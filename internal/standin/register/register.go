// Package register stands in for the school office's register: a OneRoster 1.2
// rostering provider with OAuth 2 client credentials, and a plain page on which
// the office mends addresses and enrols people.
package register

import (
	"bytes"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"kanban/internal/standin/gradebook"
	"kanban/internal/standin/listing"
	"kanban/internal/standin/page"
	"kanban/internal/standin/school"
	"kanban/internal/wire/oneroster"
)

// Credentials of the register's one client.
const (
	ClientID     = "kanban"
	ClientSecret = "green-fingers"
)

// Register is the stand-in. Use New.
type Register struct {
	school *school.School
	mux    *http.ServeMux
	// Book is the office's gradebook.
	Book   *gradebook.Gradebook
	mu     sync.Mutex
	tokens map[string]token
	only11 bool
}

// token is an access token that was given out.
type token struct {
	until  time.Time
	scopes []string
}

// SpeakOnly11 makes the register an older one, which knows nothing of OneRoster 1.2.
func (r *Register) SpeakOnly11() {
	r.mu.Lock()
	r.only11 = true
	r.mu.Unlock()
}

// speaks reports whether it knows the paths and scopes of a version.
func (r *Register) speaks(version oneroster.Version) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.only11 == (version == oneroster.V11)
}

// New serves the given school.
func New(s *school.School) *Register {
	r := &Register{school: s, mux: http.NewServeMux(), tokens: map[string]token{}}
	r.mux.HandleFunc("POST /oauth/token", r.token)
	list(r, "/orgs", "orgs", r.orgs)
	list(r, "/academicSessions", "academicSessions", r.sessions)
	list(r, "/courses", "courses", r.courses)
	list(r, "/classes", "classes", r.classes)
	list(r, "/users", "users", r.users)
	list(r, "/enrollments", "enrollments", r.enrollments)
	r.mux.HandleFunc("GET /{$}", r.office)
	r.mux.HandleFunc("GET /export.zip", r.export)
	r.mux.HandleFunc("POST /office/people/{id}", r.setPerson)
	r.mux.HandleFunc("POST /office/enrolments", r.enrol)
	r.mux.HandleFunc("POST /office/withdrawals", r.withdraw)
	r.book()
	return r
}

// ServeHTTP answers API and office.
func (r *Register) ServeHTTP(w http.ResponseWriter, req *http.Request) { r.mux.ServeHTTP(w, req) }

func (r *Register) token(w http.ResponseWriter, req *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	id, secret, _ := req.BasicAuth()
	id, _ = url.QueryUnescape(id)
	secret, _ = url.QueryUnescape(secret)
	fail := func(status int, code, text string) {
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(map[string]string{"error": code, "error_description": text})
	}
	switch {
	case id != ClientID || subtle.ConstantTimeCompare([]byte(secret), []byte(ClientSecret)) != 1:
		fail(http.StatusUnauthorized, "invalid_client", "Unknown client or wrong secret.")
	case req.FormValue("grant_type") != "client_credentials":
		fail(http.StatusBadRequest, "unsupported_grant_type", "Only client_credentials.")
	case len(r.offered(req.FormValue("scope"))) == 0:
		fail(http.StatusBadRequest, "invalid_scope", "Only roster.readonly and the scopes of the gradebook are offered.")
	default:
		given := rand.Text()
		scopes := r.offered(req.FormValue("scope"))
		r.mu.Lock()
		r.tokens[given] = token{time.Now().Add(10 * time.Minute), scopes}
		r.mu.Unlock()
		w.Header().Set("Cache-Control", "no-store")
		_ = json.NewEncoder(w).Encode(map[string]any{
			"access_token": given, "token_type": "Bearer", "expires_in": 600,
			"scope": strings.Join(scopes, " "),
		})
	}
}

// offered are those of the scopes that are asked for which the office gives out.
func (r *Register) offered(asked string) []string {
	all := []string{r.scope()}
	for _, last := range gradebookScopes {
		all = append(all, oneroster.Scope(oneroster.V12, last), oneroster.Scope(oneroster.V11, last))
	}
	return slices.DeleteFunc(strings.Fields(asked), func(s string) bool { return !slices.Contains(all, s) })
}

func (r *Register) scope() string {
	if r.speaks(oneroster.V11) {
		return oneroster.ScopeRosterReadonly11
	}
	return oneroster.ScopeRosterReadonly
}

// ForgetTokens makes every token given out so far expire at once.
func (r *Register) ForgetTokens() {
	r.mu.Lock()
	clear(r.tokens)
	r.mu.Unlock()
}

func (r *Register) allowed(req *http.Request) bool {
	token, _ := strings.CutPrefix(req.Header.Get("Authorization"), "Bearer ")
	scope := r.scope()
	r.mu.Lock()
	defer r.mu.Unlock()
	x := r.tokens[token]
	return time.Now().Before(x.until) && slices.Contains(x.scopes, scope)
}

// list serves one collection with limit and offset, X-Total-Count and Link, and
// with a filter on when records last changed.
func list[T interface{ Common() oneroster.Base }](r *Register, path, wrapper string, all func(base string) []T) {
	listAt(r, oneroster.V12, oneroster.BasePath, path, wrapper, all)
	listAt(r, oneroster.V11, oneroster.BasePath11, path, wrapper, all)
}

func listAt[T interface{ Common() oneroster.Base }](r *Register, version oneroster.Version, at, path, wrapper string,
	all func(base string) []T,
) {
	r.mux.HandleFunc("GET "+at+path, func(w http.ResponseWriter, req *http.Request) {
		if !r.speaks(version) {
			http.NotFound(w, req)
			return
		}
		if !r.allowed(req) {
			listing.Fail(w, http.StatusUnauthorized, "unauthorisedrequest", "The access token is unknown or has expired.")
			return
		}
		listing.Serve(w, req, wrapper, all("http://"+req.Host+at),
			func(x T) string { return x.Common().DateLastModified },
			func(items []T) any { return as(version, items) })
	})
}

// as gives records in the form of a version: in 1.1 people have one role and organisations beside it,
// and days have a time behind them.
func as[T any](version oneroster.Version, items []T) any {
	if version == oneroster.V12 {
		return items
	}
	older := make([]map[string]any, len(items))
	for i, x := range items {
		text, _ := json.Marshal(x)
		_ = json.Unmarshal(text, &older[i])
		for _, day := range []string{"startDate", "endDate", "beginDate"} {
			if s, _ := older[i][day].(string); s != "" {
				older[i][day] = s + "T00:00:00.000Z"
			}
		}
		if roles, _ := older[i]["roles"].([]any); len(roles) > 0 {
			one, _ := roles[0].(map[string]any)
			older[i]["role"], older[i]["orgs"] = one["role"], []any{one["org"]}
		}
		delete(older[i], "roles")
	}
	return older
}

func base(id string, modified time.Time) oneroster.Base {
	return oneroster.Base{
		SourcedID: id, Status: oneroster.Active,
		DateLastModified: modified.UTC().Format("2006-01-02T15:04:05.000Z"),
	}
}

func ref(b, kind, path, id string) oneroster.Ref {
	return oneroster.Ref{Href: b + path + "/" + id, SourcedID: id, Type: kind}
}

const schoolID = "org-fernmoor"

func (r *Register) orgs(string) []oneroster.Org {
	return []oneroster.Org{{
		Base: base(schoolID, r.school.Terms[0].Start), Name: r.school.Name, Type: "school",
		Identifier: "FGS",
	}}
}

func (r *Register) sessions(b string) (out []oneroster.AcademicSession) {
	for _, t := range r.school.Terms {
		out = append(out, oneroster.AcademicSession{
			Base: base(t.ID, t.Start), Title: t.Title, Type: "term",
			StartDate: oneroster.NewDate(t.Start), EndDate: oneroster.NewDate(t.End),
			SchoolYear: strconv.Itoa(r.school.Terms[1].End.Year()),
		})
	}
	for _, p := range periods(r.school) {
		term := termOf(p)
		out = append(out, oneroster.AcademicSession{
			Base: base(p.ID, p.Start), Title: p.Title, Type: "gradingPeriod",
			StartDate: oneroster.NewDate(p.Start), EndDate: oneroster.NewDate(p.End.AddDate(0, 0, 1)),
			Parent: &oneroster.Ref{
				Href: b + "/academicSessions/" + term, SourcedID: term,
				Type: "academicSession",
			},
			SchoolYear: strconv.Itoa(r.school.Terms[1].End.Year()),
		})
	}
	return out
}

func (r *Register) courses(b string) (out []oneroster.Course) {
	for _, c := range r.school.Courses {
		out = append(out, oneroster.Course{
			Base: base(c.ID, r.school.Terms[0].Start),
			Org:  ref(b, "org", "/orgs", schoolID), Title: c.Title, CourseCode: c.Code,
		})
	}
	return out
}

func (r *Register) classes(b string) (out []oneroster.Class) {
	for _, s := range r.school.Sections() {
		kind := "scheduled"
		if s.Homeroom {
			kind = "homeroom"
		}
		out = append(out, oneroster.Class{
			Base: base(s.ID, r.school.Terms[0].Start), Title: s.Title, ClassCode: s.Code, ClassType: kind,
			Course: ref(b, "course", "/courses", s.CourseID), School: ref(b, "org", "/orgs", schoolID),
			Terms:  []oneroster.Ref{ref(b, "academicSession", "/academicSessions", s.TermID)},
			Grades: s.Levels, Subjects: s.Subjects,
		})
	}
	return out
}

func (r *Register) users(b string) (out []oneroster.User) {
	for _, p := range r.school.People() {
		kind := "primary"
		if p.Secondary {
			kind = "secondary"
		}
		out = append(out, oneroster.User{
			Base: base(p.ID, p.Modified), UserMasterIdentifier: p.Master, Username: p.UserName,
			EnabledUser: oneroster.Bool(!p.Disabled),
			GivenName:   p.GivenName, FamilyName: p.FamilyName, Email: p.Email,
			Roles: []oneroster.UserRole{{RoleType: kind, Role: p.Role, Org: ref(b, "org", "/orgs", schoolID)}},
		})
	}
	return out
}

func (r *Register) enrollments(b string) (out []oneroster.Enrollment) {
	for _, e := range r.school.Enrolments() {
		x := oneroster.Enrollment{
			Base: base(e.ID, e.Modified), User: ref(b, "user", "/users", e.PersonID), Class: ref(b, "class",
				"/classes", e.SectionID),
			School: ref(b, "org", "/orgs", schoolID), Role: e.Role, BeginDate: oneroster.NewDate(e.Begin),
		}
		if e.Ended {
			x.Status = oneroster.ToBeDeleted
		}
		out = append(out, x)
	}
	return out
}

var officePage = template.Must(template.New("office").Parse(`
<h2>Enrol or withdraw</h2>
<form method="post" action="/office/enrolments"><select name="person">{{range .People}}<option value="{{.ID}}">{{.Name}}</option>{{end}}</select>
<select name="section">{{range .Sections}}<option value="{{.ID}}">{{.Title}}</option>{{end}}</select>
<button>Enrol</button> <button formaction="/office/withdrawals">Withdraw</button></form>
<p><a href="/book">The gradebook</a></p>
<p><a href="/export.zip">The whole register as OneRoster CSV</a></p>
<h2>People</h2><table><tr><th>Id<th>Name<th>Role<th>E-mail address</tr>
{{range .People}}<tr id="{{.ID}}"><td>{{.ID}}<td>{{.Name}}{{if .Disabled}} (disabled){{end}}<td>{{.Role}}
<td><form method="post" action="/office/people/{{.ID}}"><input name="email" size="34" value="{{.Email}}"> <button>Save</button></form></tr>{{end}}</table>`))

func (r *Register) office(w http.ResponseWriter, _ *http.Request) {
	var body bytes.Buffer
	_ = officePage.Execute(&body, map[string]any{"People": r.school.People(), "Sections": r.school.Sections()})
	page.Write(w, page.Page{
		Title: "School office: the register",
		About: "Stand-in for a records system. It speaks OneRoster 1.2 rostering.",
		Body:  template.HTML(body.String()),
	})
}

func (r *Register) setPerson(w http.ResponseWriter, req *http.Request) {
	if err := req.ParseForm(); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	id := req.PathValue("id")
	if req.PostForm.Has("email") {
		r.finish(w, req, r.school.SetEmail(id, strings.TrimSpace(req.PostForm.Get("email"))))
		return
	}
	r.finish(w, req, r.school.SetName(id, req.PostForm.Get("givenName"), req.PostForm.Get("familyName")))
}

func (r *Register) enrol(w http.ResponseWriter, req *http.Request) {
	r.finish(w, req, r.school.Enrol(req.FormValue("person"), req.FormValue("section")))
}

func (r *Register) withdraw(w http.ResponseWriter, req *http.Request) {
	r.finish(w, req, r.school.Withdraw(req.FormValue("person"), req.FormValue("section")))
}

func (r *Register) finish(w http.ResponseWriter, req *http.Request, err error) {
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnprocessableEntity)
		return
	}
	http.Redirect(w, req, "/", http.StatusSeeOther)
}
