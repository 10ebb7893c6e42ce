// Package workspace stands in for a chat workspace: a SCIM 2.0 service whose
// groups are spaces, with a plain page that shows who is in which space.
package workspace

import (
	"bytes"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"kanban/internal/standin/page"
	"kanban/internal/standin/school"
	"kanban/internal/wire/scim"
)

// Token is the workspace's one bearer token.
const Token = "potting-shed"

// RefusedDomain is a mail domain whose addresses the workspace does not accept.
const RefusedDomain = "@old.fernmoor.example"

// Workspace is the stand-in. Use New.
type Workspace struct {
	mux      *http.ServeMux
	mu       sync.Mutex
	users    []scim.User
	groups   []scim.Group
	serial   int
	about    map[string]map[string]string // what it knows of classes, by group
	demanded []string                     // what a class has to say of itself
	told     map[string]bool              // ids of the newcomers who got a welcome message
	plain    bool                         // offers nothing beyond the core
	double   bool                         // lists a member twice who is added twice
	late     time.Duration                // after which lists and members show what was changed
	past     []moment                     // what they have shown since
	// Created counts accounts ever made through the API.
	created int
	token   string
}

// Bare is a SCIM service of its own, without page and people, for another stand-in.
func Bare(token string) *Workspace {
	w := &Workspace{
		mux: http.NewServeMux(), told: map[string]bool{}, about: map[string]map[string]string{},
		token: token,
	}
	w.routes()
	return w
}

// Replace gives the service other accounts and groups.
func (w *Workspace) Replace(users []scim.User, groups []scim.Group) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.users, w.groups = slices.Clone(users), slices.Clone(groups)
}

// Content is what the service has.
func (w *Workspace) Content() ([]scim.User, []scim.Group) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.Clone(w.users), slices.Clone(w.groups)
}

// New is a workspace in which the staff and a few learners already have accounts.
func New(s *school.School) *Workspace {
	w := &Workspace{
		mux: http.NewServeMux(), told: map[string]bool{}, about: map[string]map[string]string{},
		token: Token,
	}
	for _, p := range s.People() {
		switch {
		case p.Role == "teacher" && !p.Secondary:
			w.seed(p, strings.ToUpper(p.Email[:1])+p.Email[1:], true)
		case p.ID == school.NotActive:
			w.seed(p, p.Email, false)
		case p.ID == school.Doubled:
			w.seed(p, p.Email, true)
			p.UserName += "2"
			w.seed(p, p.Email, true)
		}
	}
	w.routes()
	w.mux.HandleFunc("GET /{$}", w.page)
	return w
}

func (w *Workspace) routes() {
	w.mux.HandleFunc("GET /scim/v2/ServiceProviderConfig", w.config)
	w.mux.HandleFunc("GET /scim/v2/Users", w.listUsers)
	w.mux.HandleFunc("GET /scim/v2/Schemas", w.schemas)
	w.mux.HandleFunc("POST /scim/v2/Bulk", w.bulk)
	w.mux.HandleFunc("POST /scim/v2/Users", w.createUser)
	w.mux.HandleFunc("GET /scim/v2/Users/{id}", w.getUser)
	w.mux.HandleFunc("PATCH /scim/v2/Users/{id}", w.patchUser)
	w.mux.HandleFunc("DELETE /scim/v2/Users/{id}", w.deleteUser)
	w.mux.HandleFunc("GET /scim/v2/Groups", w.listGroups)
	w.mux.HandleFunc("POST /scim/v2/Groups", w.createGroup)
	w.mux.HandleFunc("GET /scim/v2/Groups/{id}", w.getGroup)
	w.mux.HandleFunc("PATCH /scim/v2/Groups/{id}", w.patchGroup)
	w.mux.HandleFunc("DELETE /scim/v2/Groups/{id}", w.deleteGroup)
}

func (w *Workspace) seed(p school.Person, email string, active bool) {
	w.users = append(w.users, scim.User{
		Schemas: []string{scim.UserSchema}, ID: w.nextID("u"), UserName: p.UserName + "@chat",
		Name: scim.Name{GivenName: p.GivenName, FamilyName: p.FamilyName}, Emails: []scim.Email{{
			Value:   email,
			Primary: true,
		}}, Active: active,
		Meta: scim.Meta{ResourceType: "User", Version: `W/"1"`},
	})
}

func (w *Workspace) nextID(prefix string) string {
	w.serial++
	return fmt.Sprintf("%s%05d", prefix, w.serial)
}

