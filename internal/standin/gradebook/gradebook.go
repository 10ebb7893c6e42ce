// Package gradebook stands in for the gradebook of a system: a OneRoster 1.2
// gradebook service over REST, which can be made as particular as real ones are.
//
//	g := gradebook.New(gradebook.Rules{DueInPeriod: true}, allowed, school, time.Now)
//	mux.Handle(oneroster.GradebookPath+"/", g)
package gradebook

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"kanban/internal/standin/listing"
	"kanban/internal/wire/oneroster"
)

// Rules are what a gradebook wants of what it is sent, and how it goes wrong.
type Rules struct {
	// DueInPeriod wants a due date inside the item's grading period, Points a maximum
	// above zero, Category a category.
	DueInPeriod, Points, Category bool
	// LockMade lets nobody change or delete over REST what was made there but title and dates.
	LockMade bool
	// Opens and Closes are between when it takes results; zero for no bound.
	Opens, Closes time.Time
	// Decimals are those it keeps, -1 for all. MaxTitle and MaxComment cut texts, in runes; 0 for never.
	Decimals, MaxTitle, MaxComment int
	// NoDelete grants no deleting.
	NoDelete bool
	// OtherIDs answers with an id of its own instead of the one that was put; Forget
	// takes results, says so, and has nothing.
	OtherIDs, Forget bool
}

// Period is a grading period of the gradebook.
type Period struct {
	ID, Title  string
	Start, End time.Time
}

// School says who is in which class, and when the periods are.
type School interface {
	// Has reports whether a class has a student.
	Has(class, student string) bool
	// Class reports whether there is a class.
	Class(id string) bool
	// Period gives a grading period.
	Period(id string) (Period, bool)
}

// Gradebook is the stand-in. Use New.
type Gradebook struct {
	allowed func(r *http.Request, scope string) bool
	school  School
	now     func() time.Time
	mux     *http.ServeMux

	mu    sync.Mutex
	rules Rules
	// by collection, in the order of making
	order   map[string][]string
	records map[string]map[string]any
	made    map[string]bool // line items that were made over REST
	terms   map[string]bool // line items that are term grades
	puts    map[string]int  // how often each record was written, by collection/id
}

// New is an empty gradebook; allowed says whether a request may do what a scope
// grants (the last part of its name).
func New(rules Rules, allowed func(*http.Request, string) bool, school School, now func() time.Time) *Gradebook {
	g := &Gradebook{
		allowed: allowed, school: school, now: now, mux: http.NewServeMux(), rules: rules,
		order: map[string][]string{}, records: map[string]map[string]any{}, made: map[string]bool{},
		terms: map[string]bool{}, puts: map[string]int{},
	}
	for _, base := range []string{oneroster.GradebookPath, oneroster.BasePath11} {
		for _, file := range []string{
			oneroster.FileCategories, oneroster.FileLineItems, oneroster.FileResults, oneroster.FileScoreScales,
		} {
			if base == oneroster.BasePath11 && file == oneroster.FileScoreScales {
				continue // they came with 1.2
			}
			g.mux.HandleFunc("GET "+base+"/"+file, g.list(base, file))
			g.mux.HandleFunc("GET "+base+"/"+file+"/{id}", g.one(file))
			g.mux.HandleFunc("PUT "+base+"/"+file+"/{id}", g.put(file))
			g.mux.HandleFunc("DELETE "+base+"/"+file+"/{id}", g.drop(file))
		}
	}
	return g
}

// ServeHTTP answers the service's calls.
func (g *Gradebook) ServeHTTP(w http.ResponseWriter, r *http.Request) { g.mux.ServeHTTP(w, r) }

// Set changes the rules.
func (g *Gradebook) Set(change func(*Rules)) {
	g.mu.Lock()
	defer g.mu.Unlock()
	change(&g.rules)
}

// Enter puts a record in as somebody at the system itself does it: no rule holds it up.
func (g *Gradebook) Enter(file, id string, record any) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.keep(file, id, record)
}

// Term says that a line item is a term grade, of which nothing can be changed over REST.
func (g *Gradebook) Term(lineItem string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.terms[lineItem] = true
}

// Erase takes a record away without a trace.
func (g *Gradebook) Erase(file, id string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.records[file], id)
	g.order[file] = slices.DeleteFunc(g.order[file], func(x string) bool { return x == id })
}

// Writes says how often a record was written over REST.
func (g *Gradebook) Writes(file, id string) int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.puts[file+"/"+id]
}

// All gives the records of a collection.
func All[T any](g *Gradebook, file string) []T {
	g.mu.Lock()
	defer g.mu.Unlock()
	var list []T
	for _, id := range g.order[file] {
		if x, ok := g.records[file][id].(T); ok {
			list = append(list, x)
		}
	}
	return list
}

