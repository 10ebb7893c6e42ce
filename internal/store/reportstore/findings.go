// Package reportstore keeps what people acknowledged of the findings.
package reportstore

import (
	"context"
	"time"

	"kanban/internal/store/db"
)

// Acknowledgement says that somebody has seen a finding and why it may stay.
type Acknowledgement struct {
	Key  string
	Note string
	By   string
	At   time.Time
}

// Acknowledgements gives them all, by the finding's key.
func Acknowledgements(ctx context.Context, from db.From) (map[string]Acknowledgement, error) {
	list, err := db.Rows[Acknowledgement](ctx, from, "listing acknowledgements", `SELECT key, note, by_whom AS by, at
		FROM acknowledgements`)
	out := make(map[string]Acknowledgement, len(list))
	for _, a := range list {
		out[a.Key] = a
	}
	return out, err
}

// Acknowledge keeps that somebody has seen a finding.
func Acknowledge(ctx context.Context, tx *db.Tx, key, note, who string) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO acknowledgements (key, note, by_whom) VALUES ($1, $2, $3)
		ON CONFLICT (key) DO UPDATE SET note = excluded.note, by_whom = excluded.by_whom, at = now()`, key, note, who)
	return db.Known(err, "acknowledging the finding")
}

// DropAcknowledgement drops an acknowledgement.
func DropAcknowledgement(ctx context.Context, tx *db.Tx, key string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM acknowledgements WHERE key = $1`, key)
	return db.Known(err, "reopening the finding")
}
