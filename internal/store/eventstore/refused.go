package eventstore

import (
	"context"
	"time"

	"kanban/internal/store/db"
)

// RefusedKind says what was refused of what a service reported.
type RefusedKind string

// The kinds.
const (
	RefusedSignature RefusedKind = "signature" // requests that are not properly signed
	RefusedEvent     RefusedKind = "event"     // events that cannot be used
)

// RefusedReports counts what was refused of what a service reported.
type RefusedReports struct {
	InterfaceID string
	Interface   string // its name
	Kind        RefusedKind
	Count       int
	Detail      string    // why the latest was
	At          time.Time // when that was
}

// longestDetail bounds what is kept of the reason, in characters: some of it is the sender's.
const longestDetail = 300

// CountRefused adds to what was refused today, in UTC.
func CountRefused(ctx context.Context, to db.From, interfaceID string, kind RefusedKind, count int, detail string,
	at time.Time,
) error {
	_, err := db.Exec(ctx, to, `INSERT INTO refused_reports (interface_id, kind, day, count, detail, at)
		VALUES ($1, $2, ($6::timestamptz AT TIME ZONE 'UTC')::date, $3, left($4, $5), $6)
		ON CONFLICT (interface_id, kind, day) DO UPDATE SET count = refused_reports.count + excluded.count,
			detail = excluded.detail, at = excluded.at`, interfaceID, kind, count, detail, longestDetail, at)
	return db.Known(err, "counting what was refused")
}

// RefusedSince lists what was refused on a day and later, by interface and kind.
func RefusedSince(ctx context.Context, from db.From, since time.Time) ([]RefusedReports, error) {
	return db.Rows[RefusedReports](ctx, from, "listing what was refused", `SELECT c.id::text AS interface_id,
		c.name AS interface, r.kind, sum(r.count)::int AS count, (array_agg(r.detail ORDER BY r.at DESC))[1] AS detail,
		max(r.at) AS at FROM refused_reports r JOIN interfaces c ON c.id = r.interface_id
		WHERE r.day >= $1::date AND c.removed_at IS NULL GROUP BY c.id, c.name, r.kind ORDER BY c.name, r.kind`,
		since.UTC().Format(time.DateOnly))
}

// ForgetRefused removes the counts of the days before one.
func ForgetRefused(ctx context.Context, to db.From, before time.Time) error {
	_, err := db.Exec(ctx, to, `DELETE FROM refused_reports WHERE day < $1::date`, before.UTC().Format(time.DateOnly))
	return db.Known(err, "removing old counts of what was refused")
}
