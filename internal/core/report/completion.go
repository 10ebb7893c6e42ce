package report

import (
	"cmp"
	"slices"

	"kanban/internal/core/learning"
)

// Standing says how many learners of a group stand alike in a course.
type Standing struct {
	Group   string            // a section, say
	Version int               // of the outline by which Bits are
	Bits    learning.DoneBits // what they have done
	Begun   bool              // they did something
	Done    bool              // they finished the course
	Still   bool              // unfinished, and nothing was done for a while
	Left    bool              // they are not in the group any more
	Count   int
}

// Step is a part of the way through a course.
type Step struct {
	Key   string // what it is: two may have one title
	Title string
	Came  int // so many came this far
	Stand int // so many of them stand here: this is the first thing that they have not finished
	Still int // of those who stand here, so many have done nothing for a while
}

// Way is how far the learners of a group have come in a course. Who left is counted in Left alone.
type Way struct {
	Group    string // what it is: two may have one title
	Title    string
	Learners int
	Begun    int
	Done     int
	Still    int
	Left     int
	Steps    []Step // one for each module that counts, in the outline's order
}

// NotBegun are those who have done nothing yet.
func (w Way) NotBegun() int { return w.Learners - w.Begun }

// Under is how many are under way: begun, not done, not still.
func (w Way) Under() int { return w.Begun - w.Done - w.begunStill() }

// begunStill are those of Still who began.
func (w Way) begunStill() (n int) {
	for _, s := range w.Steps {
		n += s.Still
	}
	return n
}

// StoppedThere is the step where most of those stand who have done nothing for a while; ok is false when
// there is nobody.
func (w Way) StoppedThere() (worst Step, ok bool) {
	for _, s := range w.Steps {
		if s.Still > worst.Still {
			worst, ok = s, true
		}
	}
	return worst, ok
}

// add counts learners who stand alike.
func (w *Way) add(s Standing, first int, finished []bool) {
	if s.Left {
		w.Left += s.Count
		return
	}
	w.Learners += s.Count
	if s.Begun {
		w.Begun += s.Count
	}
	if s.Done {
		w.Done += s.Count
	}
	still := s.Still && !s.Done
	if still {
		w.Still += s.Count
	}
	for i := range w.Steps {
		if finished[i] {
			w.Steps[i].Came += s.Count
		}
	}
	if !s.Begun || s.Done || first < 0 {
		return
	}
	w.Steps[first].Stand += s.Count
	if still {
		w.Steps[first].Still += s.Count
	}
}

// Follow counts how far the learners of each group have come in a course, by its present outline.
// versions are the outlines by which the standings are, the present one too. The groups come in the order in
// which they are met first.
func Follow(present learning.Outline, versions map[int]*learning.Course, all []Standing) []Way {
	var counted []learning.Module
	for _, m := range present.Modules {
		if m.Counts() {
			counted = append(counted, m)
		}
	}
	at := map[string]int{}
	var ways []Way
	for _, s := range all {
		i, there := at[s.Group]
		if !there {
			i = len(ways)
			at[s.Group] = i
			w := Way{Group: s.Group}
			for _, m := range counted {
				w.Steps = append(w.Steps, Step{Key: m.ID, Title: m.Title})
			}
			ways = append(ways, w)
		}
		finished, first := make([]bool, len(counted)), -1
		course := versions[s.Version]
		for k, m := range counted {
			finished[k] = course != nil && course.ModuleDone(s.Bits, m.ID)
			if !finished[k] && first < 0 {
				first = k
			}
		}
		ways[i].add(s, first, finished)
	}
	return ways
}

