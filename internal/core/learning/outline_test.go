package learning_test

import (
	"encoding/csv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/learning"
)

func mark(v float64) *float64 { return &v }

// A lesson that holds a quiz is done when both are; the quiz completes them all.
func TestNestedActivities_E2(t *testing.T) {
	o := learning.Outline{Modules: []learning.Module{{ID: "m", Activities: []learning.Activity{{
		ID: "lesson", Kind: learning.Lesson, Activities: []learning.Activity{
			{ID: "quiz", Kind: learning.Assessment, PassMark: mark(0.6)}, {
				ID: "extra", Kind: learning.Lesson,
				Optional: true,
			},
		},
	}}}}}
	require.NoError(t, o.Check())
	s, derived := advance(o, learning.State{}, learning.Fact{ActivityID: "lesson", Verb: learning.Completed})
	assert.Equal(t, 50, learning.Percent(o, s))
	assert.NotContains(t, derived, learning.Derived{
		Kind: learning.ActivityCompleted, ModuleID: "m",
		ActivityID: "lesson",
	}, "its quiz is open")
	s, derived = advance(o, s, learning.Fact{ActivityID: "quiz", Verb: learning.Passed, Score: mark(0.5)})
	assert.Empty(t, derived, "the pass mark decides, not the platform")
	_, derived = advance(o, s, learning.Fact{ActivityID: "quiz", Verb: learning.Scored, Score: mark(0.6)})
	assert.Equal(t, []learning.Derived{
		{Kind: learning.ActivityCompleted, ModuleID: "m", ActivityID: "quiz"},
		{Kind: learning.ActivityCompleted, ModuleID: "m", ActivityID: "lesson"},
		{Kind: learning.ProgressCrossed, Percent: 75},
		{Kind: learning.ProgressCrossed, Percent: 100},
		{Kind: learning.ModuleCompleted, ModuleID: "m"},
		{Kind: learning.CourseCompleted},
	}, derived)
}

// A lesson that requires nothing but its quiz is completed by the quiz, whatever is
// reported of the lesson; it does not count beside it.
func TestQuizIsAllThatTheLessonRequires_E2(t *testing.T) {
	o := learning.Outline{Percentages: []int{40, 100}, Modules: []learning.Module{
		{ID: "m", Activities: []learning.Activity{{
			ID: "lesson", Kind: learning.Lesson, DoneByInside: true,
			Activities: []learning.Activity{
				{ID: "quiz", Kind: learning.Assessment}, {ID: "extra", Kind: learning.Lesson, Optional: true},
			},
		}}},
		{ID: "n", Activities: []learning.Activity{{ID: "essay", Kind: learning.Assignment}}},
		{ID: "further", Optional: true, Activities: []learning.Activity{{ID: "more", Kind: learning.Lesson}}},
		{ID: "asides", Activities: []learning.Activity{{ID: "aside", Kind: learning.Lesson, Optional: true}}},
	}}
	require.NoError(t, o.Check())
	s, derived := advance(o, learning.State{}, learning.Fact{ActivityID: "lesson", Verb: learning.Completed})
	assert.Empty(t, derived, "nothing is required of the lesson itself")
	s, derived = advance(o, s, learning.Fact{ActivityID: "quiz", Verb: learning.Passed})
	assert.Equal(t, []learning.Derived{
		{Kind: learning.ActivityCompleted, ModuleID: "m", ActivityID: "quiz"},
		{Kind: learning.ActivityCompleted, ModuleID: "m", ActivityID: "lesson"},
		{Kind: learning.ProgressCrossed, Percent: 40},
		{Kind: learning.ModuleCompleted, ModuleID: "m"},
	}, derived)
	s, derived = advance(o, s, learning.Fact{ActivityID: "more", Verb: learning.Completed})
	assert.Contains(t, derived, learning.Derived{Kind: learning.ModuleCompleted, ModuleID: "further"},
		"an optional module is a module all the same")
	assert.Equal(t, 50, learning.Percent(o, s), "what is optional does not count")
	s, derived = advance(o, s, learning.Fact{ActivityID: "essay", Verb: learning.Completed})
	assert.Contains(t, derived, learning.Derived{Kind: learning.CourseCompleted})
	assert.Equal(t, 100, learning.Percent(o, s))

	next := o
	next.Percentages = []int{40, 60, 100}
	assert.Equal(t, []learning.Derived{{Kind: learning.ProgressCrossed, Percent: 60}}, learning.Reoutline(o, next, s),
		"what is asked for later is reported then")
}

