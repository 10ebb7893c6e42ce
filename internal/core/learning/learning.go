// Package learning works out progress from activity facts and a course outline.
//
//	state, derived := learning.Advance(outline, learning.State{}, fact)
//	for _, d := range derived {
//		fmt.Println(d.Kind, d.ModuleID)
//	}
//
// Facts may arrive in any order and any number of times: the same set of facts
// gives the same state, and over all calls the same set of derived facts.
package learning

import (
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"
)

// Kind is what an activity is.
type Kind string

// The activity kinds.
const (
	Lesson     Kind = "lesson"     // done when completed
	Assessment Kind = "assessment" // done when passed
	Assignment Kind = "assignment" // done when completed or passed
)

// Activity is one thing to do.
type Activity struct {
	// ID is the IRI under which the activity's statements arrive.
	ID       string `json:"id" minLength:"1"`
	Title    string `json:"title"`
	Kind     Kind   `json:"kind" enum:"lesson,assessment,assignment"`
	Optional bool   `json:"optional,omitempty" doc:"Does not count towards its module"`
}

// Module is a group of activities.
type Module struct {
	ID         string     `json:"id" minLength:"1"`
	Title      string     `json:"title"`
	Activities []Activity `json:"activities"`
}

// Outline is what a course consists of.
type Outline struct {
	Modules []Module `json:"modules"`
}

// ErrOutline is wrapped by every error of Check.
var ErrOutline = errors.New("outline cannot be used")

// Check reports the first thing that makes an outline unusable: a missing or
// doubled id, an unknown kind, or nothing to do at all.
func (o Outline) Check() error {
	seen := map[string]bool{}
	activities := 0
	for i, m := range o.Modules {
		if strings.TrimSpace(m.ID) == "" {
			return fmt.Errorf("%w: module %d has no id", ErrOutline, i+1)
		}
		if seen["m:"+m.ID] {
			return fmt.Errorf("%w: two modules have the id %q", ErrOutline, m.ID)
		}
		seen["m:"+m.ID] = true
		for j, a := range m.Activities {
			switch {
			case strings.TrimSpace(a.ID) == "":
				return fmt.Errorf("%w: activity %d of module %q has no id", ErrOutline, j+1, m.ID)
			case seen["a:"+a.ID]:
				return fmt.Errorf("%w: two activities have the id %q", ErrOutline, a.ID)
			case a.Kind != Lesson && a.Kind != Assessment && a.Kind != Assignment:
				return fmt.Errorf("%w: activity %q has the kind %q; use lesson, assessment or assignment", ErrOutline, a.ID, a.Kind)
			}
			seen["a:"+a.ID] = true
			activities++
		}
	}
	if activities == 0 {
		return fmt.Errorf("%w: it holds no activity", ErrOutline)
	}
	return nil
}

// Find returns the activity with the given id and its module.
func (o Outline) Find(activityID string) (Module, Activity, bool) {
	for _, m := range o.Modules {
		for _, a := range m.Activities {
			if a.ID == activityID {
				return m, a, true
			}
		}
	}
	return Module{}, Activity{}, false
}

// Verb is what a fact says about an activity.
type Verb string

// The verbs. Others are ignored.
const (
	Launched  Verb = "launched"
	Completed Verb = "completed"
	Passed    Verb = "passed"
	Failed    Verb = "failed"
)

// Fact is one report about one person and one activity.
type Fact struct {
	ActivityID string
	Verb       Verb
	// Score is scaled from -1 to 1 (xAPI 1.0.3, 4.1.5.1); nil when there is none.
	Score *float64
	At    time.Time
}

// ActivityState holds only what a set of facts determines in any order.
type ActivityState struct {
	First     time.Time `json:"first"`
	Last      time.Time `json:"last"`
	Completed bool      `json:"completed,omitempty"`
	Passed    bool      `json:"passed,omitempty"`
	Failed    bool      `json:"failed,omitempty"`
	Best      *float64  `json:"best,omitempty"`
}

// State is one person's progress in one section.
type State struct {
	Activities map[string]ActivityState `json:"activities"`
}

// Derived is a fact that follows from progress.
type Derived struct {
	Kind     DerivedKind
	ModuleID string // for ModuleCompleted, ModuleReopened and ActivityReopened
	// ActivityID is for ActivityReopened.
	ActivityID string
	Percent    int // for ProgressCrossed
}

// DerivedKind names what followed.
type DerivedKind string

// The derived facts. ProgressCrossed comes once for each of Thresholds; what is
// reopened was done before, and no longer is.
const (
	ActivityReopened DerivedKind = "activity.reopened"
	ModuleReopened   DerivedKind = "module.reopened"
	CourseReopened   DerivedKind = "course.reopened"
	ModuleCompleted  DerivedKind = "module.completed"
	CourseCompleted  DerivedKind = "course.completed"
	ProgressCrossed  DerivedKind = "progress.crossed"
)

