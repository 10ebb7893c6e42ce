package platform

import (
	"bytes"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"kanban/internal/standin/gradebook"
	"kanban/internal/standin/page"
	"kanban/internal/standin/reporter"
	"kanban/internal/standin/school"
	"kanban/internal/wire/oneroster"
	"kanban/internal/wire/webhook"
)

// Credentials of the gradebook's one client.
const (
	MarksID     = "kanban"
	MarksSecret = "red-ink"
)

// MarksClass is the one class of the course Propagation in which all its sections learn.
const MarksClass = "propagation"

// propagation are the sections whose learners are in the class.
var propagation = []string{school.PropagationA, school.PropagationB, "sec-prop-c"}

// classes is the platform's side of the school: one class.
type classes struct{ *school.School }

// Class reports whether there is a class.
func (classes) Class(id string) bool { return id == MarksClass }

// Period gives no period: the platform has none.
func (classes) Period(string) (gradebook.Period, bool) { return gradebook.Period{}, false }

// Has reports whether somebody learns in the class.
func (c classes) Has(class, student string) bool {
	return class == MarksClass && slices.ContainsFunc(c.Enrolments(), func(e school.Enrolment) bool {
		return e.PersonID == student && e.Role == "student" && !e.Ended && slices.Contains(propagation, e.SectionID)
	})
}

// marking serves the gradebook and the page on which teachers mark.
func (p *Platform) marking() {
	p.Marks = gradebook.New(gradebook.Rules{Decimals: -1}, p.granted, classes{p.school}, time.Now)
	p.mux.Handle(oneroster.GradebookPath+"/", p.Marks)
	p.mux.Handle(oneroster.BasePath11+"/", p.Marks)
	p.mux.HandleFunc("POST /oauth/token", p.token)
	p.mux.HandleFunc("GET /marking", p.markingPage)
	p.mux.HandleFunc("POST /marking", p.mark)
	p.mux.HandleFunc("POST /marking/release", p.release)
	p.mux.HandleFunc("POST /marking/withdraw", p.withdraw)
	p.Notices = reporter.New()
	p.mux.HandleFunc("POST /marking/reporting", p.Notices.Set("/marking"))
	p.assignments()
}

// assignments are those of the class, as teachers make them: one is due in time, one has no due
// date, one is due when the term is over, one is worth nothing.
func (p *Platform) assignments() {
	today := time.Now().UTC().Truncate(24 * time.Hour)
	number := func(n float64) *oneroster.Number { v := oneroster.Number(n); return &v }
	for _, c := range []oneroster.Category{
		{Base: oneroster.Base{SourcedID: "work"}, Title: "Course work", Weight: number(60)},
		{Base: oneroster.Base{SourcedID: "tests"}, Title: "Tests", Weight: number(40)},
	} {
		p.Marks.Enter(oneroster.FileCategories, c.SourcedID, c)
	}
	for _, a := range []struct {
		id, title, category string
		due                 int // days from today; 0 for none
		points              float64
	}{
		{"cuttings-report", "Report on cuttings", "work", -14, 20},
		{"cuttings-test", "Cuttings: what do you know?", "tests", -7, 25},
		{"tool-care", "Care of tools", "work", 0, 10},
		{"herbarium", "Herbarium", "work", 75, 50},
		{"garden-walk", "Walk through the garden", "work", -20, 0},
	} {
		l := oneroster.LineItem{
			Title: a.title, Class: oneroster.Ref{SourcedID: MarksClass, Type: "class"},
			Category:   &oneroster.Ref{SourcedID: a.category, Type: "category"},
			AssignDate: oneroster.Moment{Time: today.AddDate(0, 0, -30)}, ResultValueMax: number(a.points),
		}
		if a.due != 0 {
			l.DueDate = oneroster.Moment{Time: today.AddDate(0, 0, a.due)}
		}
		p.Marks.Enter(oneroster.FileLineItems, a.id, l)
	}
}

