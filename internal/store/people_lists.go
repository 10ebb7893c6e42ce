package store

import (
	"context"
	"fmt"
	"time"
)

// PeopleList is people that can be paired like a section: everybody of a course or of an
// organisation of a register, or those whom somebody names. Its id is that of the section as
// which lists show it.
type PeopleList struct {
	ID           string
	ConnectionID string // the register
	Kind         string // one of ListOf…
	Ref          string // the course's or organisation's sourced id
	Name         string
	MadeBy       string
	Version      int
	CreatedAt    time.Time
}

// Kinds of people lists.
const (
	ListOfCourse       = "course"
	ListOfOrganisation = "organisation"
	ListOfNamed        = "named"
)

// PeopleLists lists them all by name.
func (s *Store) PeopleLists(ctx context.Context) (all []PeopleList, err error) {
	err = s.reader(ctx).Order("name, id").Find(&all).Error
	return all, known(err, "listing people lists")
}

// PeopleList finds one by id.
func (s *Store) PeopleList(ctx context.Context, id string) (l PeopleList, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&l).Error
	return l, known(err, "finding the people list")
}

// UpdatePeopleList renames one whose version must still be the one read.
func (tx *Tx) UpdatePeopleList(ctx context.Context, l *PeopleList) error {
	done, err := tx.PGX.Exec(ctx, `UPDATE people_lists SET name = $3, version = version + 1 WHERE id = $1 AND version = $2`, l.ID, l.Version, l.Name)
	if err == nil && done.RowsAffected() == 0 {
		return fmt.Errorf("changing the people list: %w", ErrStale)
	}
	l.Version++
	return known(err, "changing the people list")
}

// ListPeople puts people on a list of named ones, and takes some off.
func (tx *Tx) ListPeople(ctx context.Context, listID string, add, drop []string) error {
	if _, err := tx.PGX.Exec(ctx, `INSERT INTO people_list_members (list_id, person_id) SELECT $1, unnest($2::text[]::uuid[]) ON CONFLICT DO NOTHING`, listID, add); err != nil {
		return known(err, "putting people on a list")
	}
	_, err := tx.PGX.Exec(ctx, `DELETE FROM people_list_members WHERE list_id = $1 AND person_id = ANY ($2::text[]::uuid[])`, listID, drop)
	return known(err, "taking people off a list")
}

// RemovePeopleList removes one.
func (tx *Tx) RemovePeopleList(ctx context.Context, id string) error {
	_, err := tx.PGX.Exec(ctx, `DELETE FROM people_lists WHERE id = $1`, id)
	return known(err, "removing the people list")
}

// RefreshPeopleLists works out anew what lists show of a register's people lists.
func (tx *Tx) RefreshPeopleLists(ctx context.Context, connectionID string) error {
	if _, err := tx.PGX.Exec(ctx, `SELECT refresh_people_lists($1)`, connectionID); err != nil {
		return known(err, "working out what lists show of people lists")
	}
	return tx.SectionsChanged(ctx)
}

// Org is an organisation of a register.
type Org struct {
	ID, ConnectionID, SourcedID, Name, Type string
}

// Orgs lists the organisations of all registers by name.
func (s *Store) Orgs(ctx context.Context) ([]Org, error) {
	return many[Org](ctx, s, "listing organisations", `SELECT o.id::text, o.connection_id::text, o.sourced_id, o.name, o.type FROM orgs o WHERE o.gone_at IS NULL`+shown("o")+` ORDER BY o.name, o.sourced_id`)
}

// CourseRef gives the register and the sourced id of a course.
func (s *Store) CourseRef(ctx context.Context, courseID string) (connectionID, ref, title string, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT connection_id::text, sourced_id, title FROM courses WHERE id = $1 AND gone_at IS NULL`, courseID).Scan(&connectionID, &ref, &title)
	return connectionID, ref, title, known(err, "finding the course")
}

// Listing is somebody on a people list.
type Listing struct {
	PersonID, Name, Identifier, Role string
	Begins                           *time.Time // the first day of somebody who has not begun
}

// PeopleOf gives who is on a list now, each once.
func (s *Store) PeopleOf(ctx context.Context, listID string) ([]Listing, error) {
	return many[Listing](ctx, s, "listing who is on the list", `SELECT DISTINCT ON (p.family_name, p.given_name, p.id) p.id::text, p.given_name || ' ' || p.family_name, p.identifier, x.role, x.begins
		FROM people_of_list($1) x JOIN people p ON p.connection_id = x.connection_id AND p.sourced_id = x.person
		ORDER BY p.family_name, p.given_name, p.id, x.begins NULLS FIRST, CASE x.role WHEN 'teacher' THEN 0 WHEN 'student' THEN 1 ELSE 2 END`, listID)
}

// areLists tells which of some pairings' sections are people lists.
func (s *Store) areLists(ctx context.Context, pairings []Pairing) (map[string]bool, error) {
	ids := make([]string, len(pairings))
	for i, p := range pairings {
		ids[i] = p.SectionID
	}
	found, err := many1[string](ctx, s, "finding people lists", `SELECT id::text FROM people_lists WHERE id = ANY ($1::text[]::uuid[])`, ids)
	out := make(map[string]bool, len(found))
	for _, id := range found {
		out[id] = true
	}
	return out, err
}

// RegistersOf gives, by person, the register in which they are now.
func (s *Store) RegistersOf(ctx context.Context, personIDs []string) (map[string]string, error) {
	type row struct{ ID, ConnectionID string }
	rows, err := many[row](ctx, s, "finding the people's registers", `SELECT id::text, connection_id::text FROM people WHERE id = ANY ($1::text[]::uuid[]) AND gone_at IS NULL`, personIDs)
	out := make(map[string]string, len(rows))
	for _, r := range rows {
		out[r.ID] = r.ConnectionID
	}
	return out, err
}
