package register

import (
	"bytes"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"kanban/internal/standin/gradebook"
	"kanban/internal/standin/page"
	"kanban/internal/standin/school"
	"kanban/internal/wire/oneroster"
)

// classes is the office's side of the school: each section is a class.
type classes struct{ *school.School }

// Class reports whether there is a section.
func (c classes) Class(id string) bool {
	return slices.ContainsFunc(c.Sections(), func(s school.Section) bool { return s.ID == id })
}

// Period gives a grading period.
func (c classes) Period(id string) (gradebook.Period, bool) {
	for _, p := range periods(c.School) {
		if p.ID == id {
			return p, true
		}
	}
	return gradebook.Period{}, false
}

// Has reports whether somebody learns in a section.
func (c classes) Has(class, student string) bool {
	return slices.ContainsFunc(c.Enrolments(), func(e school.Enrolment) bool {
		return e.SectionID == class && e.PersonID == student && e.Role == "student" && !e.Ended
	})
}

// periods are two of each term.
func periods(s *school.School) (list []gradebook.Period) {
	for _, t := range s.Terms {
		middle := t.Start.Add(t.End.Sub(t.Start) / 2).Truncate(24 * time.Hour)
		list = append(list,
			gradebook.Period{
				ID: t.ID + "-p1", Title: t.Title + ", first half", Start: t.Start,
				End: middle.AddDate(0, 0, -1),
			},
			gradebook.Period{
				ID: t.ID + "-p2", Title: t.Title + ", second half", Start: middle,
				End: t.End.AddDate(0, 0, -1),
			})
	}
	return list
}

// termOf is the id of a period's term.
func termOf(p gradebook.Period) string { return p.ID[:strings.LastIndexByte(p.ID, '-')] }

// rules of the office's book: it wants a due date inside the period, a category and points, locks what was made from
// outside, keeps one decimal, and takes scores during the school year only.
func rules(s *school.School) gradebook.Rules {
	return gradebook.Rules{
		DueInPeriod: true, Points: true, Category: true, LockMade: true, Decimals: 1, MaxComment: 200,
		Opens: s.Terms[0].Start, Closes: s.Terms[len(s.Terms)-1].End.AddDate(0, 1, 0),
	}
}

// book puts the office's gradebook in place: two categories, one of term grades, and one assignment of an earlier
// time.
func (r *Register) book() {
	r.Book = gradebook.New(rules(r.school), r.granted, classes{r.school}, time.Now)
	r.mux.Handle(oneroster.GradebookPath+"/", r.Book)
	r.mux.Handle(oneroster.BasePath11+"/", r.Book)
	r.mux.HandleFunc("GET /book", r.bookShown)
	r.mux.HandleFunc("POST /book", r.enterScore)
	number := func(n float64) *oneroster.Number { v := oneroster.Number(n); return &v }
	for _, c := range []oneroster.Category{
		{Base: oneroster.Base{SourcedID: "cat-work"}, Title: "Course work", Weight: number(50)},
		{Base: oneroster.Base{SourcedID: "cat-practice"}, Title: "Practice", Weight: number(50)},
		{Base: oneroster.Base{SourcedID: "cat-term"}, Title: TermGrades},
	} {
		r.Book.Enter(oneroster.FileCategories, c.SourcedID, c)
	}
	for _, s := range r.school.Sections() {
		if s.Homeroom {
			continue
		}
		id := s.ID + "-term"
		r.Book.Enter(oneroster.FileLineItems, id, oneroster.LineItem{
			Title: "Term grade", Class: oneroster.Ref{SourcedID: s.ID, Type: "class"},
			Category: &oneroster.Ref{SourcedID: "cat-term", Type: "category"}, ResultValueMax: number(100),
			DueDate: oneroster.Moment{Time: r.school.Terms[0].End},
		})
		r.Book.Term(id)
	}
}

// TermGrades is the title of the category of term grades.
const TermGrades = "Term grades"

// granted reports whether a request's token was given out for a scope of the gradebook.
func (r *Register) granted(req *http.Request, scope string) bool {
	token, _ := strings.CutPrefix(req.Header.Get("Authorization"), "Bearer ")
	r.mu.Lock()
	defer r.mu.Unlock()
	x := r.tokens[token]
	version := oneroster.V12
	if strings.HasPrefix(req.URL.Path, oneroster.BasePath11) {
		version = oneroster.V11
	}
	return time.Now().Before(x.until) && slices.Contains(x.scopes, oneroster.Scope(version, scope))
}