// ServeHTTP answers the SCIM service and the page.
func (w *Workspace) ServeHTTP(out http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, "/scim/") && r.Header.Get("Authorization") != "Bearer "+w.token {
		refuse(out, http.StatusUnauthorized, "", "The bearer token is not accepted.")
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.late == 0 {
		w.mux.ServeHTTP(out, r)
		return
	}
	if r.Method != http.MethodGet {
		w.mux.ServeHTTP(out, r)
		w.past = append(w.past, w.now())
		return
	}
	now := w.now()
	for len(w.past) > 1 && time.Since(w.past[1].at) >= w.late {
		w.past = w.past[1:]
	}
	shown := w.past[0]
	// what was made is there at once by its id, empty
	if r.PathValue("id") == "" && strings.Count(r.URL.Path, "/") == 4 {
		for _, g := range now.groups {
			if !slices.ContainsFunc(shown.groups, func(x scim.Group) bool { return x.ID == g.ID }) {
				g.Members = nil
				shown.groups = append(slices.Clone(shown.groups), g)
			}
		}
		shown.users = now.users
	}
	w.users, w.groups = shown.users, shown.groups
	w.mux.ServeHTTP(out, r)
	w.users, w.groups = now.users, now.groups
}

// moment is what the service had at a time.
type moment struct {
	at     time.Time
	users  []scim.User
	groups []scim.Group
}

func (w *Workspace) now() moment {
	m := moment{time.Now(), slices.Clone(w.users), slices.Clone(w.groups)}
	for i := range m.groups {
		m.groups[i].Members = slices.Clone(m.groups[i].Members)
	}
	return m
}

// Late makes lists and members show what was changed only after a while, as services do
// that keep several copies.
func (w *Workspace) Late(by time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.late, w.past = by, []moment{w.now()}
}

// Created is how many accounts were ever made through the API.
func (w *Workspace) Created() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.created
}

// Space gives the user names of who is in the space with a name, ordered; nil when
// there is no such space.
func (w *Workspace) Space(name string) []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	i := slices.IndexFunc(w.groups, func(g scim.Group) bool { return g.DisplayName == name })
	if i < 0 {
		return nil
	}
	names := []string{}
	for _, m := range w.groups[i].Members {
		for _, u := range w.users {
			if u.ID == m.Value {
				names = append(names, u.Name.GivenName+" "+u.Name.FamilyName)
			}
		}
	}
	slices.Sort(names)
	return names
}

// Open makes a space as somebody at the workspace would, with the people who have
// these names in it, and gives its id.
func (w *Workspace) Open(name string, people ...string) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	g := scim.Group{ID: w.nextID("g"), DisplayName: name}
	for _, u := range w.users {
		if full := u.Name.GivenName + " " + u.Name.FamilyName; slices.Contains(people, full) {
			g.Members = append(g.Members, scim.Member{Value: u.ID, Type: "User", Display: full})
		}
	}
	w.groups = append(w.groups, g)
	return g.ID
}

// Seat puts somebody into a space or takes them out, as somebody at the workspace would.
func (w *Workspace) Seat(space, person string, in bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := range w.groups {
		g := &w.groups[i]
		if g.DisplayName != space {
			continue
		}
		for _, u := range w.users {
			if u.Name.GivenName+" "+u.Name.FamilyName != person {
				continue
			}
			g.Members = slices.DeleteFunc(slices.Clone(g.Members),
				func(m scim.Member) bool { return m.Value == u.ID })
			if in {
				g.Members = append(g.Members, scim.Member{Value: u.ID, Type: "User", Display: person})
			}
		}
	}
}

// Hold gives the workspace more accounts and spaces, as one that has been in use
// for long has.
func (w *Workspace) Hold(users []scim.User, groups []scim.Group) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.users, w.groups = append(w.users, users...), append(w.groups, groups...)
}

// Close deletes a space, as somebody at the workspace would.
func (w *Workspace) Close(name string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.groups = slices.DeleteFunc(w.groups, func(g scim.Group) bool { return g.DisplayName == name })
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", scim.ContentType)
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func refuse(w http.ResponseWriter, status int, kind, detail string) {
	answer(w, status, scim.Error{
		Schemas: []string{scim.ErrorMessage}, Status: strconv.Itoa(status), ScimType: kind,
		Detail: detail,
	})
}

func (w *Workspace) config(out http.ResponseWriter, _ *http.Request) {
	var c scim.ServiceProviderConfig
	c.Schemas = []string{scim.ConfigSchema}
	c.Patch.Supported, c.Filter.Supported, c.Filter.MaxResults = true, true, 50
	if !w.plain {
		c.ETag.Supported, c.Bulk.Supported, c.Bulk.MaxOperations, c.Bulk.MaxPayloadSize = true, true, 20, 1<<20
	}
	answer(out, http.StatusOK, c)
}

// Plain makes the workspace offer nothing beyond the core of the standard: no
// bulk calls, no versions, no filters with "or".
func (w *Workspace) Plain() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.plain = true
}

