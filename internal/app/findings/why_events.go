package findings

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"kanban/internal/core/finding"
	"kanban/internal/core/learning"
	"kanban/internal/core/permission"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rosterstore"
)

// asked is an event about which somebody asks: what happens in a section, with a module or an activity of its course.
type asked struct {
	trigger         rule.Trigger
	section, inside string // inside is the module's or activity's id; empty for the whole course
}

// id is by which it is asked about: trigger, section and what is inside, which may hold slashes itself.
func (e asked) id() string {
	return strings.Join([]string{string(e.trigger), e.section, e.inside}, "/")
}

func askedOf(id string) (e asked, ok bool) {
	parts := strings.SplitN(id, "/", 3)
	if len(parts) != 3 || uuid.Validate(parts[1]) != nil {
		return e, false
	}
	e = asked{rule.Trigger(parts[0]), parts[1], parts[2]}
	switch e.trigger {
	case rule.SectionJoined, rule.CourseCompleted:
		return e, e.inside == ""
	case rule.ModuleCompleted, rule.ActivityCompleted, rule.AssessmentPassed, rule.WorkSubmitted:
		return e, e.inside != ""
	}
	return e, false
}

// ofActivity are the events that come of an activity, by its kind.
var ofActivity = map[learning.Kind][]rule.Trigger{
	learning.Lesson:     {rule.ActivityCompleted},
	learning.Assessment: {rule.ActivityCompleted, rule.AssessmentPassed},
	learning.Assignment: {rule.ActivityCompleted, rule.WorkSubmitted},
}

// eventThings lists the events that can come of the courses of somebody's sections.
func (s *Service) eventThings(ctx context.Context, personID string, within *permission.Reach) (out []Thing,
	err error,
) {
	places, err := rosterstore.WhereaboutsOf(ctx, s.Store, personID)
	if err != nil {
		return nil, err
	}
	for _, w := range places {
		if w.LeftAt != nil || within != nil && !within.Covers(w.SectionID) {
			continue
		}
		add := func(t rule.Trigger, inside, title string) {
			out = append(out, Thing{
				ThingEvent, asked{t, w.SectionID, inside}.id(), t.Name() + ": " + title,
				w.Section,
			})
		}
		add(rule.SectionJoined, "", w.Section)
		x, err := rosterstore.FindSection(ctx, s.Store, w.SectionID)
		if err != nil {
			return nil, err
		}
		o, err := s.outlineOf(ctx, x)
		if err != nil {
			return nil, err
		}
		if len(o.Modules) > 0 {
			add(rule.CourseCompleted, "", w.Course)
		}
		for _, m := range learning.OverviewOf(o, learning.State{}).Modules {
			if m.ID != "" {
				add(rule.ModuleCompleted, m.ID, m.Title)
			}
			for _, y := range m.Activities {
				for _, t := range ofActivity[y.Kind] {
					add(t, y.ID, y.Title)
				}
			}
		}
	}
	return out, nil
}

// outlineOf is that of a section's course; without modules where there is none.
func (s *Service) outlineOf(ctx context.Context, x rosterstore.Section) (learning.Outline, error) {
	o, err := learningstore.Outline(ctx, s.Store, x.CourseID)
	if errors.Is(err, db.ErrNotFound) {
		err = nil
	}
	return o, err
}

// title is what an event is about: the section, the course, or what of its outline; ok is false where that is not
// in it.
func (e asked) title(x rosterstore.Section, o learning.Outline) (title string, ok bool) {
	switch e.trigger {
	case rule.SectionJoined:
		return x.Title, true
	case rule.CourseCompleted:
		return x.Course, true
	}
	for _, m := range learning.OverviewOf(o, learning.State{}).Modules {
		if e.trigger == rule.ModuleCompleted && m.ID == e.inside {
			return m.Title, true
		}
		for _, y := range m.Activities {
			if e.trigger != rule.ModuleCompleted && y.ID == e.inside {
				return y.Title, true
			}
		}
	}
	return e.inside, false
}

// unrecorded is what is found where all is there that an event needs.
const unrecorded = "it is, and nothing was recorded: it was so before Kanban looked, or longer ago than history is kept"

