// Package platform stands in for the course platform: it has a course outline
// as a Common Cartridge, a plain page on which activities are ticked off for a
// learner, reports each tick as an xAPI statement, and takes enrolments over SCIM
// or as a OneRoster delta. Teachers mark on a page of their own; the scores are in a
// OneRoster gradebook.
package platform

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kanban/internal/standin/coursepages"
	"kanban/internal/standin/gradebook"
	"kanban/internal/standin/page"
	"kanban/internal/standin/reporter"
	"kanban/internal/standin/school"
	"kanban/internal/standin/workspace"
	"kanban/internal/wire/xapi"
)

// Activity of the platform's one outline.
type Activity struct {
	ID, Title, Resource string
}

// Module of the outline.
type Module struct {
	ID, Title  string
	Activities []Activity
}

const (
	webContent = "webcontent"
	assessment = "imsqti_xmlv1p2/imscc_xmlv1p3/assessment"
	assignment = "assignment_xmlv1p0"
)

// Outline of the course Propagation.
var Outline = []Module{
	{"mod-cuttings", "Cuttings", []Activity{
		{"act-tools", "Clean tools", webContent}, {
			"act-softwood", "Softwood cuttings",
			webContent,
		}, {"act-cuttings-check", "Cuttings: what do you know?", assessment},
	}},
	{"mod-grafting", "Grafting", []Activity{
		{"act-union", "The graft union", webContent}, {"act-first-graft", "Your first graft", assignment},
	}},
}

// reporting is where statements go; an administrator enters it on the page.
type reporting struct {
	Endpoint string `json:"endpoint"` // the address that ends before /statements
	Key      string `json:"key"`
	Secret   string `json:"secret"`
}

// Platform is the stand-in. Use New.
type Platform struct {
	school *school.School
	mux    *http.ServeMux
	http   *http.Client

	scimMu   sync.Mutex
	scim     *workspace.Workspace
	accounts map[string]string // of people whom the SCIM service made

	// Marks is the gradebook of the one class.
	Marks *gradebook.Gradebook
	// Notices tell that scores became final; noticed says what became of the latest.
	Notices *reporter.Reporter
	noticed string
	// Courses opens pages of tools from inside its courses.
	Courses *coursepages.Server

	mu        sync.Mutex
	reporting reporting
	done      map[string]string   // learner/activity → outcome of reporting it
	tokens    map[string][]string // scopes by access token of the gradebook
}

// New is a platform for the given school on which nothing is done yet.
func New(s *school.School) *Platform {
	p := &Platform{
		school: s, mux: http.NewServeMux(), http: &http.Client{Timeout: 10 * time.Second},
		done: map[string]string{}, tokens: map[string][]string{}, scim: workspace.Bare(Token),
		accounts: map[string]string{},
	}
	p.mux.HandleFunc("GET /courses/propagation/imsmanifest.xml", p.manifest)
	p.mux.HandleFunc("POST /reporting", p.setReporting)
	p.mux.HandleFunc("POST /ticks", p.tick)
	p.mux.HandleFunc("/scim/v2/", p.places)
	p.mux.HandleFunc("POST /pickup", p.pickUp)
	p.mux.HandleFunc("GET /{$}", p.page)
	p.Courses = coursepages.New(s)
	p.mux.Handle("/lti/", p.Courses)
	p.marking()
	return p
}

// ServeHTTP answers page, outline and settings.
func (p *Platform) ServeHTTP(w http.ResponseWriter, r *http.Request) { p.mux.ServeHTTP(w, r) }

var manifest = template.Must(template.New("manifest").Parse(`<manifest identifier="propagation" xmlns="http://www.imsglobal.org/xsd/imsccv1p3/imscp_v1p1">
  <metadata><schema>IMS Common Cartridge</schema><schemaversion>1.3.0</schemaversion></metadata>
  <organizations><organization identifier="outline" structure="rooted-hierarchy"><item identifier="root">
{{range .}}    <item identifier="{{.ID}}"><title>{{.Title}}</title>
{{range .Activities}}      <item identifier="{{.ID}}" identifierref="res-{{.ID}}"><title>{{.Title}}</title></item>
{{end}}    </item>
{{end}}  </item></organization></organizations>
  <resources>
{{range .}}{{range .Activities}}    <resource identifier="res-{{.ID}}" type="{{.Resource}}"/>
{{end}}{{end}}  </resources>
</manifest>
`))