// Double makes the workspace list a member twice who is added twice, as some
// services do.
func (w *Workspace) Double() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.double = true
}

// Told is how many newcomers got a welcome message.
func (w *Workspace) Told() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.told)
}

// WelcomeSchema is the workspace's own extension of users. Its attribute
// sendWelcome says whether a newcomer is told; without it, they are.
const WelcomeSchema = "urn:fernmoor:params:scim:schemas:extension:welcome:2.0:User"

// ClassSchema is the workspace's own extension of groups: what it knows of a class.
const ClassSchema = "urn:fernmoor:params:scim:schemas:extension:class:2.0:Group"

// Demand lets the workspace refuse a group that does not say these of its class.
func (w *Workspace) Demand(attributes ...string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.demanded = attributes
}

// About gives what the workspace knows of the class with a name.
func (w *Workspace) About(name string) map[string]string {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, g := range w.groups {
		if g.DisplayName == name {
			return w.about[g.ID]
		}
	}
	return nil
}

func (w *Workspace) schemas(out http.ResponseWriter, _ *http.Request) {
	welcome := scim.Schema{
		ID: WelcomeSchema, Name: "Welcome",
		Attributes: []scim.SchemaAttribute{{Name: "sendWelcome", Mutability: "writeOnly"}},
	}
	class := scim.Schema{ID: ClassSchema, Name: "Class"}
	for _, name := range []string{"level", "subject", "firstDay", "lastDay"} {
		class.Attributes = append(class.Attributes, scim.SchemaAttribute{Name: name, Mutability: "readWrite"})
	}
	all := []scim.Schema{{ID: scim.UserSchema, Name: "User"}, {ID: scim.GroupSchema, Name: "Group"}, welcome, class}
	answer(out, http.StatusOK, scim.List[scim.Schema]{
		Schemas: []string{scim.ListMessage}, TotalResults: len(all),
		StartIndex: 1, ItemsPerPage: len(all), Resources: all,
	})
}

func (w *Workspace) getUser(out http.ResponseWriter, r *http.Request) {
	i := slices.IndexFunc(w.users, func(u scim.User) bool { return u.ID == r.PathValue("id") })
	if i < 0 {
		refuse(out, http.StatusNotFound, "", "No such user.")
		return
	}
	answer(out, http.StatusOK, w.users[i])
}

// deleteUser takes an account away, also out of every group (RFC 7644 section 3.6).
func (w *Workspace) deleteUser(out http.ResponseWriter, r *http.Request) {
	i := slices.IndexFunc(w.users, func(u scim.User) bool { return u.ID == r.PathValue("id") })
	if i < 0 {
		refuse(out, http.StatusNotFound, "", "No such user.")
		return
	}
	for n := range w.groups {
		w.groups[n].Members = slices.DeleteFunc(slices.Clone(w.groups[n].Members),
			func(m scim.Member) bool { return m.Value == w.users[i].ID })
	}
	w.users = slices.Delete(w.users, i, i+1)
	out.WriteHeader(http.StatusNoContent)
}

// bulk carries out several operations as if they had come one by one.
func (w *Workspace) bulk(out http.ResponseWriter, r *http.Request) {
	var in scim.Bulk
	switch err := json.NewDecoder(r.Body).Decode(&in); {
	case w.plain:
		refuse(out, http.StatusNotImplemented, "", "Bulk is not offered.")
		return
	case err != nil:
		refuse(out, http.StatusBadRequest, scim.TypeBadSyntax, "The body is not a bulk request.")
		return
	case len(in.Operations) > 20:
		refuse(out, http.StatusRequestEntityTooLarge, "", "At most 20 operations.")
		return
	}
	done := scim.Bulk{Schemas: []string{scim.BulkAnswer}}
	for _, o := range in.Operations {
		one := httptest.NewRecorder()
		w.mux.ServeHTTP(one, httptest.NewRequest(o.Method, "/scim/v2"+o.Path, bytes.NewReader(o.Data)))
		result := scim.BulkOperation{Method: o.Method, BulkID: o.BulkID, Status: strconv.Itoa(one.Code)}
		var made scim.User
		if one.Code >= 300 {
			result.Response = one.Body.Bytes()
		} else if json.Unmarshal(one.Body.Bytes(), &made) == nil {
			result.Location = "http://" + r.Host + "/scim/v2/Users/" + made.ID
		}
		done.Operations = append(done.Operations, result)
	}
	answer(out, http.StatusOK, done)
}

