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

	ProviderID      string // at which they signed in; empty for here
	ProviderSession string // what that calls it, when it says
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
	return db.Rows[Session](ctx, from, "listing sessions", `SELECT `+sessionColumns+`
		FROM sessions WHERE user_id = $1 AND expiry > now() AND data <> '' ORDER BY used_at DESC, id`, userID)
}

// endSessionsSQL ends those that fit what follows, for good.
const endSessionsSQL = `UPDATE sessions SET data = '', expiry = now() + interval '1 hour' WHERE data <> '' AND `

const sessionColumns = `id::text, token, agent, address, began_at, used_at`

// EndSession ends a session of a user by its id, and gives it.
func EndSession(ctx context.Context, to db.From, userID, id string) (Session, error) {
	return db.Row[Session](ctx, to, "ending the session",
		endSessionsSQL+`user_id = $1 AND id::text = $2 RETURNING `+sessionColumns, userID, id)
}

// EndOtherSessions ends all sessions of a user but the one with a token's hash, and gives those that it ended.
func EndOtherSessions(ctx context.Context, to db.From, userID, but string) ([]Session, error) {
	return db.Rows[Session](ctx, to, "ending sessions", endSessionsSQL+`user_id = $1 AND token <> $2 RETURNING `+sessionColumns, userID, but)
}

var tokensSQL = `SELECT t.id::text, t.user_id::text, t.name, t.hash, t.created_at, t.last_used_at, t.role, t.scope,
	t.scope_id, t.expires_at, ` + scopeName("t") + ` AS scope_name FROM api_tokens t`

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
