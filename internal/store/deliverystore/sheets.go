package deliverystore

import (
	"context"
	"encoding/json"
	"time"

	"kanban/internal/store/db"
)

// Sheet is a sheet that rules fill.
type Sheet struct {
	Name string    `json:"name"`
	Rows int       `json:"rows"`
	Last time.Time `json:"last" doc:"When the latest row was added"`
}

// aboutPeople says of a row r that it is about no test learner.
var aboutPeople = `NOT EXISTS (SELECT 1 FROM proofs t JOIN deliveries d ON d.person_id = t.person_id
	WHERE t.ended_at IS NULL AND d.id = r.delivery_id)`

// Sheets lists them, ordered by name.
func Sheets(ctx context.Context, from db.From) ([]Sheet, error) {
	return db.Rows[Sheet](ctx, from, "listing sheets", `SELECT min(sheet) AS name, count(*)::int AS rows,
		max(at) AS last FROM sheet_rows r WHERE `+aboutPeople+` GROUP BY lower(sheet) ORDER BY 1`)
}

// SheetRow is one row: its cells by column.
type SheetRow struct {
	At    time.Time
	Cells map[string]any
}

// SheetRows lists the rows of a sheet, the oldest first.
func SheetRows(ctx context.Context, from db.From, name string) ([]SheetRow, error) {
	return db.Rows[SheetRow](ctx, from, "reading a sheet", `SELECT at, cells FROM sheet_rows r
		WHERE lower(sheet) = lower($1) AND `+aboutPeople+` ORDER BY id`, name)
}

// AppendRow adds a row to a sheet; the same delivery adds one only.
func AppendRow(ctx context.Context, tx *db.Tx, sheet, deliveryID string, cells map[string]any) error {
	text, err := json.Marshal(cells)
	if err == nil {
		_, err = db.Exec(ctx, tx, `INSERT INTO sheet_rows (sheet, delivery_id, cells) VALUES ($1, $2, $3)
			ON CONFLICT (delivery_id) DO NOTHING`, sheet, deliveryID, string(text))
	}
	return db.Known(err, "adding to a sheet")
}

// Pickup is an enrolment for a course platform to pick up.
type Pickup struct {
	InterfaceID string
	Person      string // identifiers of the register
	Section     string
	Role        string
	Active      bool
	ChangedAt   time.Time
}

// KeepPickup keeps the latest state of an enrolment.
func KeepPickup(ctx context.Context, tx *db.Tx, p Pickup) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO pickups (interface_id, person, section, role, active)
		VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (interface_id, person, section) DO UPDATE SET active = excluded.active, role = excluded.role,
			changed_at = now()`, p.InterfaceID, p.Person, p.Section, p.Role, p.Active)
	return db.Known(err, "keeping an enrolment to be picked up")
}

// Pickups lists what has changed after a time, the oldest first, and gives the time after
// which to ask the next time. That is before anything that is just being written: what is
// written with an earlier time and seen later would be missed, so that some may be given
// twice instead.
func Pickups(ctx context.Context, from db.From, interfaceID string, since time.Time) (list []Pickup, next time.Time,
	err error,
) {
	// Times are those of the beginning of transactions, whose own queries come after it.
	var earliest time.Time
	if err := db.Into(ctx, from, &earliest, `SELECT least(min(xact_start),
		clock_timestamp()) - interval '1 microsecond' FROM pg_stat_activity
		WHERE datname = current_database() AND pid <> pg_backend_pid()`); err != nil {
		return nil, since, db.Known(err, "listing what is to be picked up")
	}
	list, err = db.Rows[Pickup](ctx, from, "listing what is to be picked up", `SELECT interface_id::text, person,
		section, role, active, changed_at FROM pickups
		WHERE interface_id = $1 AND changed_at > $2 ORDER BY changed_at, person, section`, interfaceID, since)
	next = since
	if len(list) > 0 {
		next = list[len(list)-1].ChangedAt
	}
	if earliest.Before(next) {
		next = earliest
	}
	if next.Before(since) {
		next = since
	}
	return list, next, err
}
