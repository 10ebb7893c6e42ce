package grade

import (
	"cmp"
	"math"
	"slices"
	"time"

	"kanban/internal/core/similarity"
)

// Counterpart is a line item of the book that may be the one of an assignment, with the evidence for it.
type Counterpart struct {
	Item LineItem
	// Score is 0 to 100, the likelier the higher.
	Score int
	// Title is how alike the titles are, 0 to 1. SameDay and SamePoints say what else agrees.
	Title               float64
	SameDay, SamePoints bool
	// Equal and Different count the people whose values in both, scaled to each other, agree or not.
	Equal, Different int
	// Linked says that it is linked to another assignment already.
	Linked bool
}

// What each piece of evidence counts at most; together 100.
const (
	countsTitle  = 45
	countsDay    = 20
	countsPoints = 15
	countsValues = 20
)

// Values are the points that people have of an assignment, by person.
type Values map[string]float64

// Rank gives the line items of a book that may be the counterpart of an assignment,
// the likeliest first and those that are linked already last; equals by title. values
// and held give what people have on both sides, as far as it is known. Nobody takes the
// first of them without being told.
func Rank(source LineItem, values Values, book []LineItem, held map[string]Values,
	linked map[string]bool,
) []Counterpart {
	list := make([]Counterpart, 0, len(book))
	for _, b := range book {
		if b.Gone || b.Term {
			continue
		}
		c := Counterpart{
			Item: b, Title: similarity.Alike(source.Title, b.Title), SameDay: sameDay(source.Due, b.Due),
			SamePoints: source.Maximum == b.Maximum, Linked: linked[b.ID],
		}
		c.Equal, c.Different = agree(values, source.Maximum, held[b.ID], b.Maximum)
		score := countsTitle * c.Title
		if c.SameDay {
			score += countsDay
		}
		if c.SamePoints {
			score += countsPoints
		}
		if n := c.Equal + c.Different; n > 0 {
			score += countsValues * float64(c.Equal) / float64(n)
		}
		c.Score = int(math.Round(score))
		list = append(list, c)
	}
	slices.SortStableFunc(list, func(a, b Counterpart) int {
		return cmp.Or(compareBool(a.Linked, b.Linked), cmp.Compare(b.Score, a.Score),
			cmp.Compare(a.Item.Title, b.Item.Title), cmp.Compare(a.Item.ID, b.Item.ID))
	})
	return list
}

func compareBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}

// sameDay reports whether two moments are within a day of each other: sides in other
// time zones write one day as two.
func sameDay(a, b time.Time) bool {
	return !a.IsZero() && !b.IsZero() && a.Sub(b).Abs() < 24*time.Hour
}

// agree counts the people who have the same share of the points on both sides, to a hundredth.
func agree(a Values, most float64, b Values, otherMost float64) (equal, different int) {
	if most <= 0 || otherMost <= 0 {
		return 0, 0
	}
	for who, x := range a {
		y, both := b[who]
		switch {
		case !both:
		case math.Abs(x/most-y/otherMost) < 0.01:
			equal++
		default:
			different++
		}
	}
	return equal, different
}

// Overlap is what the class at the source and the one of the book have in common.
type Overlap struct {
	Both, SourceOnly, BookOnly int // people
	// Items are assignments of the source that have one of the same title in the book.
	Items, OtherItems int
}

// Poor reports whether they have so little in common that the link is probably wrong:
// fewer than half of the people of the smaller class are in both.
func (o Overlap) Poor() bool {
	smaller := o.Both + min(o.SourceOnly, o.BookOnly)
	return smaller > 0 && o.Both*2 < smaller
}

// OverlapOf compares two classes by their people and the titles of their assignments.
func OverlapOf(source, book []string, items, bookItems []LineItem) Overlap {
	var o Overlap
	there := map[string]bool{}
	for _, who := range book {
		there[who] = true
	}
	seen := map[string]bool{}
	for _, who := range source {
		switch {
		case seen[who]:
		case there[who]:
			o.Both++
		default:
			o.SourceOnly++
		}
		seen[who] = true
	}
	for who := range there {
		if !seen[who] {
			o.BookOnly++
		}
	}
	titles := map[string]bool{}
	for _, b := range bookItems {
		titles[Called(b.Title)] = true
	}
	for _, s := range items {
		if titles[Called(s.Title)] {
			o.Items++
		} else {
			o.OtherItems++
		}
	}
	return o
}
