package grade

import (
	"cmp"
	"slices"
	"strings"

	"kanban/internal/core/finding"
)

// Outcome is what is to happen with one result.
type Outcome uint8

// What can happen with a result, what needs a person first.
const (
	Conflict  Outcome = iota // both sides differ, and no rule says which counts
	Refused                  // it cannot be carried as it is
	Withdrawn                // it was deleted at the source; a person decides
	New                      // the book has nothing yet
	Update                   // it was carried before, and is another one now
	Replacing                // the book's own value is lost
	Waiting                  // it is held back: a draft, not released, and the like
	Kept                     // somebody decided, or the mode says, that the book's value stays
	Unchanged                // both sides agree
	BookOnly                 // the book has it and the source does not
)

// Outcomes lists all outcomes in the order in which they are shown.
var Outcomes = []Outcome{
	Conflict, Refused, Withdrawn, New, Update, Replacing, Waiting, Kept, Unchanged, BookOnly,
}

var outcomeNames = [...]string{
	"conflict", "refused", "withdrawn", "new", "update", "replace", "held", "kept", "unchanged", "book-only",
}

// String is the outcome's code, as the API gives it.
func (o Outcome) String() string { return outcomeNames[o] }

// MarshalText writes the outcome's code.
func (o Outcome) MarshalText() ([]byte, error) { return []byte(o.String()), nil }

// Writes reports whether a run sends something to the book for it.
func (o Outcome) Writes() bool { return o == New || o == Update || o == Replacing }

// Entry is what is to happen with one person's result of one assignment.
type Entry struct {
	Who     string
	Outcome Outcome
	Reason  finding.Code
	// Was was carried last, Theirs is in the book now, Ours would be carried. Given is
	// the source's mark in its own terms.
	Was, Theirs, Ours, Given Mark
	// Lost are flags that the book cannot hold; Shortened says that the comment is cut.
	Lost      Flags
	Shortened bool
	// Again says that work was handed in after it was marked: the old score stays
	// until there is a new one.
	Again bool
	// Elsewhere is the section in which the person is now, ElsewhereID its id when it is one of the same score link.
	Elsewhere, ElsewhereID string
}

// ItemOutcome is what is to happen with an assignment itself.
type ItemOutcome uint8

// What can happen with an assignment.
const (
	ItemNotReady ItemOutcome = iota // something is missing: its reasons say what
	ItemGone                        // one side has it no more
	ItemLeftOut                     // on purpose
	ItemMade                        // it is made in the book
	ItemLinked                      // it is there
)

var itemOutcomeNames = [...]string{"not-ready", "gone", "left-out", "made", "linked"}

// String is the outcome's code, as the API gives it.
func (o ItemOutcome) String() string { return itemOutcomeNames[o] }

// MarshalText writes the outcome's code.
func (o ItemOutcome) MarshalText() ([]byte, error) { return []byte(o.String()), nil }

// ItemPlan is what is to happen with one assignment and each of its results.
type ItemPlan struct {
	ID      string
	Outcome ItemOutcome
	Reasons []finding.Code
	// Entries has one entry per person whose result either side has or has had.
	Entries []Entry
}

// Compare works out what has to happen so that the book has the final scores of
// the source. Each result that the source has, the book has, or that was carried
// is in exactly one entry, with one outcome and one reason; carrying out the plan
// and comparing again yields nothing to carry.
func Compare(items []Item, policy Policy) Plan {
	plan := Plan{Items: make([]ItemPlan, len(items))}
	order := make([]int, len(items))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return strings.Compare(items[a].ID, items[b].ID) })
	for at, i := range order {
		plan.Items[at] = compareItem(&items[i], &policy)
	}
	return plan
}

func compareItem(item *Item, p *Policy) ItemPlan {
	out := ItemPlan{ID: item.ID}
	out.Outcome, out.Reasons = item.outcome()
	stopped := item.stopped(out.Outcome)
	results := sorted(item.Results, func(r Result) string { return r.Who })
	held := sorted(item.Held, func(h Held) string { return h.Who })
	carried := sorted(item.Carried, func(c Carried) string { return c.Who })
	decided := sorted(item.Decisions, func(d Decision) string { return d.Who })
	out.Entries = make([]Entry, 0, max(len(results), len(held), len(carried)))
	for len(results)+len(held)+len(carried) > 0 {
		who := least(results, held, carried)
		var one sides
		one.result, one.results, results = taken(results, who, func(r *Result) string { return r.Who })
		one.held, one.helds, held = taken(held, who, func(h *Held) string { return h.Who })
		one.carried, _, carried = taken(carried, who, func(c *Carried) string { return c.Who })
		for len(decided) > 0 && decided[0].Who < who {
			decided = decided[1:]
		}
		if len(decided) > 0 && decided[0].Who == who {
			one.decision = &decided[0]
		}
		out.Entries = append(out.Entries, one.entry(who, item, p, stopped))
	}
	return out
}

