package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kanban/internal/core/roster"
)

// Connection is a configured outside system.
type Connection struct {
	ID          string
	Name        string
	Kind        string
	Settings    map[string]string `gorm:"serializer:json"`
	Secret      []byte            // sealed JSON object of secret values
	Probe       json.RawMessage   `gorm:"serializer:json"`
	Matching    *roster.Matching  `gorm:"serializer:json"` // nil is the default
	ProbedAt    *time.Time
	Trouble     string // why the latest comparison through it did not come about
	TroubleCode string
	PausedAt    *time.Time
	Version     int
	CreatedAt   time.Time
	UpdatedAt   time.Time
}

// Recognise is how people are recognised at the connection.
func (c Connection) Recognise() roster.Matching {
	if c.Matching == nil {
		return roster.DefaultMatching()
	}
	return *c.Matching
}

// Connections lists all, ordered by name.
func (s *Store) Connections(ctx context.Context) (all []Connection, err error) {
	err = s.reader(ctx).Order("name").Find(&all).Error
	return all, known(err, "listing connections")
}

// Connection finds one by id.
func (s *Store) Connection(ctx context.Context, id string) (c Connection, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&c).Error
	return c, known(err, "finding the connection")
}

// UpdateConnection writes an edited connection whose version must still be the
// one that was read.
func (tx *Tx) UpdateConnection(c *Connection) error {
	read := c.Version
	c.Version++
	c.UpdatedAt = time.Now().UTC()
	done := tx.DB.Where("id = ? AND version = ?", c.ID, read).Select("name", "settings", "secret", "probe", "probed_at", "paused_at", "matching", "version", "updated_at").Updates(c)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the connection: %w", ErrStale)
	}
	return known(done.Error, "changing the connection")
}

// ConnectionByKey finds the one of a kind with a key among its settings; only what is
// needed to let it in is read.
func (s *Store) ConnectionByKey(ctx context.Context, kind, key string) (c Connection, err error) {
	err = s.Quick.QueryRow(ctx, `SELECT id::text, name, kind, settings, secret, version FROM connections WHERE kind = $1 AND settings->>'key' = $2 ORDER BY id LIMIT 1`, kind, key).
		Scan(&c.ID, &c.Name, &c.Kind, &c.Settings, &c.Secret, &c.Version)
	return c, known(err, "finding the connection")
}

// DeleteConnection removes a connection with everything read through it.
// ErrTaken means that pairings still use it.
func (tx *Tx) DeleteConnection(ctx context.Context, id string) error {
	var used bool
	err := tx.PGX.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM pairings WHERE connection_id = $1)`, id).Scan(&used)
	if err == nil && used {
		return fmt.Errorf("removing the connection: pairings use it: %w", ErrTaken)
	}
	if err == nil {
		err = tx.DropMirror(ctx, id)
	}
	if err == nil {
		_, err = tx.PGX.Exec(ctx, `DELETE FROM statements WHERE connection_id = $1`, id)
	}
	if err == nil {
		_, err = tx.PGX.Exec(ctx, `DELETE FROM connections WHERE id = $1`, id)
	}
	return known(err, "removing the connection")
}

// KeepProbe stores what a probe found.
func (tx *Tx) KeepProbe(ctx context.Context, id string, probe any, at time.Time) error {
	text, err := json.Marshal(probe)
	if err != nil {
		return err
	}
	_, err = tx.PGX.Exec(ctx, `UPDATE connections SET probe = $2, probed_at = $3 WHERE id = $1`, id, string(text), at)
	return known(err, "keeping the probe")
}

// Link stores whose account this is; a person's earlier account is replaced.
func (tx *Tx) Link(ctx context.Context, connectionID, remoteID, personID string) error {
	// The old one goes first: a statement that did both would not see that its place is free.
	_, err := tx.PGX.Exec(ctx, `DELETE FROM accounts WHERE connection_id = $1 AND person_id = $3 AND remote_id <> $2`, connectionID, remoteID, personID)
	if err == nil {
		_, err = tx.PGX.Exec(ctx, `INSERT INTO accounts (connection_id, remote_id, person_id) VALUES ($1, $2, $3)
		ON CONFLICT (connection_id, remote_id) DO UPDATE SET person_id = excluded.person_id`, connectionID, remoteID, personID)
	}
	return known(err, "storing the account")
}

// EventsFrom reports whether any event was reported through a connection.
func (s *Store) EventsFrom(ctx context.Context, connectionID string) (yes bool, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM events WHERE type = 'service.reported' AND data->>'connectionId' = $1)`, connectionID).Scan(&yes)
	return yes, known(err, "looking for reported events")
}

// StatementsFrom counts the statements that came through a connection.
func (s *Store) StatementsFrom(ctx context.Context, connectionID string) (n int, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT count(*) FROM statements WHERE connection_id = $1`, connectionID).Scan(&n)
	return n, known(err, "counting statements")
}
