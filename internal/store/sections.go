package store

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"kanban/internal/core/roster"
)

// Section is a section of the mirror with its pairing and its linked set, if any.
type Section struct {
	ID         string
	Title      string
	Code       string
	ClassType  string
	Org        string // name of its organisation
	CourseID   string
	Course     string
	CourseCode string
	TermIDs    []string // sourced ids, ordered
	Terms      []string // titles, the earliest first
	BeginsOn   *time.Time
	EndsOn     *time.Time
	Teachers   []string
	TeacherIDs []string // persons
	Roles      []string // of the people in it
	Learners   int
	Gone       bool   // no longer in the register
	Connection string // the register's connection id
	SetID      *string
	Level      string // of the section or its course, as the register has it
	Subject    string
	List       string // kind of the people list that it is, empty for a section of the register
}

// Ended reports whether the section's last day has passed.
func (x Section) Ended(at time.Time) bool {
	return roster.Over(x.EndsOn, at)
}

const sectionsSQL = `
SELECT f.section_id::text, f.title, f.code, f.class_type, f.org, f.course_id::text, f.course, f.course_code, f.term_ids, f.terms, f.begins_on, f.ends_on,
       f.teachers, f.teacher_ids, f.roles, f.learners, f.gone, f.connection_id::text, l.set_id::text, f.level, f.subject, f.list
FROM section_facts f
LEFT JOIN linked_sections l ON l.section_id = f.section_id AND l.unlinked_at IS NULL`

// SectionsByID lists some by id, in that order, gone ones too.
func (s *Store) SectionsByID(ctx context.Context, ids []string) ([]Section, error) {
	return many[Section](ctx, s, "finding the sections", `SELECT x.* FROM unnest($1::text[]::uuid[]) WITH ORDINALITY AS w (id, n) JOIN (`+sectionsSQL+`) AS x (
		id, title, code, class_type, org, course_id, course, course_code, term_ids, terms, begins_on, ends_on, teachers, teacher_ids, roles, learners, gone, connection_id, set_id, level, subject, list) ON x.id = w.id::text ORDER BY w.n`, ids)
}

// Section finds one, a vanished one too.
func (s *Store) Section(ctx context.Context, id string) (Section, error) {
	return one[Section](ctx, s, "finding the section", sectionsSQL+` WHERE f.section_id = $1`, id)
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

// PeopleByID lists some by id.
func (s *Store) PeopleByID(ctx context.Context, ids []string) ([]Person, error) {
	return many[Person](ctx, s, "finding people", `SELECT `+personColumns+` FROM people p WHERE p.id = ANY ($1::text[]::uuid[])`, ids)
}

// PersonByIdentifier finds the one person with the register's identifier.
func (s *Store) PersonByIdentifier(ctx context.Context, identifier string) (Person, error) {
	return one[Person](ctx, s, "finding the person", `SELECT `+personColumns+` FROM people p WHERE p.identifier = $1 AND p.gone_at IS NULL`+shown("p"), identifier)
}

// PersonByAddress finds the one person with the address; two are ErrNotFound,
// because Kanban never guesses.
func (s *Store) PersonByAddress(ctx context.Context, address string) (Person, error) {
	key, err := roster.AddressKey(address)
	if err != nil {
		return Person{}, fmt.Errorf("finding the person: %w", ErrNotFound)
	}
	return one[Person](ctx, s, "finding the person", `SELECT `+personColumns+` FROM people p WHERE p.email_key = $1 AND p.gone_at IS NULL`+shown("p"), key)
}

// Enrolled is a section a person is in.
type Enrolled struct {
	PersonID, SectionID, CourseID, Role string
}

// SectionsOf lists the sections of the given courses that people are in now; of every
// course for none. Everybody is looked up by the keys, one after the other: joined as a
// whole, all enrolments would be read.
func (s *Store) SectionsOf(ctx context.Context, personIDs, courseIDs []string) ([]Enrolled, error) {
	return manyOf[Enrolled](ctx, s.Quick, "finding the people's sections", `
		SELECT DISTINCT w.id::text, x.id::text, x.course::text, e.role
		FROM unnest($1::text[]::uuid[]) AS w (id)
		CROSS JOIN LATERAL (SELECT p.connection_id, p.sourced_id FROM people p WHERE p.id = w.id LIMIT 1) p
		CROSS JOIN LATERAL (SELECT e.section, e.role FROM enrolments e WHERE e.connection_id = p.connection_id AND e.person = p.sourced_id AND e.gone_at IS NULL OFFSET 0) e
		CROSS JOIN LATERAL (SELECT s.id, md5(s.connection_id::text || '/course/' || s.course)::uuid AS course FROM sections s WHERE s.connection_id = p.connection_id AND s.sourced_id = e.section OFFSET 0) x
		WHERE cardinality($2::text[]::uuid[]) = 0 OR x.course = ANY ($2::text[]::uuid[])
		ORDER BY 1, 2`, personIDs, append([]string{}, courseIDs...))
}

// IsEnrolled reports whether a person is in a section now.
func (s *Store) IsEnrolled(ctx context.Context, personID, sectionID string) (yes bool, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM people p
		JOIN enrolments e ON e.connection_id = p.connection_id AND e.person = p.sourced_id AND e.gone_at IS NULL
		JOIN sections x ON x.connection_id = e.connection_id AND x.sourced_id = e.section
		WHERE p.id = $1 AND x.id = $2)`, personID, sectionID).Scan(&yes)
	return yes, known(err, "looking whether the person is in the section")
}

// SectionSourcedID gives the register's own identifier of a section.
func (s *Store) SectionSourcedID(ctx context.Context, id string) (sourced string, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT sourced_id FROM sections WHERE id = $1`, id).Scan(&sourced)
	return sourced, known(err, "finding the section")
}