// Thresholds are the percentages whose crossing is reported.
var Thresholds = []int{25, 50, 75, 100}

// Advance adds one fact to a state. It returns the new state (the old one is
// left as it was) and what follows from the fact, in the order progress,
// module, course. Facts about activities outside the outline are kept, so that
// a later outline can count them, and nothing follows from them.
func Advance(outline Outline, state State, fact Fact) (State, []Derived) {
	next := State{Activities: maps.Clone(state.Activities)}
	if next.Activities == nil {
		next.Activities = map[string]ActivityState{}
	}
	next.Activities[fact.ActivityID] = next.Activities[fact.ActivityID].with(fact)
	return next, follows(outline, state, next)
}

// Recount works one activity out anew from all facts about it that still hold, as
// after one of them was withdrawn. It gives what is open again, innermost first, and
// then what follows as Advance would say it.
func Recount(outline Outline, state State, activityID string, facts []Fact) (State, []Derived) {
	next := State{Activities: maps.Clone(state.Activities)}
	if next.Activities == nil {
		next.Activities = map[string]ActivityState{}
	}
	delete(next.Activities, activityID)
	for _, f := range facts {
		next.Activities[activityID] = next.Activities[activityID].with(f)
	}
	return next, append(reopened(outline, state, next), follows(outline, state, next)...)
}

func reopened(o Outline, before, after State) []Derived {
	var out []Derived
	for _, m := range o.Modules {
		for _, a := range m.Activities {
			if Done(a, before) && !Done(a, after) {
				out = append(out, Derived{Kind: ActivityReopened, ModuleID: m.ID, ActivityID: a.ID})
			}
		}
		if ModuleDone(m, before) && !ModuleDone(m, after) {
			out = append(out, Derived{Kind: ModuleReopened, ModuleID: m.ID})
		}
	}
	if CourseDone(o, before) && !CourseDone(o, after) {
		out = append(out, Derived{Kind: CourseReopened})
	}
	return out
}

func (a ActivityState) with(f Fact) ActivityState {
	if a.First.IsZero() || f.At.Before(a.First) {
		a.First = f.At
	}
	if f.At.After(a.Last) {
		a.Last = f.At
	}
	switch f.Verb {
	case Completed:
		a.Completed = true
	case Passed:
		a.Passed = true
	case Failed:
		a.Failed = true
	}
	if f.Score != nil && (a.Best == nil || *f.Score > *a.Best) {
		best := *f.Score
		a.Best = &best
	}
	return a
}

func follows(o Outline, before, after State) []Derived {
	var out []Derived
	was, is := Percent(o, before), Percent(o, after)
	for _, n := range Thresholds {
		if was < n && is >= n {
			out = append(out, Derived{Kind: ProgressCrossed, Percent: n})
		}
	}
	for _, m := range o.Modules {
		if !ModuleDone(m, before) && ModuleDone(m, after) {
			out = append(out, Derived{Kind: ModuleCompleted, ModuleID: m.ID})
		}
	}
	if !CourseDone(o, before) && CourseDone(o, after) {
		out = append(out, Derived{Kind: CourseCompleted})
	}
	return out
}

// LastActivity is when the latest fact of a state happened, zero when there is none.
func LastActivity(s State) (last time.Time) {
	for _, a := range s.Activities {
		if a.Last.After(last) {
			last = a.Last
		}
	}
	return last
}

// Done reports whether the activity counts as finished.
func Done(a Activity, s State) bool {
	as := s.Activities[a.ID]
	return as.Passed || as.Completed && a.Kind != Assessment
}

// counted are the activities that make up a module: the required ones, or all
// of them when every one is optional.
func counted(m Module) []Activity {
	var required []Activity
	for _, a := range m.Activities {
		if !a.Optional {
			required = append(required, a)
		}
	}
	if len(required) == 0 {
		return m.Activities
	}
	return required
}

// ModuleDone reports whether every activity that counts is done. A module
// without activities is never done: there is nothing to finish.
func ModuleDone(m Module, s State) bool {
	activities := counted(m)
	for _, a := range activities {
		if !Done(a, s) {
			return false
		}
	}
	return len(activities) > 0
}

// CourseDone reports whether every module that has activities is done.
func CourseDone(o Outline, s State) bool {
	any := false
	for _, m := range o.Modules {
		if len(m.Activities) == 0 {
			continue
		}
		if !ModuleDone(m, s) {
			return false
		}
		any = true
	}
	return any
}

// Percent is the share of counted activities that are done, 0 to 100, rounded
// down so that 100 means finished.
func Percent(o Outline, s State) int {
	done, total := 0, 0
	for _, m := range o.Modules {
		for _, a := range counted(m) {
			total++
			if Done(a, s) {
				done++
			}
		}
	}
	if total == 0 {
		return 0
	}
	return done * 100 / total
}
