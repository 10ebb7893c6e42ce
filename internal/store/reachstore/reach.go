// Package reachstore says to which sections things belong, and which of them somebody reaches.
package reachstore

import (
	"context"
	"fmt"

	"github.com/google/uuid"

	"kanban/internal/core/permission"
	"kanban/internal/store/db"
)

// Reach says to which sections somebody's rights allow an act now.
func Reach(ctx context.Context, from db.From, rights permission.Rights, a permission.Act) (permission.Reach, error) {
	r, err := reach(ctx, from, rights.Grants, a)
	if err != nil || rights.Limit == nil {
		return r, err
	}
	most, err := reach(ctx, from, rights.Limit, a)
	return r.And(most), err
}

func reach(ctx context.Context, from db.From, grants []permission.Grant, a permission.Act) (permission.Reach, error) {
	scopes, all := permission.Where(grants, a)
	if all || len(scopes) == 0 {
		return permission.Reach{All: all}, nil
	}
	ids, err := SectionsIn(ctx, from, scopes)
	return permission.Reach{Sections: set(ids)}, err
}

func set(ids []string) map[string]bool {
	all := make(map[string]bool, len(ids))
	for _, id := range ids {
		all[id] = true
	}
	return all
}

// ScopeThere reports whether the registers have what a scope is about.
func ScopeThere(ctx context.Context, from db.From, s permission.Scope) (yes bool, err error) {
	table, known := map[permission.ScopeKind]string{
		permission.Organisation: "orgs", permission.Course: "courses", permission.Section: "sections",
	}[s.Kind]
	if !known {
		return s.Kind == permission.Institution && s.ID == "", nil
	}
	err = db.Into(ctx, from, &yes,
		`SELECT EXISTS (SELECT 1 FROM `+db.Quoted(table)+` WHERE id::text = $1 AND gone_at IS NULL)`, s.ID)
	return yes, db.Known(err, "finding the scope")
}

// teaching says of a person whom they teach: they, or a record of theirs, are in a section as its teacher now.
const teaching = `FROM people p
	JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id AND e.gone_at IS NULL
		AND e.role = 'teacher'
	JOIN sections x ON x.interface_id = e.interface_id AND x.sourced_id = e.section AND x.gone_at IS NULL`

// InRegister says what a person is by the register now: whether they teach a section, and whether they learn in one.
type InRegister struct{ Teaches, Learns bool }

// FindInRegister says it of somebody.
func FindInRegister(ctx context.Context, from db.From, personID string) (InRegister, error) {
	return db.Row[InRegister](ctx, from, "finding what the person teaches", `SELECT EXISTS (SELECT 1 `+teaching+`
		WHERE p.id = $1) AS teaches, EXISTS (SELECT 1 FROM people p
		JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id AND e.gone_at IS NULL
			AND e.role = 'student' WHERE p.id = $1) AS learns`, personID)
}

// SectionsIn gives the ids of the sections of scopes, of every register, vanished ones too: of organisations with
// all that are below them, of courses, themselves, and those that a person teaches now.
func SectionsIn(ctx context.Context, from db.From, scopes []permission.Scope) ([]string, error) {
	ids := map[permission.ScopeKind][]string{}
	for _, k := range []permission.ScopeKind{
		permission.Organisation, permission.Course, permission.Section, permission.Taught,
	} {
		ids[k] = []string{}
	}
	for _, s := range scopes {
		ids[s.Kind] = append(ids[s.Kind], s.ID)
	}
	return db.Values[string](ctx, from, "finding the sections of a scope", `
		WITH RECURSIVE below AS (
			SELECT o.interface_id, o.sourced_id, 0 AS depth FROM orgs o WHERE o.id = ANY ($1::text[]::uuid[])
			UNION
			SELECT o.interface_id, o.sourced_id, b.depth + 1 FROM below b
			JOIN orgs o ON o.interface_id = b.interface_id AND o.parent = b.sourced_id
			WHERE b.depth < 20)
		SELECT s.id::text FROM sections s JOIN (SELECT DISTINCT interface_id, sourced_id FROM below) b
			ON b.interface_id = s.interface_id AND b.sourced_id = s.org
		UNION SELECT s.id::text FROM sections s JOIN courses c ON c.interface_id = s.interface_id
			AND c.sourced_id = s.course WHERE c.id = ANY ($2::text[]::uuid[])
		UNION SELECT s.id::text FROM sections s WHERE s.id = ANY ($3::text[]::uuid[])
		UNION SELECT x.id::text `+teaching+` WHERE p.id = ANY ($4::text[]::uuid[])`,
		ids[permission.Organisation], ids[permission.Course], ids[permission.Section], ids[permission.Taught])
}

