package accessstore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/core/permission"
	"kanban/internal/store/db"
)

// Grant is a role that a user has in a scope.
type Grant struct {
	ID        string
	UserID    string
	Role      permission.Role
	Scope     permission.ScopeKind
	ScopeID   string
	IssuerID  *string // of the badges that may be awarded; all when nil
	MadeBy    string
	CreatedAt time.Time
	// Of the organisation, course or section, and of the issuer; empty where the register has it no more.
	ScopeName string `gorm:"->;-:migration"`
	Issuer    string `gorm:"->;-:migration"`
}

// TableName names the table for GORM.
func (Grant) TableName() string { return "user_grants" }

// grantsSQL lists grants with the names of what they are about.
const grantsSQL = `SELECT g.id::text, g.user_id::text, g.role, g.scope, g.scope_id, g.issuer_id::text, g.made_by,
		g.created_at, coalesce(CASE g.scope
			WHEN 'organisation' THEN (SELECT o.name FROM orgs o WHERE o.id::text = g.scope_id AND o.gone_at IS NULL)
			WHEN 'course' THEN (SELECT c.title FROM courses c WHERE c.id::text = g.scope_id AND c.gone_at IS NULL)
			WHEN 'section' THEN (SELECT s.title FROM sections s WHERE s.id::text = g.scope_id AND s.gone_at IS NULL)
		END, '') AS scope_name, coalesce((SELECT i.name FROM issuers i WHERE i.id = g.issuer_id), '') AS issuer
	FROM user_grants g`

// grantsOf fills in what users may be.
func grantsOf(ctx context.Context, from db.From, users []User) error {
	at, ids := make(map[string]*User, len(users)), make([]string, len(users))
	for i := range users {
		at[users[i].ID], ids[i] = &users[i], users[i].ID
	}
	all, err := db.Rows[Grant](ctx, from, "listing grants", grantsSQL+` WHERE g.user_id = ANY ($1::text[]::uuid[])
		ORDER BY g.scope <> 'institution', g.created_at, g.id`, ids)
	for _, g := range all {
		at[g.UserID].Grants = append(at[g.UserID].Grants, g)
	}
	return err
}

// Granted gives what a user was granted, without what follows from the register.
func (u User) Granted() []permission.Grant {
	out := make([]permission.Grant, 0, len(u.Grants))
	for _, g := range u.Grants {
		one := permission.Grant{Role: g.Role, Scope: permission.Scope{Kind: g.Scope, ID: g.ScopeID}}
		if g.IssuerID != nil {
			one.Issuer = *g.IssuerID
		}
		out = append(out, one)
	}
	return out
}

// Reach says to which sections grants allow an act now.
func Reach(ctx context.Context, from db.From, grants []permission.Grant, a permission.Act) (permission.Reach, error) {
	scopes, all := permission.Where(grants, a)
	if all || len(scopes) == 0 {
		return permission.Reach{All: all}, nil
	}
	ids, err := SectionsIn(ctx, from, scopes)
	r := permission.Reach{Sections: make(map[string]bool, len(ids))}
	for _, id := range ids {
		r.Sections[id] = true
	}
	return r, err
}

// AddGrant gives a user a role in a scope; one that they have already is db.ErrTaken.
func AddGrant(ctx context.Context, tx *db.Tx, g *Grant) error {
	return db.Create(tx, g, "granting the role")
}

// RemoveGrant ends what a user may be in a scope.
func RemoveGrant(ctx context.Context, tx *db.Tx, userID, id string) error {
	changed, err := db.Exec(ctx, tx, `DELETE FROM user_grants WHERE user_id = $1 AND id = $2`, userID, id)
	if err == nil && changed == 0 {
		return fmt.Errorf("finding the grant: %w", db.ErrNotFound)
	}
	return db.Known(err, "removing the grant")
}

// IssuerThere reports whether there is an issuer with this id.
func IssuerThere(ctx context.Context, from db.From, id string) (yes bool, err error) {
	err = db.Into(ctx, from, &yes, `SELECT EXISTS (SELECT 1 FROM issuers WHERE id::text = $1)`, id)
	return yes, db.Known(err, "finding the issuer")
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
	sectionsOfPairing = `SELECT coalesce(l.section_id, p.section_id)::text FROM pairings p
		LEFT JOIN linked_sections l ON l.set_id = p.set_id AND l.unlinked_at IS NULL`
	sectionsOfLink = `SELECT x.section_id::text FROM score_link_sections x`
	// Somebody's sections are all that they are or were in: whoever minds one may ask why they are there no more.
	sectionsOfPerson = `SELECT x.id::text FROM people p
		JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id
		JOIN sections x ON x.interface_id = e.interface_id AND x.sourced_id = e.section`
)

