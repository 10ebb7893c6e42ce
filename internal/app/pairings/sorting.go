package pairings

import (
	"cmp"
	"slices"
	"strings"

	"kanban/internal/core/refusal"
)

// texts are what cards can be sorted by as people do, ignoring case.
var texts = map[string]func(Card) string{
	"section":  Card.Title,
	"course":   func(c Card) string { return c.Section.Course },
	"term":     func(c Card) string { return strings.Join(c.Section.Terms, ", ") },
	"teachers": func(c Card) string { return strings.Join(c.Teachers, ", ") },
	"class": func(c Card) string {
		if c.Pairing == nil {
			return ""
		}
		return c.Pairing.TargetName
	},
}

// numbers are what cards can be sorted by besides.
var numbers = map[string]func(Card) int64{
	"learners": func(c Card) int64 { return int64(c.Learners) },
	"run": func(c Card) int64 {
		if c.Pairing == nil || c.Pairing.RanAt == nil {
			return 0
		}
		return c.Pairing.RanAt.Unix()
	},
}

// sorted puts cards into an order: of their state when by is empty or "state", as
// they come; otherwise by a key of texts or numbers, with a minus before it the other
// way round. What has none of it stands last either way, and equal cards stay as they are.
func sorted(cards []Card, by string) error {
	name, backwards := strings.CutPrefix(by, "-")
	text, number := texts[name], numbers[name]
	switch {
	case name == "" || name == "state":
		if backwards {
			slices.Reverse(cards)
		}
	case text != nil:
		order(cards, backwards, func(c Card) string { return strings.ToLower(text(c)) })
	case number != nil:
		order(cards, backwards, number)
	default:
		return refusal.Invalid("sort", "%q is not what sections can be sorted by", name)
	}
	return nil
}

func order[K cmp.Ordered](cards []Card, backwards bool, key func(Card) K) {
	var none K
	slices.SortStableFunc(cards, func(a, b Card) int {
		x, y := key(a), key(b)
		switch {
		case x == none || y == none:
			return cmp.Compare(y, x)
		case backwards:
			return cmp.Compare(y, x)
		}
		return cmp.Compare(x, y)
	})
}
