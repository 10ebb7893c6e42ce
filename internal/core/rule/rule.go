// Package rule decides which rules an event sets off and what their conditions,
// mappings and texts come to.
//
//	index := rule.NewIndex(rules)
//	for _, r := range index.Match(event) {
//		ok, err := conditions.Holds(r.Condition, event.Values)
//	}
//
// Matching costs as much as there are rules that match, not as there are rules.
package rule

import (
	"cmp"
	"slices"
)

// Trigger is the type of event that sets a rule off, e.g. "module.completed".
type Trigger string

// Triggers that can be chosen, in the order in which they are offered.
const (
	SectionJoined     Trigger = "section.joined"
	SectionLeft       Trigger = "section.left"
	SectionMoved      Trigger = "section.moved"
	AccessGranted     Trigger = "access.granted"
	AccessEnded       Trigger = "access.ended"
	ActivityCompleted Trigger = "activity.completed"
	AssessmentPassed  Trigger = "assessment.passed"
	AssessmentFailed  Trigger = "assessment.failed"
	ScoreReported     Trigger = "score.reported"
	WorkSubmitted     Trigger = "work.submitted"
	ModuleCompleted   Trigger = "module.completed"
	CourseCompleted   Trigger = "course.completed"
	ProgressCrossed   Trigger = "progress.crossed"
	ActivityReopened  Trigger = "activity.reopened"
	ModuleReopened    Trigger = "module.reopened"
	CourseReopened    Trigger = "course.reopened"
	PersonInactive    Trigger = "person.inactive"
	PersonNotBegun    Trigger = "person.not-begun"
	BadgeAwarded      Trigger = "badge.awarded"
	BadgeRevoked      Trigger = "badge.revoked"
	StageReached      Trigger = "stage.reached"
	StageReopened     Trigger = "stage.reopened"
	ScoreFinal        Trigger = "score.final"
	ScoreCarried      Trigger = "score.carried"
	ScoreConflict     Trigger = "score.conflict"
	RunNeedsPerson    Trigger = "run.needs-person"
	ServiceReported   Trigger = "service.reported"
)

// Triggers lists them all.
var Triggers = []Trigger{
	SectionJoined, SectionLeft, SectionMoved, AccessGranted, AccessEnded, ActivityCompleted, AssessmentPassed,
	AssessmentFailed, ScoreReported, WorkSubmitted,
	ModuleCompleted, CourseCompleted, ProgressCrossed, ActivityReopened, ModuleReopened, CourseReopened,
	PersonInactive, PersonNotBegun, BadgeAwarded, BadgeRevoked, StageReached, StageReopened, ScoreFinal,
	ScoreCarried, ScoreConflict, RunNeedsPerson, ServiceReported,
}

var triggerNames = map[Trigger]string{
	SectionJoined:     "section joined",
	SectionLeft:       "section left",
	SectionMoved:      "moved to another section",
	AccessGranted:     "access granted",
	AccessEnded:       "access ended",
	ActivityCompleted: "activity completed",
	AssessmentPassed:  "assessment passed",
	AssessmentFailed:  "assessment failed",
	ScoreReported:     "score reported",
	WorkSubmitted:     "work submitted",
	ModuleCompleted:   "module completed",
	CourseCompleted:   "course completed",
	ProgressCrossed:   "share of a course reached",
	ActivityReopened:  "activity no longer complete",
	ModuleReopened:    "module no longer complete",
	CourseReopened:    "course no longer complete",
	PersonInactive:    "no activity for days",
	PersonNotBegun:    "not begun after days",
	BadgeAwarded:      "badge awarded",
	BadgeRevoked:      "badge revoked",
	StageReached:      "stage reached",
	StageReopened:     "stage no longer reached",
	ScoreFinal:        "score final",
	ScoreCarried:      "score carried",
	ScoreConflict:     "scores differ",
	RunNeedsPerson:    "run needs a person",
	ServiceReported:   "reported by a service",
}

// Name says in words what happened, e.g. "module completed"; a type that is not one of Triggers is
// its own name.
func (t Trigger) Name() string { return cmp.Or(triggerNames[t], string(t)) }

// Scope narrows a rule; an empty field means any. Values are record ids.
type Scope struct {
	Course   string `json:"course,omitempty"`
	Section  string `json:"section,omitempty"`
	Module   string `json:"module,omitempty"`
	Activity string `json:"activity,omitempty"`
}

// covers reports whether an event in the place at lies within s.
func (s Scope) covers(at Scope) bool {
	return (s.Course == "" || s.Course == at.Course) &&
		(s.Section == "" || s.Section == at.Section) &&
		(s.Module == "" || s.Module == at.Module) &&
		(s.Activity == "" || s.Activity == at.Activity)
}

// narrowest is the most telling field of the scope, used as its index key.
func (s Scope) narrowest() place {
	switch {
	case s.Activity != "":
		return place{"activity", s.Activity}
	case s.Module != "":
		return place{"module", s.Module}
	case s.Section != "":
		return place{"section", s.Section}
	case s.Course != "":
		return place{"course", s.Course}
	}
	return place{}
}

type place struct{ kind, id string }

// Rule is what matching needs to know about a rule.
type Rule struct {
	ID      string
	Trigger Trigger
	Scope   Scope
	// Days after which somebody counts as inactive or as not having begun; see Waits.
	Days int
}

// Event is what matching needs to know about an event.
type Event struct {
	Type Trigger
	At   Scope
	Days int // where the trigger Waits: for how long
}

// Waits reports whether events of the trigger happen because some days have passed, so
// that a rule says how many.
func (t Trigger) Waits() bool { return t == PersonInactive || t == PersonNotBegun }

// Index finds rules by trigger and place. It is safe for concurrent use.
type Index struct {
	byPlace map[Trigger]map[place][]Rule
}

// NewIndex builds an index over rules.
func NewIndex(rules []Rule) *Index {
	x := &Index{byPlace: map[Trigger]map[place][]Rule{}}
	for _, r := range rules {
		places := x.byPlace[r.Trigger]
		if places == nil {
			places = map[place][]Rule{}
			x.byPlace[r.Trigger] = places
		}
		key := r.Scope.narrowest()
		places[key] = append(places[key], r)
	}
	return x
}

// Match returns the rules whose trigger and scope fit the event, ordered by id.
func (x *Index) Match(e Event) []Rule {
	places := x.byPlace[e.Type]
	if places == nil {
		return nil
	}
	var out []Rule
	keys := [...]place{
		{},
		{"course", e.At.Course},
		{"section", e.At.Section},
		{"module", e.At.Module},
		{"activity", e.At.Activity},
	}
	for _, key := range keys {
		if key.kind != "" && key.id == "" {
			continue
		}
		for _, r := range places[key] {
			if r.Scope.covers(e.At) && r.Days == e.Days {
				out = append(out, r)
			}
		}
	}
	slices.SortFunc(out, func(a, b Rule) int { return cmp.Compare(a.ID, b.ID) })
	return out
}
