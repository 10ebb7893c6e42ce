package outlines

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"kanban/internal/core/clock"
	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/core/stage"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/stagestore"
	"kanban/internal/wire/call"
)

// Service is the use case.
type Service struct {
	Store *db.Database
	Call  call.Options
	Clock clock.Clock
}

// LoadCartridge replaces a course's outline by that of a Common Cartridge.
func (s *Service) LoadCartridge(ctx context.Context, who, courseID, prefix string, content []byte) (learning.Outline,
	error,
) {
	o, err := ReadCartridge(prefix, content)
	if err != nil {
		return o, err
	}
	return o, s.SetOutline(ctx, who, courseID, o)
}

// SetOutline replaces a course's outline. Everybody's progress is worked out anew in
// the background, and what that completes or reopens becomes events.
func (s *Service) SetOutline(ctx context.Context, who, courseID string, o learning.Outline) error {
	o.Learned = false // somebody stands for it now
	if err := s.checkOutline(ctx, courseID, o); err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if _, err := learningstore.LockOutline(ctx, tx, courseID); err != nil {
			return err
		}
		if err := learningstore.SetOutline(ctx, tx, who, courseID, o); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, jobs.ResolveStatements{}, jobs.RecountCourse{CourseID: courseID}); err != nil {
			return err
		}
		if err := tx.Announce(ctx, "outline", courseID); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "set an outline", "course/"+courseID, map[string]int{"modules": len(o.Modules)})
	})
}

func (s *Service) checkOutline(ctx context.Context, courseID string, o learning.Outline) error {
	if err := o.Check(); err != nil {
		return refusal.Invalid("outline", "%v", err)
	}
	return s.knowsCourse(ctx, courseID)
}

func (s *Service) knowsCourse(ctx context.Context, id string) error {
	courses, err := learningstore.Courses(ctx, s.Store)
	if err != nil {
		return err
	}
	for _, c := range courses {
		if c.ID == id {
			return nil
		}
	}
	return refusal.Invalid("courseId", "there is no course %q; see which there are: kanban courses list", id)
}

// OutlinePreview says whom another outline would complete or reopen.
type OutlinePreview struct {
	People    int // with progress in the course
	Completes int // people for whom the course would become done
	Reopens   int // people for whom it would be open again
	Touched   []OutlineTouch
	// Misses are the stages and rules that are about something which would not be in the
	// outline any more.
	Misses []string
}

// OutlineTouch is what would change for one person in one section.
type OutlineTouch struct {
	PersonID, Person, Section string
	Before, After             int // percent
	Completed, Reopened       []string
}

// mostTouched bounds how many people a preview names.
const mostTouched = 500

// titles gives what modules and activities of outlines are called, by module/activity.
func titles(outlines ...learning.Outline) map[string]string {
	title := map[string]string{"/": "the course"}
	for _, outline := range outlines {
		for _, m := range outline.Modules {
			title[m.ID+"/"] = cmp.Or(m.Title, m.ID)
			for _, a := range m.All() {
				title[m.ID+"/"+a.ID] = cmp.Or(a.Title, a.ID)
			}
		}
	}
	return title
}

