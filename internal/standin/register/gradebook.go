package register

import (
	"net/http"
	"slices"
	"strings"
	"time"

	"kanban/internal/standin/gradebook"
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
			gradebook.Period{ID: t.ID + "-p1", Title: t.Title + ", first half", Start: t.Start, End: middle.AddDate(0, 0, -1)},
			gradebook.Period{ID: t.ID + "-p2", Title: t.Title + ", second half", Start: middle, End: t.End.AddDate(0, 0, -1)})
	}
	return list
}

// rules of the office's book: it wants a due date inside the period, a category and points, locks what was made from
// outside, keeps one decimal, and takes scores during the school year only.
func rules(s *school.School) gradebook.Rules {
	return gradebook.Rules{
		DueInPeriod: true, Points: true, Category: true, LockMade: true, Decimals: 1, MaxComment: 200,
		Opens: s.Terms[0].Start, Closes: s.Terms[len(s.Terms)-1].End.AddDate(0, 1, 0),
	}
}

// book puts the office's gradebook in place: two categories, one of term grades, and one assignment of an earlier time.
func (r *Register) book() {
	r.Book = gradebook.New(rules(r.school), r.granted, classes{r.school}, time.Now)
	r.mux.Handle(oneroster.GradebookPath+"/", r.Book)
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
	return time.Now().Before(x.until) && slices.Contains(x.scopes, oneroster.Scope(oneroster.V12, scope))
}

// gradebookScopes are those that the office gives out beside the one for rosters.
var gradebookScopes = []string{
	oneroster.ScopeGradebookRead, oneroster.ScopeGradebookPut, oneroster.ScopeGradebookDelete,
}
