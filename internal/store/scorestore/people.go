package scorestore

import (
	"context"

	"kanban/internal/store/db"
)

// PeopleOf gives the people whom an interface calls by these ids: those whose account it is, else those of whom it is
// the register's own id. Whom neither knows is not among them.
func PeopleOf(ctx context.Context, from db.From, interfaceID, register string, ids []string) (
	map[string]string, error,
) {
	return db.Map[string, string](ctx, from, "finding whose scores they are", `
		SELECT DISTINCT ON (w.id) w.id AS key, x.person::text AS value FROM unnest($3::text[]) AS w (id)
		CROSS JOIN LATERAL (
			SELECT person_id AS person, 0 AS rank FROM accounts WHERE interface_id = $1 AND remote_id = w.id
			UNION ALL SELECT id, 1 FROM people WHERE interface_id = $2 AND sourced_id = w.id) x
		ORDER BY w.id, x.rank`, interfaceID, register, ids)
}

// IDsAt gives what an interface calls people: their account there, else the register's own id.
func IDsAt(ctx context.Context, from db.From, interfaceID, register string, people []string) (map[string]string,
	error,
) {
	return db.Map[string, string](ctx, from, "finding what the book calls people", `
		SELECT p.id::text AS key, coalesce(a.remote_id, p.sourced_id) AS value FROM people p
		LEFT JOIN accounts a ON a.interface_id = $1 AND a.person_id = p.id
		WHERE p.id = ANY ($2::text[]::uuid[]) AND p.interface_id = $3`, interfaceID, people, register)
}

// Learner is somebody who learns in a section now.
type Learner struct{ SectionID, PersonID string }

// Learners lists who learns in sections now; test learners do not.
func Learners(ctx context.Context, from db.From, sections []string) ([]Learner, error) {
	return db.Rows[Learner](ctx, from, "listing learners", `SELECT DISTINCT s.id::text AS section_id,
		p.id::text AS person_id FROM sections s
		JOIN enrolments e ON e.interface_id = s.interface_id AND e.section = s.sourced_id AND e.gone_at IS NULL
			AND e.role = 'student'
		JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person
		WHERE s.id = ANY ($1::text[]::uuid[]) AND NOT EXISTS (SELECT 1 FROM person_marks k
			WHERE k.interface_id = p.interface_id AND k.sourced_id = p.sourced_id AND k.kind = 'test')
		ORDER BY 1, 2`, sections)
}

// TestLearners gives those of some people who are test learners: somebody said so, or the register lists them as
// nothing else.
func TestLearners(ctx context.Context, from db.From, people []string) ([]string, error) {
	return db.Values[string](ctx, from, "looking for test learners", `SELECT p.id::text FROM people p
		LEFT JOIN person_marks k ON k.interface_id = p.interface_id AND k.sourced_id = p.sourced_id
		WHERE p.id = ANY ($1::text[]::uuid[]) AND (k.kind = 'test' OR k.kind IS NULL AND (SELECT bool_and(e.role = 'ext:preview')
			FROM enrolments e WHERE e.interface_id = p.interface_id AND e.person = p.sourced_id AND e.gone_at IS NULL))`, people)
}

// Session is a term or a period of a register with the terms above it.
type Session struct {
	ID, Title, Kind string
	Begins, Ends    string // days
	Above           string // the term that it is in, empty for none
}

// Sessions lists the terms and periods of a register.
func Sessions(ctx context.Context, from db.From, register string) ([]Session, error) {
	return db.Rows[Session](ctx, from, "listing periods", `SELECT sourced_id AS id, title, type AS kind,
		start_date::text AS begins, end_date::text AS ends, parent AS above FROM terms
		WHERE interface_id = $1 AND gone_at IS NULL ORDER BY start_date, sourced_id`, register)
}
