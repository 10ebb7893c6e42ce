package access

import (
	"context"

	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/settingstore"
)

// SaveViews keeps an administrator's saved ways to look at sections.
func (s *Service) SaveViews(ctx context.Context, administratorID string, views any) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		return settingstore.SaveSetting(ctx, tx, "views/"+administratorID, views)
	})
}

// Announce tells every process something about callers, such as that one has signed out.
func (s *Service) Announce(ctx context.Context, topic, id string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error { return tx.Announce(ctx, topic, id) })
}

// RemoveOldSessions removes the sessions that are over.
func (s *Service) RemoveOldSessions(ctx context.Context) error {
	return accessstore.RemoveOldSessions(ctx, s.Store)
}
