package launchstore

import (
	"context"
	"time"

	"kanban/internal/store/db"
)

// Key is one with which this installation signs as a tool; the private part is sealed.
type Key struct {
	ID        string
	Key       []byte
	CreatedAt time.Time
	RetiredAt *time.Time
}

// Keys lists those that sign, or signed not long ago, the newest first.
func Keys(ctx context.Context, from db.From) ([]Key, error) {
	return db.Rows[Key](ctx, from, "listing keys", `SELECT id, key, created_at, retired_at FROM tool_keys
		ORDER BY retired_at IS NOT NULL, created_at DESC`)
}

// AddKey keeps the first key; ErrTaken says that there is one by now.
func AddKey(ctx context.Context, tx *db.Tx, k Key) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO tool_keys (id, key, created_at) VALUES ($1, $2, $3)`, k.ID, k.Key, k.CreatedAt)
	return db.Known(err, "keeping the key")
}

// ReplaceKey signs with another key from now on. Those that were retired before a time are removed.
func ReplaceKey(ctx context.Context, tx *db.Tx, k Key, over time.Time) error {
	if _, err := db.Exec(ctx, tx, `DELETE FROM tool_keys WHERE retired_at < $1`, over); err != nil {
		return db.Known(err, "removing old keys")
	}
	if _, err := db.Exec(ctx, tx, `UPDATE tool_keys SET retired_at = $1 WHERE retired_at IS NULL`, k.CreatedAt); err != nil {
		return db.Known(err, "retiring the key")
	}
	return AddKey(ctx, tx, k)
}

// Registration is an address at which a platform can register this installation by itself.
type Registration struct {
	ID          string
	Name        string // of the connection that is made
	MadeBy      string
	CreatedAt   time.Time
	ExpiresAt   time.Time
	UsedAt      *time.Time
	InterfaceID *string // that came of it
}

const registrationColumns = `r.id::text, r.name, r.made_by, r.created_at, r.expires_at, r.used_at, r.interface_id::text`

// KeepRegistration keeps one under the hash of its token.
func KeepRegistration(ctx context.Context, tx *db.Tx, r Registration, token []byte) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO tool_registrations (id, token, name, made_by, created_at, expires_at)
		VALUES ($1, $2, $3, $4, $5, $6)`, r.ID, token, r.Name, r.MadeBy, r.CreatedAt, r.ExpiresAt)
	return db.Known(err, "keeping the registration address")
}

// FindRegistration finds one by the hash of its token.
func FindRegistration(ctx context.Context, from db.From, token []byte) (Registration, error) {
	return db.Row[Registration](ctx, from, "finding the registration address", `SELECT `+registrationColumns+`
		FROM tool_registrations r WHERE r.token = $1`, token)
}

// ClaimRegistration uses one up, once, until a time.
func ClaimRegistration(ctx context.Context, tx *db.Tx, id string, at time.Time) error {
	n, err := db.Exec(ctx, tx, `UPDATE tool_registrations SET used_at = $2 WHERE id = $1 AND used_at IS NULL
		AND expires_at > $2`, id, at)
	if err == nil && n == 0 {
		err = db.ErrNotFound
	}
	return db.Known(err, "using the registration address")
}

// ReleaseRegistration lets one be used again that came to nothing.
func ReleaseRegistration(ctx context.Context, tx *db.Tx, id string) error {
	_, err := db.Exec(ctx, tx, `UPDATE tool_registrations SET used_at = NULL WHERE id = $1 AND interface_id IS NULL`, id)
	return db.Known(err, "releasing the registration address")
}

// EndRegistration keeps what came of one.
func EndRegistration(ctx context.Context, tx *db.Tx, id, interfaceID string) error {
	_, err := db.Exec(ctx, tx, `UPDATE tool_registrations SET interface_id = $2 WHERE id = $1`, id, interfaceID)
	return db.Known(err, "keeping what came of the registration address")
}

// Registrations lists those that were made since a time, the newest first.
func Registrations(ctx context.Context, from db.From, since time.Time) ([]Registration, error) {
	return db.Rows[Registration](ctx, from, "listing registration addresses", `SELECT `+registrationColumns+`
		FROM tool_registrations r WHERE r.created_at >= $1 ORDER BY r.created_at DESC`, since)
}

// RemoveRegistration removes one that was not used.
func RemoveRegistration(ctx context.Context, tx *db.Tx, id string) error {
	n, err := db.Exec(ctx, tx, `DELETE FROM tool_registrations WHERE id::text = $1 AND used_at IS NULL`, id)
	if err == nil && n == 0 {
		err = db.ErrNotFound
	}
	return db.Known(err, "removing the registration address")
}

// PlatformOf finds the interface by which a platform with this issuer has joined: with a client id the one of it,
// without one the only one there is. Removed ones are not there.
func PlatformOf(ctx context.Context, from db.From, kind, issuer, clientID string) (ids []string, err error) {
	err = db.Into(ctx, from, &ids, `SELECT coalesce(array_agg(i.id::text ORDER BY i.created_at), '{}') FROM interfaces i
		WHERE i.kind = $1 AND i.removed_at IS NULL AND i.settings->>'issuer' = $2
			AND ($3 = '' OR i.settings->>'clientId' = $3)`, kind, issuer, clientID)
	return ids, db.Known(err, "finding the platform")
}
