package grade

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kanban/internal/core/finding"
)

func TestCounterpartsAreRankedByWhatSpeaksForThem(t *testing.T) {
	source := LineItem{ID: "s", Title: "Essay on cuttings", Due: day("2026-09-20"), Maximum: 20}
	book := []LineItem{
		{ID: "other", Title: "Test", Due: day("2026-12-01"), Maximum: 50},
		{ID: "same", Title: "Essay on cuttings", Due: day("2026-09-20"), Maximum: 20},
		{ID: "linked", Title: "Essay on cuttings", Due: day("2026-09-20"), Maximum: 20},
		{ID: "like", Title: "Essay: cuttings", Due: day("2026-10-20"), Maximum: 100},
		{ID: "term", Title: "Essay on cuttings", Term: true},
		{ID: "gone", Title: "Essay on cuttings", Gone: true},
	}
	list := Rank(source, Values{"a": 10, "b": 20, "c": 1}, book,
		map[string]Values{"like": {"a": 50, "b": 100, "c": 99}}, map[string]bool{"linked": true})
	var ids []string
	for _, c := range list {
		ids = append(ids, c.Item.ID)
		assert.LessOrEqual(t, c.Score, 100)
		assert.GreaterOrEqual(t, c.Score, 0)
	}
	assert.Equal(t, []string{"same", "like", "other", "linked"}, ids)
	assert.Equal(t, 80, list[0].Score)
	assert.True(t, list[0].SameDay && list[0].SamePoints)
	assert.Equal(t, [2]int{2, 1}, [2]int{list[1].Equal, list[1].Different})
	assert.Empty(t, Rank(source, nil, nil, nil, nil))
}

func TestClassesWithLittleInCommon(t *testing.T) {
	items := []LineItem{{Title: "Essay"}, {Title: "Test"}}
	o := OverlapOf([]string{"a", "b", "c", "a"}, []string{"c", "d", "e", "f"}, items, []LineItem{{Title: " essay"}})
	assert.Equal(t, Overlap{Both: 1, SourceOnly: 2, BookOnly: 3, Items: 1, OtherItems: 1}, o)
	assert.True(t, o.Poor())
	// A class at the source that holds three sections, one of which is the book's, is as it should be.
	assert.False(t, OverlapOf([]string{"a", "b", "c", "d", "e"}, []string{"a", "b"}, nil, nil).Poor())
	assert.False(t, OverlapOf(nil, nil, nil, nil).Poor())
}

func TestScoresDoNotGoInCircles(t *testing.T) {
	at := func(name string) Class { return Class{name, "c"} }
	links := []Link{{"1", at("a"), at("b")}, {"2", at("b"), at("c")}, {"3", at("b"), at("d")}}
	assert.Nil(t, Circle(links, Link{"4", at("c"), at("e")}))
	assert.Nil(t, Circle(links, Link{"4", at("a"), at("c")}), "two ways to one book are no circle")
	circle := Circle(links, Link{"4", at("c"), at("a")})
	var ids []string
	for _, l := range circle {
		ids = append(ids, l.ID)
	}
	assert.Equal(t, []string{"4", "1", "2"}, ids)
	assert.Len(t, Circle(links, Link{"4", at("x"), at("x")}), 1)
	// A link that is pointed elsewhere does not stand in its own way.
	assert.Nil(t, Circle(links, Link{"1", at("c"), at("e")}))
	assert.Nil(t, Circle(append(links, Link{"5", at("d"), at("b")}), Link{"6", at("x"), at("b")}),
		"circles that are there end")

	assert.Equal(t, map[string][]string{"essay": {"1", "2"}},
		sortedLists(Written(map[string][]string{"1": {"essay", "test"}, "2": {"essay"}})))
}

func sortedLists(m map[string][]string) map[string][]string {
	for k := range m {
		m[k] = sorted(m[k], func(s string) string { return s })
	}
	return m
}

func TestWhyThereIsNothingNew(t *testing.T) {
	draft := Result{Status: Draft, Mark: points(1)}
	who := func(r Result, name string) Result { r.Who = name; return r }
	again := Result{
		Who: "z", Status: Final, Mark: points(3), Marked: day("2026-09-01"), Submitted: day("2026-09-02"),
	}
	plan := Compare([]Item{
		{
			ID: "essay", Source: LineItem{Maximum: 10}, Book: &LineItem{Maximum: 10},
			Results: []Result{who(draft, "a"), who(draft, "b"), who(draft, "c"), again}, Held: []Held{{
				Who:  "z",
				Mark: points(3),
			}},
		},
		{
			ID: "test", Source: LineItem{Maximum: 10}, Book: &LineItem{Maximum: 10},
			Results: []Result{who(draft, "a"), {Who: "b", Status: Partly}}, Held: []Held{{Who: "x", Mark: points(3)}},
		},
	}, DefaultPolicy())
	assert.Zero(t, plan.Counts().Changes())
	assert.Equal(t, []Reasons{
		{finding.ScoreDraft, Waiting, 4, 2}, {finding.ScorePartly, Waiting, 1, 1},
	}, plan.Summary())
	assert.Equal(t, map[string][]string{"essay": {"z"}}, plan.Again())
	assert.Empty(t, plan.Losses())
}