func (p *Platform) manifest(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	_, _ = io.WriteString(w, `<?xml version="1.0" encoding="UTF-8"?>`+"\n")
	_ = manifest.Execute(w, Outline)
}

func (p *Platform) setReporting(w http.ResponseWriter, r *http.Request) {
	var in reporting
	if strings.HasPrefix(r.Header.Get("Content-Type"), "application/json") {
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			http.Error(w, "the body is not JSON", http.StatusBadRequest)
			return
		}
	} else {
		in = reporting{r.FormValue("endpoint"), r.FormValue("key"), r.FormValue("secret")}
	}
	if u, err := url.Parse(in.Endpoint); err != nil || !u.IsAbs() {
		http.Error(w, "the endpoint is not an address", http.StatusUnprocessableEntity)
		return
	}
	p.mu.Lock()
	p.reporting = in
	p.mu.Unlock()
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

func find(id string) (Module, Activity, bool) {
	for _, m := range Outline {
		for _, a := range m.Activities {
			if a.ID == id {
				return m, a, true
			}
		}
	}
	return Module{}, Activity{}, false
}

// tick marks an activity as done (or failed) and reports it.
func (p *Platform) tick(w http.ResponseWriter, r *http.Request) {
	learner, activityID, failed := r.FormValue("learner"), r.FormValue("activity"), r.FormValue("failed") != ""
	m, a, ok := find(activityID)
	if !ok {
		http.Error(w, "no such activity", http.StatusUnprocessableEntity)
		return
	}
	outcome := "reported"
	days, _ := strconv.Atoi(r.FormValue("daysAgo"))
	err := p.report(r.Context(), "http://"+r.Host, learner, m, a, failed, time.Now().UTC().AddDate(0, 0, -days))
	if err != nil {
		outcome = "not reported: " + err.Error()
	} else if failed {
		outcome = "failed, reported"
	}
	p.mu.Lock()
	p.done[learner+"/"+activityID] = outcome
	p.mu.Unlock()
	if err != nil && r.Header.Get("Accept") == "application/json" {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	http.Redirect(w, r, "/?learner="+url.QueryEscape(learner), http.StatusSeeOther)
}

func (p *Platform) report(ctx context.Context, base, learner string, m Module, a Activity, failed bool,
	at time.Time,
) error {
	p.mu.Lock()
	to := p.reporting
	p.mu.Unlock()
	if to.Endpoint == "" {
		return fmt.Errorf("reporting is not set up")
	}
	statement := statementOf(base, learner, m, a, failed)
	statement.Timestamp = at
	body, err := json.Marshal([]xapi.Statement{statement})
	if err != nil {
		return err
	}
	for try := 0; ; try++ { // the same id each time, so that a repeat is harmless
		err = p.send(ctx, to, body)
		if err == nil || try == 3 || ctx.Err() != nil {
			return err
		}
		time.Sleep(200 * time.Millisecond << try)
	}
}

func (p *Platform) send(ctx context.Context, to reporting, body []byte) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimRight(to.Endpoint, "/")+"/statements",
		bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set(xapi.VersionHeader, xapi.Version)
	req.SetBasicAuth(to.Key, to.Secret)
	resp, err := p.http.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 500))
	if resp.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: %s", resp.Status, text)
	}
	return nil
}

