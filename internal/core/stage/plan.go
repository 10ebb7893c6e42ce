// Package stage says how far somebody has come along ordered stages, each with
// criteria over modules, courses, badges and scores.
//
//	progress := p.ProgressOf(evidence)
//	reached, reopened := p.Changes(kept, progress)
//
// A stage is reached when all its criteria are met and every required stage before it is
// reached; in a plan in any order, when its criteria are. What an optional stage asks for
// never holds anybody up.
package stage

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Kind is what a criterion is about.
type Kind string

// The kinds of criteria.
const (
	Module   Kind = "module"   // it is completed
	Course   Kind = "course"   // it is completed
	Badge    Kind = "badge"    // the person holds it
	Score    Kind = "score"    // the best of an activity is high enough
	Approval Kind = "approval" // somebody has said that it is so
	All      Kind = "all"      // of some criteria, each
	Any      Kind = "any"      // at least one of them
	Some     Kind = "some"     // at least so many of them
)

// Kinds lists them in the order in which they are offered.
var Kinds = []Kind{Module, Course, Badge, Score, Approval, All, Any, Some}

// Groups reports whether a kind is about other criteria.
func (k Kind) Groups() bool { return k == All || k == Any || k == Some }

// Criterion is one thing that a stage asks for.
type Criterion struct {
	Kind Kind `json:"kind" enum:"module,course,badge,score,approval,all,any,some"`
	// CourseID is for modules, courses and scores.
	CourseID   string `json:"courseId,omitempty" doc:"For module, course and score: the course; the plan's own when absent"`
	ModuleID   string `json:"moduleId,omitempty" doc:"For module: its id in the course's outline"`
	ActivityID string `json:"activityId,omitempty" doc:"For score: the address under which the activity is reported"`
	// AtLeast is a scaled score (xAPI 1.0.3 Data 2.4.5.1).
	AtLeast float64 `json:"atLeast,omitempty" minimum:"-1" maximum:"1" doc:"For score: the least scaled score, so 80 % is 0.8"`
	BadgeID string  `json:"badgeId,omitempty" doc:"For badge: which one"`
	// What is to be approved, and the id by which approvals are kept.
	What       string `json:"what,omitempty" maxLength:"200" doc:"For approval: what somebody has to say"`
	ApprovalID string `json:"approvalId,omitempty" doc:"For approval: made when it is absent; keep it when the plan is edited, since approvals are kept by it"`
	// Of is for groups, which may hold groups.
	Of   []Criterion `json:"of,omitempty" doc:"For all, any and some: of what"`
	Need int         `json:"need,omitempty" minimum:"0" doc:"For some: how many of them"`
}

// Leaves gives a criterion, or those in a group and in the groups in it.
func (c Criterion) Leaves(yield func(Criterion) bool) {
	c.leaves(yield)
}

func (c Criterion) leaves(yield func(Criterion) bool) bool {
	if !c.Kind.Groups() {
		return yield(c)
	}
	for _, x := range c.Of {
		if !x.leaves(yield) {
			return false
		}
	}
	return true
}

// Stage is a part of a plan.
type Stage struct {
	ID       string      `json:"id,omitempty" doc:"Made when it is absent; keep it when the stage is edited, since who reached it is kept by it"`
	Title    string      `json:"title"`
	Optional bool        `json:"optional,omitempty" doc:"The stages after it can be reached without it"`
	Criteria []Criterion `json:"criteria"`
	BadgeID  string      `json:"badgeId,omitempty" doc:"A badge that is awarded to whoever reaches the stage"`
}

// Plan is a set of stages in a course, ordered unless it is in any order.
type Plan struct {
	CourseID string
	AnyOrder bool
	Stages   []Stage
}

// Bounds of a plan.
const (
	mostStages   = 50
	mostCriteria = 20 // of a stage or a group
	mostDepth    = 4  // of groups in groups
)

// ErrPlan is wrapped by every error of Check.
var ErrPlan = errors.New("stage plan cannot be used")

