package access

import (
	"context"
	"time"

	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/settingstore"
)

// SaveViews keeps an administrator's saved ways to look at sections.
func (s *Service) SaveViews(ctx context.Context, userID string, views any) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		return settingstore.SaveSetting(ctx, tx, "views/"+userID, views)
	})
}

// Announce tells every process something about callers, such as that one has signed out.
func (s *Service) Announce(ctx context.Context, topic, id string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error { return tx.Announce(ctx, topic, id) })
}

// KeepSession keeps what a session holds, by the hash of its token; one that was ended stays ended.
func (s *Service) KeepSession(ctx context.Context, token string, data []byte, until time.Time,
	of accessstore.SessionOf,
) error {
	return accessstore.KeepSession(ctx, s.Store, token, data, until, of)
}

// EndSession ends a session for good.
func (s *Service) EndSession(ctx context.Context, token string) error {
	return accessstore.EndSessionOf(ctx, s.Store, token)
}

// FindSession gives what a session holds that is not over; there says whether it is one.
func (s *Service) FindSession(ctx context.Context, token string) (data []byte, there bool, err error) {
	return accessstore.FindSession(ctx, s.Store, token)
}

// RemoveOldSessions removes the sessions that are over.
func (s *Service) RemoveOldSessions(ctx context.Context) error {
	return accessstore.RemoveOldSessions(ctx, s.Store)
}