// token gives out access tokens for the gradebook (RFC 6749 4.4), with what was asked for.
func (p *Platform) token(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	id, secret, _ := r.BasicAuth()
	id, _ = url.QueryUnescape(id)
	secret, _ = url.QueryUnescape(secret)
	if id != MarksID || subtle.ConstantTimeCompare([]byte(secret), []byte(MarksSecret)) != 1 {
		w.WriteHeader(http.StatusUnauthorized)
		_ = json.NewEncoder(w).Encode(map[string]string{"error": "invalid_client"})
		return
	}
	token := rand.Text()
	p.mu.Lock()
	p.tokens[token] = strings.Fields(r.FormValue("scope"))
	p.mu.Unlock()
	w.Header().Set("Cache-Control", "no-store")
	_ = json.NewEncoder(w).Encode(map[string]any{
		"access_token": token, "token_type": "Bearer", "expires_in": 600, "scope": r.FormValue("scope"),
	})
}

func (p *Platform) granted(r *http.Request, scope string) bool {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	p.mu.Lock()
	defer p.mu.Unlock()
	version := oneroster.V12
	if strings.HasPrefix(r.URL.Path, oneroster.BasePath11) {
		version = oneroster.V11
	}
	return slices.Contains(p.tokens[token], oneroster.Scope(version, scope))
}

// resultOf is the result of a learner, as it is or new.
func (p *Platform) resultOf(item, learner string) oneroster.Result {
	for _, r := range gradebook.All[oneroster.Result](p.Marks, oneroster.FileResults) {
		if r.LineItem.SourcedID == item && r.Student.SourcedID == learner {
			return r
		}
	}
	return oneroster.Result{
		Base:        oneroster.Base{SourcedID: item + "-" + learner},
		LineItem:    oneroster.Ref{SourcedID: item, Type: "lineItem"},
		Student:     oneroster.Ref{SourcedID: learner, Type: "user"},
		Class:       &oneroster.Ref{SourcedID: MarksClass, Type: "class"},
		ScoreStatus: oneroster.ScoreSubmitted,
	}
}

// mark keeps a score as a draft, or releases it.
func (p *Platform) mark(w http.ResponseWriter, r *http.Request) {
	item, learner := r.FormValue("item"), r.FormValue("learner")
	if !p.has(item) || !(classes{p.school}).Has(MarksClass, learner) {
		http.Error(w, "no such assignment, or no such learner in the class", http.StatusUnprocessableEntity)
		return
	}
	x := p.resultOf(item, learner)
	x.Score, x.TextScore = nil, ""
	if text := strings.TrimSpace(r.FormValue("score")); text != "" {
		if n, err := oneroster.ParseNumber(text); err == nil {
			v := oneroster.Number(n)
			x.Score = &v
		} else {
			x.TextScore = text
		}
	}
	x.ScoreStatus = oneroster.ScoreSubmitted // a score beside it is a draft
	if r.FormValue("release") != "" {
		x.ScoreStatus = oneroster.ScoreFullyGraded
	}
	switch r.FormValue("flag") {
	case "exempt":
		x.ScoreStatus = oneroster.ScoreExempt
	case "partly marked":
		x.ScoreStatus = oneroster.ScorePartiallyGraded
	case "not submitted":
		x.ScoreStatus = oneroster.ScoreNotSubmitted
	}
	x.Late, x.Missing = r.FormValue("flag") == "late", r.FormValue("flag") == "missing"
	x.Comment, x.ScoreDate = r.FormValue("comment"), oneroster.Moment{Time: time.Now().UTC()}
	p.Marks.Enter(oneroster.FileResults, x.SourcedID, x)
	if x.ScoreStatus != oneroster.ScoreSubmitted {
		p.notice(r)
	}
	http.Redirect(w, r, "/marking?item="+url.QueryEscape(item), http.StatusSeeOther)
}

// notice reports that scores became final, when somebody has entered where to.
func (p *Platform) notice(r *http.Request) {
	err := p.Notices.Tell(r.Context(), webhook.Event{
		ID: rand.Text(), Source: "http://" + r.Host, Type: "scores.final", Subject: MarksClass, Time: time.Now().UTC(),
		Data: map[string]any{"class": MarksClass},
	})
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.noticed = "told"; errors.Is(err, reporter.ErrNowhere) {
		p.noticed = ""
	} else if err != nil {
		p.noticed = "not told: " + err.Error()
	}
}

// release makes every draft of an assignment final.
func (p *Platform) release(w http.ResponseWriter, r *http.Request) {
	item := r.FormValue("item")
	for _, x := range gradebook.All[oneroster.Result](p.Marks, oneroster.FileResults) {
		if x.LineItem.SourcedID == item && x.ScoreStatus == oneroster.ScoreSubmitted && x.Score != nil {
			x.ScoreStatus = oneroster.ScoreFullyGraded
			p.Marks.Enter(oneroster.FileResults, x.SourcedID, x)
		}
	}
	p.notice(r)
	http.Redirect(w, r, "/marking?item="+url.QueryEscape(item), http.StatusSeeOther)
}

