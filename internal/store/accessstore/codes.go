package accessstore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/store/db"
)

// Codes are somebody's one-time codes (RFC 6238).
type Codes struct {
	UserID       string
	Sealed       []byte // the secret of which they are made
	BegunAt      time.Time
	OnSince      *time.Time // nil until the first one was right
	LastStep     int64      // the time step of the last that was taken, in intervals since 1970
	RecoveryLeft int        // recovery codes that were not used
}

const codesSQL = `SELECT c.user_id::text, c.sealed, c.begun_at, c.on_since, c.last_step,
	(SELECT count(*) FROM recovery_codes r WHERE r.user_id = c.user_id AND r.used_at IS NULL) AS recovery_left
	FROM one_time_codes c WHERE c.user_id = $1`

// FindCodes gives somebody's; those that they never set up are db.ErrNotFound.
func FindCodes(ctx context.Context, from db.From, userID string) (Codes, error) {
	return db.Row[Codes](ctx, from, "finding one-time codes", codesSQL, userID)
}

// LockCodes is FindCodes, and keeps others from taking one until the transaction ends.
func LockCodes(ctx context.Context, tx *db.Tx, userID string) (Codes, error) {
	return db.Row[Codes](ctx, tx, "finding one-time codes", codesSQL+` FOR UPDATE OF c`, userID)
}

// BeginCodes keeps the sealed secret of codes that count once the first was right. Codes that are on stay:
// db.ErrTaken.
func BeginCodes(ctx context.Context, tx *db.Tx, userID string, sealed []byte) error {
	changed, err := db.Exec(ctx, tx, `INSERT INTO one_time_codes (user_id, sealed) VALUES ($1, $2)
		ON CONFLICT (user_id) DO UPDATE SET sealed = excluded.sealed, begun_at = now(), last_step = 0
		WHERE one_time_codes.on_since IS NULL`, userID, sealed)
	if err == nil && changed == 0 {
		return fmt.Errorf("beginning one-time codes: %w", db.ErrTaken)
	}
	return db.Known(err, "beginning one-time codes")
}

// TakeCode notes the step of a code that was right: neither it nor an earlier one is taken again. The first one turns
// the codes on.
func TakeCode(ctx context.Context, tx *db.Tx, userID string, step int64, at time.Time) error {
	changed, err := db.Exec(ctx, tx, `UPDATE one_time_codes SET last_step = $2, on_since = coalesce(on_since, $3)
		WHERE user_id = $1 AND last_step < $2`, userID, step, at)
	if err == nil && changed == 0 {
		return fmt.Errorf("taking a code: %w", db.ErrNotFound)
	}
	return db.Known(err, "taking a code")
}

// KeepRecoveryCodes keeps the hashes of somebody's recovery codes in place of those that they had.
func KeepRecoveryCodes(ctx context.Context, tx *db.Tx, userID string, hashes [][]byte) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM recovery_codes WHERE user_id = $1`, userID)
	for _, h := range hashes {
		if err == nil {
			_, err = db.Exec(ctx, tx, `INSERT INTO recovery_codes (user_id, hash) VALUES ($1, $2)`, userID, h)
		}
	}
	return db.Known(err, "keeping recovery codes")
}

// UseRecoveryCode spends one; one that there is not, or that was spent, is db.ErrNotFound.
func UseRecoveryCode(ctx context.Context, tx *db.Tx, userID string, hash []byte, at time.Time) error {
	changed, err := db.Exec(ctx, tx, `UPDATE recovery_codes SET used_at = $3
		WHERE user_id = $1 AND hash = $2 AND used_at IS NULL`, userID, hash, at)
	if err == nil && changed == 0 {
		return fmt.Errorf("using a recovery code: %w", db.ErrNotFound)
	}
	return db.Known(err, "using a recovery code")
}

// RemoveCodes ends somebody's codes; there says whether they had any that were on.
func RemoveCodes(ctx context.Context, tx *db.Tx, userID string) (there bool, err error) {
	were, err := db.Values[bool](ctx, tx, "ending one-time codes",
		`DELETE FROM one_time_codes WHERE user_id = $1 RETURNING on_since IS NOT NULL`, userID)
	return len(were) == 1 && were[0], err
}

// WithCodes gives the ids of the users whose codes are on.
func WithCodes(ctx context.Context, from db.From) (map[string]bool, error) {
	ids, err := db.Values[string](ctx, from, "listing who has one-time codes",
		`SELECT user_id::text FROM one_time_codes WHERE on_since IS NOT NULL`)
	out := make(map[string]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, err
}