// gradebookScopes are those that the office gives out beside the one for rosters.
var gradebookScopes = []string{
	oneroster.ScopeGradebookRead, oneroster.ScopeGradebookPut, oneroster.ScopeGradebookDelete,
}

var bookPage = template.Must(template.New("book").Parse(`
<form method="get"><select name="item" onchange="this.form.submit()">{{range .Items}}<option value="{{.SourcedID}}"{{if eq .SourcedID $.Item}} selected{{end}}>{{.Class.SourcedID}}: {{.Title}}</option>{{end}}</select> <button>Choose</button></form>
<table><tr><th>Learner<th>Score<th>State<th>Change</tr>{{range .Rows}}<tr id="{{.ID}}"><td>{{.Name}}<td>{{.Score}}<td>{{.State}}
<td><form method="post" action="/book"><input type="hidden" name="item" value="{{$.Item}}"><input type="hidden" name="learner" value="{{.ID}}">
<input name="score" size="6" aria-label="Score of {{.Name}}" value="{{.Score}}"> <button>Save</button></form></tr>{{end}}</table>
<p>An empty score takes it out of the book.</p>`))

// resultOf is the score of a learner in the book, as it is or new.
func (r *Register) resultOf(item, learner string) oneroster.Result {
	for _, x := range gradebook.All[oneroster.Result](r.Book, oneroster.FileResults) {
		if x.LineItem.SourcedID == item && x.Student.SourcedID == learner {
			return x
		}
	}
	return oneroster.Result{
		Base:        oneroster.Base{SourcedID: "office-" + item + "-" + learner},
		LineItem:    oneroster.Ref{SourcedID: item, Type: "lineItem"},
		Student:     oneroster.Ref{SourcedID: learner, Type: "user"},
		ScoreStatus: oneroster.ScoreFullyGraded,
	}
}

// bookShown is the page on which the office looks at scores and changes them.
func (r *Register) bookShown(w http.ResponseWriter, req *http.Request) {
	items := gradebook.All[oneroster.LineItem](r.Book, oneroster.FileLineItems)
	chosen := items[0]
	for _, x := range items {
		if x.SourcedID == req.URL.Query().Get("item") {
			chosen = x
		}
	}
	type row struct{ ID, Name, Score, State string }
	var rows []row
	for _, p := range r.school.People() {
		if !(classes{r.school}).Has(chosen.Class.SourcedID, p.ID) {
			continue
		}
		got := r.resultOf(chosen.SourcedID, p.ID)
		shown := row{ID: p.ID, Name: p.Name(), Score: got.TextScore, State: "–"}
		if got.Status != "" {
			shown.State = got.ScoreStatus
		}
		if got.Score != nil {
			shown.Score = strconv.FormatFloat(float64(*got.Score), 'f', -1, 64)
		}
		rows = append(rows, shown)
	}
	var body bytes.Buffer
	_ = bookPage.Execute(&body, map[string]any{"Items": items, "Item": chosen.SourcedID, "Rows": rows})
	page.Write(w, page.Page{
		Title: "School office: the gradebook", About: "Stand-in for the book of record. It takes scores over OneRoster 1.2.",
		Body: template.HTML(body.String()),
	})
}

// enterScore changes a score as somebody in the office does.
func (r *Register) enterScore(w http.ResponseWriter, req *http.Request) {
	item, learner := req.FormValue("item"), req.FormValue("learner")
	x := r.resultOf(item, learner)
	text := strings.TrimSpace(req.FormValue("score"))
	if text == "" {
		r.Book.Erase(oneroster.FileResults, x.SourcedID)
	} else {
		n, err := oneroster.ParseNumber(text)
		if err != nil {
			http.Error(w, err.Error(), http.StatusUnprocessableEntity)
			return
		}
		score := oneroster.Number(n)
		x.Score, x.ScoreStatus = &score, oneroster.ScoreFullyGraded
		r.Book.Enter(oneroster.FileResults, x.SourcedID, x)
	}
	http.Redirect(w, req, "/book?item="+url.QueryEscape(item), http.StatusSeeOther)
}
