// Package observing takes in what platforms and services report. It keeps the statements
// about learners and the outlines of courses, works progress out, and records the events
// that follow.
//
//	ids, err := service.Take(ctx, connectionID, statements, raw)
package observing

import (
	"context"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/wire/call"
)

// Service is the use case. Fill every field up to Call.
type Service struct {
	Store *store.Store
	// Recorded hears of the events that follow from facts, and which of them are new, in
	// the transaction that records them; people are some of those whom they are about.
	// mark says whether any rule has changed.
	Recorded func(ctx context.Context, tx *store.Tx, people []store.Person, events []store.Event, fresh []string, mark int64) error
	// Reworked hears, in the same way, of people whose progress in a course was worked out
	// anew: a score may count for less without any event.
	Reworked func(ctx context.Context, tx *store.Tx, courseID string, people, fresh []string, mark int64) error
	// Told hears what a service reported and is new, in the transaction that records it;
	// nil when nobody wants to.
	Told        func(ctx context.Context, tx *store.Tx, c adapter.Connection, events []store.Event) error
	Expressions *rule.Expressions
	Call        call.Options
	// Now is the clock; the machine's own when nil.
	Now func() time.Time

	outlines outlines
	verbs    keptVerbs
}

// now is the time, as finely as the database keeps it.
func (s *Service) now() time.Time {
	if s.Now == nil {
		return time.Now().UTC().Truncate(time.Microsecond)
	}
	return s.Now().UTC().Truncate(time.Microsecond)
}
