// Package teaching shows teachers their own sections as they have arranged them, says who is missing in words for
// teachers, and hands differences to whoever can mend them.
package teaching

import (
	"context"
	"strings"

	"kanban/internal/app/access"
	"kanban/internal/app/pairings"
	"kanban/internal/app/scores"
	"kanban/internal/store/db"
	"kanban/internal/store/teachingstore"
)

// Service is the use case. Fill every field.
type Service struct {
	Store    *db.Database
	Access   *access.Service
	Pairings *pairings.Service
	Scores   *scores.Service
}

// Name gives a section a short name that only this user sees; an empty one takes it away.
func (s *Service) Name(ctx context.Context, userID, sectionID, name string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		return teachingstore.NameSection(ctx, tx, userID, sectionID, strings.TrimSpace(name))
	})
}

// Order puts sections into an order that only this user sees; others stand behind them.
func (s *Service) Order(ctx context.Context, userID string, sections []string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		return teachingstore.OrderSections(ctx, tx, userID, sections)
	})
}