// outcome says what is to happen with the assignment itself, and why.
func (i *Item) outcome() (ItemOutcome, []finding.Code) {
	switch {
	case i.LeftOut:
		return ItemLeftOut, []finding.Code{finding.ItemLeftOut}
	case i.Source.Term || i.Book != nil && i.Book.Term:
		return ItemNotReady, []finding.Code{finding.ItemTermGrade}
	case i.Source.Gone:
		return ItemGone, []finding.Code{finding.ItemGoneAtSource}
	case i.Book != nil && i.Book.Gone:
		return ItemGone, []finding.Code{finding.ItemGoneInBook}
	case len(i.Reasons) > 0:
		return ItemNotReady, i.Reasons
	case i.Book == nil:
		return ItemMade, nil
	}
	return ItemLinked, nil
}

// stopped is the reason why none of its results is carried; empty when they are.
func (i *Item) stopped(o ItemOutcome) finding.Code {
	switch o {
	case ItemLeftOut:
		return finding.ItemLeftOut
	case ItemGone:
		if i.Source.Gone {
			return finding.ItemGoneAtSource
		}
		return finding.ItemGoneInBook
	case ItemNotReady:
		if i.Source.Term || i.Book != nil && i.Book.Term {
			return finding.ItemTermGrade
		}
		return finding.ItemNotReady
	case ItemMade, ItemLinked:
	}
	switch {
	case i.PeriodFinal:
		return finding.PeriodFinal
	case i.Content == Nothing:
		return finding.ItemWithoutScores
	}
	return ""
}

// sides is what is known of one person's result.
type sides struct {
	result         *Result
	held           *Held
	carried        *Carried
	decision       *Decision
	results, helds int // how many there are of each
}

func (s *sides) entry(who string, item *Item, p *Policy, stopped finding.Code) Entry {
	e := Entry{Who: who}
	if s.held != nil {
		e.Theirs = s.held.Mark
	}
	if s.carried != nil {
		e.Was = s.carried.Mark
	}
	if s.result != nil {
		e.Given, e.Again = s.result.Mark, s.result.Again()
		e.Elsewhere, e.ElsewhereID = s.result.Elsewhere, s.result.ElsewhereID
	}
	switch {
	case s.results > 1 || s.helds > 1:
		e.Outcome, e.Reason = Refused, finding.ScoreTwice
	case s.result == nil:
		e.Outcome, e.Reason = s.without(item, stopped)
	case stopped != "" && stopped != finding.PeriodFinal:
		e.Outcome, e.Reason = Waiting, stopped
	default:
		if s.decide(&e, item, p); stopped != "" && e.Outcome != Unchanged { // the period is final
			e.Outcome, e.Reason = Waiting, stopped
		}
	}
	return e
}

// without is about a result that the source does not have.
func (s *sides) without(item *Item, stopped finding.Code) (Outcome, finding.Code) {
	switch {
	case s.carried == nil:
		return BookOnly, finding.ScoreInBookOnly
	case item.SourceIncomplete:
		return Waiting, finding.ScoreNotRead
	case stopped != "":
		return Waiting, stopped
	}
	return Waiting, finding.ScoreVanished
}

// decide compares the three ways of a result that the source has.
func (s *sides) decide(e *Entry, item *Item, p *Policy) {
	r := s.result
	if reason := r.heldBack(); reason != "" {
		e.Outcome, e.Reason = Waiting, reason
		return
	}
	if r.Deleted {
		e.Outcome, e.Reason = s.deleted(e, item, p)
		return
	}
	var reason finding.Code
	if e.Ours, e.Lost, e.Shortened, reason = carry(r, item, p); reason != "" {
		e.Outcome, e.Reason = Refused, reason
		if reason == finding.ScoreNothingToCarry {
			e.Outcome = Waiting
		}
		return
	}
	if s.held != nil && s.held.Unread {
		e.Outcome, e.Reason = Waiting, finding.BookNotRead
		return
	}
	e.Outcome, e.Reason = s.compare(e, item, p)
	if e.Outcome.Writes() && s.held != nil && s.held.Locked {
		e.Outcome, e.Reason = Waiting, finding.ScoreLocked
	}
}

