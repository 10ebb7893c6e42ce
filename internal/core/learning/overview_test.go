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
			{ID: "a1", Kind: learning.Lesson, Activities: []learning.Activity{{ID: "a2", Kind: learning.Assessment}, {ID: "a3", Kind: learning.Lesson, Optional: true}}},
		}},
		{ID: "m2", Title: "Grafting", Activities: []learning.Activity{{ID: "a4", Kind: learning.Lesson}}},
	}}
	s := learning.State{}
	for i, f := range []learning.Fact{{ActivityID: "a1", Verb: learning.Completed}, {ActivityID: "a4", Verb: learning.Completed}, {ActivityID: "gone", Verb: learning.Passed}} {
		f.At = at.Add(time.Duration(i) * time.Hour)
		s, _ = advance(o, s, f)
	}
	got := learning.Look(o, s)
	assert.Equal(t, 66, got.Percent)
	assert.False(t, got.Done)
	assert.Equal(t, []time.Time{at, at.Add(2 * time.Hour)}, []time.Time{got.First, got.Last})
	assert.Equal(t, 1, got.Elsewhere)
	assert.Equal(t, []bool{false, true}, []bool{got.Modules[0].Done, got.Modules[1].Done})
	var shape []any
	for _, a := range got.Modules[0].Activities {
		shape = append(shape, a.ID, a.Depth, a.Counts, a.Done, a.Completed)
	}
	assert.Equal(t, []any{"a1", 0, true, false, true, "a2", 1, true, false, false, "a3", 1, false, false, false}, shape, "a lesson is not done before its quiz")
	assert.Zero(t, learning.Look(o, learning.State{}).First)
}
