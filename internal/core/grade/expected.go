package grade

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Expected is a category that an organisation expects in its gradebooks.
type Expected struct {
	Title string `json:"title"`
	// Weight is its share of the grade in per cent, nil for any.
	Weight *float64 `json:"weight,omitempty"`
}

// Expectation is what an organisation expects of its gradebooks. What is empty is not compared.
type Expectation struct {
	Categories []Expected `json:"categories,omitempty"`
	// Scale says what scores in words are worth, as a score scale has it: points, a range or another word.
	Scale map[string]string `json:"scale,omitempty"`
	// PeriodKind is which kind of session counts.
	PeriodKind string `json:"periodKind,omitempty"`
}

// MismatchKind says what differs.
type MismatchKind string

// What can differ between two gradebooks, and from what is expected.
const (
	MismatchWeight     MismatchKind = "weight"
	MismatchCategory   MismatchKind = "category"
	MismatchScale      MismatchKind = "scale"
	MismatchPeriodKind MismatchKind = "period-kind"
)

// Mismatch is something that is not the same at both sides, or not as it is expected. A side that says
// nothing of it is empty.
type Mismatch struct {
	Kind                   MismatchKind
	About                  string // title of the category, or of the scale with the word
	Source, Book, Expected string
}

// Scales are the score scales of both sides that are used together: under one title, or by two line
// items that are linked.
type Scales struct {
	Title        string
	Source, Book Scale
}

// ParseScaleValue reads what a word of a score scale is worth: a number, with or without a per cent sign,
// the upper end of a range such as 90-100, or another word (OneRoster 1.2 ScoreScaleValue).
func ParseScaleValue(text string) Mark {
	text = strings.TrimSpace(text)
	number := text
	if _, upper, isRange := strings.Cut(text, "-"); isRange && strings.TrimSpace(upper) != "" {
		number = strings.TrimSpace(upper)
	}
	number = strings.TrimSpace(strings.TrimSuffix(number, "%"))
	if strings.Count(number, ",") == 1 && !strings.Contains(number, ".") {
		number = strings.Replace(number, ",", ".", 1)
	}
	n, err := strconv.ParseFloat(number, 64)
	if err != nil || math.IsNaN(n) || math.IsInf(n, 0) || strings.ContainsAny(number, "xXpP_") {
		return Mark{Kind: Text, Text: text}
	}
	return Mark{Kind: Points, Points: n}
}

// Mismatches compares how both sides are set up, with each other and with what is expected. categories
// are those of the source with the book's that belong to them, book is all that the book has.
func Mismatches(categories []CategoryMatch, book []Category, scales []Scales, kind string, x Expectation) []Mismatch {
	list := append(categoryMismatches(categories, book, x), scaleMismatches(scales, x)...)
	if x.PeriodKind != "" && x.PeriodKind != kind {
		list = append(list, Mismatch{Kind: MismatchPeriodKind, Book: kind, Expected: x.PeriodKind})
	}
	slices.SortStableFunc(list, func(a, b Mismatch) int {
		return cmp.Or(cmp.Compare(kindOrder[a.Kind], kindOrder[b.Kind]), cmp.Compare(a.About, b.About),
			cmp.Compare(a.Source, b.Source), cmp.Compare(a.Book, b.Book))
	})
	return list
}

var kindOrder = map[MismatchKind]int{
	MismatchWeight: 0, MismatchCategory: 1, MismatchScale: 2, MismatchPeriodKind: 3,
}

func categoryMismatches(categories []CategoryMatch, book []Category, x Expectation) (list []Mismatch) {
	expected := map[string]Expected{}
	for _, e := range x.Categories {
		expected[Called(e.Title)] = e
	}
	seen := map[string]bool{}
	compare := func(about string, source, inBook, wanted *float64) {
		if !differ(source, inBook) && !differ(source, wanted) && !differ(inBook, wanted) {
			return
		}
		list = append(list, Mismatch{MismatchWeight, about, percent(source), percent(inBook), percent(wanted)})
	}
	for _, m := range categories {
		e, wanted := expected[Called(m.Source.Title)]
		var inBook *float64
		if m.Book != nil {
			seen[m.Book.ID] = true
			inBook = m.Book.weight()
			if !wanted {
				e = expected[Called(m.Book.Title)]
			}
		}
		compare(m.Source.Title, m.Source.weight(), inBook, e.Weight)
	}
	has := map[string]bool{}
	for _, b := range book {
		has[Called(b.Title)] = true
		if e, wanted := expected[Called(b.Title)]; wanted && !seen[b.ID] {
			compare(b.Title, nil, b.weight(), e.Weight)
		}
	}
	for _, e := range x.Categories {
		if !has[Called(e.Title)] {
			list = append(list, Mismatch{Kind: MismatchCategory, About: e.Title, Expected: percent(e.Weight)})
		}
	}
	return list
}

func (c Category) weight() *float64 {
	if c.Weight < 0 {
		return nil
	}
	return &c.Weight
}

func differ(a, b *float64) bool { return a != nil && b != nil && math.Abs(*a-*b) > 0.005 }

func percent(n *float64) string {
	if n == nil {
		return ""
	}
	return strconv.FormatFloat(*n, 'f', -1, 64) + " %"
}

func scaleMismatches(scales []Scales, x Expectation) (list []Mismatch) {
	expected := Scale{}
	for word, value := range x.Scale {
		expected[Called(word)] = ParseScaleValue(value)
	}
	seen := map[string]bool{}
	for _, s := range scales {
		words := map[string]bool{}
		for _, scale := range []Scale{s.Source, s.Book, expected} {
			for word := range scale {
				words[word] = true
			}
		}
		for word := range words {
			source, book, wanted := s.Source.of(word), s.Book.of(word), expected.of(word)
			same := (s.Source == nil || s.Book == nil || source == book) &&
				(len(expected) == 0 || (s.Source == nil || source == wanted) && (s.Book == nil || book == wanted))
			m := Mismatch{MismatchScale, strings.TrimPrefix(s.Title+": "+word, ": "), source, book, wanted}
			if key := m.About + "\x00" + source + "\x00" + book; !same && !seen[key] {
				seen[key] = true
				list = append(list, m)
			}
		}
	}
	return list
}

// of is what a word is worth, as people read it; "" for one that the scale does not have.
func (s Scale) of(word string) string {
	m, has := s[word]
	if !has {
		return ""
	}
	return m.String()
}
