package report_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/learning"
	"kanban/internal/core/report"
)

func Example() {
	fmt.Println(report.Of(1, "learner", "learners"), report.Percent(199, 200), report.Share.Say(0.004, time.UTC))
	// Output: 1 learner > 99 % < 1 %
}

// outline has modules of two activities each, the last of them optional.
func outline(modules int) learning.Outline {
	var o learning.Outline
	for m := range modules {
		x := learning.Module{ID: fmt.Sprint("m", m), Title: fmt.Sprint("Module ", m), Optional: m == modules-1 &&
			m > 0}
		for a := range 2 {
			x.Activities = append(x.Activities, learning.Activity{
				ID: fmt.Sprintf("m%d-a%d", m, a), Title: "A", Kind: learning.Lesson,
			})
		}
		o.Modules = append(o.Modules, x)
	}
	return o
}

// What is counted from standings is what is counted person by person, by another way: from what each did.
func TestFollowCountsWhatPeopleDid(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		o := outline(rapid.IntRange(1, 4).Draw(t, "modules"))
		course := learning.NewCourse(o)
		people := rapid.IntRange(0, 30).Draw(t, "people")
		var all []report.Standing
		var learners, begun, done, still int
		came, stand, stopped := map[string]int{}, map[string]int{}, map[string]int{}
		for range people {
			state := learning.State{Activities: map[string]learning.ActivityState{}}
			for _, m := range o.Modules {
				for _, a := range m.Activities {
					if rapid.Bool().Draw(t, "did") {
						state.Activities[a.ID] = learning.ActivityState{Completed: true}
					}
				}
			}
			s := report.Standing{
				Group: "g", Version: 1, Bits: course.DoneBits(state), Begun: len(state.Activities) > 0,
				Done: learning.CourseDone(o, state), Still: rapid.Bool().Draw(t, "still"), Count: 1,
			}
			if s.Left = rapid.IntRange(0, 4).Draw(t, "left") == 0; !s.Left {
				learners++
				if s.Begun {
					begun++
				}
				if s.Done {
					done++
				}
				if s.Still && !s.Done {
					still++
				}
				first := ""
				for _, m := range o.Modules {
					switch {
					case !m.Counts():
					case learning.ModuleDone(m, state):
						came[m.Title]++
					case first == "":
						first = m.Title
					}
				}
				if s.Begun && !s.Done {
					stand[first]++
					if s.Still {
						stopped[first]++
					}
				}
			}
			all = append(all, s)
		}
		rand.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		ways := report.Follow(o, map[int]*learning.Course{1: course}, all)
		if people == 0 {
			require.Empty(t, ways)
			return
		}
		w := report.Together("g", "G", ways)
		require.Equal(t, []int{learners, begun, done, still, people - learners},
			[]int{w.Learners, w.Begun, w.Done, w.Still, w.Left})
		for _, s := range w.Steps {
			require.Equal(t, report.Step{
				Key: s.Key, Title: s.Title, Came: came[s.Title], Stand: stand[s.Title],
				Still: stopped[s.Title],
			}, s)
		}
		sum := w.Done + w.NotBegun() + w.Under()
		for _, n := range stopped {
			sum += n
		}
		require.Equal(t, learners, sum, "everybody is in one of four groups")
	})
}

func TestStandingByAnEarlierOutline(t *testing.T) {
	before, now := outline(2), outline(3)
	old := learning.NewCourse(before)
	bits := old.DoneBits(learning.State{Activities: map[string]learning.ActivityState{
		"m0-a0": {Completed: true}, "m0-a1": {Completed: true},
	}})
	ways := report.Follow(now, map[int]*learning.Course{1: old, 2: learning.NewCourse(now)}, []report.Standing{
		{Group: "g", Version: 1, Bits: bits, Begun: true, Count: 3},
		{Group: "g", Version: 9, Bits: bits, Begun: true, Count: 2},
	})
	assert.Equal(t, []report.Step{
		{Key: "m0", Title: "Module 0", Came: 3, Stand: 2}, {Key: "m1", Title: "Module 1", Stand: 3},
	},
		ways[0].Steps,
		"by a version that nobody has any more nothing is finished")
}

func TestQuartiles(t *testing.T) {
	for _, c := range []struct {
		values []float64
		want   report.Quartiles
	}{
		{[]float64{4}, report.Quartiles{Lower: 4, Median: 4, Upper: 4}},
		{[]float64{3, 1}, report.Quartiles{Lower: 1.5, Median: 2, Upper: 2.5}},
		{[]float64{5, 1, 3, 2, 4}, report.Quartiles{Lower: 2, Median: 3, Upper: 4}},
	} {
		q, ok := report.QuartilesOf(slices.Clone(c.values))
		assert.True(t, ok)
		assert.Equal(t, c.want, q)
	}
	_, ok := report.QuartilesOf(nil)
	assert.False(t, ok)
}