func (g *Gradebook) keep(file, id string, record any) {
	if g.records[file] == nil {
		g.records[file] = map[string]any{}
	}
	if _, there := g.records[file][id]; !there {
		g.order[file] = append(g.order[file], id)
	}
	g.records[file][id] = g.stamped(record, id)
}

// stamped gives a record its id, its status and the time of its change.
func (g *Gradebook) stamped(record any, id string) any {
	base := func(b oneroster.Base) oneroster.Base {
		b.SourcedID, b.DateLastModified = id, g.now().UTC().Format("2006-01-02T15:04:05.000Z")
		if b.Status == "" {
			b.Status = oneroster.Active
		}
		return b
	}
	switch x := record.(type) {
	case oneroster.Category:
		x.Base = base(x.Base)
		return x
	case oneroster.LineItem:
		x.Base = base(x.Base)
		return x
	case oneroster.Result:
		x.Base = base(x.Base)
		return x
	case oneroster.ScoreScale:
		x.Base = base(x.Base)
		return x
	}
	panic(fmt.Sprintf("gradebook: a %T is no record", record))
}

func (g *Gradebook) may(w http.ResponseWriter, r *http.Request, scope string) bool {
	if r.Header.Get("Authorization") == "" {
		listing.Fail(w, http.StatusUnauthorized, "unauthorisedrequest", "An access token is needed.")
		return false
	}
	if !g.allowed(r, scope) {
		listing.Fail(w, http.StatusForbidden, "forbidden", "The access token does not grant "+scope+".")
		return false
	}
	return true
}

func (g *Gradebook) list(base, file string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !g.may(w, r, oneroster.ScopeGradebookRead) {
			return
		}
		listing.Serve(w, r, file, All[any](g, file), changed, func(items []any) any {
			if base == oneroster.BasePath11 {
				for i := range items {
					items[i] = older(items[i])
				}
			}
			return items
		})
	}
}

// older is a record as 1.1 has it.
func older(record any) any {
	switch x := record.(type) {
	case oneroster.Category:
		x.Weight = nil
		return x
	case oneroster.LineItem:
		x.ScoreScale = nil
		return x
	case oneroster.Result:
		x.ScoreScale, x.TextScore = nil, ""
		x.InProgress, x.Incomplete, x.Late, x.Missing = false, false, false, false
		return x
	}
	return record
}

func changed(record any) string {
	if x, is := record.(interface{ Common() oneroster.Base }); is {
		return x.Common().DateLastModified
	}
	return ""
}

func (g *Gradebook) one(file string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !g.may(w, r, oneroster.ScopeGradebookRead) {
			return
		}
		g.mu.Lock()
		record, there := g.records[file][r.PathValue("id")]
		g.mu.Unlock()
		if !there {
			listing.Fail(w, http.StatusNotFound, "unknownobject", "There is nothing of this id.")
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{member(file): record})
	}
}

// member is the name of one record of a collection.
func member(file string) string {
	if file == oneroster.FileCategories {
		return "category"
	}
	return strings.TrimSuffix(file, "s")
}

func (g *Gradebook) put(file string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !g.may(w, r, oneroster.ScopeGradebookPut) {
			return
		}
		id := r.PathValue("id")
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
		if err != nil {
			listing.Fail(w, http.StatusUnprocessableEntity, "invaliddata", "The body is too long.")
			return
		}
		g.mu.Lock()
		defer g.mu.Unlock()
		record, problem := g.taken(file, id, body)
		if problem != "" {
			listing.Fail(w, http.StatusUnprocessableEntity, "invaliddata", problem)
			return
		}
		_, there := g.records[file][id]
		g.puts[file+"/"+id]++
		if !g.rules.Forget || file != oneroster.FileResults {
			if g.rules.OtherIDs && !there {
				id = "own-" + id
			}
			g.keep(file, id, record)
			g.made[id] = true
		}
		w.Header().Set("Content-Type", "application/json")
		if !there {
			w.WriteHeader(http.StatusCreated)
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"sourcedIdPairs": []map[string]string{{
			"suppliedSourcedId": r.PathValue("id"), "allocatedSourcedId": id,
		}}})
	}
}

// taken reads a record as the rules want it, or says what is wrong with it.
func (g *Gradebook) taken(file, id string, body []byte) (any, string) {
	var wrapper map[string]json.RawMessage
	if err := json.Unmarshal(body, &wrapper); err != nil || wrapper[member(file)] == nil {
		return nil, "The body has no " + member(file) + "."
	}
	text := wrapper[member(file)]
	switch file {
	case oneroster.FileCategories:
		return read[oneroster.Category](text, func(c *oneroster.Category) string {
			if c.Title == "" {
				return "A category needs a title."
			}
			return ""
		})
	case oneroster.FileLineItems:
		return read[oneroster.LineItem](text, func(l *oneroster.LineItem) string { return g.lineItem(id, l) })
	case oneroster.FileResults:
		return read[oneroster.Result](text, g.result)
	}
	return read[oneroster.ScoreScale](text, func(*oneroster.ScoreScale) string { return "" })
}

