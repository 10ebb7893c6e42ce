package pipeline

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/xapi"
)

// concerned gives whose progress items are about, by person and section, and what they reached,
// by activity too.
func concerned(items []*item) (places map[learningstore.SectionKey]membership, pairs []learningstore.ProgressRow,
	reached map[learningstore.ActivityKey]*learningstore.Reached, asked []learningstore.Reached,
) {
	places, reached = map[learningstore.SectionKey]membership{}, map[learningstore.ActivityKey]*learningstore.Reached{}
	for _, x := range items {
		for _, p := range x.places {
			key := learningstore.SectionKey{PersonID: x.person.ID, SectionID: p.SectionID}
			if _, there := places[key]; !there {
				places[key] = p
				pairs = append(pairs, learningstore.ProgressRow{
					PersonID: x.person.ID, SectionID: p.SectionID,
					Version: p.Version,
				})
			}
			of := learningstore.Reached{
				PersonID: x.person.ID, SectionID: p.SectionID,
				ActivityID: x.fact.ActivityID,
			}
			if reached[of.Key()] == nil {
				reached[of.Key()] = &of
				asked = append(asked, of)
			}
		}
	}
	return places, pairs, reached, asked
}

// advance adds facts to the progress of the people they are about, and records what
// follows, all with one reading and one writing of progress.
func (s *Facts) advance(ctx context.Context, tx *db.Tx, items []*item) error {
	places, pairs, reached, asked := concerned(items)
	if len(pairs) == 0 {
		return nil
	}
	slices.SortFunc(pairs, orderOf)
	locked, there, err := learningstore.LockProgress(ctx, tx, pairs, asked)
	if err != nil {
		return err
	}
	for _, r := range there {
		*reached[r.Key()] = r
	}
	events, err := s.reoutline(ctx, tx, locked, places)
	if err != nil {
		return err
	}
	at := make(map[learningstore.SectionKey]*learningstore.ProgressRow, len(locked))
	for i := range locked {
		at[locked[i].Key()] = &locked[i]
	}
	for _, x := range items {
		for _, p := range x.places {
			key := learningstore.SectionKey{PersonID: x.person.ID, SectionID: p.SectionID}
			did := learningstore.ActivityKey{
				PersonID: key.PersonID, SectionID: key.SectionID,
				ActivityID: x.fact.ActivityID,
			}
			events = append(events, s.step(at[key], reached[did], x, places[key])...)
		}
	}
	for i, r := range asked {
		asked[i] = *reached[r.Key()]
	}
	fresh, mark, err := learningstore.KeepProgress(ctx, tx, locked, asked, events)
	if err != nil {
		return err
	}
	if len(events) == 0 {
		return nil
	}
	people := make([]rosterstore.Person, len(items))
	for i, x := range items {
		people[i] = x.person
	}
	return s.Reactions.Recorded(ctx, tx, people, events, fresh, mark)
}

// step adds one fact to one person's progress in one section and gives what follows.
func (s *Facts) step(g *learningstore.ProgressRow, r *learningstore.Reached, x *item,
	p membership,
) []eventstore.Event {
	var derived []learning.Derived
	g.DoneBits, r.ActivityState, derived = p.Course.Advance(g.DoneBits, r.ActivityState, x.fact)
	if len(derived) > 0 {
		g.Percent = p.Course.Percent(g.DoneBits)
	}
	if g.FirstAt == nil || x.fact.At.Before(*g.FirstAt) {
		g.FirstAt = &x.fact.At
	}
	if g.LastAt == nil || x.fact.At.After(*g.LastAt) {
		g.LastAt = &x.fact.At
	}
	module, activity, _ := p.Course.Find(x.fact.ActivityID)
	about := func(kind rule.Trigger, key string) eventstore.Event {
		e := eventstore.Event{
			Type: string(kind), NaturalKey: naturalKey(string(kind), g, key),
			PersonID: &g.PersonID, SectionID: &g.SectionID, CourseID: &p.CourseID, ModuleID: module.ID,
			ActivityID: activity.ID,
			OccurredAt: x.fact.At, Data: map[string]any{"percent": g.Percent},
		}
		if x.fact.Score != nil {
			e.Data["score"] = *x.fact.Score
		}
		return e
	}
	var events []eventstore.Event
	switch {
	case x.fact.Verb == learning.Submitted:
		events = append(events, about(rule.WorkSubmitted, x.statement.ID))
	case x.fact.Score != nil:
		events = append(events, about(rule.ScoreReported, x.statement.ID))
	}
	switch learning.Verdict(activity, x.fact) {
	case learning.Passed:
		events = append(events, about(rule.AssessmentPassed, x.statement.ID))
	case learning.Failed:
		events = append(events, about(rule.AssessmentFailed, x.statement.ID))
	}
	return append(events, follows(g, p.CourseID, derived, x.fact.At, x.statement.ID, x.fact)...)
}

