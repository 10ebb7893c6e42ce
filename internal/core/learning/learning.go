// Package learning works out progress from activity facts and a course outline.
//
//	course := learning.NewCourse(outline)
//	done, activity, derived := course.Advance(learning.DoneBits{}, learning.ActivityState{}, fact)
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
	"slices"
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
	// PassMark is the scaled score from which it is passed; the platform's own word
	// counts when there is none, or when it reports no score.
	PassMark *float64 `json:"passMark,omitempty" minimum:"-1" maximum:"1" doc:"Scaled score, -1 to 1, from which it is passed; the platform's own word counts when absent"`
	// Activities are nested in it: it is done when it is done itself and those of
	// them that are required are.
	Activities []Activity `json:"activities,omitempty" doc:"What is nested in it, such as a quiz in a lesson"`
	// DoneByInside is for a lesson that requires nothing but what is inside it, its quiz
	// say: that completes it, and nothing has to be reported of the lesson itself.
	DoneByInside bool `json:"doneByInside,omitempty" doc:"It is done by what is required of what is inside it; nothing has to be reported of itself"`
}

// holds reports whether the activity is done by what is inside it alone.
func (a Activity) holds() bool {
	return a.DoneByInside && slices.ContainsFunc(a.Activities, func(n Activity) bool { return !n.Optional })
}

// Module is a group of activities.
type Module struct {
	ID         string     `json:"id" minLength:"1"`
	Title      string     `json:"title"`
	Activities []Activity `json:"activities"`
	Optional   bool       `json:"optional,omitempty" doc:"Does not count towards the course; neither does a module whose activities are all optional"`
}

// Outline is what a course consists of.
type Outline struct {
	Modules []Module `json:"modules"`
	// Learned marks an outline that was put together from what was reported, because
	// nobody gave one.
	Learned bool `json:"learned,omitempty" doc:"Put together from what was reported, because nobody gave one"`
	// Percentages are those of the course whose crossing is an event, ascending.
	Percentages []int `json:"percentages,omitempty" maxItems:"20" doc:"The percentages of the course, 1 to 100, whose crossing is an event; 25, 50, 75 and 100 when there are none"`
}

// Crossings are the percentages whose crossing is reported.
func (o Outline) Crossings() []int {
	if len(o.Percentages) == 0 {
		return Usual
	}
	return o.Percentages
}

// Usual are the percentages whose crossing is reported where an outline names none.
var Usual = []int{25, 50, 75, 100}

// each calls f for an activity and all that are nested in it, the innermost first.
// counts is whether it and all that hold it are required.
func each(list []Activity, required bool, f func(a Activity, counts bool)) {
	for _, a := range list {
		counts := required && !a.Optional
		each(a.Activities, counts, f)
		f(a, counts)
	}
}

// All lists the activities of the module, nested ones included, the innermost first.
func (m Module) All() (all []Activity) {
	each(m.Activities, true, func(a Activity, _ bool) { all = append(all, a) })
	return all
}

// ErrOutline is wrapped by every error of Check.
var ErrOutline = errors.New("outline cannot be used")

// Check reports the first thing that makes an outline unusable: a missing or
// doubled id, an unknown kind, what could never be done, or nothing to do at all.
func (o Outline) Check() error {
	seen := map[string]bool{}
	activities, required := 0, 0
	for i, m := range o.Modules {
		if strings.TrimSpace(m.ID) == "" {
			return fmt.Errorf("%w: module %d has no id", ErrOutline, i+1)
		}
		if seen["m:"+m.ID] {
			return fmt.Errorf("%w: two modules have the id %q", ErrOutline, m.ID)
		}
		seen["m:"+m.ID] = true
		if depth(m.Activities) > maxDepth {
			return fmt.Errorf("%w: the activities of module %q are nested more than %d deep", ErrOutline, m.ID,
				maxDepth)
		}
		for j, a := range m.All() {
			switch {
			case strings.TrimSpace(a.ID) == "":
				return fmt.Errorf("%w: activity %d of module %q has no id", ErrOutline, j+1, m.ID)
			case seen["a:"+a.ID]:
				return fmt.Errorf("%w: two activities have the id %q", ErrOutline, a.ID)
			case a.Kind != Lesson && a.Kind != Assessment && a.Kind != Assignment:
				return fmt.Errorf("%w: activity %q has the kind %q; use lesson, assessment or assignment", ErrOutline,
					a.ID, a.Kind)
			case a.PassMark != nil && (*a.PassMark < -1 || *a.PassMark > 1):
				return fmt.Errorf("%w: the pass mark of %q is %v; it lies between -1 and 1, so 60 %% is 0.6",
					ErrOutline, a.ID, *a.PassMark)
			case a.DoneByInside && !a.holds():
				return fmt.Errorf("%w: %q is to be done by what is inside it, and nothing inside it is required",
					ErrOutline, a.ID)
			}
			seen["a:"+a.ID] = true
			activities++
		}
		if m.Counts() {
			required++
		}
	}
	for i, n := range o.Percentages {
		if n < 1 || n > 100 || i > 0 && n <= o.Percentages[i-1] {
			return fmt.Errorf("%w: percentages lie between 1 and 100 and rise, as in 10, 50, 100", ErrOutline)
		}
	}
	switch {
	case activities == 0:
		return fmt.Errorf("%w: it holds no activity", ErrOutline)
	case activities > maxActivities:
		return fmt.Errorf("%w: it holds %d activities, more than %d", ErrOutline, activities, maxActivities)
	case required == 0:
		return fmt.Errorf("%w: everything in it is optional, so that nobody could ever finish it; require at least one activity", ErrOutline)
	}
	return nil
}

