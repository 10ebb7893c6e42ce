package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// LinkedSet is several sections that are handled as one.
type LinkedSet struct {
	ID         string
	Name       string
	LeadID     string
	Reason     string // why the rule for linking was overridden, empty when it was not
	MadeBy     string
	Version    int
	CreatedAt  time.Time
	UnlinkedAt *time.Time
	Sections   []Section `gorm:"-"` // in the order in which they were linked, the lead first
}

// LinkedSet finds one by id, with its sections.
func (s *Store) LinkedSet(ctx context.Context, id string) (LinkedSet, error) {
	var set LinkedSet
	if err := s.reader(ctx).Where("id = ?", id).First(&set).Error; err != nil {
		return set, known(err, "finding the linked set")
	}
	var ids []string
	err := s.Pool.QueryRow(ctx, `SELECT coalesce(array_agg(section_id::text ORDER BY position), '{}') FROM linked_sections l JOIN linked_sets t ON t.id = l.set_id
		WHERE l.set_id = $1 AND (l.unlinked_at IS NULL OR t.unlinked_at IS NOT NULL)`, id).Scan(&ids)
	if err != nil {
		return set, known(err, "finding the set's sections")
	}
	set.Sections, err = s.SectionsByID(ctx, ids)
	return set, err
}

// LinkedSets lists the sets that are linked now, without their sections.
func (s *Store) LinkedSets(ctx context.Context) (all []LinkedSet, err error) {
	err = s.reader(ctx).Where("unlinked_at IS NULL").Order("name, id").Find(&all).Error
	return all, known(err, "listing linked sets")
}

// LinkSections keeps a set. ErrTaken means that one of the sections is linked already.
func (tx *Tx) LinkSections(ctx context.Context, set *LinkedSet) error {
	if err := Create(tx, set, "linking sections"); err != nil {
		return err
	}
	for i, x := range set.Sections {
		if _, err := tx.PGX.Exec(ctx, `INSERT INTO linked_sections (set_id, section_id, position) VALUES ($1, $2, $3)`, set.ID, x.ID, i); err != nil {
			return known(err, "linking sections")
		}
	}
	return tx.SectionsChanged(ctx)
}

// Unlink ends a set whose version must still be the one read.
func (tx *Tx) Unlink(ctx context.Context, set LinkedSet) error {
	done, err := tx.PGX.Exec(ctx, `UPDATE linked_sets SET unlinked_at = now(), version = version + 1 WHERE id = $1 AND version = $2 AND unlinked_at IS NULL`, set.ID, set.Version)
	if err == nil && done.RowsAffected() == 0 {
		return fmt.Errorf("unlinking: %w", ErrStale)
	}
	if err == nil {
		_, err = tx.PGX.Exec(ctx, `UPDATE linked_sections SET unlinked_at = now() WHERE set_id = $1 AND unlinked_at IS NULL`, set.ID)
	}
	if err == nil {
		return tx.SectionsChanged(ctx)
	}
	return known(err, "unlinking")
}

// PairingsOfSections lists the pairings of sections that have not ended, whether
// they have run or not; those of a set count for each of its sections.
func (s *Store) PairingsOfSections(ctx context.Context, sectionIDs []string) (all []Pairing, err error) {
	err = s.reader(ctx).Where("id IN (SELECT pairing_id FROM paired_sections WHERE section_id = ANY (?::uuid[]))", textArray(sectionIDs)).Order("id").Find(&all).Error
	return all, known(err, "listing the sections' pairings")
}

// SafetyCopy is rosters and results as they were before sections were linked.
type SafetyCopy struct {
	ID        string
	SetID     string
	Content   []byte // a ZIP of CSV files
	People    int
	Results   int
	CreatedAt time.Time
}

// SafetyCopy finds the copy that was kept when a set was linked.
func (s *Store) SafetyCopy(ctx context.Context, setID string) (c SafetyCopy, err error) {
	err = s.reader(ctx).Where("set_id = ?", setID).Order("created_at DESC").First(&c).Error
	return c, known(err, "finding the safety copy")
}

