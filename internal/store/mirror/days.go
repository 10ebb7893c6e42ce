package mirror

import (
	"context"
	"fmt"

	"kanban/internal/store/db"
)

// RegistersToTurn lists the registers of which an enrolment begins or ends by a day, given as
// YYYY-MM-DD. Removed ones stand still.
func RegistersToTurn(ctx context.Context, from db.From, today string) ([]string, error) {
	return db.Values[string](ctx, from, "finding enrolments that begin or end", `
		SELECT DISTINCT w.interface_id::text FROM (SELECT * FROM enrolments WHERE (`+turnsOnce+`) AND `+turns+` <= $1::date) w
		JOIN interfaces c ON c.id = w.interface_id AND c.removed_at IS NULL
		WHERE w.state = 'in' OR `+placeFree, today)
}

// turns is the day on which the state of an enrolment changes by itself, for those of which
// turnsOnce holds; there is an index for it.
const (
	turns     = `(CASE state WHEN 'waiting' THEN begin_date ELSE end_date + 1 END)`
	turnsOnce = `state = 'waiting' OR state = 'in' AND end_date IS NOT NULL`
)

// placeFree says of a waiting enrolment w that no other one holds its place; or it is over already.
const placeFree = `(w.end_date < $1::date OR NOT EXISTS (SELECT 1 FROM enrolments o
	WHERE o.interface_id = w.interface_id AND o.section = w.section AND o.person = w.person AND o.role = w.role
	AND o.state = 'in' AND (o.end_date IS NULL OR o.end_date >= $1::date)))`

// PassDay lets the enrolments of a register begin and end that do so by a day, YYYY-MM-DD.
func PassDay(ctx context.Context, tx *db.Tx, interfaceID, today string) (m Merged, err error) {
	for _, sql := range []string{
		`UPDATE enrolments SET state = 'over', gone_at = now(), changed_at = now() WHERE interface_id = $2 AND (` + turnsOnce + `) AND ` + turns + ` <= $1::date AND state = 'in'`,
		`UPDATE enrolments w SET state = CASE WHEN end_date < $1::date THEN 'over' ELSE 'in' END, changed_at = now(),
			gone_at = CASE WHEN end_date < $1::date THEN gone_at END,
			joined_at = CASE WHEN end_date < $1::date THEN NULL ELSE now() END WHERE interface_id = $2 AND (` + turnsOnce + `) AND ` + turns + ` <= $1::date AND state = 'waiting' AND ` + placeFree,
	} {
		if _, err := db.Exec(ctx, tx, sql, today, interfaceID); err != nil {
			return m, fmt.Errorf("letting enrolments begin and end: %w", err)
		}
	}
	return m, moved(ctx, tx, interfaceID, &m)
}

// ReadAnew lets the next read look at every record that holds dates, unchanged or not.
func ReadAnew(ctx context.Context, tx *db.Tx, interfaceID string) error {
	for _, table := range []string{"terms", "enrolments"} {
		if _, err := db.Exec(ctx, tx, `UPDATE `+table+` SET row_hash = NULL WHERE interface_id = $1`,
			interfaceID); err != nil {
			return fmt.Errorf("letting everything be read anew: %w", err)
		}
	}
	return nil
}