// Check reports the first thing that makes a plan unusable in itself; what it
// refers to is not looked at.
func (p Plan) Check() error {
	if len(p.Stages) == 0 || len(p.Stages) > mostStages {
		return fmt.Errorf("%w: it has %d stages; have 1 to %d", ErrPlan, len(p.Stages), mostStages)
	}
	titles, ids := map[string]bool{}, map[string]bool{}
	required := 0
	for i, s := range p.Stages {
		title := strings.ToLower(strings.TrimSpace(s.Title))
		switch {
		case title == "":
			return fmt.Errorf("%w: stage %d has no title", ErrPlan, i+1)
		case titles[title]:
			return fmt.Errorf("%w: two stages are called %q", ErrPlan, s.Title)
		case s.ID != "" && ids[s.ID]:
			return fmt.Errorf("%w: two stages have the id %q", ErrPlan, s.ID)
		case len(s.Criteria) == 0:
			return fmt.Errorf("%w: stage %q asks for nothing, so everybody would reach it at once", ErrPlan, s.Title)
		case len(s.Criteria) > mostCriteria:
			return fmt.Errorf("%w: stage %q has %d criteria, more than %d", ErrPlan, s.Title, len(s.Criteria),
				mostCriteria)
		}
		for _, c := range s.Criteria {
			if err := c.check(s, 1); err != nil {
				return err
			}
		}
		if !s.Optional {
			required++
		}
		titles[title], ids[s.ID] = true, true
	}
	if required == 0 {
		return fmt.Errorf("%w: every stage is optional, so everybody would have finished at once", ErrPlan)
	}
	return nil
}

// CheckAll reports the first thing that makes criteria unusable that belong to no plan: each
// names its course, and nobody approves them. What they refer to is not looked at.
func CheckAll(of string, all []Criterion) error {
	if len(all) > mostCriteria {
		return fmt.Errorf("%w: %q has %d criteria, more than %d", ErrPlan, of, len(all), mostCriteria)
	}
	for _, c := range all {
		if err := c.check(Stage{Title: of}, 1); err != nil {
			return err
		}
		for leaf := range c.Leaves {
			switch {
			case leaf.Kind == Approval:
				return fmt.Errorf("%w: %q asks for an approval; whoever awards it by hand approves it", ErrPlan, of)
			case leaf.Kind != Badge && leaf.CourseID == "":
				return fmt.Errorf("%w: a criterion of %q does not say of which course", ErrPlan, of)
			}
		}
	}
	return nil
}

func (c Criterion) check(s Stage, depth int) error {
	if c.Kind.Groups() {
		return c.checkGroup(s, depth)
	}
	missing := func(what string) error {
		return fmt.Errorf("%w: a criterion of stage %q does not say which %s", ErrPlan, s.Title, what)
	}
	switch {
	case !slices.Contains(Kinds, c.Kind):
		return fmt.Errorf("%w: a criterion of stage %q has the kind %q; use module, course, badge, score, approval, all, any or some", ErrPlan,
			s.Title, c.Kind)
	case c.Kind == Module && c.ModuleID == "":
		return missing("module")
	case c.Kind == Score && c.ActivityID == "":
		return missing("activity")
	case c.Kind == Approval && strings.TrimSpace(c.What) == "":
		return fmt.Errorf("%w: an approval of stage %q does not say what is to be approved", ErrPlan, s.Title)
	case c.Kind == Badge && c.BadgeID == "":
		return missing("badge")
	case c.Kind == Badge && s.BadgeID != "" && c.BadgeID == s.BadgeID:
		return fmt.Errorf("%w: stage %q asks for the badge that it gives", ErrPlan, s.Title)
	case c.AtLeast < -1 || c.AtLeast > 1:
		return fmt.Errorf("%w: stage %q asks for a score of %v; it lies between -1 and 1, so 80 %% is 0.8", ErrPlan,
			s.Title, c.AtLeast)
	}
	return nil
}