// PreviewOutline says whom another outline would complete or reopen, without changing
// anything.
func (s *Service) PreviewOutline(ctx context.Context, courseID string, o learning.Outline) (OutlinePreview, error) {
	if err := s.checkOutline(ctx, courseID, o); err != nil {
		return OutlinePreview{}, err
	}
	now, version, err := learningstore.OutlineNow(ctx, s.Store, courseID)
	if err != nil && !errors.Is(err, db.ErrNotFound) {
		return OutlinePreview{}, err
	}
	title := titles(now, o)
	misses, err := s.misses(ctx, courseID, now, o)
	if err != nil {
		return OutlinePreview{}, err
	}
	out := OutlinePreview{Misses: misses}
	var where []string // the sections of those who are touched
	for after := (learningstore.ProgressRow{}); ; {
		list, err := learningstore.Outdated(ctx, s.Store, courseID, version+1, after, 1000)
		if err == nil && len(list) == 0 {
			err = s.name(ctx, out.Touched, where)
		}
		if err != nil || len(list) == 0 {
			return out, err
		}
		after = list[len(list)-1]
		states, err := learningstore.States(ctx, s.Store, list)
		if err != nil {
			return out, err
		}
		for _, g := range list {
			out.People++
			state := states[g.Key()]
			t := OutlineTouch{
				PersonID: g.PersonID, Before: learning.Percent(now, state),
				After: learning.Percent(o, state),
			}
			for _, d := range learning.Reoutline(now, o, state) {
				name := title[d.ModuleID+"/"+d.ActivityID]
				switch d.Kind {
				case learning.CourseCompleted:
					out.Completes++
					t.Completed = append(t.Completed, name)
				case learning.ModuleCompleted, learning.ActivityCompleted:
					t.Completed = append(t.Completed, name)
				case learning.CourseReopened:
					out.Reopens++
					t.Reopened = append(t.Reopened, name)
				case learning.ModuleReopened, learning.ActivityReopened:
					t.Reopened = append(t.Reopened, name)
				}
			}
			if len(t.Completed)+len(t.Reopened) == 0 && t.Before == t.After || len(out.Touched) >= mostTouched {
				continue
			}
			out.Touched, where = append(out.Touched, t), append(where, g.SectionID)
		}
	}
}

// name fills in whom an outline would touch, and in which sections.
func (s *Service) name(ctx context.Context, touched []OutlineTouch, where []string) error {
	var people []string
	for _, t := range touched {
		people = append(people, t.PersonID)
	}
	persons, err := rosterstore.PeopleByID(ctx, s.Store, slices.Compact(slices.Sorted(slices.Values(people))))
	if err != nil {
		return err
	}
	places, err := rosterstore.SectionsByID(ctx, s.Store, slices.Compact(slices.Sorted(slices.Values(where))))
	if err != nil {
		return err
	}
	names := map[string]string{}
	for _, p := range persons {
		names[p.ID] = p.Name()
	}
	for _, x := range places {
		names[x.ID] = x.Title
	}
	for i := range touched {
		t := &touched[i]
		t.Person, t.Section = names[t.PersonID], names[where[i]]
	}
	return nil
}

// misses says which stages and rules that are on are about a module or an activity of a
// course that another outline would not have any more.
func (s *Service) misses(ctx context.Context, courseID string, now, next learning.Outline) (out []string, err error) {
	modules, activities := map[string]string{}, map[string]string{} // titles of what goes
	for _, m := range now.Modules {
		modules[m.ID] = cmp.Or(m.Title, m.ID)
		for _, a := range m.All() {
			activities[a.ID] = cmp.Or(a.Title, a.ID)
		}
	}
	for _, m := range next.Modules {
		delete(modules, m.ID)
		for _, a := range m.All() {
			delete(activities, a.ID)
		}
	}
	plans, err := stagestore.StagePlansOn(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	for _, p := range plans {
		plan := p.Plan()
		for _, one := range p.Stages {
			for c := range (stage.Criterion{Kind: stage.All, Of: one.Criteria}).Leaves {
				lost := modules[c.ModuleID]
				if c.Kind == stage.Score {
					lost = activities[c.ActivityID]
				}
				if lost != "" && plan.Of(c) == courseID {
					out = append(out, fmt.Sprintf("the stage %s of %s asks for %s", one.Title, p.Name, lost))
				}
			}
		}
	}
	rules, err := rulestore.RulesOn(ctx, s.Store)
	for _, r := range rules {
		elsewhere := r.Scope.Course != "" && r.Scope.Course != courseID
		if lost := cmp.Or(modules[r.Scope.Module], activities[r.Scope.Activity]); lost != "" && !elsewhere {
			out = append(out, fmt.Sprintf("the rule %s is only for %s", r.Name, lost))
		}
	}
	slices.Sort(out)
	return out, err
}
