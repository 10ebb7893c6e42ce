package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kanban/internal/core/rest"
)

// Why deliveries wait because of their connection.
const (
	HeldPaused  = "the connection is paused"
	HeldResting = "the service keeps failing and rests"
)

// Rest is a service, or one operation of it, that fails in a row.
type Rest struct {
	ConnectionID string
	Operation    string // '' is the service itself
	Title        string // of the operation, for people
	Reason       string
	Failures     int
	Rests        int
	Since        *time.Time
	CountedAt    *time.Time
	RestsUntil   *time.Time
}

func (r Rest) record() rest.Record {
	return rest.Record{Failures: r.Failures, Since: at(r.Since), Counted: at(r.CountedAt), Until: at(r.RestsUntil), Rests: r.Rests, Reason: r.Reason}
}

func at(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

func orNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// Rests lists what fails in a row, at one connection or (id empty) at all.
func (s *Store) Rests(ctx context.Context, connectionID string) (all []Rest, err error) {
	q := s.reader(ctx).Order("connection_id, operation")
	if connectionID != "" {
		q = q.Where("connection_id = ?", connectionID)
	}
	err = q.Find(&all).Error
	return all, known(err, "listing what rests")
}

// WaitingFor counts the deliveries that wait for a service that rests or for one operation
// of it.
func (s *Store) WaitingFor(ctx context.Context, connectionID, operation string) (n int, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT count(*) FROM deliveries WHERE connection_id = $1 AND state IN ('queued', 'retrying') AND ($2 = '' OR held_for = $2)`, connectionID, operation).Scan(&n)
	return n, known(err, "counting what waits")
}

// CountFailure changes what is known of a service or operation by a function, and gives
// what it then is.
func (tx *Tx) CountFailure(ctx context.Context, connectionID, operation, title string, count func(rest.Record) rest.Record) (rest.Record, error) {
	rows, err := tx.PGX.Query(ctx, `WITH new AS (INSERT INTO rests (connection_id, operation) SELECT id, $2 FROM connections WHERE id = $1 ON CONFLICT DO NOTHING)
		SELECT connection_id::text, operation, title, reason, failures, rests, since, counted_at, rests_until FROM rests WHERE connection_id = $1 AND operation = $2 FOR UPDATE`, connectionID, operation)
	if err != nil {
		return rest.Record{}, known(err, "counting a failure")
	}
	found, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Rest])
	if err != nil {
		return rest.Record{}, known(err, "counting a failure")
	}
	var was Rest
	if len(found) > 0 {
		was = found[0]
	}
	now := count(was.record())
	_, err = tx.PGX.Exec(ctx, `UPDATE rests SET title = $3, reason = $4, failures = $5, rests = $6, since = $7, counted_at = $8, rests_until = $9 WHERE connection_id = $1 AND operation = $2`,
		connectionID, operation, title, storable(now.Reason), now.Failures, now.Rests, orNil(now.Since), orNil(now.Counted), orNil(now.Until))
	return now, known(err, "counting a failure")
}

// Worked ends the failures of a service (no operation) or of one operation, and lets what
// waited for it go on. ok is false when there were none.
func (tx *Tx) Worked(ctx context.Context, connectionID, operation string) (ok bool, err error) {
	tag, err := tx.PGX.Exec(ctx, `DELETE FROM rests WHERE connection_id = $1 AND operation = $2`, connectionID, operation)
	if err != nil || tag.RowsAffected() == 0 {
		return false, known(err, "ending a rest")
	}
	if operation != "" {
		_, err = tx.PGX.Exec(ctx, `UPDATE deliveries SET next_at = NULL, held = '' WHERE connection_id = $1 AND held_for = $2 AND state IN ('queued', 'retrying')`, connectionID, operation)
	}
	tx.due = true
	return true, known(err, "ending a rest")
}

// WorkedAll ends the rests of a service and of all its operations.
func (tx *Tx) WorkedAll(ctx context.Context, connectionID string) error {
	rows, err := tx.PGX.Query(ctx, `SELECT operation FROM rests WHERE connection_id = $1`, connectionID)
	if err != nil {
		return known(err, "ending rests")
	}
	all, err := pgx.CollectRows(rows, pgx.RowTo[string])
	for _, operation := range all {
		if _, err := tx.Worked(ctx, connectionID, operation); err != nil {
			return err
		}
	}
	return known(err, "ending rests")
}

// LetThrough lets exactly one caller see whether what rests works again, once its rest is
// over; for all others it rests on for as long as said.
func (s *Store) LetThrough(ctx context.Context, connectionID, operation string, now time.Time, again time.Duration) (yes bool, err error) {
	tag, err := s.Pool.Exec(ctx, `UPDATE rests SET rests_until = $3 WHERE connection_id = $1 AND operation = $2 AND rests_until <= $4`, connectionID, operation, now.Add(again), now)
	return tag.RowsAffected() == 1, known(err, "looking whether a connection rests")
}

// ConnectionsOf lists the connections to which deliveries go.
func (tx *Tx) ConnectionsOf(ctx context.Context, deliveryIDs []string) ([]string, error) {
	rows, err := tx.PGX.Query(ctx, `SELECT DISTINCT connection_id::text FROM deliveries WHERE id = ANY ($1::text[]::uuid[]) AND connection_id IS NOT NULL ORDER BY 1`, deliveryIDs)
	if err != nil {
		return nil, known(err, "finding connections")
	}
	all, err := pgx.CollectRows(rows, pgx.RowTo[string])
	return all, known(err, "finding connections")
}
