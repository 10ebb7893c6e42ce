package visibility_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kanban/internal/core/visibility"
)

func TestRulesHideSections_S9(t *testing.T) {
	day := func(month, d int) *time.Time {
		x := time.Date(2026, time.Month(month), d, 0, 0, 0, 0, time.UTC)
		return &x
	}
	now := day(11, 23).Add(12 * time.Hour)
	rules := visibility.Rules{
		{Name: "Advisory", ClassType: "homeroom"},
		{Name: "Drafts", Title: "draft*", Empty: true},
		{Name: "Labs", CourseCode: "lab-?"},
		{
			Name:       "Other terms",
			OtherTerms: true,
		},
	}
	running := visibility.Section{
		Title: "Grafting", CourseCode: "G", ClassType: "scheduled", Learners: 3,
		Begins: day(9, 1), Ends: day(11, 23),
	}
	with := func(change func(*visibility.Section)) visibility.Section { s := running; change(&s); return s }
	for want, s := range map[string]visibility.Section{
		"":            running,
		"Advisory":    with(func(s *visibility.Section) { s.ClassType = "Homeroom" }),
		"Drafts":      with(func(s *visibility.Section) { s.Title, s.Learners = "Draft of soil", 0 }),
		"Labs":        with(func(s *visibility.Section) { s.CourseCode = "LAB-1" }),
		"Other terms": with(func(s *visibility.Section) { s.Begins, s.Ends = day(12, 1), day(12, 24) }),
	} {
		got, _ := rules.Of(s, now, true)
		assert.Equal(t, want, got, s.Title)
	}
	ended := with(func(s *visibility.Section) { s.Ends = day(11, 22) })
	_, ok := rules.Of(ended, now, false)
	assert.False(t, ok, "between terms nothing is hidden for its term")
	ended.Paired = true
	_, ok = rules.Of(ended, now, true)
	assert.False(t, ok, "what is paired is always shown")
	_, ok = rules.Of(with(func(s *visibility.Section) { s.Title = "Draft of soil" }), now, true)
	assert.False(t, ok, "all conditions of a rule must hold")
	assert.NoError(t, visibility.Default().Check())
	assert.ErrorContains(t, visibility.Rules{{Name: "x"}, {Name: "y", Title: "[a"}, {Empty: true}}.Check(),
		"names no condition")
}