func statementOf(base, learner string, m Module, a Activity, failed bool) xapi.Statement {
	yes, no := true, false
	s := xapi.Statement{
		ID: uuid.NewString(), Version: xapi.Version, Timestamp: time.Now().UTC(),
		Actor: xapi.Agent{ObjectType: "Agent", Account: &xapi.Account{HomePage: base, Name: learner}},
		Verb:  xapi.Verb{ID: xapi.ADL + "completed", Display: map[string]string{"en": "completed"}},
		Object: xapi.Object{
			ObjectType: "Activity", ID: base + "/activities/" + a.ID,
			Definition: &xapi.Definition{
				Name: map[string]string{"en": a.Title},
				Type: "http://adlnet.gov/expapi/activities/lesson",
			},
		},
		Result: &xapi.Result{Completion: &yes}, Context: &xapi.Context{},
	}
	s.Context.ContextActivities.Parent = xapi.Activities{{ID: base + "/modules/" + m.ID}}
	s.Context.ContextActivities.Grouping = xapi.Activities{{ID: base + "/courses/propagation"}}
	if a.Resource == assessment {
		score := 0.92
		s.Object.Definition.Type = "http://adlnet.gov/expapi/activities/assessment"
		s.Verb, s.Result.Success = xapi.Verb{
			ID:      xapi.ADL + "passed",
			Display: map[string]string{"en": "passed"},
		}, &yes
		if failed {
			score = 0.31
			s.Verb, s.Result.Success = xapi.Verb{
				ID:      xapi.ADL + "failed",
				Display: map[string]string{"en": "failed"},
			}, &no
		}
		s.Result.Score = &xapi.Score{Scaled: &score}
	}
	return s
}

var ticks = template.Must(template.New("ticks").Parse(`
<h2>Who is learning?</h2><form method="get"><select name="learner" onchange="this.form.submit()">
<option value="">choose a learner</option>{{range .Learners}}<option value="{{.ID}}"{{if eq .ID $.Learner}} selected{{end}}>{{.Name}} ({{.ID}})</option>{{end}}</select> <button>Choose</button></form>
{{if .Learner}}{{range .Modules}}<h2>{{.Title}}</h2><table>{{range .Activities}}<tr><td>{{.Title}}
<td><form method="post" action="/ticks"><input type="hidden" name="learner" value="{{$.Learner}}"><input type="hidden" name="activity" value="{{.ID}}">
<button id="tick-{{.ID}}">Tick off</button>{{if .Assessed}} <button name="failed" value="1">Fail</button>{{end}}</form><td>{{.Outcome}}</tr>{{end}}</table>{{end}}{{end}}
<p><a href="/marking">Marking</a> · <a href="/lti/">Tools and courses</a></p>
<h2>Where activity is reported</h2><form method="post" action="/reporting"><label>xAPI endpoint <input name="endpoint" size="44" value="{{.Reporting.Endpoint}}"></label>
<label>key <input name="key" value="{{.Reporting.Key}}"></label> <label>secret <input name="secret" type="password"></label> <button>Save</button></form>`))

func (p *Platform) page(w http.ResponseWriter, r *http.Request) {
	type activity struct {
		Activity
		Assessed bool
		Outcome  string
	}
	type module struct {
		Title      string
		Activities []activity
	}
	learner := r.URL.Query().Get("learner")
	p.mu.Lock()
	var modules []module
	for _, m := range Outline {
		shown := module{Title: m.Title}
		for _, a := range m.Activities {
			shown.Activities = append(shown.Activities,
				activity{a, a.Resource == assessment, p.done[learner+"/"+a.ID]})
		}
		modules = append(modules, shown)
	}
	data := map[string]any{"Learner": learner, "Modules": modules, "Reporting": p.reporting}
	p.mu.Unlock()
	var people []school.Person
	for _, person := range p.school.People() {
		if person.Role == "student" {
			people = append(people, person)
		}
	}
	data["Learners"] = people
	var body bytes.Buffer
	_ = ticks.Execute(&body, data)
	page.Write(w, page.Page{
		Title: "Course platform: Propagation",
		About: "Stand-in for a course platform. Each tick is reported as an xAPI statement.",
		Body:  template.HTML(body.String()),
	})
}