// Source gives the section's side of a pairing: who is enrolled, with the accounts
// known at the connection, and whom the pairing has placed.
func (s *Store) Source(ctx context.Context, p Pairing) (roster.Source, error) {
	all, err := s.Sources(ctx, p.ConnectionID, []Pairing{p})
	return all[p.ID], err
}

// Sources does the same for many pairings with one connection. A pairing that is
// not stored yet has placed nobody. The conditions that no text is empty repeat
// those of the indexes, or they could not be used.
func (s *Store) Sources(ctx context.Context, connectionID string, pairings []Pairing) (map[string]roster.Source, error) {
	var ids []string
	for _, p := range pairings {
		ids = append(ids, p.ID)
	}
	asked, err := s.askedSections(ctx, pairings)
	if err != nil {
		return nil, err
	}
	out := make(map[string]roster.Source, len(pairings))
	members, err := sides[roster.Member](ctx, s, "reading the sections' people", `
		WITH asked AS MATERIALIZED (
			SELECT w.id AS pairing_id, w.section_id, w.grouped FROM unnest($2::text[]::uuid[], $3::text[]::uuid[], $4::bool[]) AS w (id, section_id, grouped)),
		seats AS (
			SELECT w.pairing_id, e.connection_id, e.person, e.role, CASE WHEN w.grouped THEN s.id::text ELSE '' END AS section, CASE WHEN e.standing = 'waiting' THEN e.begin_date END AS begins
			FROM asked w JOIN sections s ON s.id = w.section_id JOIN enrolments e ON e.connection_id = s.connection_id AND e.section = s.sourced_id AND (e.gone_at IS NULL OR e.standing = 'waiting')
			UNION ALL SELECT w.id, l.connection_id, l.person, l.role, '', l.begins FROM unnest($5::text[]::uuid[], $6::text[]::uuid[]) AS w (id, list) CROSS JOIN LATERAL people_of_list(w.list) l)
		SELECT w.pairing_id::text, p.id::text, CASE k.kind WHEN 'test' THEN 'ext:preview' ELSE w.role END, p.given_name, p.family_name, p.email, p.user_name, p.identifier, p.enabled,
		       p.user_ids, p.org, coalesce(o.name, ''), coalesce(a.remote_id, ''), coalesce(a.chosen_by <> '', false), coalesce(a.switched_off, false),
		       coalesce((SELECT array_agg(n.remote_id) FROM not_accounts n WHERE n.connection_id = $1 AND n.person_id = p.id), '{}'),
		       coalesce((SELECT f.id::text FROM people f WHERE k.kind = 'second' AND f.connection_id = p.connection_id AND f.sourced_id = k.second_of AND f.gone_at IS NULL),
		                (SELECT f.id::text FROM people f WHERE coalesce(k.kind, '') <> 'neither' AND p.secondary AND p.master <> '' AND f.connection_id = p.connection_id AND f.master <> ''
		                 AND f.master = p.master AND NOT f.secondary AND f.gone_at IS NULL ORDER BY f.sourced_id LIMIT 1), ''),
		       w.section,
		       coalesce((SELECT o.given_name || ' ' || o.family_name FROM people o WHERE p.email_key <> '' AND o.email_key <> '' AND o.email_key = p.email_key AND o.connection_id = p.connection_id
		                 AND o.gone_at IS NULL AND o.id <> p.id AND (p.master = '' OR o.master <> p.master)
		                 AND NOT EXISTS (SELECT 1 FROM person_marks x WHERE x.connection_id = p.connection_id AND x.kind = 'second' AND (x.sourced_id = o.sourced_id AND x.second_of = p.sourced_id OR x.sourced_id = p.sourced_id AND x.second_of = o.sourced_id)) ORDER BY o.id LIMIT 1), ''),
		       w.begins
		FROM seats w
		JOIN people p ON p.connection_id = w.connection_id AND p.sourced_id = w.person
		LEFT JOIN orgs o ON o.connection_id = p.connection_id AND o.sourced_id = p.org
		LEFT JOIN person_marks k ON k.connection_id = p.connection_id AND k.sourced_id = p.sourced_id
		LEFT JOIN accounts a ON a.connection_id = $1 AND a.person_id = p.id`, connectionID, asked.pairings, asked.sections, asked.grouped, asked.listed, asked.lists)
	if err != nil {
		return nil, err
	}
	placed, err := sides[roster.Placement](ctx, s, "reading whom the pairings placed",
		`SELECT p.pairing_id::text, p.person_id::text, p.remote_id, p.name, EXISTS (
			SELECT 1 FROM placements o JOIN pairings q ON q.id = o.pairing_id
			WHERE o.remote_id = p.remote_id AND o.pairing_id <> p.pairing_id AND q.connection_id = $2 AND q.ended_at IS NULL)
		FROM placements p WHERE p.pairing_id = ANY ($1::text[]::uuid[])`, ids, connectionID)
	if err != nil {
		return nil, err
	}
	grouped, err := sides[roster.Grouping](ctx, s, "reading whom the pairings put into groups",
		`SELECT pairing_id::text, remote_id, section_id::text FROM group_placements WHERE pairing_id = ANY ($1::text[]::uuid[])`, ids)
	for _, p := range pairings {
		out[p.ID] = roster.Source{Members: members[p.ID], Placed: placed[p.ID], Grouped: grouped[p.ID], TakesOver: p.TakeOver == TakesOverNext}
	}
	return out, err
}

