// Package grade compares the scores where work is marked (the source) with the
// scores in the book of record (the book), and says for every single result
// what is to happen with it, and why.
//
//	plan := grade.Compare(items, grade.DefaultPolicy())
//	for _, item := range plan.Items {
//		for _, e := range item.Entries {
//			fmt.Println(e.Who, e.Was, e.Theirs, e.Ours, e.Outcome, e.Reason)
//		}
//	}
//
// A comparison has three ways: *was*, what was carried last; *theirs*, what the
// book has now; *ours*, what the source has now, in the book's terms. What
// changed in the book since is a conflict and stays, unless somebody decides
// otherwise. What is no longer read ends nothing.
//
// The package computes only: it reads no clock, no database and no network, and
// the order of its inputs does not matter.
package grade

import (
	"time"

	"kanban/internal/core/finding"
)

// Status says how far the marking of a result is (OneRoster 1.2 "scoreStatus",
// as the source's interface declares what each of its values means).
type Status uint8

// How far marking is. Only what is final travels.
const (
	Unmarked   Status = iota // nothing was marked: handed in or not
	Draft                    // marked, and not yet meant to be seen
	Partly                   // marked in part
	Unreleased               // marked to the end, and not yet released
	Final
)

// Result is one person's result at the source.
type Result struct {
	// Who is the person's id; of somebody whom nobody knows, what the source calls
	// them, and Unknown is set.
	Who     string
	Unknown bool
	// Status is how far it is marked. Deleted says that the source said so itself:
	// what merely is not there any more is not deleted.
	Status  Status
	Deleted bool
	// NotGiven says that this person was not given the assignment at all.
	NotGiven bool
	// Elsewhere is the section in which the person is now, when it is another one
	// than the book's, ElsewhereID its id when it is one of the same score link;
	// NotInBook says that the book's class has nobody of them.
	Elsewhere, ElsewhereID string
	NotInBook              bool
	// Mark is what was given, in the source's own terms.
	Mark Mark
	// CommentHidden says that learners cannot see the comment at the source.
	CommentHidden bool
	// Marked is when the score was given, Submitted when work was handed in last;
	// zero for unknown.
	Marked, Submitted time.Time
}

// Again reports whether work was handed in after it was marked, so that it is to
// be marked again.
func (r *Result) Again() bool {
	return r.Status == Final && !r.Marked.IsZero() && r.Submitted.After(r.Marked)
}

// Held is one person's result in the book, in the book's own terms.
type Held struct {
	Who  string
	Mark Mark
	// Locked says that the book takes no change of it now, Unread that what it has could not be understood.
	Locked, Unread bool
}

// Carried is what was carried of one person's result last, in the book's terms.
type Carried struct {
	Who  string
	Mark Mark
	// Unproven says that it was handed over in a file, and that the book has not shown it yet.
	Unproven bool
}

// Decision is what somebody decided about one conflict. It holds until either
// side changes again.
type Decision struct {
	Who          string
	Take         Side
	Theirs, Ours Mark
}

// Side is one of the two that can disagree.
type Side uint8

// The sides of a conflict.
const (
	Theirs Side = iota // the book's value stays
	Ours               // the source's value is carried; what was deleted there is deleted in the book
)

// Content says what of an assignment is carried.
type Content uint8

// What can be carried of an assignment.
const (
	Scores      Content = iota
	Completions         // that it was done, without a score
	Nothing             // the assignment itself, and no results
)

// Item is one assignment with its results on both sides: the source's line item
// and the one in the book that it is linked to.
type Item struct {
	// ID is of the link between both line items; it outlives changes at either side.
	ID     string
	Source LineItem
	// Book is the line item in the book, nil when it is made with the first carrying.
	Book    *LineItem
	Content Content
	// Reasons are why it is not ready, see Ready; empty when it is.
	Reasons []finding.Code
	// LeftOut says that somebody left it out on purpose, PeriodFinal that its period
	// was declared final: nothing is carried then.
	LeftOut, PeriodFinal bool
	// Scale says how texts become values, nil when there is none.
	Scale Scale

	Results   []Result
	Held      []Held
	Carried   []Carried
	Decisions []Decision
	// SourceIncomplete says that the source's results could not all be read; what is
	// not among them is unknown then. BookUnknown says the same of the whole book.
	SourceIncomplete, BookUnknown bool
}

// LineItem is an assignment as one side has it (OneRoster 1.2 LineItem).
type LineItem struct {
	ID       string
	Title    string
	Category string // id of it at its side
	Period   string // id of its grading period at its side
	Assigned time.Time
	Due      time.Time // zero when it has none
	Created  time.Time // zero for unknown
	// Maximum is how many points can be given (resultValueMax); 0 when it is worth none.
	Maximum float64
	// Gone says that it is not at its side any more; Locked that its side takes no
	// changes of it; Unpublished that learners do not see it there yet.
	Gone, Locked, Unpublished bool
	// Term says that it is a term or report grade, which is never touched.
	Term bool
}

// Mode is what happens with values that differ.
type Mode uint8

// What can happen with values that differ.
const (
	// FillAndUpdate fills blanks and updates what was carried before.
	FillAndUpdate Mode = iota
	// BlanksOnly fills blanks and changes nothing.
	BlanksOnly
	// Replace lets the source win everywhere.
	Replace
)

// Book says what the book can hold, as its interface declares it.
type Book struct {
	Flags      Flags // those that it can hold
	Comments   bool
	Texts      bool // scores in words
	MaxComment int  // runes; 0 for any number
	Decimals   int  // of points
	// OverMaximum says that it takes more points than an assignment is worth.
	OverMaximum bool
}

// Policy is what was set once for a score link.
type Policy struct {
	Mode Mode
	// Flags says what becomes of a result with a flag.
	Flags map[Flags]FlagRule
	// Comments says that comments are carried which learners can see at the source.
	Comments bool
	Book     Book
}

// DefaultPolicy fills blanks and updates what was carried before; a missing
// result is blank, an exempt one has no value, the other flags keep theirs.
func DefaultPolicy() Policy {
	return Policy{
		Flags: map[Flags]FlagRule{
			Exempt: {Value: Blank}, Missing: {Value: Blank}, NotSubmitted: {Value: Blank},
			Late: {}, Incomplete: {},
		},
		Book: Book{
			Flags: Exempt | Missing | Late | Incomplete | NotSubmitted, Comments: true, Texts: true, Decimals: 2,
		},
	}
}