// subjects find the sections of what is called $1.
var subjects = map[permission.Subject]string{
	permission.OfSection: `SELECT id::text FROM sections WHERE id = $1`,
	permission.OfPairing: sectionsOfPairing + ` WHERE p.id = $1`,
	permission.OfRun: sectionsOfPairing + ` WHERE p.id = (SELECT pairing_id FROM runs WHERE id = $1)
		UNION ` + sectionsOfLink + ` WHERE x.link_id = (SELECT score_link_id FROM runs WHERE id = $1)`,
	permission.OfPreview:      sectionsOfPairing + ` WHERE p.id = (SELECT pairing_id FROM previews WHERE id = $1)`,
	permission.OfSet:          `SELECT section_id::text FROM linked_sections WHERE set_id = $1 AND unlinked_at IS NULL`,
	permission.OfScoreLink:    sectionsOfLink + ` WHERE x.link_id = $1`,
	permission.OfScorePreview: sectionsOfLink + ` WHERE x.link_id = (SELECT link_id FROM score_previews WHERE id = $1)`,
	permission.OfPerson: sectionsOfPerson + ` WHERE p.id = (WITH RECURSIVE m AS (SELECT $1::uuid AS now, 0 AS n
		UNION SELECT o.person_id, m.n + 1 FROM m JOIN person_merges o ON o.other_id = m.now AND o.split_at IS NULL)
		SELECT now FROM m ORDER BY n DESC LIMIT 1)`,
	permission.OfTask: `SELECT section_id::text FROM tasks WHERE id = $1 AND section_id IS NOT NULL
		UNION ` + sectionsOfPerson + ` WHERE p.id = (SELECT person_id FROM tasks WHERE id = $1 AND section_id IS NULL)`,
	permission.OfAward: `SELECT section_id::text FROM awards WHERE id = $1 AND section_id IS NOT NULL
		UNION ` + sectionsOfPerson + ` WHERE p.id = (SELECT person_id FROM awards WHERE id = $1 AND section_id IS NULL)`,
	permission.OfCourse: `SELECT s.id::text FROM courses c JOIN sections s ON s.interface_id = c.interface_id
		AND s.course = c.sourced_id WHERE c.id = $1`,
	permission.OfEvent: `SELECT section_id::text FROM events WHERE id = $1 AND section_id IS NOT NULL`,
	permission.OfDelivery: `SELECT e.section_id::text FROM deliveries d JOIN events e ON e.id = d.event_id
		WHERE d.id = $1 AND e.section_id IS NOT NULL`,
}

// Reached gives the ids of the pairings, score links or tasks that belong to a section somebody reaches.
func Reached(ctx context.Context, from db.From, s permission.Subject, r permission.Reach) (map[string]bool, error) {
	query, known := map[permission.Subject]string{
		permission.OfPairing: `SELECT p.id::text FROM pairings p
			LEFT JOIN linked_sections l ON l.set_id = p.set_id AND l.unlinked_at IS NULL
			WHERE coalesce(l.section_id, p.section_id) = ANY ($1::text[]::uuid[])`,
		permission.OfScoreLink: `SELECT x.link_id::text FROM score_link_sections x
			WHERE x.section_id = ANY ($1::text[]::uuid[])`,
		permission.OfTask: `SELECT t.id::text FROM tasks t WHERE t.section_id = ANY ($1::text[]::uuid[])
			OR t.section_id IS NULL AND EXISTS (SELECT 1 FROM people p
				JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id
				JOIN sections x ON x.interface_id = e.interface_id AND x.sourced_id = e.section
				WHERE p.id = t.person_id AND x.id = ANY ($1::text[]::uuid[]))`,
	}[s]
	if !known {
		return nil, fmt.Errorf("finding what is of sections: no %s is", s)
	}
	ids, err := db.Values[string](ctx, from, "finding what is of sections", query, r.IDs())
	reached := make(map[string]bool, len(ids))
	for _, id := range ids {
		reached[id] = true
	}
	return reached, err
}

// ReachedPeople gives of people those who are or were in a section somebody reaches.
func ReachedPeople(ctx context.Context, from db.From, people []string, r permission.Reach) (map[string]bool, error) {
	ids, err := db.Values[string](ctx, from, "finding who is of sections", `SELECT DISTINCT p.id::text FROM people p
		JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id
		JOIN sections x ON x.interface_id = e.interface_id AND x.sourced_id = e.section
		WHERE p.id = ANY ($1::text[]::uuid[]) AND x.id = ANY ($2::text[]::uuid[])`, people, r.IDs())
	reached := make(map[string]bool, len(ids))
	for _, id := range ids {
		reached[id] = true
	}
	return reached, err
}

// SectionsOf gives the ids of the sections to which something belongs; none where there is no such thing, or where
// it belongs to the institution.
func SectionsOf(ctx context.Context, from db.From, s permission.Subject, id string) ([]string, error) {
	query, known := subjects[s]
	if !known {
		return nil, fmt.Errorf("finding the sections of a %s: %w", s, db.ErrNotFound)
	}
	return db.Values[string](ctx, from, "finding the sections of a "+string(s), query, id)
}
