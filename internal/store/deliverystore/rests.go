package deliverystore

import (
	"context"
	"time"

	"kanban/internal/core/rest"
	"kanban/internal/store/db"
)

// Why deliveries wait because of their interface.
const (
	HeldPaused  = "the interface is paused"
	HeldResting = "the service keeps failing and rests"
)

// Rest is a service, or one operation of it, that fails in a row.
type Rest struct {
	InterfaceID string
	Operation   string // '' is the service itself
	Title       string // of the operation, for people
	Reason      string
	Failures    int
	Rests       int
	Since       *time.Time
	CountedAt   *time.Time
	RestsUntil  *time.Time
}

func (r Rest) record() rest.Record {
	return rest.Record{
		Failures: r.Failures, Since: at(r.Since), Counted: at(r.CountedAt), Until: at(r.RestsUntil),
		Rests: r.Rests, Reason: r.Reason,
	}
}

func at(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// Rests lists what fails in a row, at one interface or (id empty) at all.
func Rests(ctx context.Context, from db.From, interfaceID string) (all []Rest, err error) {
	q := from.Records(ctx).Order("interface_id, operation")
	if interfaceID != "" {
		q = q.Where("interface_id = ?", interfaceID)
	}
	err = q.Find(&all).Error
	return all, db.Known(err, "listing what rests")
}

// WaitingFor counts the deliveries that wait for a service that rests or for one operation
// of it.
func WaitingFor(ctx context.Context, from db.From, interfaceID, operation string) (n int, err error) {
	err = db.Into(ctx, from, &n, `SELECT count(*) FROM deliveries WHERE interface_id = $1
		AND state IN ('queued', 'retrying') AND ($2 = '' OR held_for = $2)`, interfaceID, operation)
	return n, db.Known(err, "counting what waits")
}

// CountFailure changes what is known of a service or operation by a function, and gives
// what it then is.
func CountFailure(ctx context.Context, tx *db.Tx, interfaceID, operation, title string,
	count func(rest.Record) rest.Record,
) (rest.Record, error) {
	found, err := db.Rows[Rest](ctx, tx, "counting a failure", `WITH new AS (INSERT INTO rests (interface_id,
		operation) SELECT id, $2 FROM interfaces WHERE id = $1 ON CONFLICT DO NOTHING)
		SELECT interface_id::text, operation, title, reason, failures, rests, since, counted_at, rests_until
			FROM rests WHERE interface_id = $1 AND operation = $2 FOR UPDATE`, interfaceID, operation)
	if err != nil {
		return rest.Record{}, db.Known(err, "counting a failure")
	}
	var was Rest
	if len(found) > 0 {
		was = found[0]
	}
	now := count(was.record())
	_, err = db.Exec(ctx, tx, `UPDATE rests SET title = $3, reason = $4, failures = $5, rests = $6, since = $7,
		counted_at = $8, rests_until = $9 WHERE interface_id = $1 AND operation = $2`,
		interfaceID, operation, title, storable(now.Reason), now.Failures, now.Rests, db.OrNil(now.Since),
		db.OrNil(now.Counted), db.OrNil(now.Until))
	return now, db.Known(err, "counting a failure")
}

// EndFailures ends the failures of a service (no operation) or of one operation, and lets what
// waited for it go on. ok is false when there were none.
func EndFailures(ctx context.Context, tx *db.Tx, interfaceID, operation string) (ok bool, err error) {
	changed, err := db.Exec(ctx, tx, `DELETE FROM rests WHERE interface_id = $1 AND operation = $2`, interfaceID,
		operation)
	if err != nil || changed == 0 {
		return false, db.Known(err, "ending a rest")
	}
	if operation != "" {
		_, err = db.Exec(ctx, tx, `UPDATE deliveries SET next_at = NULL, held = ''
			WHERE interface_id = $1 AND held_for = $2 AND state IN ('queued', 'retrying')`, interfaceID, operation)
	}
	tx.Due = true
	return true, db.Known(err, "ending a rest")
}

// EndAllFailures ends the rests of a service and of all its operations.
func EndAllFailures(ctx context.Context, tx *db.Tx, interfaceID string) error {
	all, err := db.Values[string](ctx, tx, "ending rests", `SELECT operation FROM rests WHERE interface_id = $1`,
		interfaceID)
	for _, operation := range all {
		if _, err := EndFailures(ctx, tx, interfaceID, operation); err != nil {
			return err
		}
	}
	return err
}

// TryDuringRest lets exactly one caller see whether what rests works again, once its rest is
// over; for all others it rests on for as long as said.
func TryDuringRest(ctx context.Context, from db.From, interfaceID, operation string, now time.Time,
	again time.Duration,
) (yes bool, err error) {
	changed, err := db.Exec(ctx, from, `UPDATE rests SET rests_until = $3
		WHERE interface_id = $1 AND operation = $2 AND rests_until <= $4`, interfaceID, operation, now.Add(again), now)
	return changed == 1, db.Known(err, "looking whether an interface rests")
}

// InterfacesOf lists the interfaces to which deliveries go.
func InterfacesOf(ctx context.Context, tx *db.Tx, deliveryIDs []string) ([]string, error) {
	return db.Values[string](ctx, tx, "finding interfaces", `SELECT DISTINCT interface_id::text FROM deliveries
		WHERE id = ANY ($1::text[]::uuid[]) AND interface_id IS NOT NULL ORDER BY 1`, deliveryIDs)
}
