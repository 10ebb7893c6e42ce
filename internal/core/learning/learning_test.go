package learning_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kanban/internal/core/learning"
)

var outline = learning.Outline{Modules: []learning.Module{
	{ID: "m1", Title: "Cuttings", Activities: []learning.Activity{
		{ID: "a1", Kind: learning.Lesson}, {ID: "a2", Kind: learning.Assessment}, {
			ID: "a3", Kind: learning.Lesson,
			Optional: true,
		},
	}},
	{ID: "m2", Title: "Grafting", Activities: []learning.Activity{
		{ID: "a4", Kind: learning.Assignment},
		{ID: "a5", Kind: learning.Lesson},
	}},
	{ID: "m3", Title: "Not written yet"},
}}

// advance adds a fact to a state and leaves the old one as it was.
func advance(o learning.Outline, s learning.State, f learning.Fact) (learning.State, []learning.Derived) {
	course := learning.NewCourse(o)
	next := learning.State{Activities: maps.Clone(s.Activities)}
	if next.Activities == nil {
		next.Activities = map[string]learning.ActivityState{}
	}
	_, now, derived := course.Advance(course.DoneBits(s), s.Activities[f.ActivityID], f)
	next.Activities[f.ActivityID] = now
	return next, derived
}

func ExampleCourse_Advance() {
	course, done := learning.NewCourse(outline), learning.DoneBits{}
	for _, f := range []learning.Fact{
		{ActivityID: "a1", Verb: learning.Completed},
		{ActivityID: "a2", Verb: learning.Passed},
	} {
		var derived []learning.Derived
		done, _, derived = course.Advance(done, learning.ActivityState{}, f)
		for _, d := range derived {
			fmt.Println(d.Kind, d.ModuleID, d.Percent)
		}
	}
	// Output:
	// activity.completed m1 0
	// progress.crossed  25
	// activity.completed m1 0
	// progress.crossed  50
	// module.completed m1 0
}

func TestAssessmentNeedsAPass_E2(t *testing.T) {
	s, derived := advance(outline, learning.State{}, learning.Fact{ActivityID: "a1", Verb: learning.Completed})
	assert.Len(t, derived, 2)
	s, derived = advance(outline, s, learning.Fact{ActivityID: "a2", Verb: learning.Completed})
	assert.Empty(t, derived, "completed is not passed")
	s, derived = advance(outline, s, learning.Fact{ActivityID: "a2", Verb: learning.Failed})
	assert.Empty(t, derived)
	_, derived = advance(outline, s, learning.Fact{ActivityID: "a2", Verb: learning.Passed})
	assert.Contains(t, derived, learning.Derived{Kind: learning.ModuleCompleted, ModuleID: "m1"})
}

func TestLastActivityCompletesModuleAndCourse_E2(t *testing.T) {
	s := learning.State{}
	for _, id := range []string{"a1", "a2", "a4"} {
		s, _ = advance(outline, s, learning.Fact{ActivityID: id, Verb: learning.Passed})
	}
	_, derived := advance(outline, s, learning.Fact{ActivityID: "a5", Verb: learning.Completed})
	assert.Equal(t, []learning.Derived{
		{Kind: learning.ActivityCompleted, ModuleID: "m2", ActivityID: "a5"},
		{Kind: learning.ProgressCrossed, Percent: 100},
		{Kind: learning.ModuleCompleted, ModuleID: "m2"},
		{Kind: learning.CourseCompleted},
	}, derived)
}

func TestCheckNamesTheFault(t *testing.T) {
	assert.NoError(t, outline.Check())
	for want, o := range map[string]learning.Outline{
		"holds no activity":       {Modules: []learning.Module{{ID: "m"}}},
		"module 1 has no id":      {Modules: []learning.Module{{}}},
		"two modules have the id": {Modules: []learning.Module{{ID: "m"}, {ID: "m"}}},
		"two activities have the": {Modules: []learning.Module{{
			ID:         "m",
			Activities: []learning.Activity{{ID: "a", Kind: "lesson"}, {ID: "a", Kind: "lesson"}},
		}}},
		"use lesson, assessment or": {Modules: []learning.Module{{
			ID:         "m",
			Activities: []learning.Activity{{ID: "a", Kind: "game"}},
		}}},
	} {
		err := o.Check()
		assert.ErrorIs(t, err, learning.ErrOutline)
		assert.ErrorContains(t, err, want)
	}
}

