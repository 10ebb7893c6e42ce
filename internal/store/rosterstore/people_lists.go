package rosterstore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/mirror"
)

// PeopleList is people that can be paired like a section: everybody of a course or of an
// organisation of a register, or those whom somebody names. Its id is that of the section as
// which lists show it.
type PeopleList struct {
	ID          string
	InterfaceID string // the register
	Kind        string // one of ListOf…
	Ref         string // the course's or organisation's sourced id
	Name        string
	MadeBy      string
	Version     int
	CreatedAt   time.Time
}

// Kinds of people lists.
const (
	ListOfCourse       = "course"
	ListOfOrganisation = "organisation"
	ListOfNamed        = "named"
)

// PeopleLists lists them all by name.
func PeopleLists(ctx context.Context, from db.From) (all []PeopleList, err error) {
	err = from.Records(ctx).Order("name, id").Find(&all).Error
	return all, db.Known(err, "listing people lists")
}

// FindPeopleList finds one by id.
func FindPeopleList(ctx context.Context, from db.From, id string) (l PeopleList, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&l).Error
	return l, db.Known(err, "finding the people list")
}

// UpdatePeopleList renames one whose version must still be the one read.
func UpdatePeopleList(ctx context.Context, tx *db.Tx, l *PeopleList) error {
	done, err := db.Exec(ctx, tx, `UPDATE people_lists SET name = $3, version = version + 1
		WHERE id = $1 AND version = $2`, l.ID, l.Version, l.Name)
	if err == nil && done == 0 {
		return fmt.Errorf("changing the people list: %w", db.ErrStale)
	}
	l.Version++
	return db.Known(err, "changing the people list")
}

// ListPeople puts people on a list of named ones, and takes some off.
func ListPeople(ctx context.Context, tx *db.Tx, listID string, add, drop []string) error {
	if _, err := db.Exec(ctx, tx, `INSERT INTO people_list_members (list_id, person_id) SELECT $1,
		unnest($2::text[]::uuid[]) ON CONFLICT DO NOTHING`, listID, add); err != nil {
		return db.Known(err, "putting people on a list")
	}
	_, err := db.Exec(ctx, tx, `DELETE FROM people_list_members WHERE list_id = $1
		AND person_id = ANY ($2::text[]::uuid[])`, listID, drop)
	return db.Known(err, "taking people off a list")
}

// RemovePeopleList removes one.
func RemovePeopleList(ctx context.Context, tx *db.Tx, id string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM people_lists WHERE id = $1`, id)
	return db.Known(err, "removing the people list")
}

// RefreshPeopleLists works out anew what lists show of a register's people lists.
func RefreshPeopleLists(ctx context.Context, tx *db.Tx, interfaceID string) error {
	if _, err := db.Exec(ctx, tx, `SELECT refresh_people_lists($1)`, interfaceID); err != nil {
		return db.Known(err, "working out what lists show of people lists")
	}
	return mirror.SectionsChanged(ctx, tx)
}

// Org is an organisation of a register.
type Org struct {
	ID, InterfaceID, SourcedID, Name, Type string
}

// Orgs lists the organisations of all registers by name.
func Orgs(ctx context.Context, from db.From) ([]Org, error) {
	return db.Rows[Org](ctx, from, "listing organisations", `SELECT o.id::text, o.interface_id::text, o.sourced_id,
		o.name, o.type FROM orgs o WHERE o.gone_at IS NULL`+connectionstore.NotRemoved("o")+` ORDER BY o.name, o.sourced_id`)
}

// OrgsAbove gives the ids of the organisations of sections, by section: their own, then the ones above it.
func OrgsAbove(ctx context.Context, from db.From, sectionIDs []string) (map[string][]string, error) {
	type row struct{ Section, Org string }
	rows, err := db.Rows[row](ctx, from, "finding the organisations of sections", `
		WITH RECURSIVE up AS (
			SELECT s.id AS section, o.id, o.interface_id, o.parent, 0 AS depth FROM sections s
			JOIN orgs o ON o.interface_id = s.interface_id AND o.sourced_id = s.org
			WHERE s.id = ANY ($1::uuid[])
			UNION ALL
			SELECT up.section, o.id, o.interface_id, o.parent, up.depth + 1 FROM up
			JOIN orgs o ON o.interface_id = up.interface_id AND o.sourced_id = up.parent
			WHERE up.depth < 20)
		SELECT section::text, id::text AS org FROM up ORDER BY section, depth`, sectionIDs)
	out := map[string][]string{}
	for _, r := range rows {
		out[r.Section] = append(out[r.Section], r.Org)
	}
	return out, err
}

// CourseRef gives the register and the sourced id of a course.
func CourseRef(ctx context.Context, from db.From, courseID string) (interfaceID, ref, title string, err error) {
	type row struct{ InterfaceID, SourcedID, Title string }
	r, err := db.Row[row](ctx, from, "finding the course", `SELECT interface_id::text, sourced_id, title FROM courses
		WHERE id = $1 AND gone_at IS NULL`, courseID)
	return r.InterfaceID, r.SourcedID, r.Title, err
}

// Listing is somebody on a people list.
type Listing struct {
	PersonID, Name, Identifier, Role string
	Begins                           *time.Time // the first day of somebody who has not begun
}

// PeopleOf gives who is on a list now, each once.
func PeopleOf(ctx context.Context, from db.From, listID string) ([]Listing, error) {
	return db.Rows[Listing](ctx, from, "listing who is on the list", `SELECT DISTINCT ON (p.family_name, p.given_name,
		p.id) p.id::text AS person_id, p.given_name || ' ' || p.family_name AS name, p.identifier, x.role, x.begins
		FROM people_of_list($1) x JOIN people p ON p.interface_id = x.interface_id AND p.sourced_id = x.person
		ORDER BY p.family_name, p.given_name, p.id, x.begins NULLS FIRST,
			CASE x.role WHEN 'teacher' THEN 0 WHEN 'student' THEN 1 ELSE 2 END`, listID)
}

// RegistersOf gives, by person, the registers in which they are now, that of their leading record first.
func RegistersOf(ctx context.Context, from db.From, personIDs []string) (map[string][]string, error) {
	return db.Map[string, []string](ctx, from, "finding the people's registers", `SELECT id::text AS key,
		array_agg(interface_id::text ORDER BY NOT leads, interface_id) AS value
		FROM people WHERE id = ANY ($1::text[]::uuid[]) AND gone_at IS NULL GROUP BY 1`, personIDs)
}
