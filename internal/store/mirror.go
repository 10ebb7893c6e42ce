package store

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Batch holds everything one read of a register gave, one row per record. Each
// row holds the values of the table's columns, sourced_id first.
type Batch struct {
	Orgs, Terms, Courses, Sections, People, Enrolments [][]any
	// Partial tables only change: what a batch lacks stays, and only the records
	// named in Deleted (by sourced id) are gone.
	Partial map[string]bool
	Deleted map[string][]string
}

// mirrorTable is one table of the mirror and the columns that a read fills.
type mirrorTable struct {
	name    string
	columns []string // sourced_id first
	rows    func(Batch) [][]any
}

var mirrorTables = []mirrorTable{
	{"orgs", []string{"sourced_id", "name", "type", "parent"}, func(b Batch) [][]any { return b.Orgs }},
	{"terms", []string{"sourced_id", "title", "type", "start_date", "end_date", "parent"}, func(b Batch) [][]any { return b.Terms }},
	{"courses", []string{"sourced_id", "title", "org", "code"}, func(b Batch) [][]any { return b.Courses }},
	{"sections", []string{"sourced_id", "title", "code", "class_type", "course", "org", "terms"}, func(b Batch) [][]any { return b.Sections }},
	{"people", []string{"sourced_id", "given_name", "family_name", "email", "email_key", "user_name", "identifier", "master", "secondary", "enabled"}, func(b Batch) [][]any { return b.People }},
	{"enrolments", []string{"sourced_id", "section", "person", "role", "begin_date", "end_date"}, func(b Batch) [][]any { return b.Enrolments }},
}

// Tally counts what a merge did to one table.
type Tally struct {
	Read    int `json:"read"`
	Added   int `json:"added"`
	Changed int `json:"changed"`
	Gone    int `json:"gone"`
}

// Merged is what a merge did.
type Merged struct {
	Tables map[string]Tally
	// First says that the mirror was empty. Then nobody joined, left or changed:
	// the read found what has been so before, and the lists below are empty.
	First bool
	// Joined and Left are the enrolments that appeared and vanished.
	Joined, Left []Movement
	// Sections whose people, or people's details, changed.
	Sections []string
}

// Movement is one enrolment that appeared or vanished.
type Movement struct {
	EnrolmentID string
	PersonID    string
	SectionID   string
	CourseID    string
	Role        string
	// Times it has happened to this enrolment, so that coming back is a new fact.
	ChangedAt string
}

// manyRows is how many written rows are worth new statistics.
const manyRows = 10_000

// Merge brings the mirror of one register up to date with a complete read: rows
// are copied into staging tables and merged set-wise, so unchanged rows are
// never written.
func (tx *Tx) Merge(ctx context.Context, connectionID string, b Batch) (Merged, error) {
	m := Merged{Tables: map[string]Tally{}}
	if err := tx.PGX.QueryRow(ctx, `SELECT NOT EXISTS (SELECT 1 FROM people WHERE connection_id = $1)`, connectionID).Scan(&m.First); err != nil {
		return m, fmt.Errorf("looking at the mirror: %w", err)
	}
	// The tables are joined whole, on sizes that the planner cannot know yet; a
	// nested loop chosen for a table believed to be empty would take hours.
	if _, err := tx.PGX.Exec(ctx, `SET LOCAL enable_nestloop = off`); err != nil {
		return m, err
	}
	defer func() { _, _ = tx.PGX.Exec(ctx, `SET LOCAL enable_nestloop = on`) }()
	// now() is one instant for everything this transaction touches; below it marks
	// what this merge changed.
	for _, t := range mirrorTables {
		tally, err := tx.mergeTable(ctx, connectionID, t, t.rows(b), b.Partial[t.name], b.Deleted[t.name])
		if err != nil {
			return m, fmt.Errorf("merging %s: %w", t.name, err)
		}
		m.Tables[t.name] = tally
		if tally.Added+tally.Changed+tally.Gone > manyRows { // so that the queries that follow are planned for it
			if _, err := tx.PGX.Exec(ctx, "ANALYZE "+t.name); err != nil {
				return m, err
			}
		}
	}
	if m.First {
		return m, nil
	}
	var err error
	if m.Joined, err = tx.movements(ctx, connectionID, `e.gone_at IS NULL AND e.joined_at = now()`); err != nil {
		return m, err
	}
	if m.Left, err = tx.movements(ctx, connectionID, `e.gone_at = now()`); err != nil {
		return m, err
	}
	m.Sections, err = tx.touched(ctx, connectionID)
	return m, err
}

