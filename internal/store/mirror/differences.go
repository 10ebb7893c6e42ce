package mirror

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"kanban/internal/store/db"
)

// Difference is one field of a record that a read changed.
type Difference struct {
	Table  string `json:"table"`
	ID     string `json:"id"`  // its sourced id
	Who    string `json:"who"` // name or title, as it was before
	Field  string `json:"field"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// maxDifferences bounds how many one read keeps of each table.
const maxDifferences = 500

// whose names a record m of a table for people.
var whose = map[string]string{
	"people": `m.given_name || ' ' || m.family_name`, "sections": `m.title || ' (' || m.code || ')'`,
	"orgs": `m.name`,
	"enrolments": `coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p
		WHERE p.interface_id = m.interface_id AND p.sourced_id = m.person), m.person)
		|| ', ' || coalesce((SELECT x.title FROM sections x WHERE x.interface_id = m.interface_id
			AND x.sourced_id = m.section), m.section)`,
}

// KeepDifferences keeps whose records a read changed.
func KeepDifferences(ctx context.Context, tx *db.Tx, runID string, list []Difference, more bool) error {
	if len(list) == 0 {
		return nil
	}
	text, err := json.Marshal(list)
	if err == nil {
		_, err = db.Exec(ctx, tx, `INSERT INTO read_differences (run_id, list, more) VALUES ($1, $2, $3)
			ON CONFLICT (run_id) DO UPDATE SET list = excluded.list, more = excluded.more`, runID, strings.ReplaceAll(string(text), `\u0000`, ``), more)
	}
	return db.Known(err, "keeping what a read changed")
}

// Differences lists whose records a read changed; more says that there were others, which
// were not kept.
func Differences(ctx context.Context, from db.From, runID string) (list []Difference, more bool, err error) {
	type row struct {
		List []Difference `gorm:"serializer:json"`
		More bool
	}
	r, err := db.Row[row](ctx, from, "listing what a read changed", `SELECT list, more FROM read_differences
		WHERE run_id = $1`, runID)
	if errors.Is(err, db.ErrNotFound) {
		return nil, false, nil
	}
	return r.List, r.More, err
}

// differences notes which fields of which records are about to change.
func (l *loading) differences(ctx context.Context) error {
	var fields []string
	for _, c := range l.columns[1:] {
		if c != "email_key" && c != "state" { // they follow from others
			fields = append(fields, fmt.Sprintf(`('%[2]s', m.%[1]s::text, s.%[1]s::text)`, c,
				strings.ReplaceAll(c, "_", " ")))
		}
	}
	who := whose[l.name]
	if who == "" {
		who = `m.title`
	}
	list, err := db.Rows[Difference](ctx, l.tx, "finding what differs", fmt.Sprintf(`SELECT $2::text AS "table",
		m.sourced_id AS id, %[3]s AS who, v.field, coalesce(v.before, '') AS before, coalesce(v.after, '') AS after
		FROM %[2]s s JOIN %[1]s m ON m.interface_id = $1 AND m.sourced_id = s.sourced_id CROSS
			JOIN LATERAL (VALUES %[4]s) v (field, before, after)
		WHERE (%[5]s) AND v.before IS DISTINCT FROM v.after LIMIT %[6]d`, l.name, l.staged, who, strings.Join(fields, ", "), l.listed(), maxDifferences+1), l.interfaceID, l.name)
	if len(list) > maxDifferences {
		list, l.merged.MoreDifferences = list[:maxDifferences], true
	}
	l.merged.Differences = append(l.merged.Differences, list...)
	return err
}