// Bounds of an outline.
const (
	maxDepth      = 8
	maxActivities = 5_000
)

func depth(list []Activity) (n int) {
	for _, a := range list {
		n = max(n, 1+depth(a.Activities))
		if n > maxDepth {
			return n
		}
	}
	return n
}

// Find returns the activity with the given id and its module.
func (o Outline) Find(activityID string) (Module, Activity, bool) {
	for _, m := range o.Modules {
		for _, a := range m.All() {
			if a.ID == activityID {
				return m, a, true
			}
		}
	}
	return Module{}, Activity{}, false
}

// Verb is what a fact says about an activity.
type Verb string

// The verbs. Touched only says that somebody was at it.
const (
	Touched   Verb = "touched"
	Completed Verb = "completed"
	Passed    Verb = "passed"
	Failed    Verb = "failed"
	Scored    Verb = "scored"    // a pass or a fail by the activity's pass mark, if it has one
	Submitted Verb = "submitted" // handed in to be marked; it is not done by that
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
	First     time.Time
	Last      time.Time
	Completed bool
	Passed    bool
	Failed    bool
	Best      *float64
}

// Merge is what is known when both are: of two sections of a course, say. Nothing that was
// reached is lost.
func (a ActivityState) Merge(b ActivityState) ActivityState {
	if a.First.IsZero() || !b.First.IsZero() && b.First.Before(a.First) {
		a.First = b.First
	}
	if b.Last.After(a.Last) {
		a.Last = b.Last
	}
	if a.Best == nil || b.Best != nil && *b.Best > *a.Best {
		a.Best = b.Best
	}
	a.Completed, a.Passed, a.Failed = a.Completed || b.Completed, a.Passed || b.Passed, a.Failed || b.Failed
	return a
}

// State is everything that is known about one person's progress in one section.
type State struct {
	Activities map[string]ActivityState
}

// Derived is a fact that follows from progress.
type Derived struct {
	Kind     DerivedKind
	ModuleID string // for what is about modules and activities
	// ActivityID is for ActivityCompleted and ActivityReopened.
	ActivityID string
	Percent    int // for ProgressCrossed
}

// DerivedKind names what followed.
type DerivedKind string

// The derived facts. ProgressCrossed comes once for each of Outline.Crossings; what is
// reopened was done before, and no longer is.
const (
	ActivityReopened  DerivedKind = "activity.reopened"
	ModuleReopened    DerivedKind = "module.reopened"
	CourseReopened    DerivedKind = "course.reopened"
	ActivityCompleted DerivedKind = "activity.completed"
	ModuleCompleted   DerivedKind = "module.completed"
	CourseCompleted   DerivedKind = "course.completed"
	ProgressCrossed   DerivedKind = "progress.crossed"
)

// Recount works one activity out anew from all facts about it that still hold, as
// after one of them was withdrawn. It gives what is open again, innermost first, and
// then what follows as Course.Advance would say it. It looks at the whole outline.
func Recount(outline Outline, state State, activityID string, facts []Fact) (State, []Derived) {
	next := State{Activities: maps.Clone(state.Activities)}
	if next.Activities == nil {
		next.Activities = map[string]ActivityState{}
	}
	delete(next.Activities, activityID)
	for _, f := range facts {
		next.Activities[activityID] = next.Activities[activityID].with(f)
	}
	return next, derive(standing(outline, state), standing(outline, next), outline)
}

// Reoutline says what follows for one person when a course gets another outline: what
// is open again, and what is done by it. What only vanishes from the outline is
// neither.
func Reoutline(before, after Outline, state State) []Derived {
	return derive(standing(before, state), standing(after, state), after)
}

// stood is how far somebody has come by an outline.
type stood struct {
	activities, modules map[string]bool
	course              bool
	percent             int
	crossings           []int
}

func standing(o Outline, s State) stood {
	out := stood{
		activities: map[string]bool{}, modules: map[string]bool{}, course: CourseDone(o, s),
		percent: Percent(o, s), crossings: o.Crossings(),
	}
	for _, m := range o.Modules {
		for _, a := range m.All() {
			out.activities[a.ID] = Done(a, s)
		}
		out.modules[m.ID] = ModuleDone(m, s)
	}
	return out
}

