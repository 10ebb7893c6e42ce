package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// Setting reads a value of the installation into into; ok is false when it was
// never set.
func (s *Store) Setting(ctx context.Context, name string, into any) (ok bool, err error) {
	var text []byte
	err = s.Pool.QueryRow(ctx, `SELECT value FROM installation WHERE name = $1`, "setting/"+name).Scan(&text)
	if errors.Is(err, pgx.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, known(err, "reading a setting")
	}
	return true, json.Unmarshal(text, into)
}

// Maintenance says that everything is paused, since when, by whom and why.
type Maintenance struct {
	Since *time.Time `json:"since,omitempty"` // nil when nothing is paused
	By    string     `json:"by,omitempty"`
	Note  string     `json:"note,omitempty"`
}

// Maintenance tells whether everything is paused.
func (s *Store) Maintenance(ctx context.Context) (m Maintenance, err error) {
	_, err = s.Setting(ctx, "maintenance", &m)
	return m, err
}

// Set keeps a value of the installation.
func (tx *Tx) Set(ctx context.Context, name string, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	_, err = tx.PGX.Exec(ctx, `INSERT INTO installation (name, value) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET value = excluded.value`, "setting/"+name, text)
	return known(err, "keeping a setting")
}
