package accessstore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/store/db"
)

// DeviceRequest is what a program asks that somebody allows in a browser (RFC 8628).
type DeviceRequest struct {
	DeviceHash []byte // of the code by which the program asks again
	UserCode   string // what the person enters, without its hyphen
	Name       string // what the program says it is
	Agent      string
	Address    string // from which it asked
	AskedAt    time.Time
	ExpiresAt  time.Time
	PolledAt   *time.Time
	Every      int     // seconds between two polls
	UserID     *string // who answered
	Allowed    bool
}

const deviceColumns = `device_hash, user_code, name, agent, address, asked_at, expires_at, polled_at, every,
	user_id::text, allowed`

// AddDeviceRequest keeps one, and removes those that have expired for an hour. A user code that another one has is
// db.ErrTaken.
func AddDeviceRequest(ctx context.Context, tx *db.Tx, d *DeviceRequest) error {
	if _, err := db.Exec(ctx, tx, `DELETE FROM device_requests WHERE expires_at < $1::timestamptz - interval '1 hour'`,
		d.AskedAt); err != nil {
		return db.Known(err, "removing old requests of programs")
	}
	return db.Create(tx, d, "keeping what a program asks")
}

// FindDeviceRequest finds one that waits for an answer by what a person enters.
func FindDeviceRequest(ctx context.Context, from db.From, userCode string, at time.Time) (DeviceRequest, error) {
	return db.Row[DeviceRequest](ctx, from, "finding the code", `SELECT `+deviceColumns+` FROM device_requests
		WHERE user_code = $1 AND expires_at > $2 AND user_id IS NULL`, userCode, at)
}

// AnswerDeviceRequest keeps a person's answer; one that was answered or has expired is db.ErrNotFound.
func AnswerDeviceRequest(ctx context.Context, tx *db.Tx, userCode, userID string, allowed bool, at time.Time) error {
	changed, err := db.Exec(ctx, tx, `UPDATE device_requests SET user_id = $2, allowed = $3
		WHERE user_code = $1 AND expires_at > $4 AND user_id IS NULL`, userCode, userID, allowed, at)
	if err == nil && changed == 0 {
		return fmt.Errorf("finding the code: %w", db.ErrNotFound)
	}
	return db.Known(err, "answering a program")
}

// LockDeviceRequest finds one by the hash of the program's code, and keeps others from it until the transaction ends.
func LockDeviceRequest(ctx context.Context, tx *db.Tx, hash []byte) (DeviceRequest, error) {
	return db.Row[DeviceRequest](ctx, tx, "finding what a program asked", `SELECT `+deviceColumns+`
		FROM device_requests WHERE device_hash = $1 FOR UPDATE`, hash)
}

// NotePoll keeps when a program asked again, and how long it has to wait before the next time, in seconds.
func NotePoll(ctx context.Context, tx *db.Tx, hash []byte, at time.Time, every int) error {
	_, err := db.Exec(ctx, tx, `UPDATE device_requests SET polled_at = $2, every = $3 WHERE device_hash = $1`, hash, at,
		every)
	return db.Known(err, "noting that a program asked again")
}

// RemoveDeviceRequest removes one.
func RemoveDeviceRequest(ctx context.Context, tx *db.Tx, hash []byte) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM device_requests WHERE device_hash = $1`, hash)
	return db.Known(err, "removing what a program asked")
}