func TestOutlinesThatNobodyCouldFinishAreRefused_E2(t *testing.T) {
	lesson := func(optional bool) []learning.Activity {
		return []learning.Activity{{ID: "a", Kind: learning.Lesson, Optional: optional}}
	}
	for text, o := range map[string]learning.Outline{
		"everything in it is optional": {Modules: []learning.Module{{
			ID: "m", Optional: true,
			Activities: lesson(false),
		}, {ID: "n", Activities: []learning.Activity{{
			ID: "b", Kind: learning.Lesson,
			Optional: true,
		}}}}},
		"nothing inside it is required": {Modules: []learning.Module{{
			ID: "m",
			Activities: []learning.Activity{{
				ID: "b", Kind: learning.Lesson, DoneByInside: true,
				Activities: lesson(true),
			}},
		}}},
		"percentages lie between 1 and 100": {
			Modules:     []learning.Module{{ID: "m", Activities: lesson(false)}},
			Percentages: []int{0, 50},
		},
		"and rise, as in": {
			Modules:     []learning.Module{{ID: "m", Activities: lesson(false)}},
			Percentages: []int{50, 50},
		},
		"lie between 1 and 100 and rise, as": {
			Modules:     []learning.Module{{ID: "m", Activities: lesson(false)}},
			Percentages: []int{50, 101},
		},
	} {
		assert.ErrorContains(t, o.Check(), text)
	}
}

func TestVerdict(t *testing.T) {
	plain, marked := learning.Activity{}, learning.Activity{PassMark: mark(0.6)}
	for _, c := range []struct {
		a    learning.Activity
		f    learning.Fact
		want learning.Verb
	}{
		{plain, learning.Fact{Verb: learning.Passed, Score: mark(0.1)}, learning.Passed},
		{plain, learning.Fact{Verb: learning.Scored, Score: mark(0.9)}, ""},
		{marked, learning.Fact{Verb: learning.Scored, Score: mark(0.9)}, learning.Passed},
		{marked, learning.Fact{Verb: learning.Completed, Score: mark(0.5)}, learning.Failed},
		{marked, learning.Fact{Verb: learning.Failed}, learning.Failed},
		{marked, learning.Fact{Verb: learning.Touched, Score: mark(0.9)}, ""},
	} {
		assert.Equal(t, c.want, learning.Verdict(c.a, c.f), "%+v", c)
	}
}

func table(t *testing.T, text string) [][]string {
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	return rows
}

func TestOutlineFromATable(t *testing.T) {
	o, wrong := learning.FromTable(table(t,
		`Module,Module title,Activity,Title,Kind,Required,Pass mark,Inside,Done by,Module required
m1,Cuttings,a2,Check,assessment,yes,60%,a1,,
m1,,a1,Tools,Lesson,,,,inside,
m2,,a3,Look around,lesson,no,,,,no
`))
	require.Empty(t, wrong)
	assert.Equal(t, learning.Outline{Modules: []learning.Module{
		{ID: "m1", Title: "Cuttings", Activities: []learning.Activity{{
			ID: "a1", Title: "Tools", Kind: "lesson",
			DoneByInside: true, Activities: []learning.Activity{{
				ID: "a2", Title: "Check", Kind: "assessment",
				PassMark: mark(0.6),
			}},
		}}},
		{ID: "m2", Title: "m2", Optional: true, Activities: []learning.Activity{{
			ID: "a3", Title: "Look around",
			Kind: "lesson", Optional: true,
		}}},
	}}, o)
	again, wrong := learning.FromTable(o.Table())
	assert.Empty(t, wrong)
	assert.Equal(t, o, again, "what is written is read back")
}

func TestTablesSayWhichRowIsWrong(t *testing.T) {
	_, wrong := learning.FromTable(table(t, `module,activity,kind,required,pass mark,inside
m1,a1,game,,,
m1,,lesson,,,
m1,a3,lesson,perhaps,,
m1,a4,assessment,,150%,
m1,a4,lesson,,,
`))
	var rows []int
	for _, w := range wrong {
		rows = append(rows, w.Row)
		assert.NotEmpty(t, w.Problem)
	}
	assert.Equal(t, []int{2, 3, 4, 5, 6}, rows)
	for want, text := range map[string]string{
		`column "kind" is missing`:  "module,activity\nm,a\n",
		`stands inside "x", which`:  "module,activity,kind,inside\nm,a,lesson,x\n",
		"inside each other in a ci": "module,activity,kind,inside\nm,a,lesson,b\nm,b,lesson,a\n",
	} {
		_, wrong := learning.FromTable(table(t, text))
		require.Len(t, wrong, 1)
		assert.Contains(t, wrong[0].Error(), want)
	}
	_, wrong = learning.FromTable(nil)
	assert.Len(t, wrong, 1)
}