func (tx *Tx) mergeTable(ctx context.Context, connectionID string, t mirrorTable, rows [][]any, partial bool, deleted []string) (Tally, error) {
	staged := "staged_" + t.name
	create := fmt.Sprintf(`CREATE TEMP TABLE %s (LIKE %s) ON COMMIT DROP`, staged, t.name)
	if _, err := tx.PGX.Exec(ctx, create); err != nil {
		return Tally{}, err
	}
	if _, err := tx.PGX.Exec(ctx, fmt.Sprintf(`ALTER TABLE %s ALTER connection_id DROP NOT NULL, ALTER changed_at DROP NOT NULL%s`, staged, t.dropNotNull())); err != nil {
		return Tally{}, err
	}
	if _, err := tx.PGX.CopyFrom(ctx, pgx.Identifier{staged}, t.columns, pgx.CopyFromRows(rows)); err != nil {
		return Tally{}, err
	}
	if _, err := tx.PGX.Exec(ctx, "ANALYZE "+staged); err != nil { // so that the merge is planned for its size
		return Tally{}, err
	}
	tally := Tally{Read: len(rows)}
	args := []any{connectionID}
	if partial {
		args = append(args, deleted)
	}
	rowsOf, err := tx.PGX.Query(ctx, t.mergeSQL(staged, partial), args...)
	if err != nil {
		return Tally{}, err
	}
	for rowsOf.Next() {
		var what string
		var n int
		if err := rowsOf.Scan(&what, &n); err != nil {
			return Tally{}, err
		}
		switch what {
		case "added":
			tally.Added = n
		case "changed":
			tally.Changed = n
		case "gone":
			tally.Gone = n
		}
	}
	return tally, rowsOf.Err()
}

// dropNotNull lets the columns that a read does not fill stay empty in the
// staging table.
func (t mirrorTable) dropNotNull() string {
	if t.name == "enrolments" {
		return ", ALTER joined_at DROP NOT NULL"
	}
	return ", ALTER id DROP NOT NULL"
}

// mergeSQL writes only what differs: new rows, changed rows, rows that came
// back, and gone_at for rows that are no longer read. It wants a hash join of
// the staging table with the mirror on the primary key.
func (t mirrorTable) mergeSQL(staged string, partial bool) string {
	gone := "NOT EXISTS (SELECT 1 FROM " + staged + " s WHERE s.sourced_id = m.sourced_id)"
	if partial {
		gone = "m.sourced_id = ANY ($2::text[])"
	}
	values := t.columns[1:]
	list := func(format, separator string) string {
		parts := make([]string, len(values))
		for i, c := range values {
			parts[i] = fmt.Sprintf(strings.ReplaceAll(format, "%s", "%[1]s"), c)
		}
		return strings.Join(parts, separator)
	}
	returned := "" // an enrolment that comes back has joined anew
	if t.name == "enrolments" {
		returned = ", joined_at = CASE WHEN m.gone_at IS NULL THEN m.joined_at ELSE now() END"
	}
	return fmt.Sprintf(`
WITH differing AS (
    SELECT s.*, m.sourced_id IS NULL AS fresh
    FROM %[2]s s LEFT JOIN %[1]s m ON m.connection_id = $1 AND m.sourced_id = s.sourced_id
    WHERE m.sourced_id IS NULL OR m.gone_at IS NOT NULL OR (%[3]s) IS DISTINCT FROM (%[4]s)
), written AS (
    INSERT INTO %[1]s AS m (connection_id, sourced_id, %[5]s)
    SELECT $1, sourced_id, %[5]s FROM differing ORDER BY sourced_id
    ON CONFLICT (connection_id, sourced_id) DO UPDATE SET %[6]s, changed_at = now(), gone_at = NULL%[7]s
), gone AS (
    UPDATE %[1]s m SET gone_at = now(), changed_at = now()
    WHERE m.connection_id = $1 AND m.gone_at IS NULL AND %[8]s
    RETURNING 1
)
SELECT CASE WHEN fresh THEN 'added' ELSE 'changed' END, count(*)::int FROM differing GROUP BY 1
UNION ALL SELECT 'gone', count(*)::int FROM gone`,
		t.name, staged, list("m.%s", ", "), list("s.%s", ", "), strings.Join(values, ", "), list("%s = excluded.%s", ", "), returned, gone)
}

