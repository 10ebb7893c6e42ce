package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
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
	"people": `m.given_name || ' ' || m.family_name`, "sections": `m.title || ' (' || m.code || ')'`, "orgs": `m.name`,
	"enrolments": `coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p WHERE p.connection_id = m.connection_id AND p.sourced_id = m.person), m.person)
		|| ', ' || coalesce((SELECT x.title FROM sections x WHERE x.connection_id = m.connection_id AND x.sourced_id = m.section), m.section)`,
}

// differences notes which fields of which records are about to change.
func (l *loading) differences(ctx context.Context) error {
	var fields []string
	for _, c := range l.columns[1:] {
		if c != "email_key" && c != "standing" { // they follow from others
			fields = append(fields, fmt.Sprintf(`('%[2]s', m.%[1]s::text, s.%[1]s::text)`, c, strings.ReplaceAll(c, "_", " ")))
		}
	}
	who := whose[l.name]
	if who == "" {
		who = `m.title`
	}
	rows, err := l.tx.PGX.Query(ctx, fmt.Sprintf(`SELECT m.sourced_id, %[3]s, v.field, coalesce(v.before, ''), coalesce(v.after, '')
		FROM %[2]s s JOIN %[1]s m ON m.connection_id = $1 AND m.sourced_id = s.sourced_id CROSS JOIN LATERAL (VALUES %[4]s) v (field, before, after)
		WHERE (%[5]s) AND v.before IS DISTINCT FROM v.after LIMIT %[6]d`, l.name, l.staged, who, strings.Join(fields, ", "), l.listed(), maxDifferences+1), l.connection)
	if err != nil {
		return err
	}
	d, n := Difference{Table: l.name}, 0
	_, err = pgx.ForEachRow(rows, []any{&d.ID, &d.Who, &d.Field, &d.Before, &d.After}, func() error {
		if n++; n > maxDifferences {
			l.merged.MoreDifferences = true
			return nil
		}
		l.merged.Differences = append(l.merged.Differences, d)
		return nil
	})
	return err
}

// KeepDifferences keeps whose records a read changed.
func (tx *Tx) KeepDifferences(ctx context.Context, runID string, list []Difference, more bool) error {
	if len(list) == 0 {
		return nil
	}
	text, err := json.Marshal(list)
	if err == nil {
		_, err = tx.PGX.Exec(ctx, `INSERT INTO read_differences (run_id, list, more) VALUES ($1, $2, $3) ON CONFLICT (run_id) DO UPDATE SET list = excluded.list, more = excluded.more`, runID, strings.ReplaceAll(string(text), `\u0000`, ``), more)
	}
	return known(err, "keeping what a read changed")
}

// Differences lists whose records a read changed; more says that there were others, which
// were not kept.
func (s *Store) Differences(ctx context.Context, runID string) (list []Difference, more bool, err error) {
	var text []byte
	err = s.Pool.QueryRow(ctx, `SELECT list, more FROM read_differences WHERE run_id = $1`, runID).Scan(&text, &more)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, false, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &list)
	}
	return list, more, known(err, "listing what a read changed")
}