// withdraw marks a result as deleted.
func (p *Platform) withdraw(w http.ResponseWriter, r *http.Request) {
	item := r.FormValue("item")
	x := p.resultOf(item, r.FormValue("learner"))
	x.Status = oneroster.ToBeDeleted
	p.Marks.Enter(oneroster.FileResults, x.SourcedID, x)
	http.Redirect(w, r, "/marking?item="+url.QueryEscape(item), http.StatusSeeOther)
}

func (p *Platform) has(item string) bool {
	return slices.ContainsFunc(gradebook.All[oneroster.LineItem](p.Marks, oneroster.FileLineItems),
		func(l oneroster.LineItem) bool { return l.SourcedID == item })
}

var markingTable = template.Must(template.New("marking").Parse(`
<form method="get"><select name="item" onchange="this.form.submit()">{{range .Items}}<option value="{{.SourcedID}}"{{if eq .SourcedID $.Item}} selected{{end}}>{{.Title}}</option>{{end}}</select> <button>Choose</button></form>
<form method="post" action="/marking/release"><input type="hidden" name="item" value="{{.Item}}"><button>Release all drafts</button></form>
<table><tr><th>Learner<th>Score<th>State<th>Mark</tr>{{range .Rows}}<tr id="{{.ID}}"><td>{{.Name}}<td>{{.Score}}<td>{{.State}}
<td><form method="post" action="/marking"><input type="hidden" name="item" value="{{$.Item}}"><input type="hidden" name="learner" value="{{.ID}}">
<input name="score" size="6" aria-label="Score of {{.Name}}" value="{{.Score}}"> <select name="flag" aria-label="Flag of {{.Name}}"><option value="">no flag</option>{{range $.Flags}}<option>{{.}}</option>{{end}}</select>
<input name="comment" size="18" aria-label="Comment for {{.Name}}" value="{{.Comment}}"> <button>Keep as draft</button> <button name="release" value="1">Release</button>
<button formaction="/marking/withdraw">Delete</button></form></tr>{{end}}</table>
<h2>Where it is told that scores became final</h2><p>{{.Noticed}}</p><form method="post" action="/marking/reporting"><label>address <input name="address" size="44" value="{{.Address}}"></label> <label>signing secret <input name="secret" type="password"></label> <button>Save</button></form>`))

func (p *Platform) markingPage(w http.ResponseWriter, r *http.Request) {
	items := gradebook.All[oneroster.LineItem](p.Marks, oneroster.FileLineItems)
	item := r.URL.Query().Get("item")
	if !p.has(item) {
		item = items[0].SourcedID
	}
	type row struct{ ID, Name, Score, State, Comment string }
	var rows []row
	for _, x := range p.school.People() {
		if !(classes{p.school}).Has(MarksClass, x.ID) {
			continue
		}
		got := p.resultOf(item, x.ID)
		shown := row{ID: x.ID, Name: x.Name(), State: got.ScoreStatus, Comment: got.Comment, Score: got.TextScore}
		if got.Score != nil {
			text, _ := json.Marshal(got.Score)
			shown.Score = string(text)
		}
		switch {
		case got.Status == "": // nobody has entered anything
			shown.State = "–"
		case got.Status == oneroster.ToBeDeleted:
			shown.State = "deleted"
		case bool(got.Late):
			shown.State += ", late"
		case bool(got.Missing):
			shown.State += ", missing"
		}
		rows = append(rows, shown)
	}
	var body bytes.Buffer
	p.mu.Lock()
	noticed := p.noticed
	p.mu.Unlock()
	_ = markingTable.Execute(&body, map[string]any{
		"Address": p.Notices.Address(), "Noticed": noticed,
		"Items": items, "Item": item, "Rows": rows, "Flags": []string{
			"exempt", "missing", "late", "not submitted",
			"partly marked",
		},
	})
	page.Write(w, page.Page{
		Title: "Course platform: marking", About: "Stand-in for the pages on which teachers mark. Drafts are not meant to be seen yet.",
		Body: template.HTML(body.String()),
	})
}