func run(facts []learning.Fact) (learning.State, map[learning.Derived]int) {
	state, events := learning.State{}, map[learning.Derived]int{}
	for _, f := range facts {
		var derived []learning.Derived
		state, derived = advance(outline, state, f)
		for _, d := range derived {
			events[d]++
		}
	}
	return state, events
}

func TestOrderAndRepetitionDoNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		facts := rapid.SliceOf(rapid.Custom(func(t *rapid.T) learning.Fact {
			f := learning.Fact{
				ActivityID: rapid.SampledFrom([]string{"a1", "a2", "a3", "a4", "a5", "unknown"}).Draw(t, "activity"),
				Verb: rapid.SampledFrom([]learning.Verb{
					learning.Touched, learning.Completed, learning.Passed,
					learning.Failed,
				}).Draw(t, "verb"),
				At: time.Unix(rapid.Int64Range(1, 1e6).Draw(t, "at"), 0),
			}
			if rapid.Bool().Draw(t, "scored") {
				score := rapid.Float64Range(-1, 1).Draw(t, "score")
				f.Score = &score
			}
			return f
		})).Draw(t, "facts")
		state, events := run(facts)
		other := append(slices.Clone(facts), facts...)
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 2))
		r.Shuffle(len(other), func(i, j int) { other[i], other[j] = other[j], other[i] })
		state2, events2 := run(other)
		if !assert.ObjectsAreEqual(state, state2) || !assert.ObjectsAreEqual(events, events2) {
			t.Fatalf("%v gave %v and %v", facts, events, events2)
		}
		for d, n := range events {
			if n != 1 {
				t.Fatalf("%v came %d times", d, n)
			}
		}
	})
}

// Withdrawing a fact gives what the others give alone, whatever the order, and says
// exactly what is open again.
func TestRecountIsAsIfTheFactHadNeverCome_E2(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) []learning.Fact {
			return rapid.SliceOfN(rapid.Custom(func(t *rapid.T) learning.Fact {
				return learning.Fact{
					ActivityID: rapid.SampledFrom([]string{"a1", "a2", "a4", "a5", "elsewhere"}).Draw(t, "activity"),
					Verb: rapid.SampledFrom([]learning.Verb{
						learning.Completed, learning.Passed,
						learning.Failed,
					}).Draw(t, "verb"),
					At: time.Unix(rapid.Int64Range(1, 50).Draw(t, "at"), 0),
				}
			}), 1, 12).Draw(t, name)
		}
		facts := draw("facts")
		gone := rapid.IntRange(0, len(facts)-1).Draw(t, "gone")
		fold := func(list []learning.Fact) (s learning.State) {
			for _, f := range list {
				s, _ = advance(outline, s, f)
			}
			return s
		}
		rest := slices.Delete(slices.Clone(facts), gone, gone+1)
		about := slices.DeleteFunc(slices.Clone(rest),
			func(f learning.Fact) bool { return f.ActivityID != facts[gone].ActivityID })
		before := fold(facts)
		after, derived := learning.Recount(outline, before, facts[gone].ActivityID, about)
		want := fold(rest)
		assert.Equal(t, learning.Percent(outline, want), learning.Percent(outline, after))
		for id := range want.Activities {
			assert.Equal(t, want.Activities[id], after.Activities[id])
		}
		assert.Len(t, after.Activities, len(want.Activities))
		for _, m := range outline.Modules {
			lost := learning.ModuleDone(m, before) && !learning.ModuleDone(m, after)
			assert.Equal(t, lost, slices.Contains(derived,
				learning.Derived{Kind: learning.ModuleReopened, ModuleID: m.ID}))
		}
		assert.Equal(t, learning.CourseDone(outline, before) && !learning.CourseDone(outline, after),
			slices.Contains(derived, learning.Derived{Kind: learning.CourseReopened}))
	})
}
