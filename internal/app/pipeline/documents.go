package pipeline

import (
	"context"
	"encoding/json"
	"time"

	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/wire/xapi"
)

// place is where a document of an interface is kept.
func place(interfaceID string, q xapi.DocumentQuery) eventstore.StatementDocument {
	return eventstore.StatementDocument{
		InterfaceID: interfaceID, Place: q.Place(), Registration: q.Registration, DocumentID: q.ID,
	}
}

// Document finds what a platform keeps here; ok is false when there is none.
func (s *Facts) Document(ctx context.Context, interfaceID string, q xapi.DocumentQuery) (d xapi.Document, ok bool,
	err error,
) {
	found, ok, err := eventstore.FindDocument(ctx, s.Store, place(interfaceID, q))
	return xapi.Document{
		ContentType: found.ContentType, Body: found.Body, ETag: found.ETag, ChangedAt: found.ChangedAt,
	}, ok, err
}

// DocumentIDs lists the ids of what a platform keeps in one place.
func (s *Facts) DocumentIDs(ctx context.Context, interfaceID string, q xapi.DocumentQuery) ([]string, error) {
	ids, err := eventstore.DocumentIDs(ctx, s.Store, place(interfaceID, q), q.Since)
	return append([]string{}, ids...), err
}

// ChangeDocument lets change decide, while nobody else changes the document, what becomes of it: before is
// nil when there is none, and nil as the answer drops it. An error of change leaves it as it is.
func (s *Facts) ChangeDocument(ctx context.Context, interfaceID string, q xapi.DocumentQuery,
	change func(before *xapi.Document) (*xapi.Document, error),
) error {
	at := place(interfaceID, q)
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := eventstore.LockDocument(ctx, tx, at); err != nil {
			return err
		}
		found, ok, err := eventstore.FindDocument(ctx, tx, at)
		if err != nil {
			return err
		}
		var before *xapi.Document
		if ok {
			before = &xapi.Document{ContentType: found.ContentType, Body: found.Body, ETag: found.ETag}
		}
		next, err := change(before)
		switch {
		case err != nil:
			return err
		case next == nil:
			return eventstore.DropDocuments(ctx, tx, at)
		}
		at.ContentType, at.Body, at.ETag = next.ContentType, next.Body, xapi.ETag(next.Body)
		at.ChangedAt = time.Now().UTC()
		return eventstore.KeepDocument(ctx, tx, at)
	})
}

// DropDocuments drops everything that a platform keeps in one place.
func (s *Facts) DropDocuments(ctx context.Context, interfaceID string, q xapi.DocumentQuery) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		return eventstore.DropDocuments(ctx, tx, place(interfaceID, q))
	})
}

// mostLooked is how many of the latest statements are looked at for what is known of somebody or something.
const mostLooked = 50

// Activity is what statements that came through an interface say of an activity, the latest first
// (Communication 2.5).
func (s *Facts) Activity(ctx context.Context, interfaceID, id string) (xapi.Object, error) {
	list, _, err := eventstore.Statements(ctx, s.Store, eventstore.StatementQuery{
		InterfaceID: interfaceID, Activity: id, Limit: mostLooked,
	})
	out := xapi.Object{ObjectType: "Activity", ID: id}
	for _, x := range list {
		var one xapi.Statement
		if json.Unmarshal(x.Body, &one) == nil && one.Object.Definition != nil {
			out.Definition = one.Object.Definition
			break
		}
	}
	return out, err
}

// Person is what statements that came through an interface say of an agent (Communication 2.4): the names
// under which it came.
func (s *Facts) Person(ctx context.Context, interfaceID string, agent xapi.Agent) (xapi.Person, error) {
	list, _, err := eventstore.Statements(ctx, s.Store, eventstore.StatementQuery{
		InterfaceID: interfaceID, Actor: agent.Key(), Limit: mostLooked,
	})
	agents := []xapi.Agent{agent}
	for _, x := range list {
		var one xapi.Statement
		if json.Unmarshal(x.Body, &one) == nil {
			agents = append(agents, one.Actor)
		}
	}
	return xapi.PersonOf(agents), err
}