const (
	ofPairing = `SELECT p.id, coalesce(l.section_id, p.section_id) AS section FROM pairings p
		LEFT JOIN linked_sections l ON l.set_id = p.set_id AND l.unlinked_at IS NULL`
	ofLink = `SELECT link_id AS id, section_id AS section FROM score_link_sections`
	// Somebody's sections are all that they are or were in: whoever minds one may ask why they are there no more.
	ofPerson = `SELECT p.id, x.id AS section FROM people p
		JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id
		JOIN sections x ON x.interface_id = e.interface_id AND x.sourced_id = e.section`
)

// belongings give, by subject, what there is of it and the sections to which it belongs. What belongs to a person and
// to no section is of those of the person.
var belongings = map[permission.Subject]string{
	permission.OfSection: `SELECT id, id AS section FROM sections`,
	permission.OfPairing: ofPairing,
	permission.OfRun: `SELECT r.id, b.section FROM runs r JOIN (` + ofPairing + `) b ON b.id = r.pairing_id
		UNION ALL SELECT r.id, b.section FROM runs r JOIN (` + ofLink + `) b ON b.id = r.score_link_id`,
	permission.OfPreview:      `SELECT v.id, b.section FROM previews v JOIN (` + ofPairing + `) b ON b.id = v.pairing_id`,
	permission.OfSet:          `SELECT set_id AS id, section_id AS section FROM linked_sections WHERE unlinked_at IS NULL`,
	permission.OfScoreLink:    ofLink,
	permission.OfScorePreview: `SELECT v.id, b.section FROM score_previews v JOIN (` + ofLink + `) b ON b.id = v.link_id`,
	permission.OfPerson:       ofPerson,
	permission.OfTask:         itsOwnOrItsPersons("tasks"),
	permission.OfAward:        itsOwnOrItsPersons("awards"),
	permission.OfCourse: `SELECT c.id, s.id AS section FROM courses c
		JOIN sections s ON s.interface_id = c.interface_id AND s.course = c.sourced_id`,
	permission.OfDelivery: `SELECT id, section_id AS section FROM deliveries WHERE section_id IS NOT NULL`,
}

func itsOwnOrItsPersons(table string) string {
	return `SELECT id, section_id AS section FROM ` + table + ` WHERE section_id IS NOT NULL
		UNION ALL SELECT t.id, b.section FROM ` + table + ` t JOIN (` + ofPerson + `) b ON b.id = t.person_id
			WHERE t.section_id IS NULL`
}

// In is the condition that something named in a column belongs to sections that a placeholder stands for.
func In(s permission.Subject, column, sections string) string {
	return column + ` IN (SELECT b.id FROM (` + belongings[s] + `) b WHERE b.section = ANY (` + sections + `))`
}

// Reached gives the ids of what belongs to a section somebody reaches: of all that there is, or of those with ids.
func Reached(ctx context.Context, from db.From, s permission.Subject, r permission.Reach, ids ...string) (
	map[string]bool, error,
) {
	among, args := ``, []any{r.IDs()}
	if len(ids) > 0 {
		among, args = ` AND b.id = ANY ($2::text[]::uuid[])`, append(args, ids)
	}
	found, err := db.Values[string](ctx, from, "finding each "+string(s)+" of sections", `SELECT DISTINCT b.id::text
		FROM (`+belongings[s]+`) b WHERE b.section = ANY ($1::text[]::uuid[])`+among, args...)
	return set(found), err
}

// SectionsOf gives the ids of the sections to which something belongs; none where there is no such thing, or where
// it belongs to the institution.
func SectionsOf(ctx context.Context, from db.From, s permission.Subject, id string) ([]string, error) {
	query, known := belongings[s]
	switch {
	case !known:
		return nil, fmt.Errorf("finding the sections of a %s: %w", s, db.ErrNotFound)
	case uuid.Validate(id) != nil:
		return nil, nil
	}
	return db.Values[string](ctx, from, "finding the sections of a "+string(s), `SELECT DISTINCT b.section::text
		FROM (`+query+`) b WHERE b.id = $1`, id)
}
