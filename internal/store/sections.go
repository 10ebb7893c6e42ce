package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"kanban/internal/core/roster"
)

// Section is a section of the mirror with its pairing, if any.
type Section struct {
	ID         string
	Title      string
	Code       string
	ClassType  string
	CourseID   string
	Course     string
	CourseCode string
	Terms      []string
	BeginsOn   *time.Time
	EndsOn     *time.Time
	Teachers   []string
	Learners   int
	Connection string // the register's connection id
	PairingID  *string
}

const sectionsSQL = `
SELECT s.id::text, s.title, s.code, s.class_type, c.id::text, c.title, c.code,
       coalesce(t.titles, '{}'), t.begins, t.ends, coalesce(e.teachers, '{}'), coalesce(e.learners, 0), s.connection_id::text, p.id::text
FROM sections s
JOIN courses c ON c.connection_id = s.connection_id AND c.sourced_id = s.course
LEFT JOIN LATERAL (
    SELECT array_agg(t.title ORDER BY t.start_date) AS titles, min(t.start_date) AS begins, max(t.end_date) AS ends
    FROM terms t WHERE t.connection_id = s.connection_id AND t.sourced_id = ANY (s.terms)
) t ON true
LEFT JOIN LATERAL (
    SELECT array_agg(DISTINCT h.given_name || ' ' || h.family_name) FILTER (WHERE e.role = 'teacher' AND NOT h.secondary) AS teachers,
           count(DISTINCT e.person) FILTER (WHERE e.role = 'student')::int AS learners
    FROM enrolments e JOIN people h ON h.connection_id = e.connection_id AND h.sourced_id = e.person
    WHERE e.connection_id = s.connection_id AND e.section = s.sourced_id AND e.gone_at IS NULL
) e ON true
LEFT JOIN pairings p ON p.section_id = s.id AND p.ended_at IS NULL
WHERE s.gone_at IS NULL`

// Sections lists every section of every register, ordered by title. A section
// with two pairings stands twice, once with each.
func (s *Store) Sections(ctx context.Context) ([]Section, error) {
	return many[Section](ctx, s, "listing sections", sectionsSQL+` ORDER BY s.title, s.id, p.id`)
}

// Section finds one; with several pairings, any of them.
func (s *Store) Section(ctx context.Context, id string) (Section, error) {
	return one[Section](ctx, s, "finding the section", sectionsSQL+` AND s.id = $1 LIMIT 1`, id)
}

// Person is one person of the mirror.
type Person struct {
	ID         string `json:"id"`
	GivenName  string `json:"givenName"`
	FamilyName string `json:"familyName"`
	Email      string `json:"email"`
	UserName   string `json:"userName"`
	Identifier string `json:"identifier" doc:"The register's own identifier"`
}

// Name of the person.
func (p Person) Name() string { return p.GivenName + " " + p.FamilyName }

const personColumns = `p.id::text, p.given_name, p.family_name, p.email, p.user_name, p.identifier`

// Person finds one by id.
func (s *Store) Person(ctx context.Context, id string) (Person, error) {
	return one[Person](ctx, s, "finding the person", `SELECT `+personColumns+` FROM people p WHERE p.id = $1`, id)
}

// PersonByIdentifier finds the one person with the register's identifier.
func (s *Store) PersonByIdentifier(ctx context.Context, identifier string) (Person, error) {
	return one[Person](ctx, s, "finding the person", `SELECT `+personColumns+` FROM people p WHERE p.identifier = $1 AND p.gone_at IS NULL`, identifier)
}

// PersonByAddress finds the one person with the address; two are ErrNotFound,
// because Kanban never guesses.
func (s *Store) PersonByAddress(ctx context.Context, address string) (Person, error) {
	key, err := roster.AddressKey(address)
	if err != nil {
		return Person{}, fmt.Errorf("finding the person: %w", ErrNotFound)
	}
	return one[Person](ctx, s, "finding the person", `SELECT `+personColumns+` FROM people p WHERE p.email_key = $1 AND p.gone_at IS NULL`, key)
}

// Enrolled is a section a person is in.
type Enrolled struct {
	SectionID, CourseID, Role string
}

