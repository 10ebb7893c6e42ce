// Package rosterstore keeps what the mirror of the registers says: sections, people, who is enrolled where, and the
// lists of people.
package rosterstore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
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
	Interface  string // the register's interface id
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
SELECT f.section_id::text AS id, f.title, f.code, f.class_type, f.org, f.course_id::text, f.course, f.course_code,
	f.term_ids, f.terms, f.begins_on, f.ends_on,
       f.teachers, f.teacher_ids, f.roles, f.learners, f.gone, f.interface_id::text AS interface, l.set_id::text,
	f.level, f.subject, f.list
FROM section_facts f
LEFT JOIN linked_sections l ON l.section_id = f.section_id AND l.unlinked_at IS NULL`

// SectionsByID lists some by id, in that order, gone ones too.
func SectionsByID(ctx context.Context, from db.From, ids []string) ([]Section, error) {
	return db.Rows[Section](ctx, from, "finding the sections", `SELECT x.*
		FROM unnest($1::text[]::uuid[]) WITH ORDINALITY AS w (id, n) JOIN (`+sectionsSQL+`) AS x (
		id, title, code, class_type, org, course_id, course, course_code, term_ids, terms, begins_on, ends_on, teachers, teacher_ids, roles, learners, gone, interface, set_id, level, subject, list) ON x.id = w.id::text ORDER BY w.n`, ids)
}

// FindSection finds one, a vanished one too.
func FindSection(ctx context.Context, from db.From, id string) (Section, error) {
	return db.Row[Section](ctx, from, "finding the section", sectionsSQL+` WHERE f.section_id = $1`, id)
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

const PersonColumns = `p.id::text, p.given_name, p.family_name, p.email, p.user_name, p.identifier`

// FindPerson finds one by id.
func FindPerson(ctx context.Context, from db.From, id string) (Person, error) {
	return db.Row[Person](ctx, from, "finding the person", `SELECT `+PersonColumns+` FROM people p WHERE p.id = $1
		AND p.leads`, id)
}

// PersonAt finds one by id as the register of a section has them, else as their leading record says.
func PersonAt(ctx context.Context, from db.From, id, sectionID string) (Person, error) {
	all, err := db.Rows[Person](ctx, from, "finding the person", `SELECT `+PersonColumns+` FROM people p
		WHERE p.id = $1 AND (p.leads OR p.interface_id = (SELECT interface_id FROM sections WHERE id = $2))
		ORDER BY p.interface_id IS NOT DISTINCT FROM (SELECT interface_id FROM sections WHERE id = $2) DESC
		LIMIT 1`, id, sectionID)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("finding the person: %w", db.ErrNotFound)
	}
	if err != nil {
		return Person{}, err
	}
	return all[0], nil
}

// PeopleByID lists some by id.
func PeopleByID(ctx context.Context, from db.From, ids []string) ([]Person, error) {
	return db.Rows[Person](ctx, from, "finding people",
		`SELECT `+PersonColumns+` FROM people p WHERE p.id = ANY ($1::text[]::uuid[]) AND p.leads`, ids)
}

// calledSQL gives the columns and the rest of a query for who is called something in any of their records: the leading
// one.
func calledSQL(column string) string {
	return PersonColumns + ` FROM people p WHERE p.leads AND p.id IN (SELECT o.id FROM people o WHERE o.` + column +
		` = $1 AND o.gone_at IS NULL` + connectionstore.NotRemoved("o") + `)`
}

// PersonByIdentifier finds the one person with the register's identifier.
func PersonByIdentifier(ctx context.Context, from db.From, identifier string) (Person, error) {
	return db.Row[Person](ctx, from, "finding the person", `SELECT `+calledSQL(`identifier`), identifier)
}

// PersonBySourcedID finds the one person that a register has under this id of its own.
func PersonBySourcedID(ctx context.Context, from db.From, id string) (Person, error) {
	return db.Row[Person](ctx, from, "finding the person", `SELECT `+calledSQL(`sourced_id`), id)
}

// PersonByAddress finds the one person with the address; two are ErrNotFound,
// because Kanban never guesses.
func PersonByAddress(ctx context.Context, from db.From, address string) (Person, error) {
	key, err := roster.AddressKey(address)
	if err != nil {
		return Person{}, fmt.Errorf("finding the person: %w", db.ErrNotFound)
	}
	return db.Row[Person](ctx, from, "finding the person", `SELECT `+calledSQL(`email_key`), key)
}

// Enrolled is a section a person is in.
type Enrolled struct {
	PersonID, SectionID, CourseID, Role string
}

// SectionsOf lists the sections of the given courses that people are in now; of every
// course for none. Everybody is looked up by the keys, one after the other: joined as a
// whole, all enrolments would be read.
func SectionsOf(ctx context.Context, from db.From, personIDs, courseIDs []string) ([]Enrolled, error) {
	return db.Rows[Enrolled](ctx, from, "finding the people's sections", `
		SELECT DISTINCT w.id::text AS person_id, x.id::text AS section_id, x.course::text AS course_id, e.role
		FROM unnest($1::text[]::uuid[]) AS w (id)
		CROSS JOIN LATERAL (SELECT p.interface_id, p.sourced_id FROM people p WHERE p.id = w.id OFFSET 0) p
		CROSS JOIN LATERAL (SELECT e.section, e.role FROM enrolments e WHERE e.interface_id = p.interface_id
			AND e.person = p.sourced_id AND e.gone_at IS NULL OFFSET 0) e
		CROSS JOIN LATERAL (SELECT s.id, md5(s.interface_id::text || '/course/' || s.course)::uuid AS course
			FROM sections s WHERE s.interface_id = p.interface_id AND s.sourced_id = e.section OFFSET 0) x
		WHERE cardinality($2::text[]::uuid[]) = 0 OR x.course = ANY ($2::text[]::uuid[])
		ORDER BY 1, 2`, personIDs, append([]string{}, courseIDs...))
}

// IsEnrolled reports whether a person is in a section now.
func IsEnrolled(ctx context.Context, from db.From, personID, sectionID string) (yes bool, err error) {
	err = db.Into(ctx, from, &yes, `SELECT EXISTS (SELECT 1 FROM people p
		JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id AND e.gone_at IS NULL
		JOIN sections x ON x.interface_id = e.interface_id AND x.sourced_id = e.section
		WHERE p.id = $1 AND x.id = $2)`, personID, sectionID)
	return yes, db.Known(err, "looking whether the person is in the section")
}

// SectionSourcedID gives the register's own identifier of a section.
func SectionSourcedID(ctx context.Context, from db.From, id string) (sourced string, err error) {
	err = db.Into(ctx, from, &sourced, `SELECT sourced_id FROM sections WHERE id = $1`, id)
	return sourced, db.Known(err, "finding the section")
}

// SourcedIDs gives the register's own ids of sections, by id.
func SourcedIDs(ctx context.Context, from db.From, ids []string) (map[string]string, error) {
	if len(ids) == 0 {
		return map[string]string{}, nil
	}
	return db.Map[string, string](ctx, from, "finding sections", `SELECT id::text AS key, sourced_id AS value
		FROM sections WHERE id = ANY ($1::text[]::uuid[])`, ids)
}

// PersonInRegister gives the register's interface and own id of a person, of their leading record.
func PersonInRegister(ctx context.Context, from db.From, id string) (interfaceID, sourcedID string, err error) {
	p, err := db.Row[struct{ InterfaceID, SourcedID string }](ctx, from, "finding the person",
		`SELECT interface_id::text, sourced_id FROM people WHERE id = $1 AND leads`, id)
	return p.InterfaceID, p.SourcedID, err
}
