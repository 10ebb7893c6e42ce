package pipeline

import (
	"context"

	"kanban/internal/adapter"
	"kanban/internal/core/clock"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rosterstore"
)

// Outlines gives courses by their present outlines, those that have one.
type Outlines interface {
	CompiledOf(ctx context.Context, courseIDs []string) (map[string]learning.CompiledOutline, error)
	// CompiledAt does so where their present versions, by course, are known.
	CompiledAt(ctx context.Context, versions map[string]int) (map[string]learning.CompiledOutline, error)
}

// Reactions hears of what follows from facts, in the transaction that records it.
type Reactions interface {
	// Recorded hears of the events, and which of them are new; people are some of those whom
	// they are about. mark says whether any rule has changed.
	Recorded(ctx context.Context, tx *db.Tx, people []rosterstore.Person, events []eventstore.Event, fresh []string,
		mark int64) error
	// Reworked hears of people whose progress in a course was worked out anew: a score may
	// count for less without any event.
	Reworked(ctx context.Context, tx *db.Tx, courseID string, people, fresh []string, mark int64) error
}

// Scores hears that a service of a connection reported scores as final, in the transaction that records it.
type Scores interface {
	Noticed(ctx context.Context, tx *db.Tx, interfaceID string) error
}

// Purchases hears what a service reported and is new, in the transaction that records it.
type Purchases interface {
	Reported(ctx context.Context, tx *db.Tx, c adapter.Interface, events []eventstore.Event) error
}

// Facts takes in what platforms and services report: it keeps the statements about learners,
// works progress out, and records the events that follow. Fill every field up to Expressions.
type Facts struct {
	Store       *db.Database
	Outlines    Outlines
	Reactions   Reactions
	Purchases   Purchases // nil when nobody sells anything
	Scores      Scores    // nil when nobody carries scores
	Expressions *rule.Expressions
	Clock       clock.Clock

	verbs keptVerbs
}
