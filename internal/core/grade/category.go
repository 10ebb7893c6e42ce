package grade

import (
	"cmp"
	"slices"
	"strings"

	"kanban/internal/core/similarity"
)

// Category is a kind of assignment at one side (OneRoster Category).
type Category struct {
	ID, Title string
	// Weight is its share of the grade in per cent; negative when it is not known.
	Weight float64
}

// Evidence says why a category of the book was taken for one of the source.
type Evidence string

// Why categories belong together.
const (
	ByPerson Evidence = "chosen"    // somebody said so
	ByName   Evidence = "same-name" // they are called the same
	ByBefore Evidence = "before"    // people put such assignments there before
	ByNobody Evidence = ""          // a person chooses, or it is made
)

// CategoryMatch is a category of the source with the book's that belongs to it.
type CategoryMatch struct {
	Source   Category
	Book     *Category // nil when none is settled
	Evidence Evidence
	// Proposals are the book's categories that are called likewise, the likeliest
	// first; nobody takes one of them without being told.
	Proposals []Category
	// Several says that more than one is called the same: a person chooses.
	Several bool
}

// Makes reports whether the category may be made in the book: nothing there is called the same.
func (m CategoryMatch) Makes() bool { return m.Book == nil && !m.Several }

// likely is from which similarity on a category is proposed.
const likely = 0.5

// MatchCategories gives for every category of the source what belongs to it in
// the book. chosen maps ids of the source's categories to the book's, as somebody
// decided; before the same, as people did until now, which counts only where no
// name decides. Doing it again once one was made gives that one: nothing is made twice.
func MatchCategories(source, book []Category, chosen, before map[string]string) []CategoryMatch {
	byID := make(map[string]*Category, len(book))
	byName := map[string][]*Category{}
	for i := range book {
		byID[book[i].ID] = &book[i]
		name := Called(book[i].Title)
		byName[name] = append(byName[name], &book[i])
	}
	list := make([]CategoryMatch, 0, len(source))
	for _, s := range source {
		m := CategoryMatch{Source: s}
		equal := byName[Called(s.Title)]
		switch {
		case byID[chosen[s.ID]] != nil:
			m.Book, m.Evidence = byID[chosen[s.ID]], ByPerson
		case len(equal) == 1:
			m.Book, m.Evidence = equal[0], ByName
		case byID[before[s.ID]] != nil:
			m.Book, m.Evidence = byID[before[s.ID]], ByBefore
		default:
			m.Several = len(equal) > 1
			m.Proposals = proposals(s, book)
		}
		list = append(list, m)
	}
	return list
}

// proposals are the categories that are called likewise.
func proposals(s Category, book []Category) []Category {
	type scored struct {
		Category
		score float64
	}
	var list []scored
	for _, b := range book {
		if score := similarity.Alike(s.Title, b.Title); score >= likely {
			list = append(list, scored{b, score})
		}
	}
	slices.SortStableFunc(list, func(a, b scored) int {
		return cmp.Or(cmp.Compare(b.score, a.score), cmp.Compare(a.Title, b.Title), cmp.Compare(a.ID, b.ID))
	})
	var out []Category
	for _, x := range list {
		out = append(out, x.Category)
	}
	return out
}

// Called is a title as titles are compared: without case and spaces around and between.
func Called(title string) string { return strings.Join(strings.Fields(strings.ToLower(title)), " ") }

// WeightsDiffer reports whether the weights of both categories are known and differ.
func (m CategoryMatch) WeightsDiffer() bool {
	return m.Book != nil && differ(m.Source.weight(), m.Book.weight())
}
