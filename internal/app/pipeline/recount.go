package pipeline

import (
	"context"
	"slices"

	"kanban/internal/core/learning"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/settingstore"
)

// acrossSetting says whether progress in one course counts across its sections.
const acrossSetting = "progress-across"

// Across reports whether what somebody reached in one section of a course counts in every
// other one that they come into. It does unless somebody said otherwise.
func (s *Facts) Across(ctx context.Context) (bool, error) {
	on := true
	_, err := settingstore.FindSetting(ctx, s.Store, acrossSetting, &on)
	return on, err
}

// SetAcross sets it. What was carried already stays; switched on, it is worked out for
// everybody.
func (s *Facts) SetAcross(ctx context.Context, who string, on bool) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, acrossSetting, on); err != nil {
			return err
		}
		if on {
			if err := tx.Enqueue(ctx, jobs.RecountCourse{Everybody: true}); err != nil {
				return err
			}
		}
		return tx.Audit(ctx, who, "said whether progress counts across sections", "settings/progress",
			map[string]bool{"across": on})
	})
}

// Recount carries out the job: progress by the present outline, and what was reached in
// other sections.
func (s *Facts) Recount(ctx context.Context, job jobs.RecountCourse) error {
	courses := []string{job.CourseID}
	if job.CourseID == "" {
		all, err := learningstore.Courses(ctx, s.Store)
		if err != nil {
			return err
		}
		courses = courses[:0]
		for _, c := range all {
			courses = append(courses, c.ID)
		}
	}
	across, err := s.Across(ctx)
	if err != nil {
		return err
	}
	for _, course := range courses {
		if err := s.RecountCourse(ctx, course); err != nil {
			return err
		}
		people := job.People
		if job.Everybody && across {
			if people, err = learningstore.LearnedElsewhere(ctx, s.Store, course); err != nil {
				return err
			}
		}
		for part := range slices.Chunk(people, recountAtOnce) {
			if across {
				if err := s.carry(ctx, course, part); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// carry lets what people reached in other sections of a course count in those that they are
// in now. It happened once already, so that no events follow from it.
func (s *Facts) carry(ctx context.Context, courseID string, people []string) error {
	all, err := s.Outlines.CompiledOf(ctx, []string{courseID})
	now := all[courseID]
	if err != nil || now.Course == nil || len(people) == 0 {
		return err
	}
	enrolled, err := rosterstore.SectionsOf(ctx, s.Store.Quickly(), people, []string{courseID})
	if err != nil {
		return err
	}
	var pairs []learningstore.ProgressRow
	for _, e := range enrolled {
		if n := len(pairs); e.Role == "student" && (n == 0 || pairs[n-1].PersonID != e.PersonID ||
			pairs[n-1].SectionID != e.SectionID) {
			pairs = append(pairs, learningstore.ProgressRow{
				PersonID: e.PersonID, SectionID: e.SectionID,
				Version: now.Version,
			})
		}
	}
	slices.SortFunc(pairs, orderOf)
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		elsewhere, err := learningstore.StatesInCourse(ctx, tx, courseID, people)
		if err != nil || len(elsewhere) == 0 {
			return err
		}
		pairs := slices.DeleteFunc(slices.Clone(pairs),
			func(g learningstore.ProgressRow) bool { return !missing(elsewhere, g) })
		if len(pairs) == 0 {
			return nil
		}
		locked, _, err := learningstore.LockProgress(ctx, tx, pairs, nil)
		if err != nil {
			return err
		}
		// as it is while nobody else can add to it
		if elsewhere, err = learningstore.StatesInCourse(ctx, tx, courseID, people); err != nil {
			return err
		}
		var reached []learningstore.Reached
		for i := range locked {
			g := &locked[i]
			state := merged(elsewhere, g.PersonID)
			for id, a := range state.Activities {
				reached = append(reached, learningstore.Reached{
					PersonID: g.PersonID, SectionID: g.SectionID,
					ActivityID: id, ActivityState: a,
				})
			}
			g.Version, g.DoneBits = now.Version, now.Course.DoneBits(state)
			g.Percent = now.Course.Percent(g.DoneBits)
			g.FirstAt, g.LastAt = timesOf(state)
		}
		return s.keepLater(ctx, tx, courseID, locked, reached, nil)
	})
}

// missing reports whether anything was reached elsewhere that does not count here.
func missing(elsewhere map[learningstore.SectionKey]learning.State, g learningstore.ProgressRow) bool {
	here := elsewhere[g.Key()].Activities
	for key, x := range elsewhere {
		if key.PersonID != g.PersonID || key.SectionID == g.SectionID {
			continue
		}
		for id, a := range x.Activities {
			if b := here[id].Merge(a); b.Completed != here[id].Completed || b.Passed != here[id].Passed ||
				b.Failed != here[id].Failed || here[id].First.IsZero() || here[id].Best != b.Best &&
				(here[id].Best == nil || *here[id].Best != *b.Best) {
				return true
			}
		}
	}
	return false
}

// merged is everything that a person did in some sections, by person and section.
func merged(states map[learningstore.SectionKey]learning.State, personID string) learning.State {
	all := learning.State{Activities: map[string]learning.ActivityState{}}
	for key, x := range states {
		if key.PersonID != personID {
			continue
		}
		for id, a := range x.Activities {
			all.Activities[id] = all.Activities[id].Merge(a)
		}
	}
	return all
}