func TestCellsAreReadByPeopleAndPrograms(t *testing.T) {
	at := time.Date(2026, 10, 25, 0, 30, 0, 0, time.UTC)
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	for _, c := range []struct {
		unit     report.Unit
		cell     any
		say, raw string
	}{
		{report.Text, "Ada", "Ada", "Ada"},
		{report.Count, 12, "12", "12"},
		{report.Count, nil, "", ""},
		{report.Share, 0.0, "0 %", "0"},
		{report.Share, 0.005, "< 1 %", "0.005"},
		{report.Share, 0.5, "50 %", "0.5"},
		{report.Share, 0.996, "> 99 %", "0.996"},
		{report.Share, 1.0, "100 %", "1"},
		{report.Days, 0.5, "12 h", "0.5"},
		{report.Days, 9.04, "9.0 d", "9.04"},
		{report.Span, 12.4, "12 ms", "12.4"},
		{report.Day, "2026-10-25", "25 Oct 2026", "2026-10-25"},
		{report.Day, "2026-10", "October 2026", "2026-10"},
		{report.Day, "soon", "soon", "soon"},
		{report.Time, at, "25 Oct 2026 02:30", "2026-10-25T00:30:00Z"},
		{report.Time, at.Add(time.Hour), "25 Oct 2026 02:30", "2026-10-25T01:30:00Z"}, // the hour that comes twice
	} {
		assert.Equal(t, c.say, c.unit.Say(c.cell, berlin))
		assert.Equal(t, c.raw, c.unit.Raw(c.cell))
	}
	assert.Equal(t, "none", report.Percent(0, 0))
	assert.Nil(t, report.Ratio(0, 0))
}

func TestFunnelAndGroups(t *testing.T) {
	ways := []report.Way{
		{
			Group: "A", Title: "A", Learners: 10, Begun: 6, Done: 2, Still: 3, Left: 1,
			Steps: []report.Step{{"1", "One", 4, 2, 1}, {"2", "Two", 2, 2, 1}},
		},
		{
			Group: "B", Title: "B", Learners: 4, Begun: 4, Done: 4,
			Steps: []report.Step{{"1", "One", 4, 0, 0}, {"2", "Two", 4, 0, 0}},
		},
		{Group: "C", Title: "C"},
	}
	report.ByFinished(ways)
	p := report.Groups("By section", "Section", ways, map[string][]float64{"B": {1, 2, 3}})
	var rows []report.Row
	for r, err := range p.Rows {
		require.NoError(t, err)
		rows = append(rows, r)
	}
	assert.Equal(t, 3, p.Total)
	assert.Equal(t, report.Row{"C", 0, 0, 0, 0, 0, nil, 0, nil, nil, nil, nil}, rows[0])
	assert.Equal(t, report.Row{"A", 10, 4, 2, 2, 2, 0.2, 1, nil, nil, nil, "One"}, rows[1])
	assert.Equal(t, report.Row{"B", 4, 0, 0, 0, 4, 1.0, 0, 1.5, 2.0, 2.5, nil}, rows[2])
	f := report.Together("", "", ways).Funnel()
	assert.Equal(t, 14.0, f.Chart.Most())
	assert.Equal(t, []string{"In the course", "Began", "One", "Two", "Finished the course"}, f.Chart.Labels)
	assert.Equal(t, []float64{10, 10, 8, 6, 6}, f.Chart.Series[0].Values)
	assert.Equal(t, []float64{1, 0, 1, 1, 0}, f.Chart.Series[2].Values, "3 who stopped, one before beginning")
	assert.Nil(t, report.Table("x", "", nil, nil, &report.Chart{}).Chart)
}

func TestAges(t *testing.T) {
	now := time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC)
	var a report.Ages
	for _, days := range []int{0, 6, 7, 29, 30, 400} {
		at := now.AddDate(0, 0, -days)
		a.Add(1, &at, now)
	}
	a.Add(3, nil, now)
	assert.Equal(t, []any{2, 2, 2, 3, now.AddDate(0, 0, -400)}, a.Cells())
	assert.Equal(t, 9, a.All())
	assert.Equal(t, []any{0, 0, 0, 0, nil}, (&report.Ages{}).Cells())
	assert.Len(t, report.AgeColumns, len(a.Cells()))
}