func (w *Workspace) listUsers(out http.ResponseWriter, r *http.Request) {
	listed(out, r, w.plain, w.users, func(u scim.User, attribute, value string) (fits, known bool) {
		switch attribute {
		case "username":
			return strings.EqualFold(u.UserName, value), true
		case "id":
			return u.ID == value, true
		case "externalid":
			return u.ExternalID == value, true
		case "emails", "emails.value":
			return slices.ContainsFunc(u.Emails, func(e scim.Email) bool {
				return strings.EqualFold(e.Value,
					value)
			}), true
		}
		return false, false
	})
}

func (w *Workspace) listGroups(out http.ResponseWriter, r *http.Request) {
	groups := slices.Clone(w.groups)
	if strings.Contains(r.URL.Query().Get("excludedAttributes"), "members") {
		for i := range groups {
			groups[i].Members = nil
		}
	}
	listed(out, r, w.plain, groups, func(g scim.Group, attribute, value string) (fits, known bool) {
		switch attribute {
		case "displayname":
			return strings.EqualFold(g.DisplayName, value), true
		case "externalid":
			return g.ExternalID == value, true
		}
		return false, false
	})
}

// listed answers a list request: filter, then a page of at most 50.
func listed[T any](out http.ResponseWriter, r *http.Request, plain bool, all []T,
	fits func(x T, attribute, value string) (fits, known bool),
) {
	q := r.URL.Query()
	if filter := q.Get("filter"); filter != "" {
		terms, err := scim.ParseAny(filter)
		if err != nil || plain && len(terms) > 1 {
			refuse(out, http.StatusBadRequest, scim.TypeBadFilter, "Cannot use this filter.")
			return
		}
		var kept []T
		for _, x := range all {
			some := false
			for _, t := range terms {
				fit, known := fits(x, t.Attribute, t.Value)
				if !known {
					refuse(out, http.StatusBadRequest, scim.TypeBadFilter, "Cannot filter by "+t.Attribute+".")
					return
				}
				some = some || fit
			}
			if some {
				kept = append(kept, x)
			}
		}
		all = kept
	}
	start, _ := strconv.Atoi(q.Get("startIndex"))
	count, err := strconv.Atoi(q.Get("count"))
	if err != nil || count > 50 {
		count = 50
	}
	from := min(max(start, 1)-1, len(all))
	to := min(from+max(count, 0), len(all))
	answer(out, http.StatusOK, scim.List[T]{
		Schemas: []string{scim.ListMessage}, TotalResults: len(all),
		StartIndex: from + 1, ItemsPerPage: to - from, Resources: all[from:to],
	})
}

func operations(out http.ResponseWriter, r *http.Request) ([]scim.Operation, bool) {
	var p scim.Patch
	if err := json.NewDecoder(r.Body).Decode(&p); err != nil || len(p.Operations) == 0 {
		refuse(out, http.StatusBadRequest, scim.TypeBadSyntax, "The body is not a patch.")
		return nil, false
	}
	return p.Operations, true
}

var spaces = template.Must(template.New("spaces").Parse(`
<h2>Spaces</h2>{{range .Groups}}<h3 id="{{.ID}}">{{.DisplayName}} <small>({{len .Members}} members)</small></h3><p>{{range .Members}}{{.Display}} · {{end}}</p>{{else}}<p>No space yet.</p>{{end}}
<h2>Accounts</h2><p>{{len .Told}} newcomers got a welcome message.</p>
<table><tr><th>Id<th>Name<th>User name<th>E-mail address<th>Active<th>Welcomed</tr>
{{range .Users}}<tr id="{{.ID}}"><td>{{.ID}}<td>{{.Name.GivenName}} {{.Name.FamilyName}}<td>{{.UserName}}<td>{{.Email}}<td>{{if .Active}}yes{{else}}not yet{{end}}<td>{{if index $.Told .ID}}yes{{end}}</tr>{{end}}</table>`))

func (w *Workspace) page(out http.ResponseWriter, _ *http.Request) {
	var body bytes.Buffer
	_ = spaces.Execute(&body, map[string]any{"Groups": w.groups, "Users": w.users, "Told": w.told})
	page.Write(out, page.Page{
		Title: "Chat workspace",
		About: "Stand-in for a chat workspace. It speaks SCIM 2.0; a group is a space.",
		Body:  template.HTML(body.String()),
	})
}