// Together adds ways up, step by step; the steps come in the order in which they are met first.
func Together(group, title string, ways []Way) Way {
	sum, at := Way{Group: group, Title: title}, map[string]int{}
	for _, w := range ways {
		sum.Learners += w.Learners
		sum.Begun += w.Begun
		sum.Done += w.Done
		sum.Still += w.Still
		sum.Left += w.Left
		for _, s := range w.Steps {
			i, there := at[s.Key]
			if !there {
				i = len(sum.Steps)
				at[s.Key] = i
				sum.Steps = append(sum.Steps, Step{Key: s.Key, Title: s.Title})
			}
			sum.Steps[i].Came += s.Came
			sum.Steps[i].Stand += s.Stand
			sum.Steps[i].Still += s.Still
		}
	}
	return sum
}

// Funnel is the way through a course step by step, each with how many came so far.
func (w Way) Funnel() Part {
	columns := []Column{
		{"Step", Text}, {"Came this far", Count}, {"Of all", Share}, {"Stand here", Count}, {"Stopped here", Count},
	}
	rows := []Row{
		{"In the course", w.Learners, Ratio(w.Learners, w.Learners), w.NotBegun(), w.Still - w.begunStill()},
		{"Began", w.Begun, Ratio(w.Begun, w.Learners), nil, nil},
	}
	for _, s := range w.Steps {
		rows = append(rows, Row{s.Title, s.Came, Ratio(s.Came, w.Learners), s.Stand, s.Still})
	}
	rows = append(rows, Row{"Finished the course", w.Done, Ratio(w.Done, w.Learners), nil, nil})
	chart := Chart{Kind: Bars, Series: []Series{
		{Title: "Came this far", Tone: Done}, {Title: "Stand here", Tone: Open}, {Title: "Stopped here", Tone: Bad},
	}}
	for i, r := range rows {
		chart.Labels = append(chart.Labels, r[0].(string))
		came, _ := r[1].(int)
		stand, _ := r[3].(int)
		still, _ := r[4].(int)
		if i == 0 {
			came -= stand // whoever has not begun came no farther
		}
		for i, v := range []int{came, stand - still, still} {
			chart.Series[i].Values = append(chart.Series[i].Values, float64(v))
		}
	}
	return Table("The way through the course", "Nobody is in it.", columns, rows, &chart)
}

// Groups compares groups; spans are the days that it took those who finished, by group.
func Groups(title, noun string, ways []Way, spans map[string][]float64) Part {
	columns := []Column{
		{noun, Text},
		{"Learners", Count},
		{"Not begun", Count},
		{"Under way", Count},
		{"Stopped", Count},
		{"Finished", Count},
		{"Finished of all", Share},
		{"Left", Count},
		{"25 % took", Days},
		{"Half took", Days},
		{"75 % took", Days},
		{"Most stop at", Text},
	}
	var rows []Row
	chart := Chart{Kind: Bars, Series: []Series{
		{Title: "Finished", Tone: Done},
		{Title: "Under way", Tone: Open},
		{Title: "Stopped", Tone: Bad},
		{Title: "Not begun", Tone: Rest},
	}}
	for _, w := range ways {
		q, ok := QuartilesOf(slices.Clone(spans[w.Group]))
		row := Row{
			w.Title, w.Learners, w.NotBegun(), w.Under(), w.begunStill(), w.Done, Ratio(w.Done, w.Learners), w.Left,
		}
		row = append(row, q.Cells(ok)...)
		worst := any(nil)
		if s, some := w.StoppedThere(); some {
			worst = s.Title
		}
		rows = append(rows, append(row, worst))
		chart.Labels = append(chart.Labels, w.Title)
		for i, v := range []int{w.Done, w.Under(), w.begunStill(), w.NotBegun()} {
			chart.Series[i].Values = append(chart.Series[i].Values, float64(v))
		}
	}
	return Table(title, "There is no group with learners.", columns, rows, &chart)
}

// ByFinished orders ways by the share that finished, the lowest first.
func ByFinished(ways []Way) {
	slices.SortStableFunc(ways, func(a, b Way) int {
		return cmp.Compare(float64(a.Done)*float64(max(b.Learners, 1)), float64(b.Done)*float64(max(a.Learners, 1)))
	})
}
