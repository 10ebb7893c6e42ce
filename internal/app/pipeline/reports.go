package pipeline

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"kanban/internal/adapter"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/webhook"
)

// Report stores what a service told with CloudEvents, so that rules can react to
// it. It gives, for each event, why it could not be taken; it answers only when
// all others are stored. One with the same source and id is the same event. An
// event about nobody who is known is stored all the same.
func (s *Facts) Report(ctx context.Context, c adapter.Interface, list []webhook.Received) ([]error, error) {
	problems := make([]error, len(list))
	var events []eventstore.Event
	for i, r := range list {
		if problems[i] = r.Err; r.Err != nil {
			continue
		}
		if why := db.Unstorable(r.Data); why != "" {
			problems[i] = errors.New(why)
			continue
		}
		e, err := s.reported(ctx, c, r)
		if errors.Is(err, rule.ErrExpression) {
			problems[i] = err
			continue
		}
		if err != nil {
			return nil, err
		}
		events = append(events, e)
	}
	if err := db.Again(func() error {
		return s.Store.InTx(ctx,
			func(tx *db.Tx) error { return s.tell(ctx, tx, c, events) })
	}); err != nil {
		return nil, err
	}
	refused, latest := 0, ""
	for _, p := range problems {
		if p != nil {
			refused, latest = refused+1, p.Error()
		}
	}
	if refused == 0 {
		return problems, nil
	}
	return problems, eventstore.CountRefused(ctx, s.Store, c.ID, eventstore.RefusedEvent, refused, latest,
		s.Clock.Now())
}

// Unsigned counts a request to the address of a service that is not properly signed.
func (s *Facts) Unsigned(ctx context.Context, interfaceID, why string) error {
	return eventstore.CountRefused(ctx, s.Store, interfaceID, eventstore.RefusedSignature, 1, why, s.Clock.Now())
}

// tell records events and lets whoever wants to hear of those that are new.
func (s *Facts) tell(ctx context.Context, tx *db.Tx, c adapter.Interface, events []eventstore.Event) error {
	fresh, err := eventstore.RecordEvents(ctx, tx, events)
	if err != nil {
		return err
	}
	isNew := make(map[string]bool, len(fresh))
	for _, id := range fresh {
		isNew[id] = true
	}
	news := slices.DeleteFunc(slices.Clone(events), func(e eventstore.Event) bool { return !isNew[e.ID] })
	if s.Scores != nil && slices.ContainsFunc(news, func(e eventstore.Event) bool { return s.scoresFinal(c, e) }) {
		if err := s.Scores.Noticed(ctx, tx, c.ID); err != nil {
			return err
		}
	}
	if s.Purchases == nil {
		return nil
	}
	return s.Purchases.Reported(ctx, tx, c, news)
}

// scoresFinal reports whether an event says that scores became final at its service.
func (s *Facts) scoresFinal(c adapter.Interface, e eventstore.Event) bool {
	condition := c.Settings["scores"]
	if condition == "" {
		return false
	}
	yes, err := s.Expressions.Holds(condition, rule.Values{"event": e.Data})
	return err == nil && yes
}

func (s *Facts) reported(ctx context.Context, c adapter.Interface, r webhook.Received) (eventstore.Event, error) {
	var data any
	if err := json.Unmarshal(r.Data, &data); err != nil {
		return eventstore.Event{}, err
	}
	e := eventstore.Event{
		Type: string(rule.ServiceReported), NaturalKey: fmt.Sprintf("%s/%s/%s/%s", rule.ServiceReported, c.ID,
			r.Source, r.ID), OccurredAt: r.Time,
		Data: map[string]any{
			"reported": r.Type, "source": r.Source, "subject": r.Subject, "data": data,
			"service": c.Name, "interfaceId": c.ID,
		},
	}
	if e.OccurredAt.IsZero() {
		e.OccurredAt = s.Clock.Now()
	}
	if c.Settings["person"] == "" {
		return e, nil
	}
	who, err := s.Expressions.Value(c.Settings["person"], rule.Values{"event": e.Data})
	if err != nil {
		return e, nil // the event says nothing about a person, or not in this place
	}
	name, _ := who.(string)
	p, err := rosterstore.PersonCalled(ctx, s.Store, name)
	switch {
	case err == nil:
		e.PersonID = &p.ID
	case !errors.Is(err, db.ErrNotFound):
		return e, err
	}
	return e, nil
}
