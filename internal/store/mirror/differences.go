package mirror

import (
	"context"
	"encoding/json"
	"errors"
	"strings"

	"github.com/jackc/pgx/v5"

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
	"people": `m.given_name || ' ' || m.family_name`, "sections": `m.title || ' (' || m.code || ')'`, "orgs": `m.name`,
	"enrolments": `coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p WHERE p.connection_id = m.connection_id AND p.sourced_id = m.person), m.person)
		|| ', ' || coalesce((SELECT x.title FROM sections x WHERE x.connection_id = m.connection_id AND x.sourced_id = m.section), m.section)`,
}

// KeepDifferences keeps whose records a read changed.
func KeepDifferences(ctx context.Context, tx *db.Tx, runID string, list []Difference, more bool) error {
	if len(list) == 0 {
		return nil
	}
	text, err := json.Marshal(list)
	if err == nil {
		_, err = tx.PGX.Exec(ctx, `INSERT INTO read_differences (run_id, list, more) VALUES ($1, $2, $3) ON CONFLICT (run_id) DO UPDATE SET list = excluded.list, more = excluded.more`, runID, strings.ReplaceAll(string(text), `\u0000`, ``), more)
	}
	return db.Known(err, "keeping what a read changed")
}

// Differences lists whose records a read changed; more says that there were others, which
// were not kept.
func Differences(ctx context.Context, from *db.Database, runID string) (list []Difference, more bool, err error) {
	var text []byte
	err = from.Pool.QueryRow(ctx, `SELECT list, more FROM read_differences WHERE run_id = $1`, runID).Scan(&text, &more)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, false, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &list)
	}
	return list, more, db.Known(err, "listing what a read changed")
}
