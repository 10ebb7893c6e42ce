package accessstore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/store/db"
)

// SessionOf says whose a session is, and where it was begun.
type SessionOf struct {
	UserID  string // empty while nobody has signed in by it
	Agent   string // what the browser says it is
	Address string // from which it was begun
}

// Session is one in which somebody is signed in.
type Session struct {
	ID      string
	Token   string // the hash of what the browser holds
	Agent   string
	Address string
	BeganAt time.Time
	UsedAt  time.Time
}

// Sessions lists those of a user that are not over, the latest used first.
func Sessions(ctx context.Context, from db.From, userID string) ([]Session, error) {
	return db.Rows[Session](ctx, from, "listing sessions", `SELECT id::text, token, agent, address, began_at, used_at
		FROM sessions WHERE user_id = $1 AND expiry > now() AND data <> '' ORDER BY used_at DESC, id`, userID)
}

// EndSessions ends sessions of a user, one by its id or all but the one with a token's hash, and gives those that
// were ended.
func EndSessions(ctx context.Context, to db.From, userID, id, but string) ([]Session, error) {
	return db.Rows[Session](ctx, to, "ending sessions", `UPDATE sessions SET data = '', expiry = now() + interval '1 hour'
		WHERE user_id = $1 AND data <> '' AND (id::text = $2 OR $2 = '' AND token <> $3)
		RETURNING id::text, token, agent, address, began_at, used_at`, userID, id, but)
}

const tokensSQL = `SELECT t.id::text, t.user_id::text, t.name, t.hash, t.created_at, t.last_used_at, t.role, t.scope,
		t.scope_id, t.expires_at, coalesce(CASE t.scope
			WHEN 'organisation' THEN (SELECT o.name FROM orgs o WHERE o.id::text = t.scope_id AND o.gone_at IS NULL)
			WHEN 'course' THEN (SELECT c.title FROM courses c WHERE c.id::text = t.scope_id AND c.gone_at IS NULL)
			WHEN 'section' THEN (SELECT s.title FROM sections s WHERE s.id::text = t.scope_id AND s.gone_at IS NULL)
		END, '') AS scope_name FROM api_tokens t`

// Tokens lists those of a user, the latest made first, expired ones too.
func Tokens(ctx context.Context, from db.From, userID string) ([]APIToken, error) {
	return db.Rows[APIToken](ctx, from, "listing tokens", tokensSQL+` WHERE t.user_id = $1
		ORDER BY t.created_at DESC, t.id`, userID)
}

// RemoveToken ends a token of a user, and gives its hash.
func RemoveToken(ctx context.Context, tx *db.Tx, userID, id string) (hash []byte, err error) {
	ended, err := db.Values[[]byte](ctx, tx, "ending the token",
		`DELETE FROM api_tokens WHERE user_id = $1 AND id::text = $2 RETURNING hash`, userID, id)
	if err == nil && len(ended) == 0 {
		return nil, fmt.Errorf("finding the token: %w", db.ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	return ended[0], nil
}