// SectionsOf lists the sections of the given courses that a person is in now.
func (s *Store) SectionsOf(ctx context.Context, personID string, courseIDs []string) ([]Enrolled, error) {
	return many[Enrolled](ctx, s, "finding the person's sections", `
		SELECT DISTINCT s.id::text, c.id::text, e.role
		FROM people p
		JOIN enrolments e ON e.connection_id = p.connection_id AND e.person = p.sourced_id AND e.gone_at IS NULL
		JOIN sections s ON s.connection_id = e.connection_id AND s.sourced_id = e.section
		JOIN courses c ON c.connection_id = s.connection_id AND c.sourced_id = s.course
		WHERE p.id = $1 AND c.id = ANY ($2::uuid[])`, personID, courseIDs)
}

// Source gives the section's side of a comparison with a connection: who is
// enrolled, with the accounts known at that connection, and whom the pairing
// has placed.
func (s *Store) Source(ctx context.Context, sectionID, connectionID, pairingID string) (roster.Source, error) {
	var source roster.Source
	var err error
	source.Members, err = many[roster.Member](ctx, s, "reading the section's people", `
		SELECT p.id::text, e.role, p.given_name, p.family_name, p.email, p.user_name, p.identifier, p.enabled,
		       p.user_ids, p.org, coalesce(o.name, ''), coalesce(a.remote_id, ''), coalesce(a.chosen_by <> '', false), coalesce(a.switched_off, false),
		       coalesce((SELECT array_agg(n.remote_id) FROM not_accounts n WHERE n.connection_id = $2 AND n.person_id = p.id), '{}'),
		       coalesce((SELECT f.id::text FROM people f WHERE p.secondary AND p.master <> '' AND f.connection_id = p.connection_id
		                 AND f.master = p.master AND NOT f.secondary AND f.gone_at IS NULL ORDER BY f.sourced_id LIMIT 1), ''),
		       coalesce((SELECT o.given_name || ' ' || o.family_name FROM people o WHERE p.email_key <> '' AND o.email_key = p.email_key AND o.connection_id = p.connection_id
		                 AND o.gone_at IS NULL AND o.id <> p.id AND (p.master = '' OR o.master <> p.master) ORDER BY o.id LIMIT 1), '')
		FROM sections s
		JOIN enrolments e ON e.connection_id = s.connection_id AND e.section = s.sourced_id AND e.gone_at IS NULL
		JOIN people p ON p.connection_id = e.connection_id AND p.sourced_id = e.person
		LEFT JOIN orgs o ON o.connection_id = p.connection_id AND o.sourced_id = p.org
		LEFT JOIN accounts a ON a.connection_id = $2 AND a.person_id = p.id
		WHERE s.id = $1`, sectionID, connectionID)
	if err != nil {
		return source, err
	}
	source.Placed, err = many[roster.Placement](ctx, s, "reading whom the pairing placed",
		`SELECT p.person_id::text, p.remote_id, p.name, EXISTS (
			SELECT 1 FROM placements o JOIN pairings q ON q.id = o.pairing_id
			WHERE o.remote_id = p.remote_id AND o.pairing_id <> p.pairing_id AND q.connection_id = $2 AND q.ended_at IS NULL)
		FROM placements p WHERE p.pairing_id = $1`, pairingID, connectionID)
	return source, err
}

// one runs a query that must give exactly one row.
func one[T any](ctx context.Context, s *Store, doing, sql string, args ...any) (T, error) {
	var zero T
	rows, err := s.Pool.Query(ctx, sql, args...)
	if err != nil {
		return zero, known(err, doing)
	}
	got, err := pgx.CollectRows(rows, pgx.RowToStructByPos[T])
	if err != nil {
		return zero, known(err, doing)
	}
	if len(got) != 1 {
		return zero, fmt.Errorf("%s: %d fit: %w", doing, len(got), ErrNotFound)
	}
	return got[0], nil
}

// many runs a query and collects its rows by position.
func many[T any](ctx context.Context, s *Store, doing, sql string, args ...any) ([]T, error) {
	rows, err := s.Pool.Query(ctx, sql, args...)
	if err != nil {
		return nil, known(err, doing)
	}
	got, err := pgx.CollectRows(rows, pgx.RowToStructByPos[T])
	return got, known(err, doing)
}
