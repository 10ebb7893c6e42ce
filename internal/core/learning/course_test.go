package learning_test

import (
	"fmt"
	"testing"
	"time"

	"pgregory.net/rapid"

	"kanban/internal/core/learning"
)

// A prepared course, which looks at one module only, gives exactly what working
// everything out anew gives.
func TestPreparedCourseAgreesWithItsOutline(t *testing.T) {
	var ids []string
	for i := range 8 {
		ids = append(ids, fmt.Sprint("a", i))
	}
	rapid.Check(t, func(t *rapid.T) {
		left := rapid.Permutation(ids).Draw(t, "ids")
		var nest func(depth int) []learning.Activity
		nest = func(depth int) (out []learning.Activity) {
			for range rapid.IntRange(0, 3).Draw(t, "n") {
				if len(left) == 0 || depth > 3 {
					return out
				}
				a := learning.Activity{ID: left[0], Kind: rapid.SampledFrom([]learning.Kind{
					learning.Lesson,
					learning.Assessment, learning.Assignment,
				}).Draw(t, "kind"), Optional: rapid.Bool().Draw(t,
					"optional")}
				left = left[1:]
				if rapid.Bool().Draw(t, "marked") {
					mark := rapid.Float64Range(0, 1).Draw(t, "mark")
					a.PassMark = &mark
				}
				a.Activities = nest(depth + 1)
				a.DoneByInside = rapid.Bool().Draw(t, "done by inside")
				out = append(out, a)
			}
			return out
		}
		o := learning.Outline{Modules: []learning.Module{
			{ID: "m0", Activities: nest(0)},
			{ID: "m1", Activities: nest(0), Optional: rapid.Bool().Draw(t,
				"optional module")},
		}, Percentages: []int{10, 30, 100}}
		c := learning.NewCourse(o)
		var plain learning.State
		var done learning.DoneBits
		kept := map[string]learning.ActivityState{}
		all := map[string][]learning.Fact{}
		for i := range rapid.IntRange(1, 15).Draw(t, "facts") {
			f := learning.Fact{
				ActivityID: rapid.SampledFrom(append(ids, "elsewhere")).Draw(t, "activity"), At: time.Unix(int64(i),
					0),
				Verb: rapid.SampledFrom([]learning.Verb{
					learning.Touched, learning.Completed, learning.Passed,
					learning.Failed, learning.Scored,
				}).Draw(t, "verb"),
			}
			if rapid.Bool().Draw(t, "scored") {
				score := rapid.Float64Range(-1, 1).Draw(t, "score")
				f.Score = &score
			}
			var want, got []learning.Derived
			all[f.ActivityID] = append(all[f.ActivityID], f)
			plain, want = learning.Recount(o, plain, f.ActivityID, all[f.ActivityID])
			done, kept[f.ActivityID], got = c.Advance(done, kept[f.ActivityID], f)
			percent, whole := c.Percent(done), c.DoneBits(learning.State{Activities: kept})
			if fmt.Sprint(want) != fmt.Sprint(got) || percent != learning.Percent(o, plain) ||
				percent != c.Percent(whole) {
				t.Fatalf("%+v: want %v (%d %%), got %v (%d %%)", f, want, learning.Percent(o, plain), got, percent)
			}
		}
	})
}

func BenchmarkAdvance(b *testing.B) {
	o := learning.Outline{}
	for m := range 12 {
		module := learning.Module{ID: fmt.Sprint("m", m)}
		for a := range 10 {
			module.Activities = append(module.Activities,
				learning.Activity{ID: fmt.Sprint("m", m, "a", a), Kind: learning.Lesson})
		}
		o.Modules = append(o.Modules, module)
	}
	c := learning.NewCourse(o)
	done, _, _ := c.Advance(learning.DoneBits{}, learning.ActivityState{},
		learning.Fact{ActivityID: "m3a1", Verb: learning.Completed})
	b.ReportAllocs()
	for b.Loop() {
		c.Advance(done, learning.ActivityState{}, learning.Fact{
			ActivityID: "m5a7", Verb: learning.Completed,
			At: time.Unix(5, 0),
		})
	}
}
