package grade

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func weight(n float64) *float64 { return &n }

// Each value that differs is named with what either side has and what is expected; what a side does not say is no
// difference.
func TestWhatIsSetUpDifferently(t *testing.T) {
	source := []Category{{ID: "t", Title: "Tests", Weight: 40}, {ID: "w", Title: "Work", Weight: 60}}
	book := []Category{
		{ID: "b1", Title: "tests", Weight: 50},
		{ID: "b2", Title: "Work", Weight: -1},
		{ID: "b3", Title: "Practice", Weight: 10},
	}
	expected := Expectation{
		PeriodKind: "gradingPeriod",
		Categories: []Expected{
			{"Tests", weight(40)}, {"Work", weight(60)}, {"Practice", weight(5)}, {"Projects", nil},
		},
		Scale: map[string]string{"Merit": "90-100", "pass": "60 %"},
	}
	scales := []Scales{{
		Title: "Words", Source: Scale{"merit": {Kind: Points, Points: 100}, "pass": {Kind: Points, Points: 60}},
		Book: Scale{"merit": {Kind: Points, Points: 95}, "pass": {Kind: Points, Points: 60}},
	}}
	matches := MatchCategories(source, book, nil, nil)
	assert.Equal(t, []Mismatch{
		{MismatchWeight, "Practice", "", "10 %", "5 %"},
		{MismatchWeight, "Tests", "40 %", "50 %", "40 %"},
		{MismatchCategory, "Projects", "", "", ""},
		{MismatchScale, "Words: merit", "100", "95", "100"},
		{MismatchPeriodKind, "", "", "term", "gradingPeriod"},
	}, Mismatches(matches, book, scales, "term", expected))
	assert.Equal(t, []Mismatch{
		{MismatchWeight, "Tests", "40 %", "50 %", ""}, {MismatchScale, "Words: merit", "100", "95", ""},
	}, Mismatches(matches, book, scales, "term", Expectation{}))
	only := []Scales{{Title: "Words", Source: scales[0].Source}}
	assert.Empty(t, Mismatches(nil, nil, only, "", Expectation{}), "one side alone differs from nothing")
	assert.Len(t, Mismatches(nil, nil, only, "", Expectation{Scale: map[string]string{"pass": "50"}}), 2,
		"a word that is worth something else, and one that is not expected")
}

func TestValuesOfScoreScales(t *testing.T) {
	for text, want := range map[string]Mark{
		"90-100": {Kind: Points, Points: 100}, "60 %": {Kind: Points, Points: 60}, " 7.5": {Kind: Points, Points: 7.5},
		"7,5":  {Kind: Points, Points: 7.5},
		"0x10": {Kind: Text, Text: "0x10"},
		"pass": {Kind: Text, Text: "pass"}, "NaN": {Kind: Text, Text: "NaN"}, "A-": {Kind: Text, Text: "A-"},
	} {
		assert.Equal(t, want, ParseScaleValue(text), text)
	}
}

// Sides that are the same differ in nothing, whatever they have.
func TestSidesThatAreTheSameDoNotDiffer(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var list []Category
		var x Expectation
		scale := Scale{}
		titles := rapid.SliceOfDistinct(rapid.StringMatching(`[A-Z][a-z]{1,8}`), Called)
		for i, title := range titles.Draw(t, "titles") {
			w := rapid.Float64Range(0, 100).Draw(t, "weight")
			list = append(list, Category{ID: string(rune('a' + i)), Title: title, Weight: w})
			x.Categories = append(x.Categories, Expected{title, weight(w)})
			scale[Called(title)] = Mark{Kind: Points, Points: w}
		}
		assert.Empty(t, Mismatches(MatchCategories(list, list, nil, nil), list, []Scales{{"s", scale, scale}}, "k", x))
	})
}
