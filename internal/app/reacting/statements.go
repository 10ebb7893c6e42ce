package reacting

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
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

// noSuchVerb is the note of a statement that looking again does not change.
const noSuchVerb = "nothing follows from this verb"

// resolvedAtOnce is how many waiting statements are listed at a time.
const resolvedAtOnce = 500

// Resolve looks again at statements about people or activities that were not known
// when they came, and lets happen what follows from those that are known by now.
func (s *Service) Resolve(ctx context.Context) error {
	for after := int64(0); ; {
		list, err := s.Store.WaitingStatements(ctx, noSuchVerb, after, resolvedAtOnce)
		if err != nil || len(list) == 0 {
			return err
		}
		after = list[len(list)-1].Seq
		for _, w := range list {
			if err := s.resolveWaiting(ctx, w); err != nil {
				return err
			}
		}
	}
}

func (s *Service) resolveWaiting(ctx context.Context, w store.Waiting) error {
	x := item{raw: w.Body}
	if err := json.Unmarshal(w.Body, &x.statement); err != nil {
		return fmt.Errorf("reading a stored statement: %w", err)
	}
	x.statement.ID = w.ID
	if err := s.resolve(ctx, &x); err != nil || x.note == w.Note {
		return err
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		var personID *string
		if x.person.ID != "" {
			personID = &x.person.ID
		}
		ok, err := tx.ResolveStatement(ctx, w, personID, x.note)
		if err != nil || !ok {
			return err
		}
		for _, p := range x.places {
			if err := s.advance(ctx, tx, x, p, factOf(x.statement)); err != nil {
				return err
			}
		}
		return nil
	})
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
		x.note = noSuchVerb
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
	st := x.statement
	row := store.Statement{ID: st.ID, ConnectionID: connectionID, Body: xapi.Listed(x.raw), Note: x.note, Actor: st.Actor.Key(), Verb: st.Verb.ID, Object: st.Object.ID}
	if st.Context != nil {
		row.Registration = strings.ToLower(st.Context.Registration)
	}
	if x.person.ID != "" {
		row.PersonID = &x.person.ID
	}
	fresh, existing, err := tx.AddStatement(ctx, row)
	if err != nil {
		return err
	}
	if !fresh {
		if !same(existing, xapi.Listed(x.raw)) {
			return fmt.Errorf("statement %s: %w", x.statement.ID, ErrConflict)
		}
		return nil
	}
	if st.Verb.ID == xapi.Voided {
		return s.void(ctx, tx, connectionID, st.Object.ID)
	}
	early, err := tx.Awaited(ctx, connectionID, st.ID, xapi.Voided)
	if err != nil {
		return err
	}
	if early { // what voids it came first
		return s.void(ctx, tx, connectionID, st.ID)
	}
	fact := factOf(st)
	for _, p := range x.places {
		if err := s.advance(ctx, tx, x, p, fact); err != nil {
			return err
		}
	}
	return nil
}

// factOf is what a statement says about its activity.
func factOf(st xapi.Statement) learning.Fact {
	fact := learning.Fact{ActivityID: st.Object.ID, Verb: verbs[st.Verb.ID], At: st.Timestamp}
	if fact.At.IsZero() {
		fact.At = time.Now().UTC()
	}
	if r := st.Result; r != nil && r.Score != nil {
		fact.Score = r.Score.Scaled
	}
	return fact
}

// void takes a statement out of what counts (xAPI 1.0.3 Data 2.3.2): the progress
// that it made is worked out anew, and what is open again becomes events. A
// statement that has not come yet is voided when it does.
func (s *Service) void(ctx context.Context, tx *store.Tx, connectionID, statementID string) error {
	v, ok, err := tx.Void(ctx, connectionID, statementID, xapi.Voided)
	if err != nil || !ok || v.PersonID == nil {
		return err
	}
	courses, err := s.Store.CoursesWith(ctx, v.Object)
	if err != nil || len(courses) == 0 {
		return err
	}
	sections, err := s.Store.SectionsOf(ctx, *v.PersonID, courses)
	if err != nil {
		return err
	}
	for _, e := range sections {
		outline, err := s.Store.Outline(ctx, e.CourseID)
		if err != nil {
			return err
		}
		if err := s.recount(ctx, tx, *v.PersonID, place{e, outline}, v); err != nil {
			return err
		}
	}
	return nil
}

// recount works one person's progress in one section out anew.
func (s *Service) recount(ctx context.Context, tx *store.Tx, personID string, p place, v store.Voided) error {
	state, err := tx.ProgressForUpdate(ctx, personID, p.SectionID)
	if err != nil {
		return err
	}
	// Read once nobody else can add to it.
	bodies, err := tx.StatementsAbout(ctx, personID, []string{v.Object})
	if err != nil {
		return err
	}
	var facts []learning.Fact
	for _, b := range bodies {
		var st xapi.Statement
		if err := json.Unmarshal(b, &st); err != nil {
			return fmt.Errorf("reading a stored statement: %w", err)
		}
		if _, known := verbs[st.Verb.ID]; known {
			facts = append(facts, factOf(st))
		}
	}
	next, derived := learning.Recount(p.outline, state, v.Object, facts)
	percent := learning.Percent(p.outline, next)
	if err := tx.KeepProgress(ctx, personID, p.SectionID, next, percent); err != nil {
		return err
	}
	var events []store.Event
	for _, d := range derived {
		switch d.Kind {
		case learning.ActivityReopened, learning.ModuleReopened, learning.CourseReopened:
			events = append(events, store.Event{
				Type: string(d.Kind), NaturalKey: fmt.Sprintf("%s/%s/%s/%s/%s/%s", d.Kind, personID, p.SectionID, d.ModuleID, d.ActivityID, v.ID),
				PersonID: &personID, SectionID: &p.SectionID, CourseID: &p.CourseID, ModuleID: d.ModuleID, ActivityID: d.ActivityID,
				OccurredAt: time.Now().UTC(), Data: map[string]any{"percent": percent, "voided": v.ID},
			})
		}
	}
	_, err = tx.Record(ctx, events)
	return err
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