func naturalKey(kind string, g *learningstore.ProgressRow, key string) string {
	return kind + "/" + g.PersonID + "/" + g.SectionID + "/" + key
}

// follows gives the events of derived facts. What is done is recorded once for a
// person and a place; what is open again once for each cause.
func follows(g *learningstore.ProgressRow, courseID string, derived []learning.Derived, at time.Time, cause string,
	fact learning.Fact,
) []eventstore.Event {
	var events []eventstore.Event
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
		events = append(events, eventstore.Event{
			Type: string(d.Kind), NaturalKey: naturalKey(string(d.Kind), g, key),
			PersonID: &g.PersonID, SectionID: &g.SectionID, CourseID: &courseID, ModuleID: d.ModuleID,
			ActivityID: d.ActivityID, OccurredAt: at, Data: data,
		})
	}
	return events
}

// reoutline brings progress that was worked out by an earlier outline up to the
// present one, and gives what follows from that. Where somebody else has gone by a
// later outline already, the place gets that one.
func (s *Facts) reoutline(ctx context.Context, tx *db.Tx, all []learningstore.ProgressRow,
	places map[learningstore.SectionKey]membership,
) (events []eventstore.Event, err error) {
	var behind []learningstore.ProgressRow
	for _, g := range all {
		key := g.Key()
		p := places[key]
		if g.Version > p.Version {
			now, err := s.Outlines.CompiledOf(ctx, []string{p.CourseID})
			if err != nil {
				return nil, err
			}
			if o := now[p.CourseID]; o.Course != nil {
				p.CompiledOutline = o
				places[key] = p
			}
		}
		if g.Version < p.Version || g.DoneBits == nil {
			behind = append(behind, g)
		}
	}
	states, err := learningstore.States(ctx, tx, behind)
	if err != nil {
		return nil, err
	}
	for i := range all {
		g := &all[i]
		p, state := places[g.Key()], states[g.Key()]
		if g.Version >= p.Version && g.DoneBits != nil {
			continue
		}
		before, err := learningstore.OutlineAt(ctx, tx, p.CourseID, g.Version)
		if err != nil {
			return nil, err
		}
		derived := learning.Reoutline(before, p.Course.Outline, state)
		g.Version, g.DoneBits = p.Version, p.Course.DoneBits(state)
		g.Percent = p.Course.Percent(g.DoneBits)
		g.FirstAt, g.LastAt = timesOf(state)
		events = append(events, follows(g, p.CourseID, derived, s.Clock.Now(), fmt.Sprintf("outline-%d", p.Version),
			learning.Fact{})...)
	}
	return events, nil
}

// recountAtOnce is how many people's progress is worked out in one transaction after
// an outline was changed.
const recountAtOnce = 200

// RecountCourse works progress in a course out by its present outline, for everybody
// for whom that has not been done.
func (s *Facts) RecountCourse(ctx context.Context, courseID string) error {
	all, err := s.Outlines.CompiledOf(ctx, []string{courseID})
	if err != nil || all[courseID].Course == nil {
		return err
	}
	now := all[courseID]
	for after := (learningstore.ProgressRow{}); ; {
		list, err := learningstore.Outdated(ctx, s.Store, courseID, now.Version, after, recountAtOnce)
		if err != nil || len(list) == 0 {
			return err
		}
		after = list[len(list)-1]
		if err := s.Store.InTx(ctx, func(tx *db.Tx) error {
			locked, _, err := learningstore.LockProgress(ctx, tx, list, nil)
			if err != nil {
				return err
			}
			places := map[learningstore.SectionKey]membership{}
			for _, g := range locked {
				places[g.Key()] = membership{rosterstore.Enrolled{
					PersonID:  g.PersonID,
					SectionID: g.SectionID, CourseID: courseID,
				}, now}
			}
			events, err := s.reoutline(ctx, tx, locked, places)
			if err != nil {
				return err
			}
			return s.keepLater(ctx, tx, courseID, locked, nil, events)
		}); err != nil {
			return err
		}
	}
}