// Groups gives the groups inside a pairing's target: the service's id by section.
func (s *Store) Groups(ctx context.Context, pairingID string) (map[string]string, error) {
	all, err := s.GroupsOf(ctx, []string{pairingID})
	if all[pairingID] == nil {
		return map[string]string{}, err
	}
	return all[pairingID], err
}

// GroupsOf does the same for many pairings.
func (s *Store) GroupsOf(ctx context.Context, pairingIDs []string) (map[string]map[string]string, error) {
	rows, err := s.Pool.Query(ctx, `SELECT pairing_id::text, section_id::text, ref FROM pairing_groups WHERE pairing_id = ANY ($1::text[]::uuid[])`, pairingIDs)
	if err != nil {
		return nil, known(err, "listing groups")
	}
	out := map[string]map[string]string{}
	var pairing, section, ref string
	_, err = pgx.ForEachRow(rows, []any{&pairing, &section, &ref}, func() error {
		if out[pairing] == nil {
			out[pairing] = map[string]string{}
		}
		out[pairing][section] = ref
		return nil
	})
	return out, known(err, "listing groups")
}

// SetGroup keeps the service's id of a group inside a target.
func (tx *Tx) SetGroup(ctx context.Context, pairingID, sectionID, ref string) error {
	_, err := tx.PGX.Exec(ctx, `INSERT INTO pairing_groups (pairing_id, section_id, ref) VALUES ($1, $2, $3) ON CONFLICT (pairing_id, section_id) DO UPDATE SET ref = excluded.ref`, pairingID, sectionID, ref)
	return known(err, "keeping a group")
}

// Regroup notes into which groups Kanban put an account, and out of which it took it.
func (tx *Tx) Regroup(ctx context.Context, pairingID, remoteID string, join, quit []string) error {
	if len(join) > 0 {
		if _, err := tx.PGX.Exec(ctx, `INSERT INTO group_placements (pairing_id, section_id, remote_id) SELECT $1, unnest($3::text[]::uuid[]), $2 ON CONFLICT DO NOTHING`, pairingID, remoteID, join); err != nil {
			return known(err, "noting groups")
		}
	}
	if len(quit) > 0 {
		_, err := tx.PGX.Exec(ctx, `DELETE FROM group_placements WHERE pairing_id = $1 AND remote_id = $2 AND section_id = ANY ($3::text[]::uuid[])`, pairingID, remoteID, quit)
		return known(err, "noting groups")
	}
	return nil
}

// Result is what a person has reached in one activity of a section's course.
type Result struct {
	Code, Person, Identifier  string
	ActivityID                string
	Completed, Passed, Failed bool
	Best                      *float64 // scaled score, -1 to 1
	FirstAt, LastAt           time.Time
	Percent                   int // of the course
}

// ResultsOf lists what people have reached in sections, activity by activity.
func (s *Store) ResultsOf(ctx context.Context, sectionIDs []string) ([]Result, error) {
	return many[Result](ctx, s, "listing results", `
		SELECT f.code, h.given_name || ' ' || h.family_name, h.identifier, a.activity_id, a.completed, a.passed, a.failed, a.best, a.first_at, a.last_at, g.percent
		FROM progress g JOIN activity_progress a USING (person_id, section_id) JOIN section_facts f ON f.section_id = g.section_id JOIN people h ON h.id = g.person_id
		WHERE g.section_id = ANY ($1::text[]::uuid[]) ORDER BY f.code, h.family_name, h.given_name, h.id, a.first_at, a.activity_id`, sectionIDs)
}

// ServicesOfSections gives, by section, the names of the services at which it is paired.
func (s *Store) ServicesOfSections(ctx context.Context) (map[string][]string, error) {
	rows, err := s.Pool.Query(ctx, `SELECT p.section_id::text, c.name FROM pairings p JOIN connections c ON c.id = p.connection_id WHERE p.ended_at IS NULL ORDER BY c.name`)
	if err != nil {
		return nil, known(err, "listing the sections' services")
	}
	out := map[string][]string{}
	var id, name string
	_, err = pgx.ForEachRow(rows, []any{&id, &name}, func() error { out[id] = append(out[id], name); return nil })
	return out, known(err, "listing the sections' services")
}
