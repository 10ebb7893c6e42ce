package grade

import (
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kanban/internal/core/finding"
)

// DateBasis says which date of an assignment puts it into a grading period.
type DateBasis uint8

// The dates of an assignment.
const (
	ByDue DateBasis = iota
	ByAssigned
)

// Date is the date that counts; zero when the assignment has none.
func (b DateBasis) Date(l LineItem) time.Time {
	if b == ByAssigned {
		return l.Assigned
	}
	return l.Due
}

// Needs says what the book wants of an assignment, as its interface declares it.
type Needs struct {
	Due, InPeriod, NotBeforeTerm, PointsAboveZero, Category bool
	// Opens and Closes are between when the book takes grades; zero for no bound.
	Opens, Closes time.Time
	// MaxTitle is how many runes a title may have, 0 for any number.
	MaxTitle int
}

// Candidate is an assignment that is to be carried, with what was settled about it.
type Candidate struct {
	Source LineItem
	Book   *LineItem // nil when it is to be made there
	Basis  DateBasis
	// Category is the book's category in which it is to be, empty for none yet.
	Category string
	// Period is the book's period in which it is to be, with the reason when there is none.
	Period       *Period
	PeriodReason finding.Code
	// TermBegins is the first day of the book's term, zero for unknown.
	TermBegins time.Time
	// WithoutPoints says that assignments worth no points are carried.
	WithoutPoints bool
	// NameTaken says that the book has another one of this name, to which it might be linked.
	NameTaken bool
	// OnlyLinked says that nothing is made in the book.
	OnlyLinked bool
}

// Ready gives every reason why an assignment cannot be carried yet, in a settled
// order; none when it is ready. What only the making of a line item needs does
// not count for one that is there.
func Ready(c Candidate, needs Needs, now time.Time) []finding.Code {
	var reasons []finding.Code
	add := func(holds bool, code finding.Code) {
		if holds && !slices.Contains(reasons, code) {
			reasons = append(reasons, code)
		}
	}
	date := c.Basis.Date(c.Source)
	made := c.Book == nil
	add(c.Source.Unpublished, finding.ItemUnpublished)
	add(!made && c.Book.Unpublished, finding.ItemBookUnreleased)
	add(made && c.OnlyLinked, finding.ItemNotLinked)
	add(made && c.NameTaken, finding.ItemNameTaken)
	add(made && needs.Due && c.Source.Due.IsZero() && date.IsZero(), finding.ItemNotDue)
	add(made && needs.Category && c.Category == "", finding.ItemNoCategory)
	add(!made && c.Category != "" && c.Book.Category != "" && c.Book.Category != c.Category, finding.ItemCategoryOther)
	add(c.Source.Maximum <= 0 && (needs.PointsAboveZero || !c.WithoutPoints), finding.ItemWithoutPoints)
	add(made && needs.MaxTitle > 0 && utf8.RuneCountInString(strings.TrimSpace(c.Source.Title)) > needs.MaxTitle,
		finding.ItemTitleTooLong)
	add(made && needs.InPeriod && c.Period == nil && c.PeriodReason != "", c.PeriodReason)
	add(made && needs.InPeriod && c.Period == nil && c.PeriodReason == "", finding.ItemNoPeriod)
	add(made && needs.InPeriod && c.Period != nil && !date.IsZero() && !c.Period.Has(date), finding.ItemOutsidePeriod)
	add(made && needs.NotBeforeTerm && !c.TermBegins.IsZero() && !date.IsZero() && date.Before(c.TermBegins),
		finding.ItemBeforeTerm)
	add(!needs.Opens.IsZero() && now.Before(needs.Opens) || !needs.Closes.IsZero() && now.After(needs.Closes),
		finding.BookNotOpen)
	return reasons
}