func TestLearnedOnlyWhereNothingIsGiven(t *testing.T) {
	o, ok := learning.Learn(learning.Outline{}, "m", "M", learning.Activity{ID: "a", Kind: learning.Lesson})
	require.True(t, ok)
	o, ok = learning.Learn(o, "m", "M", learning.Activity{ID: "b", Kind: learning.Lesson})
	require.True(t, ok)
	assert.True(t, o.Learned)
	assert.Len(t, o.Modules[0].Activities, 2)
	_, ok = learning.Learn(o, "m", "M", learning.Activity{ID: "b"})
	assert.False(t, ok)
	_, ok = learning.Learn(outline, "m", "M", learning.Activity{ID: "new"})
	assert.False(t, ok, "an outline that was given is left alone")
}

func TestVerbs(t *testing.T) {
	v := learning.NewVerbs([]learning.VerbRule{
		{Verb: "https://x.example/read", Says: learning.Completed},
		{Verb: "http://adlnet.gov/expapi/verbs/completed", Type: "https://x.example/exam", Says: learning.Touched},
	})
	for _, c := range []struct {
		verb, kind string
		want       learning.Verb
	}{
		{"http://adlnet.gov/expapi/verbs/completed", "", learning.Completed},
		{"http://adlnet.gov/expapi/verbs/completed", "https://x.example/exam", learning.Touched},
		{"https://x.example/read", "anything", learning.Completed},
		{"https://x.example/sang", "", ""},
	} {
		got, ok := v.Meaning(c.verb, c.kind)
		assert.Equal(t, c.want, got)
		assert.Equal(t, c.want != "", ok)
	}
	for _, r := range [][]learning.VerbRule{
		{{Verb: "no", Says: "completed"}},
		{{Verb: "a:b", Says: "sang"}},
		{{Verb: "a:b", Says: "passed"}, {Verb: "a:b", Says: "failed"}},
	} {
		assert.ErrorIs(t, learning.CheckVerbs(r), learning.ErrVerb)
	}
}

// A new outline says of everybody exactly what becomes done and what becomes open.
func TestReoutlineSaysWhatChanges_E2(t *testing.T) {
	all := []string{"a1", "a2", "a3", "a4"}
	draw := rapid.Custom(func(t *rapid.T) learning.Outline {
		var o learning.Outline
		for i, id := range []string{"m1", "m2"} {
			m := learning.Module{ID: id}
			for _, a := range all {
				if rapid.IntRange(0, 2).Draw(t, "in") == i {
					m.Activities = append(m.Activities,
						learning.Activity{ID: a, Kind: learning.Lesson, Optional: rapid.Bool().Draw(t, "optional")})
				}
			}
			o.Modules = append(o.Modules, m)
		}
		return o
	})
	rapid.Check(t, func(t *rapid.T) {
		before, after := draw.Draw(t, "before"), draw.Draw(t, "after")
		s := learning.State{}
		for _, id := range rapid.SliceOfDistinct(rapid.SampledFrom(all), rapid.ID[string]).Draw(t, "done") {
			s, _ = advance(before, s, learning.Fact{ActivityID: id, Verb: learning.Completed})
		}
		derived := learning.Reoutline(before, after, s)
		has := func(d learning.Derived) bool {
			for _, x := range derived {
				if x == d {
					return true
				}
			}
			return false
		}
		was, is := learning.CourseDone(before, s), learning.CourseDone(after, s)
		if has(learning.Derived{Kind: learning.CourseReopened}) != (was && !is) ||
			has(learning.Derived{Kind: learning.CourseCompleted}) != (!was && is) {
			t.Fatalf("course %v, then %v: %v", was, is, derived)
		}
		for i, m := range after.Modules {
			was, is := learning.ModuleDone(before.Modules[i], s), learning.ModuleDone(m, s)
			if has(learning.Derived{Kind: learning.ModuleReopened, ModuleID: m.ID}) != (was && !is) ||
				has(learning.Derived{Kind: learning.ModuleCompleted, ModuleID: m.ID}) != (!was && is) {
				t.Fatalf("module %s %v, then %v: %v", m.ID, was, is, derived)
			}
		}
		if len(learning.Reoutline(before, before, s)) != 0 {
			t.Fatal("the same outline changes nothing")
		}
	})
}