// derive says what became different between two standings, by the outline that holds
// now.
func derive(was, is stood, o Outline) []Derived {
	var opened, done []Derived
	for _, m := range o.Modules {
		for _, a := range m.All() {
			switch {
			case was.activities[a.ID] && !is.activities[a.ID]:
				opened = append(opened, Derived{Kind: ActivityReopened, ModuleID: m.ID, ActivityID: a.ID})
			case !was.activities[a.ID] && is.activities[a.ID]:
				done = append(done, Derived{Kind: ActivityCompleted, ModuleID: m.ID, ActivityID: a.ID})
			}
		}
		if was.modules[m.ID] && !is.modules[m.ID] {
			opened = append(opened, Derived{Kind: ModuleReopened, ModuleID: m.ID})
		}
	}
	if was.course && !is.course {
		opened = append(opened, Derived{Kind: CourseReopened})
	}
	for _, n := range is.crossings {
		if (was.percent < n || !slices.Contains(was.crossings, n)) && is.percent >= n {
			done = append(done, Derived{Kind: ProgressCrossed, Percent: n})
		}
	}
	for _, m := range o.Modules {
		if !was.modules[m.ID] && is.modules[m.ID] {
			done = append(done, Derived{Kind: ModuleCompleted, ModuleID: m.ID})
		}
	}
	if !was.course && is.course {
		done = append(done, Derived{Kind: CourseCompleted})
	}
	return append(opened, done...)
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
	if f.Score != nil && f.Verb != Submitted && (a.Best == nil || *f.Score > *a.Best) {
		best := *f.Score
		a.Best = &best
	}
	return a
}

// FirstActivity is when the earliest fact of a state happened, zero when there is none.
func FirstActivity(s State) (first time.Time) {
	for _, a := range s.Activities {
		if first.IsZero() || a.First.Before(first) {
			first = a.First
		}
	}
	return first
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

// Verdict says whether a fact is a pass or a fail of an activity, by its pass mark
// where it has one and a score came; empty when it is neither.
func Verdict(a Activity, f Fact) Verb {
	if a.PassMark != nil && f.Score != nil && f.Verb != Touched && f.Verb != Submitted {
		if *f.Score >= *a.PassMark {
			return Passed
		}
		return Failed
	}
	if f.Verb == Passed || f.Verb == Failed {
		return f.Verb
	}
	return ""
}

// own reports whether the activity itself is done, whatever is nested in it.
func own(a Activity, as ActivityState) bool {
	if a.PassMark != nil && as.Best != nil {
		return *as.Best >= *a.PassMark
	}
	return as.Passed || as.Completed && a.Kind != Assessment && a.PassMark == nil
}

// Done reports whether the activity counts as finished, with what is required of what
// is nested in it.
func Done(a Activity, s State) bool {
	for _, n := range a.Activities {
		if !n.Optional && !Done(n, s) {
			return false
		}
	}
	return a.holds() || own(a, s.Activities[a.ID])
}

// Counts reports whether the module counts towards its course: it is required, and so is
// something in it.
func (m Module) Counts() bool {
	return !m.Optional && slices.ContainsFunc(m.Activities, func(a Activity) bool { return !a.Optional })
}

// counted are the activities that make up a module: the required ones in what is
// required, or all of them when every one is optional. What is done by what is inside it
// is not counted beside that.
func counted(m Module) []Activity {
	var required, all []Activity
	each(m.Activities, true, func(a Activity, counts bool) {
		if a.holds() {
			return
		}
		if all = append(all, a); counts {
			required = append(required, a)
		}
	})
	if len(required) == 0 {
		return all
	}
	return required
}

// ModuleDone reports whether every activity that counts is done. A module
// without activities is never done: there is nothing to finish.
func ModuleDone(m Module, s State) bool {
	activities := counted(m)
	for _, a := range activities {
		if !own(a, s.Activities[a.ID]) {
			return false
		}
	}
	return len(activities) > 0
}

// CourseDone reports whether every module that counts is done.
func CourseDone(o Outline, s State) bool {
	any := false
	for _, m := range o.Modules {
		if !m.Counts() {
			continue
		}
		if !ModuleDone(m, s) {
			return false
		}
		any = true
	}
	return any
}

// Percent is the share of the activities that count, in the modules that count, that are
// done, 0 to 100, rounded down so that 100 means finished.
func Percent(o Outline, s State) int {
	done, total := 0, 0
	for _, m := range o.Modules {
		if !m.Counts() {
			continue
		}
		for _, a := range counted(m) {
			total++
			if own(a, s.Activities[a.ID]) {
				done++
			}
		}
	}
	if total == 0 {
		return 0
	}
	return done * 100 / total
}