// void takes a statement out of what counts (xAPI 1.0.3 Data 2.3.2): the progress
// that it made is worked out anew, and what is open again becomes events. A
// statement that has not come yet is voided when it does.
func (s *Facts) void(ctx context.Context, tx *db.Tx, interfaceID, statementID string) error {
	v, ok, err := eventstore.VoidStatement(ctx, tx, interfaceID, statementID, xapi.Voided)
	if err != nil || !ok || v.PersonID == nil {
		return err
	}
	placed, err := learningstore.CoursesWith(ctx, tx, []string{v.Object})
	if err != nil || len(placed.Versions) == 0 {
		return err
	}
	sections, err := rosterstore.SectionsOf(ctx, tx, []string{*v.PersonID}, placed.Courses[v.Object])
	if err != nil {
		return err
	}
	outlines, err := s.Outlines.CompiledAt(ctx, placed.Versions)
	if err != nil {
		return err
	}
	verbs, err := s.verbTable(ctx)
	if err != nil {
		return err
	}
	for _, e := range sections {
		if o := outlines[e.CourseID]; o.Course != nil {
			if err := s.recount(ctx, tx, verbs, membership{e, o}, v); err != nil {
				return err
			}
		}
	}
	return nil
}

// recount works one person's progress in one section out anew.
func (s *Facts) recount(ctx context.Context, tx *db.Tx, verbs *learning.Verbs, p membership,
	v eventstore.Voided,
) error {
	locked, _, err := learningstore.LockProgress(ctx, tx,
		[]learningstore.ProgressRow{{PersonID: p.PersonID, SectionID: p.SectionID, Version: p.Version}}, nil)
	if err != nil {
		return err
	}
	if len(locked) != 1 {
		return errors.New("progress could not be locked")
	}
	g, key := &locked[0], locked[0].Key()
	places := map[learningstore.SectionKey]membership{key: p}
	events, err := s.reoutline(ctx, tx, locked, places)
	if err != nil {
		return err
	}
	course := places[key].Course
	// Read once nobody else can add to it.
	bodies, err := eventstore.StatementsAbout(ctx, tx, p.PersonID, []string{v.Object})
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
			facts = append(facts, factOf(st, says, s.Clock.Now()))
		}
	}
	states, err := learningstore.States(ctx, tx, locked)
	if err != nil {
		return err
	}
	next, derived := learning.Recount(course.Outline, states[key], v.Object, facts)
	g.DoneBits = course.DoneBits(next)
	g.Percent = course.Percent(g.DoneBits)
	g.FirstAt, g.LastAt = timesOf(next)
	var reached []learningstore.Reached
	if activity, there := next.Activities[v.Object]; there {
		reached = append(reached, learningstore.Reached{
			PersonID: g.PersonID, SectionID: g.SectionID,
			ActivityID: v.Object, ActivityState: activity,
		})
	} else if err := learningstore.ForgetActivity(ctx, tx, g.PersonID, g.SectionID, v.Object); err != nil {
		return err
	}
	return s.keepLater(ctx, tx, p.CourseID, locked, reached,
		append(events, follows(g, p.CourseID, derived, s.Clock.Now(), v.ID, learning.Fact{})...))
}

// keepLater keeps progress in a course that was worked out anew and records events, to
// which rules react in the background.
func (s *Facts) keepLater(ctx context.Context, tx *db.Tx, courseID string, all []learningstore.ProgressRow,
	reached []learningstore.Reached, events []eventstore.Event,
) error {
	fresh, mark, err := learningstore.KeepProgress(ctx, tx, all, reached, events)
	if err != nil {
		return err
	}
	var people []string
	for _, g := range all {
		people = append(people, g.PersonID)
	}
	return s.Reactions.Reworked(ctx, tx, courseID, distinct(people), fresh, mark)
}

// timesOf is when somebody did something first and last, nil for never.
func timesOf(s learning.State) (first, last *time.Time) {
	if len(s.Activities) == 0 {
		return nil, nil
	}
	began, ended := learning.FirstActivity(s), learning.LastActivity(s)
	return &began, &ended
}

// orderOf is the one order in which everybody locks progress, so that two batches
// never wait for each other.
func orderOf(a, b learningstore.ProgressRow) int {
	return cmp.Or(cmp.Compare(a.PersonID, b.PersonID), cmp.Compare(a.SectionID, b.SectionID))
}

// Progress is where a person stands in the course of a section, by its present outline.
func (s *Facts) Progress(ctx context.Context, personID, sectionID string) (learning.Overview, error) {
	if _, err := rosterstore.FindPerson(ctx, s.Store, personID); err != nil {
		return learning.Overview{}, err
	}
	x, err := rosterstore.FindSection(ctx, s.Store, sectionID)
	if err != nil {
		return learning.Overview{}, err
	}
	o, err := learningstore.Outline(ctx, s.Store, x.CourseID)
	if err != nil && !errors.Is(err, db.ErrNotFound) {
		return learning.Overview{}, err
	}
	state, err := learningstore.ProgressOf(ctx, s.Store, personID, sectionID)
	return learning.OverviewOf(o, state), err
}
