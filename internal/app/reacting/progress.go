package reacting

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/wire/xapi"
)

// advance adds facts to the progress of the people they are about, and records what
// follows, all with one reading and one writing of progress.
func (s *Service) advance(ctx context.Context, tx *store.Tx, items []*item) error {
	outlines := map[[2]string]*outlined{}
	var pairs []store.Standing
	for _, x := range items {
		for _, p := range x.places {
			key := [2]string{x.person.ID, p.SectionID}
			if outlines[key] == nil {
				outlines[key] = p.outlined
				pairs = append(pairs, store.Standing{PersonID: x.person.ID, SectionID: p.SectionID, Version: p.version})
			}
		}
	}
	if len(pairs) == 0 {
		return nil
	}
	slices.SortFunc(pairs, orderOf)
	locked, err := tx.LockProgress(ctx, pairs)
	if err != nil {
		return err
	}
	at := make(map[[2]string]*store.Standing, len(locked))
	var events []store.Event
	for i := range locked {
		g := &locked[i]
		key := [2]string{g.PersonID, g.SectionID}
		at[key] = g
	}
	for _, x := range items {
		for _, p := range x.places {
			g := at[[2]string{x.person.ID, p.SectionID}]
			caught, err := s.reoutline(ctx, g, p.CourseID, p.outlined)
			if err != nil {
				return err
			}
			events = append(events, caught...)
			events = append(events, s.step(g, x, p)...)
		}
	}
	if err := tx.KeepProgress(ctx, locked); err != nil {
		return err
	}
	known := s.newKnown()
	for _, x := range items {
		known.people[x.person.ID] = valuesOf(x.person)
	}
	return s.record(ctx, tx, known, events)
}

// step adds one fact to one person's progress in one section and gives what follows.
func (s *Service) step(g *store.Standing, x *item, p place) []store.Event {
	var derived []learning.Derived
	g.State, derived, g.Percent = p.course.Advance(g.State, x.fact)
	module, activity, _ := p.course.Find(x.fact.ActivityID)
	about := func(kind rule.Trigger, key string) store.Event {
		e := store.Event{
			Type: string(kind), NaturalKey: fmt.Sprintf("%s/%s/%s/%s", kind, g.PersonID, g.SectionID, key),
			PersonID: &g.PersonID, SectionID: &g.SectionID, CourseID: &p.CourseID, ModuleID: module.ID, ActivityID: activity.ID,
			OccurredAt: x.fact.At, Data: map[string]any{"percent": g.Percent},
		}
		if x.fact.Score != nil {
			e.Data["score"] = *x.fact.Score
		}
		return e
	}
	var events []store.Event
	if x.fact.Score != nil {
		events = append(events, about(rule.ScoreReported, x.statement.ID))
	}
	switch learning.Verdict(activity, x.fact) {
	case learning.Passed:
		events = append(events, about(rule.AssessmentPassed, activity.ID))
	case learning.Failed:
		events = append(events, about(rule.AssessmentFailed, x.statement.ID))
	}
	return append(events, follows(g, p.CourseID, derived, x.fact.At, x.statement.ID, x.fact)...)
}

// follows gives the events of derived facts. What is done is recorded once for a
// person and a place; what is open again once for each cause.
func follows(g *store.Standing, courseID string, derived []learning.Derived, at time.Time, cause string, fact learning.Fact) []store.Event {
	var events []store.Event
	for _, d := range derived {
		key := ""
		data := map[string]any{"percent": g.Percent}
		switch d.Kind {
		case learning.ActivityReopened, learning.ModuleReopened, learning.CourseReopened:
			key, data["cause"] = d.ModuleID+"/"+d.ActivityID+"/"+cause, cause
		case learning.ActivityCompleted:
			if key = d.ActivityID; fact.Score != nil && fact.ActivityID == d.ActivityID {
				data["score"] = *fact.Score
			}
		case learning.ModuleCompleted:
			key = d.ModuleID
		case learning.CourseCompleted:
			key = courseID
		case learning.ProgressCrossed:
			key, data["percent"] = fmt.Sprint(d.Percent), d.Percent
		}
		events = append(events, store.Event{
			Type: string(d.Kind), NaturalKey: fmt.Sprintf("%s/%s/%s/%s", d.Kind, g.PersonID, g.SectionID, key),
			PersonID: &g.PersonID, SectionID: &g.SectionID, CourseID: &courseID, ModuleID: d.ModuleID, ActivityID: d.ActivityID, OccurredAt: at, Data: data,
		})
	}
	return events
}

