package reacting

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/wire/xapi"
)

// ErrConflict means that another statement with the same id is stored already
// (xAPI 1.0.3 Communication 2.1.2).
var ErrConflict = errors.New("another statement with this id is stored already")

// verbs maps xAPI verbs to what they say about an activity.
var verbs = map[string]learning.Verb{
	xapi.ADL + "launched": learning.Launched, xapi.ADL + "initialized": learning.Launched,
	xapi.ADL + "completed": learning.Completed, xapi.ADL + "passed": learning.Passed, xapi.ADL + "failed": learning.Failed,
}

// Take stores statements that came through a connection and lets what follows
// from them happen. It answers with their ids, only when all are stored; raw
// holds each one as it came. Nothing is lost: a statement about somebody or
// something unknown is stored with a note.
func (s *Service) Take(ctx context.Context, connectionID string, statements []xapi.Statement, raw []json.RawMessage) ([]string, error) {
	ids := make([]string, len(statements))
	items := make([]item, len(statements))
	for i := range statements {
		if statements[i].ID == "" {
			statements[i].ID = uuid.NewString()
		}
		ids[i] = statements[i].ID
		items[i] = item{statement: statements[i], raw: raw[i]}
		if err := s.resolve(ctx, &items[i]); err != nil {
			return nil, err
		}
	}
	// One order for everybody, so that two batches never wait for each other.
	slices.SortStableFunc(items, func(a, b item) int { return bytes.Compare([]byte(a.person.ID), []byte(b.person.ID)) })
	err := s.Store.InTx(ctx, func(tx *store.Tx) error {
		for _, x := range items {
			if err := s.take(ctx, tx, connectionID, x); err != nil {
				return err
			}
		}
		return nil
	})
	return ids, err
}

// item is a statement with whom and what it is about.
type item struct {
	statement xapi.Statement
	raw       json.RawMessage
	person    store.Person
	places    []place
	note      string
}

// place is a section in which the activity counts for the person.
type place struct {
	store.Enrolled
	outline learning.Outline
}

func (s *Service) resolve(ctx context.Context, x *item) error {
	actor := x.statement.Actor
	var err error
	switch {
	case actor.Account != nil:
		x.person, err = s.Store.PersonByIdentifier(ctx, actor.Account.Name)
	case actor.Mbox != "":
		x.person, err = s.Store.PersonByAddress(ctx, actor.Address())
	default:
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		x.note = "nobody is known by this actor"
		return nil
	}
	if err != nil {
		return err
	}
	if _, known := verbs[x.statement.Verb.ID]; !known {
		x.note = "nothing follows from this verb"
		return nil
	}
	courses, err := s.Store.CoursesWith(ctx, x.statement.Object.ID)
	if err != nil {
		return err
	}
	if len(courses) == 0 {
		x.note = "the activity is in no outline"
		return nil
	}
	sections, err := s.Store.SectionsOf(ctx, x.person.ID, courses)
	if err != nil {
		return err
	}
	for _, e := range sections {
		outline, err := s.Store.Outline(ctx, e.CourseID)
		if err != nil {
			return err
		}
		x.places = append(x.places, place{e, outline})
	}
	if len(x.places) == 0 {
		x.note = "the person is in no section of the activity's course"
	}
	return nil
}

func (s *Service) take(ctx context.Context, tx *store.Tx, connectionID string, x item) error {
	row := store.Statement{ID: x.statement.ID, ConnectionID: connectionID, Body: x.raw, Note: x.note}
	if x.person.ID != "" {
		row.PersonID = &x.person.ID
	}
	fresh, existing, err := tx.AddStatement(ctx, row)
	if err != nil {
		return err
	}
	if !fresh {
		if !same(existing, x.raw) {
			return fmt.Errorf("statement %s: %w", x.statement.ID, ErrConflict)
		}
		return nil
	}
	fact := learning.Fact{ActivityID: x.statement.Object.ID, Verb: verbs[x.statement.Verb.ID], At: x.statement.Timestamp}
	if fact.At.IsZero() {
		fact.At = time.Now().UTC()
	}
	if r := x.statement.Result; r != nil && r.Score != nil {
		fact.Score = r.Score.Scaled
	}
	for _, p := range x.places {
		if err := s.advance(ctx, tx, x, p, fact); err != nil {
			return err
		}
	}
	return nil
}

// same compares what the conflict rule compares: everything but the members
// that the receiver sets.
func same(a, b json.RawMessage) bool {
	strip := func(text json.RawMessage) string {
		var m map[string]any
		if json.Unmarshal(text, &m) != nil {
			return string(text)
		}
		for _, name := range []string{"authority", "stored", "version", "id"} {
			delete(m, name)
		}
		out, _ := json.Marshal(m)
		return string(out)
	}
	return strip(a) == strip(b)
}

// advance adds a fact to one person's progress in one section and records what
// follows.
func (s *Service) advance(ctx context.Context, tx *store.Tx, x item, p place, fact learning.Fact) error {
	state, err := tx.ProgressForUpdate(ctx, x.person.ID, p.SectionID)
	if err != nil {
		return err
	}
	next, derived := learning.Advance(p.outline, state, fact)
	percent := learning.Percent(p.outline, next)
	if err := tx.KeepProgress(ctx, x.person.ID, p.SectionID, next, percent); err != nil {
		return err
	}
	module, activity, _ := p.outline.Find(fact.ActivityID)
	base := func(kind rule.Trigger, key string) store.Event {
		return store.Event{
			Type: string(kind), NaturalKey: fmt.Sprintf("%s/%s/%s/%s", kind, x.person.ID, p.SectionID, key),
			PersonID: &x.person.ID, SectionID: &p.SectionID, CourseID: &p.CourseID, OccurredAt: fact.At,
			Data: map[string]any{"percent": percent},
		}
	}
	var events []store.Event
	about := func(kind rule.Trigger, key string) {
		e := base(kind, key)
		e.ModuleID, e.ActivityID = module.ID, activity.ID
		if fact.Score != nil {
			e.Data["score"] = *fact.Score
		}
		events = append(events, e)
	}
	switch fact.Verb {
	case learning.Passed:
		about(rule.AssessmentPassed, activity.ID)
	case learning.Failed:
		about(rule.AssessmentFailed, x.statement.ID)
	}
	if !learning.Done(activity, state) && learning.Done(activity, next) {
		about(rule.ActivityCompleted, activity.ID)
	}
	for _, d := range derived {
		switch d.Kind {
		case learning.ModuleCompleted:
			e := base(rule.ModuleCompleted, d.ModuleID)
			e.ModuleID = d.ModuleID
			events = append(events, e)
		case learning.CourseCompleted:
			events = append(events, base(rule.CourseCompleted, p.CourseID))
		case learning.ProgressCrossed:
			e := base(rule.ProgressCrossed, fmt.Sprint(d.Percent))
			e.Data["percent"] = d.Percent
			events = append(events, e)
		}
	}
	_, err = tx.Record(ctx, events)
	return err
}
