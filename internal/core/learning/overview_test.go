package learning_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kanban/internal/core/learning"
)

func TestOverviewShowsEveryActivity_E2(t *testing.T) {
	at := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	o := learning.Outline{Modules: []learning.Module{
		{ID: "m1", Title: "Cuttings", Activities: []learning.Activity{
			{ID: "a1", Kind: learning.Lesson, Activities: []learning.Activity{
				{ID: "a2", Kind: learning.Assessment},
				{ID: "a3", Kind: learning.Lesson, Optional: true},
			}},
		}},
		{ID: "m2", Title: "Grafting", Activities: []learning.Activity{{ID: "a4", Kind: learning.Lesson}}},
	}}
	s := learning.State{}
	for i, f := range []learning.Fact{
		{ActivityID: "a1", Verb: learning.Completed},
		{ActivityID: "a4", Verb: learning.Completed},
		{ActivityID: "gone", Verb: learning.Passed},
	} {
		f.At = at.Add(time.Duration(i) * time.Hour)
		s, _ = advance(o, s, f)
	}
	got := learning.OverviewOf(o, s)
	assert.Equal(t, 66, got.Percent)
	assert.False(t, got.Done)
	assert.Equal(t, []time.Time{at, at.Add(2 * time.Hour)}, []time.Time{got.First, got.Last})
	assert.Equal(t, 1, got.Elsewhere)
	assert.Equal(t, []bool{false, true}, []bool{got.Modules[0].Done, got.Modules[1].Done})
	var shape []any
	for _, a := range got.Modules[0].Activities {
		shape = append(shape, a.ID, a.Depth, a.Counts, a.Done, a.Completed)
	}
	assert.Equal(t, []any{"a1", 0, true, false, true, "a2", 1, true, false, false, "a3", 1, false, false, false},
		shape, "a lesson is not done before its quiz")
	assert.Zero(t, learning.OverviewOf(o, learning.State{}).First)
}

func TestWhatIsMissingAndWhatWasLast(t *testing.T) {
	o := learning.Outline{Modules: []learning.Module{
		{ID: "m", Activities: []learning.Activity{{
			ID: "lesson", Kind: learning.Lesson, DoneByInside: true,
			Activities: []learning.Activity{{
				ID:   "quiz",
				Kind: learning.Assessment,
			}},
		}, {ID: "aside", Kind: learning.Lesson, Optional: true}}},
		{ID: "further", Optional: true, Activities: []learning.Activity{{ID: "more", Kind: learning.Lesson}}},
		{ID: "n", Activities: []learning.Activity{{ID: "essay", Kind: learning.Assignment}}},
	}}
	titles := func(list []learning.Activity) (out []string) {
		for _, a := range list {
			out = append(out, a.ID)
		}
		return out
	}
	s := learning.State{Activities: map[string]learning.ActivityState{}}
	_, any := learning.Latest(o, s)
	assert.False(t, any)
	assert.Equal(t, []string{"quiz", "essay"}, titles(learning.Missing(o, s, "")), "only what counts")
	assert.Equal(t, []string{"more"}, titles(learning.Missing(o, s, "further")))
	now := time.Now()
	s.Activities["quiz"] = learning.ActivityState{Passed: true, Last: now.Add(-time.Hour)}
	s.Activities["more"] = learning.ActivityState{Completed: true, Last: now}
	s.Activities["elsewhere"] = learning.ActivityState{Completed: true, Last: now.Add(time.Hour)}
	last, _ := learning.Latest(o, s)
	assert.Equal(t, "more", last.ID)
	assert.Equal(t, []string{"essay"}, titles(learning.Missing(o, s, "")))
	assert.Empty(t, learning.Missing(o, s, "m"))
}