// Others gives, by account, the people to whom accounts at a connection belong and whom the
// register has in other sections of a section's course now.
func (s *Store) Others(ctx context.Context, connectionID, sectionID string, accounts []string) (map[string]roster.Other, error) {
	rows, err := s.Pool.Query(ctx, `SELECT a.remote_id, p.id::text, p.given_name || ' ' || p.family_name, array_agg(DISTINCT x.title ORDER BY x.title)
		FROM sections s JOIN sections x ON x.connection_id = s.connection_id AND x.course = s.course AND x.id <> s.id AND x.gone_at IS NULL
		JOIN enrolments e ON e.connection_id = x.connection_id AND e.section = x.sourced_id AND e.gone_at IS NULL
		JOIN people p ON p.connection_id = e.connection_id AND p.sourced_id = e.person
		JOIN accounts a ON a.connection_id = $1 AND a.person_id = p.id AND a.remote_id = ANY ($3::text[])
		WHERE s.id = $2 GROUP BY 1, 2, 3`, connectionID, sectionID, accounts)
	if err != nil {
		return nil, known(err, "finding who is of other sections")
	}
	out := map[string]roster.Other{}
	var account string
	var o roster.Other
	_, err = pgx.ForEachRow(rows, []any{&account, &o.PersonID, &o.Name, &o.Sections}, func() error {
		out[account] = roster.Other{PersonID: o.PersonID, Name: o.Name, Sections: slices.Clone(o.Sections)}
		return nil
	})
	return out, known(err, "finding who is of other sections")
}