func read[T any](text json.RawMessage, check func(*T) string) (any, string) {
	var x T
	if err := json.Unmarshal(text, &x); err != nil {
		return nil, err.Error()
	}
	return x, check(&x)
}

func (g *Gradebook) lineItem(id string, l *oneroster.LineItem) string {
	before, there := g.records[oneroster.FileLineItems][id].(oneroster.LineItem)
	period, inPeriod := Period{}, false
	if l.GradingPeriod != nil {
		if period, inPeriod = g.school.Period(l.GradingPeriod.SourcedID); !inPeriod {
			return "There is no such grading period."
		}
	}
	switch {
	case g.terms[id]:
		return "A term grade cannot be changed here."
	case l.Title == "" || l.Class.SourcedID == "":
		return "A line item needs a title and a class."
	case !g.school.Class(l.Class.SourcedID):
		return "There is no class " + l.Class.SourcedID + "."
	case g.rules.Category && (l.Category == nil || g.records[oneroster.FileCategories][l.Category.SourcedID] == nil):
		return "A line item needs a category that there is."
	case g.rules.Points && (l.ResultValueMax == nil || *l.ResultValueMax <= 0):
		return "A line item is worth more than zero points."
	case g.rules.DueInPeriod && l.DueDate.IsZero():
		return "A line item needs a due date."
	case g.rules.DueInPeriod && !inPeriod:
		return "A line item needs a grading period."
	case g.rules.DueInPeriod && (l.DueDate.Before(period.Start) || !l.DueDate.Before(period.End.AddDate(0, 0, 1))):
		return "The due date lies outside the grading period " + period.Title + "."
	case there && g.rules.LockMade && g.made[id] && !sameButTitleAndDates(before, *l):
		return "Of what was made from outside only title and dates can be changed."
	}
	l.Title = cut(l.Title, g.rules.MaxTitle)
	return ""
}

func sameButTitleAndDates(a, b oneroster.LineItem) bool {
	return idOf(a.Category) == idOf(b.Category) && idOf(a.GradingPeriod) == idOf(b.GradingPeriod) &&
		a.Class.SourcedID == b.Class.SourcedID && value(a.ResultValueMax) == value(b.ResultValueMax)
}

func idOf(r *oneroster.Ref) string {
	if r == nil {
		return ""
	}
	return r.SourcedID
}

func value(n *oneroster.Number) float64 {
	if n == nil {
		return 0
	}
	return float64(*n)
}

func (g *Gradebook) result(x *oneroster.Result) string {
	item, there := g.records[oneroster.FileLineItems][x.LineItem.SourcedID].(oneroster.LineItem)
	now := g.now()
	switch {
	case !there:
		return "There is no such line item."
	case g.terms[x.LineItem.SourcedID]:
		return "A term grade cannot be changed here."
	case !g.school.Has(item.Class.SourcedID, x.Student.SourcedID):
		return "The class has no such student."
	case x.ScoreStatus == "":
		return "A result needs a scoreStatus."
	case !g.rules.Opens.IsZero() && now.Before(g.rules.Opens) || !g.rules.Closes.IsZero() && now.After(g.rules.Closes):
		return fmt.Sprintf("Grades are taken from %s to %s.", g.rules.Opens.Format(time.DateOnly),
			g.rules.Closes.Format(time.DateOnly))
	case x.Score != nil && *x.Score < 0:
		return "A score is not below zero."
	}
	if x.Score != nil && g.rules.Decimals >= 0 {
		kept, _ := strconv.ParseFloat(strconv.FormatFloat(float64(*x.Score), 'f', g.rules.Decimals, 64), 64)
		*x.Score = oneroster.Number(kept)
	}
	x.Comment = cut(x.Comment, g.rules.MaxComment)
	x.Class = &item.Class
	return ""
}

func cut(text string, runes int) string {
	if runes <= 0 || utf8.RuneCountInString(text) <= runes {
		return text
	}
	return string([]rune(text)[:runes])
}

func (g *Gradebook) drop(file string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if !g.may(w, r, oneroster.ScopeGradebookDelete) {
			return
		}
		g.mu.Lock()
		id := r.PathValue("id")
		_, there := g.records[file][id]
		locked := g.rules.NoDelete || file == oneroster.FileLineItems && (g.terms[id] || g.rules.LockMade)
		g.mu.Unlock()
		switch {
		case !there:
			listing.Fail(w, http.StatusNotFound, "unknownobject", "There is nothing of this id.")
		case locked:
			listing.Fail(w, http.StatusForbidden, "forbidden", "It cannot be deleted from outside.")
		default:
			g.Erase(file, id)
			w.WriteHeader(http.StatusNoContent)
		}
	}
}
