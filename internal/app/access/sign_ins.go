package access

import (
	"context"
	"encoding/hex"
	"fmt"

	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
)

// Sessions lists where a caller is signed in, the latest used first.
func (s *Service) Sessions(ctx context.Context, c Caller) ([]accessstore.Session, error) {
	return accessstore.Sessions(ctx, s.Store, c.ID)
}

// EndOwnSession ends one session of a caller, and gives it.
func (s *Service) EndOwnSession(ctx context.Context, c Caller, id string) (accessstore.Session, error) {
	ended, err := accessstore.EndSessions(ctx, s.Store, c.ID, id, "")
	if err == nil && len(ended) == 0 {
		err = fmt.Errorf("finding the session: %w", db.ErrNotFound)
	}
	if err != nil {
		return accessstore.Session{}, err
	}
	return ended[0], s.Store.InTx(ctx, func(tx *db.Tx) error {
		return tx.Audit(ctx, c.Name, "ended a session", "user/"+c.ID, map[string]string{"agent": ended[0].Agent})
	})
}

// EndOtherSessions ends all sessions of a caller but the one with a token's hash, and gives those that it ended.
func (s *Service) EndOtherSessions(ctx context.Context, c Caller, but string) ([]accessstore.Session, error) {
	return accessstore.EndSessions(ctx, s.Store, c.ID, "", but)
}

// Tokens lists a caller's own, the latest made first.
func (s *Service) Tokens(ctx context.Context, c Caller) ([]accessstore.APIToken, error) {
	return accessstore.Tokens(ctx, s.Store, c.ID)
}

// EndOwnToken ends one token of a caller: nobody gets in with it any more.
func (s *Service) EndOwnToken(ctx context.Context, c Caller, id string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		hash, err := accessstore.RemoveToken(ctx, tx, c.ID, id)
		if err != nil {
			return err
		}
		if err := tx.Announce(ctx, TopicToken, hex.EncodeToString(hash)); err != nil {
			return err
		}
		return tx.Audit(ctx, c.Name, "ended an API token", "token/"+id, nil)
	})
}

// TopicToken is the topic of the news that a token was ended; the id is its hash.
const TopicToken = "token-ended"
