// Package config writes the whole set-up of an installation as files and takes such files in.
//
// Begin with Compare and Apply in apply.go: both do the same in one transaction, and Compare rolls it
// back, so that what it shows is exactly what Apply does. What comes in goes through the use cases that
// a person would use, put together over that transaction.
package config

import (
	"context"

	"kanban/internal/app/badges"
	"kanban/internal/app/connections"
	"kanban/internal/app/history"
	"kanban/internal/app/matching"
	"kanban/internal/app/outlines"
	"kanban/internal/app/pairings"
	"kanban/internal/app/pipeline"
	"kanban/internal/app/purchases"
	"kanban/internal/app/rules"
	"kanban/internal/app/runs"
	"kanban/internal/app/scores"
	"kanban/internal/app/stages"
	"kanban/internal/core/clock"
	"kanban/internal/store/db"
)

// Parts are the use cases by which a set-up is read and written, over one database or transaction.
type Parts struct {
	Connections *connections.Service
	Matching    *matching.Service
	Pairings    *pairings.Service
	Badges      *badges.Service
	Outlines    *outlines.Service
	Purchases   *purchases.Service
	Rules       *rules.Service
	Stages      *stages.Service
	Scores      *scores.Service
	History     *history.Service
	Runs        *runs.Service
	Facts       *pipeline.Facts
}

// Maker puts the use cases together over a database, or over a transaction of it.
type Maker interface {
	Parts(over *db.Database) Parts
}

// Service is the use case. Fill every field up to Maker.
type Service struct {
	Store *db.Database
	Maker Maker
	Clock clock.Clock
}

// work is one pass over a set-up: what it is read from and written to.
type work struct {
	Parts
	store *db.Database
	who   string
	names *names
	stale bool // whether what files make has to be read again
}

func (s *Service) work(over *db.Database, who string) *work {
	return &work{Parts: s.Maker.Parts(over), store: over, who: who}
}

// book gives the names of what things refer to.
func (w *work) book(ctx context.Context) (_ *names, err error) {
	switch {
	case w.names == nil:
		w.names, err = readNames(ctx, w.store)
	case w.stale:
		_, err = w.names.readOwn(ctx, w.store)
	}
	w.stale = false
	return w.names, err
}