// asked are pairings with the sections that they are about.
type asked struct {
	pairings, sections []string
	grouped            []bool   // the section is one of a linked set
	listed, lists      []string // pairings that are about people lists, with those
}

// askedSections finds the sections that pairings are about.
func (s *Store) askedSections(ctx context.Context, pairings []Pairing) (a asked, err error) {
	var sets []string
	for _, p := range pairings {
		if p.SetID != nil && p.Sections == nil {
			sets = append(sets, *p.SetID)
		}
	}
	of := map[string][]string{}
	if len(sets) > 0 {
		rows, err := s.Pool.Query(ctx, `SELECT set_id::text, section_id::text FROM linked_sections WHERE set_id = ANY ($1::text[]::uuid[]) AND unlinked_at IS NULL ORDER BY set_id, position`, sets)
		if err != nil {
			return a, known(err, "finding the sets' sections")
		}
		var set, section string
		if _, err = pgx.ForEachRow(rows, []any{&set, &section}, func() error { of[set] = append(of[set], section); return nil }); err != nil {
			return a, known(err, "finding the sets' sections")
		}
	}
	lists, err := s.areLists(ctx, pairings)
	if err != nil {
		return a, err
	}
	for _, p := range pairings {
		sections := p.Sections
		switch {
		case lists[p.SectionID]:
			a.listed, a.lists = append(a.listed, p.ID), append(a.lists, p.SectionID)
			continue
		case p.SetID == nil:
			sections = []string{p.SectionID}
		case sections == nil:
			sections = of[*p.SetID]
		}
		for _, x := range sections {
			a.pairings, a.sections, a.grouped = append(a.pairings, p.ID), append(a.sections, x), append(a.grouped, p.SetID != nil)
		}
	}
	return a, nil
}

// sides runs a query whose first column is a pairing's id.
func sides[T any](ctx context.Context, s *Store, doing, sql string, args ...any) (map[string][]T, error) {
	rows, err := s.Pool.Query(ctx, sql, args...)
	if err != nil {
		return nil, known(err, doing)
	}
	var id string
	var x T
	into := []any{&id}
	for v, i := reflect.ValueOf(&x).Elem(), 0; i < v.NumField(); i++ {
		into = append(into, v.Field(i).Addr().Interface())
	}
	out := map[string][]T{}
	_, err = pgx.ForEachRow(rows, into, func() error {
		out[id] = append(out[id], x)
		return nil
	})
	return out, known(err, doing)
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

// many1 runs a query and collects its only column.
func many1[T any](ctx context.Context, s *Store, doing, sql string, args ...any) ([]T, error) {
	rows, err := s.Pool.Query(ctx, sql, args...)
	if err != nil {
		return nil, known(err, doing)
	}
	got, err := pgx.CollectRows(rows, pgx.RowTo[T])
	return got, known(err, doing)
}

// many runs a query and collects its rows by position.
func many[T any](ctx context.Context, s *Store, doing, sql string, args ...any) ([]T, error) {
	return manyOf[T](ctx, s.Pool, doing, sql, args...)
}

func manyOf[T any](ctx context.Context, from *pgxpool.Pool, doing, sql string, args ...any) ([]T, error) {
	rows, err := from.Query(ctx, sql, args...)
	if err != nil {
		return nil, known(err, doing)
	}
	got, err := pgx.CollectRows(rows, pgx.RowToStructByPos[T])
	return got, known(err, doing)
}