func (tx *Tx) movements(ctx context.Context, connectionID, where string) ([]Movement, error) {
	rows, err := tx.PGX.Query(ctx, `
		SELECT e.connection_id::text || '/' || e.sourced_id, p.id::text, s.id::text, c.id::text, e.role, e.changed_at::text
		FROM enrolments e
		JOIN people p ON p.connection_id = e.connection_id AND p.sourced_id = e.person
		JOIN sections s ON s.connection_id = e.connection_id AND s.sourced_id = e.section
		JOIN courses c ON c.connection_id = e.connection_id AND c.sourced_id = s.course
		WHERE e.connection_id = $1 AND `+where, connectionID)
	if err != nil {
		return nil, fmt.Errorf("finding who joined and left: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByPos[Movement])
}

// touched finds the sections whose comparison may give something new after this
// merge: their own record, an enrolment or an enrolled person changed.
func (tx *Tx) touched(ctx context.Context, connectionID string) ([]string, error) {
	rows, err := tx.PGX.Query(ctx, `
		SELECT s.id::text FROM sections s WHERE s.connection_id = $1 AND s.changed_at = now()
		UNION
		SELECT s.id::text FROM enrolments e JOIN sections s ON s.connection_id = e.connection_id AND s.sourced_id = e.section
		WHERE e.connection_id = $1 AND e.changed_at = now()
		UNION
		SELECT s.id::text FROM people p
		JOIN enrolments e ON e.connection_id = p.connection_id AND e.person = p.sourced_id AND e.gone_at IS NULL
		JOIN sections s ON s.connection_id = e.connection_id AND s.sourced_id = e.section
		WHERE p.connection_id = $1 AND p.changed_at = now()`, connectionID)
	if err != nil {
		return nil, fmt.Errorf("finding the sections that changed: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// MirrorSize counts the people and enrolments that the mirror holds, for the
// guard against a register that suddenly lost them.
func (s *Store) MirrorSize(ctx context.Context, connectionID string) (people, enrolments int, err error) {
	err = s.Pool.QueryRow(ctx, `
		SELECT (SELECT count(*) FROM people WHERE connection_id = $1 AND gone_at IS NULL),
		       (SELECT count(*) FROM enrolments WHERE connection_id = $1 AND gone_at IS NULL)`, connectionID).Scan(&people, &enrolments)
	return people, enrolments, known(err, "measuring the mirror")
}

// Identifiers lists what the mirror holds of one table: courses, sections or people.
func (s *Store) Identifiers(ctx context.Context, connectionID, table string) (map[string]bool, error) {
	rows, err := s.Pool.Query(ctx, `SELECT sourced_id FROM `+pgx.Identifier{table}.Sanitize()+` WHERE connection_id = $1 AND gone_at IS NULL`, connectionID)
	if err != nil {
		return nil, known(err, "reading the mirror")
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[string])
	out := make(map[string]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, known(err, "reading the mirror")
}