// deleted is about a result that the source says it has deleted: the book's stays until somebody decides.
func (s *sides) deleted(e *Entry, item *Item, p *Policy) (Outcome, finding.Code) {
	d := s.decision
	switch {
	case s.held != nil && s.held.Unread:
		return Waiting, finding.BookNotRead
	case e.Theirs.Blank() && s.carried != nil && (item.BookUnknown || s.carried.Unproven):
		return Withdrawn, finding.ScoreDeleted // what was handed over may be there
	case e.Theirs.Blank():
		return Unchanged, finding.ScoreDeleted
	case d == nil || !p.same(&d.Theirs, &e.Theirs) || !d.Ours.Blank():
		return Withdrawn, finding.ScoreDeleted
	case d.Take == Theirs:
		return Kept, finding.ScoreDecided
	case s.held != nil && s.held.Locked:
		return Waiting, finding.ScoreLocked
	}
	return Replacing, finding.ScoreDecided
}

// heldBack is the reason why a result does not travel yet; empty when it may.
func (r *Result) heldBack() finding.Code {
	switch {
	case r.Deleted:
		return ""
	case r.Unknown:
		return finding.ScoreOfUnknown
	case r.NotGiven:
		return finding.ScoreNotGiven
	case r.Elsewhere != "":
		return finding.ScoreMoved
	case r.NotInBook:
		return finding.ScoreNotInBook
	}
	switch r.Status {
	case Unmarked:
		if r.Mark.Flags&(Exempt|Missing|NotSubmitted) != 0 {
			return "" // to say so is what there is to say
		}
		return finding.ScoreUnmarked
	case Draft:
		return finding.ScoreDraft
	case Partly:
		return finding.ScorePartly
	case Unreleased:
		return finding.ScoreUnreleased
	case Final:
	}
	return ""
}

// compare is the three-way comparison itself.
func (s *sides) compare(e *Entry, item *Item, p *Policy) (Outcome, finding.Code) {
	was := s.carried != nil
	// what it holds is what was handed over, as far as anybody knows
	if item.BookUnknown || was && s.carried.Unproven && e.Theirs.Blank() {
		switch {
		case !was && e.Theirs.Blank():
			return New, finding.ScoreNew
		case was && p.same(&e.Was, &e.Ours):
			return Unchanged, finding.ScoreHandedOver
		}
		return Waiting, finding.BookNotRead
	}
	switch {
	case p.same(&e.Theirs, &e.Ours):
		return Unchanged, finding.ScoreSame
	case e.Theirs.Blank() && !was:
		return New, finding.ScoreNew
	case was && p.same(&e.Theirs, &e.Was):
		if p.Mode == BlanksOnly {
			return Kept, finding.ScoreBlanksOnly
		}
		return Update, finding.ScoreChanged
	}
	// The book has what nobody carried, or was changed or emptied since.
	if d := s.decision; d != nil && p.same(&d.Theirs, &e.Theirs) && p.same(&d.Ours, &e.Ours) {
		if d.Take == Ours {
			return Replacing, finding.ScoreDecided
		}
		return Kept, finding.ScoreDecided
	}
	switch p.Mode {
	case Replace:
		return Replacing, finding.ScoreReplaced
	case BlanksOnly:
		if !e.Theirs.Blank() {
			return Kept, finding.ScoreBlanksOnly
		}
	case FillAndUpdate:
	}
	switch {
	case !was:
		return Conflict, finding.ScoreOthersInBook
	case e.Theirs.Blank():
		return Conflict, finding.ScoreEmptiedInBook
	}
	return Conflict, finding.ScoreChangedInBook
}

// sorted gives a list ordered by person, the list itself when it is so already.
func sorted[T any](list []T, who func(T) string) []T {
	order := func(a, b T) int { return cmp.Compare(who(a), who(b)) }
	if slices.IsSortedFunc(list, order) {
		return list
	}
	list = slices.Clone(list)
	slices.SortStableFunc(list, order)
	return list
}

// least is the first person of three ordered lists.
func least(results []Result, held []Held, carried []Carried) string {
	who, some := "", false
	take := func(w string) {
		if !some || w < who {
			who, some = w, true
		}
	}
	if len(results) > 0 {
		take(results[0].Who)
	}
	if len(held) > 0 {
		take(held[0].Who)
	}
	if len(carried) > 0 {
		take(carried[0].Who)
	}
	return who
}

// taken takes a person off the head of an ordered list: the first entry, how many
// there are, and the rest.
func taken[T any](list []T, who string, of func(*T) string) (one *T, n int, rest []T) {
	for n < len(list) && of(&list[n]) == who {
		n++
	}
	if n > 0 {
		one = &list[0]
	}
	return one, n, list[n:]
}