func (c Criterion) checkGroup(s Stage, depth int) error {
	switch {
	case depth >= mostDepth:
		return fmt.Errorf("%w: stage %q has groups %d deep; %d are enough", ErrPlan, s.Title, depth, mostDepth-1)
	case len(c.Of) == 0 || len(c.Of) > mostCriteria:
		return fmt.Errorf("%w: a group of stage %q has %d criteria; have 1 to %d", ErrPlan, s.Title, len(c.Of), mostCriteria)
	case c.Kind == Some && (c.Need < 1 || c.Need > len(c.Of)):
		return fmt.Errorf("%w: a group of stage %q needs %d of %d", ErrPlan, s.Title, c.Need, len(c.Of))
	}
	for _, x := range c.Of {
		if err := x.check(s, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// Of gives the course of a criterion, empty for badges and approvals.
func (p Plan) Of(c Criterion) string {
	switch {
	case c.Kind == Badge, c.Kind == Approval:
		return ""
	case c.CourseID != "":
		return c.CourseID
	}
	return p.CourseID
}

// Approves says what an approval of the plan is about; "" for one that it does not ask for.
func (p Plan) Approves(id string) string {
	for _, s := range p.Stages {
		for _, c := range s.Criteria {
			for leaf := range c.Leaves {
				if leaf.Kind == Approval && leaf.ApprovalID == id {
					return leaf.What
				}
			}
		}
	}
	return ""
}

// Key names a module or an activity of a course.
type Key struct{ CourseID, ID string }

// Watch is what plans are about: what they have to be worked out anew for.
type Watch struct {
	Own      map[string]bool // courses whose learners it is for
	Courses  map[string]bool // those of all criteria, and Own
	Modules  map[Key]bool    // that are to be completed
	Finishes map[string]bool // courses that are to be completed
	Scores   map[Key]bool    // activities in which a score is asked for
	Badges   map[string]bool
	// Approvals are the ids of what somebody has to approve.
	Approvals map[string]bool
}

// Watching gives what some plans are about.
func Watching(all ...Plan) Watch {
	w := Watch{
		Own: map[string]bool{}, Courses: map[string]bool{}, Modules: map[Key]bool{}, Finishes: map[string]bool{},
		Scores: map[Key]bool{}, Badges: map[string]bool{}, Approvals: map[string]bool{},
	}
	for _, p := range all {
		if p.CourseID != "" { // criteria of badges belong to no plan
			w.Own[p.CourseID], w.Courses[p.CourseID] = true, true
		}
		for _, s := range p.Stages {
			for _, c := range s.Criteria {
				for leaf := range c.Leaves {
					w.add(p.Of(leaf), leaf)
				}
			}
		}
	}
	return w
}

func (w Watch) add(course string, c Criterion) {
	if course != "" {
		w.Courses[course] = true
	}
	switch c.Kind {
	case Module:
		w.Modules[Key{course, c.ModuleID}] = true
	case Course:
		w.Finishes[course] = true
	case Score:
		w.Scores[Key{course, c.ActivityID}] = true
	case Badge:
		w.Badges[c.BadgeID] = true
	case Approval:
		w.Approvals[c.ApprovalID] = true
	}
}

// Evidence is what is known of a person. Where somebody is in several sections of a
// course, what is done in any of them counts.
type Evidence struct {
	Modules map[Key]bool
	Courses map[string]bool
	Badges  map[string]bool
	Scores  map[Key]float64 // the best, scaled
	// Approvals are by the ids of their criteria.
	Approvals map[string]bool
}

// Meets reports whether a criterion is met.
func (p Plan) Meets(c Criterion, e Evidence) bool {
	switch c.Kind {
	case Module:
		return e.Modules[Key{p.Of(c), c.ModuleID}]
	case Course:
		return e.Courses[p.Of(c)]
	case Badge:
		return e.Badges[c.BadgeID]
	case Approval:
		return e.Approvals[c.ApprovalID]
	case Score:
		best, there := e.Scores[Key{p.Of(c), c.ActivityID}]
		return there && best >= c.AtLeast
	}
	met := 0
	for _, x := range c.Of {
		if p.Meets(x, e) {
			met++
		}
	}
	switch c.Kind {
	case All:
		return met == len(c.Of)
	case Any:
		return met > 0
	case Some:
		return met >= c.Need
	}
	return false
}

// StageProgress is where somebody stands with one stage.
type StageProgress struct {
	Met     []bool // by criterion
	Reached bool
	// Open says that it is not reached, and nothing before it is in the way.
	Open bool
}

// Progress is where somebody stands in a plan.
type Progress struct {
	Stages   []StageProgress
	Percent  int  // of the required stages
	Finished bool // every required stage is reached
}

// ProgressOf says where somebody stands.
func (p Plan) ProgressOf(e Evidence) Progress {
	out := Progress{Stages: make([]StageProgress, len(p.Stages)), Finished: true}
	required, done := 0, 0
	for i, s := range p.Stages {
		x := StageProgress{Met: make([]bool, len(s.Criteria))}
		all := true
		for j, c := range s.Criteria {
			x.Met[j] = p.Meets(c, e)
			all = all && x.Met[j]
		}
		free := p.AnyOrder || out.Finished
		x.Reached, x.Open = all && free, !all && free
		if out.Stages[i] = x; s.Optional {
			continue
		}
		if required++; x.Reached {
			done++
		} else {
			out.Finished = false
		}
	}
	if required > 0 {
		out.Percent = 100 * done / required
	}
	return out
}

// Next gives the first required stage that is not reached, and whether there is one.
func (p Plan) Next(s Progress) (Stage, bool) {
	for i, stage := range p.Stages {
		if !stage.Optional && !s.Stages[i].Reached {
			return stage, true
		}
	}
	return Stage{}, false
}

// Changes says which stages are reached that were not before, in their order, and which
// are open again, the last one first. was holds the ids of those that were reached.
func (p Plan) Changes(was func(stageID string) bool, is Progress) (reached, reopened []Stage) {
	for i, s := range p.Stages {
		switch before := was(s.ID); {
		case is.Stages[i].Reached && !before:
			reached = append(reached, s)
		case before && !is.Stages[i].Reached:
			reopened = append(reopened, s)
		}
	}
	slices.Reverse(reopened)
	return reached, reopened
}