// whyEvent answers whether something has happened to somebody in a section's course.
func (s *Service) whyEvent(ctx context.Context, personID, id string, within *permission.Reach, a *Answer) error {
	e, ok := askedOf(id)
	if !ok || within != nil && !within.Covers(e.section) {
		return notThere("event")
	}
	x, err := rosterstore.FindSection(ctx, s.Store, e.section)
	if err != nil {
		return err
	}
	o, err := s.outlineOf(ctx, x)
	if err != nil {
		return err
	}
	title, there := e.title(x, o)
	a.Thing.Title = e.trigger.Name() + ": " + title
	happened, err := s.happened(ctx, personID, e)
	if err != nil {
		return err
	}
	if happened != nil {
		a.met("It happened", e.trigger.Name(), &happened.OccurredAt)
		if late := happened.RecordedAt.Sub(happened.OccurredAt); late > time.Minute {
			a.met("It was recorded", "later than it happened", &happened.RecordedAt)
		}
		a.Happened, a.At = true, &happened.OccurredAt
		return nil
	}
	a.Again = "when something is reported of them, or the register is read next"
	_, in, err := s.inSection(ctx, personID, x, a)
	switch {
	case err != nil || !in:
		return err
	case e.trigger == rule.SectionJoined:
		a.ends(WhyStep{Needed: "It was seen that they joined", Found: unrecorded})
		return nil
	case len(o.Modules) == 0:
		a.ends(WhyStep{
			Needed: "The course has an outline", Found: "it has none", Owner: string(finding.OwnerAdministrator),
			Remedy: "Set its outline: what it consists of is not known without.",
		})
		return nil
	case !there:
		return notThere("event")
	}
	return s.whyLearned(ctx, personID, e, o, a)
}

// happened finds the latest event that is asked about.
func (s *Service) happened(ctx context.Context, personID string, e asked) (*eventstore.ListedEvent, error) {
	f := eventstore.EventFilter{Type: string(e.trigger), PersonID: personID, SectionID: e.section, Limit: 1}
	switch e.trigger {
	case rule.ModuleCompleted:
		f.Scope.Module = e.inside
	case rule.ActivityCompleted, rule.AssessmentPassed, rule.WorkSubmitted:
		f.Scope.Activity = e.inside
	}
	all, err := eventstore.Events(ctx, s.Store, f)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

// whyLearned says what is missing of a course, a module or an activity.
func (s *Service) whyLearned(ctx context.Context, personID string, e asked, o learning.Outline, a *Answer) error {
	state, err := learningstore.ProgressOf(ctx, s.Store, personID, e.section)
	if err != nil {
		return err
	}
	all := learning.OverviewOf(o, state)
	if e.trigger == rule.CourseCompleted {
		var left []string
		for _, m := range all.Modules {
			if !m.Optional && !m.Done {
				left = append(left, m.Title)
			}
		}
		a.remaining("Every module that counts is done", left, all.Last)
		return nil
	}
	for _, m := range all.Modules {
		if e.trigger == rule.ModuleCompleted && m.ID == e.inside {
			a.remaining("Every activity of "+m.Title+" that counts is done", undone(m), all.Last)
			return nil
		}
		for _, x := range m.Activities {
			if e.trigger != rule.ModuleCompleted && x.ID == e.inside {
				a.activity(e.trigger, x)
				return nil
			}
		}
	}
	return nil
}

// undone lists what counts of a module and is not done.
func undone(m learning.ModuleOverview) (left []string) {
	for _, x := range m.Activities {
		if x.Counts && !x.Done {
			left = append(left, x.Title+" ("+x.Word()+")")
		}
	}
	return left
}

// remaining adds what is left to do, or that it was done before it counted.
func (a *Answer) remaining(needed string, left []string, last time.Time) {
	step := WhyStep{Needed: needed, Owner: string(finding.OwnerLearner)}
	if !last.IsZero() {
		step.At = &last
	}
	if len(left) == 0 {
		step.Found, step.Owner = unrecorded, ""
		a.ends(step)
		return
	}
	shown := left[:min(len(left), mostThings)]
	step.Found = fmt.Sprintf("%d not done: %s", len(left), strings.Join(shown, ", "))
	if more := len(left) - len(shown); more > 0 {
		step.Found += fmt.Sprintf(" and %d more", more)
	}
	step.Remedy = "They do what is left."
	a.ends(step)
}

// activity adds what was reported of an activity.
func (a *Answer) activity(t rule.Trigger, x learning.ActivityOverview) {
	step := WhyStep{Needed: "Something is reported of " + x.Title, Owner: string(finding.OwnerLearner)}
	if x.First.IsZero() {
		step.Found, step.Remedy = "nothing was, so far", "They do it; or the platform does not report it: look at the interface."
		a.ends(step)
		return
	}
	a.met(step.Needed, x.Word(), &x.First)
	if step.Needed, step.Found = t.Name(), "it is "+x.Word(); x.Done {
		step.Found, step.Owner = unrecorded, ""
	}
	a.ends(step)
}