// reoutline brings progress that was worked out by an earlier outline up to the
// present one, and gives what follows from that.
func (s *Service) reoutline(ctx context.Context, g *store.Standing, courseID string, now *outlined) ([]store.Event, error) {
	if g.Version >= now.version {
		return nil, nil
	}
	before, err := s.Store.OutlineAt(ctx, courseID, g.Version)
	if err != nil {
		return nil, err
	}
	derived := learning.Reoutline(before, now.course.Outline, g.State)
	g.Version, g.Percent = now.version, now.course.Percent(g.State)
	return follows(g, courseID, derived, s.now(), fmt.Sprintf("outline-%d", now.version), learning.Fact{}), nil
}

// recountAtOnce is how many people's progress is worked out in one transaction after
// an outline was changed.
const recountAtOnce = 200

// RecountCourse works progress in a course out by its present outline, for everybody
// for whom that has not been done.
func (s *Service) RecountCourse(ctx context.Context, courseID string) error {
	all, err := s.outlinesOf(ctx, []string{courseID})
	if err != nil || all[courseID] == nil {
		return err
	}
	now := all[courseID]
	for after := (store.Standing{}); ; {
		list, err := s.Store.Outdated(ctx, courseID, now.version, after, recountAtOnce)
		if err != nil || len(list) == 0 {
			return err
		}
		after = list[len(list)-1]
		if err := s.Store.InTx(ctx, func(tx *store.Tx) error {
			locked, err := tx.LockProgress(ctx, list)
			if err != nil {
				return err
			}
			var events []store.Event
			for i := range locked {
				some, err := s.reoutline(ctx, &locked[i], courseID, now)
				if err != nil {
					return err
				}
				events = append(events, some...)
			}
			if err := tx.KeepProgress(ctx, locked); err != nil {
				return err
			}
			_, err = tx.Record(ctx, events)
			return err
		}); err != nil {
			return err
		}
	}
}

// void takes a statement out of what counts (xAPI 1.0.3 Data 2.3.2): the progress
// that it made is worked out anew, and what is open again becomes events. A
// statement that has not come yet is voided when it does.
func (s *Service) void(ctx context.Context, tx *store.Tx, connectionID, statementID string) error {
	v, ok, err := tx.Void(ctx, connectionID, statementID, xapi.Voided)
	if err != nil || !ok || v.PersonID == nil {
		return err
	}
	courses, err := s.Store.CoursesWith(ctx, []string{v.Object})
	if err != nil || len(courses[v.Object]) == 0 {
		return err
	}
	sections, err := s.Store.SectionsOf(ctx, []string{*v.PersonID}, courses[v.Object])
	if err != nil {
		return err
	}
	outlines, err := s.outlinesOf(ctx, courses[v.Object])
	if err != nil {
		return err
	}
	verbs, err := s.verbTable(ctx)
	if err != nil {
		return err
	}
	for _, e := range sections {
		if o := outlines[e.CourseID]; o != nil {
			if err := s.recount(ctx, tx, verbs, place{e, o}, v); err != nil {
				return err
			}
		}
	}
	return nil
}

// recount works one person's progress in one section out anew.
func (s *Service) recount(ctx context.Context, tx *store.Tx, verbs *learning.Verbs, p place, v store.Voided) error {
	locked, err := tx.LockProgress(ctx, []store.Standing{{PersonID: p.PersonID, SectionID: p.SectionID, Version: p.version}})
	if err != nil {
		return err
	}
	if len(locked) != 1 {
		return errors.New("progress could not be locked")
	}
	g := &locked[0]
	events, err := s.reoutline(ctx, g, p.CourseID, p.outlined)
	if err != nil {
		return err
	}
	// Read once nobody else can add to it.
	bodies, err := tx.StatementsAbout(ctx, p.PersonID, []string{v.Object})
	if err != nil {
		return err
	}
	var facts []learning.Fact
	for _, b := range bodies {
		var st xapi.Statement
		if err := json.Unmarshal(b, &st); err != nil {
			return fmt.Errorf("reading a stored statement: %w", err)
		}
		kind := ""
		if st.Object.Definition != nil {
			kind = st.Object.Definition.Type
		}
		if says, known := verbs.Meaning(st.Verb.ID, kind); known {
			facts = append(facts, factOf(st, says, s.now()))
		}
	}
	next, derived := learning.Recount(p.course.Outline, g.State, v.Object, facts)
	g.State, g.Percent = next, p.course.Percent(next)
	if err := tx.KeepProgress(ctx, locked); err != nil {
		return err
	}
	_, err = tx.Record(ctx, append(events, follows(g, p.CourseID, derived, s.now(), v.ID, learning.Fact{})...))
	return err
}
