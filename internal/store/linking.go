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
		WHERE l.set_id = $1 AND l.unlinked_at IS NOT DISTINCT FROM t.unlinked_at`, id).Scan(&ids)
	if err != nil {
		return set, known(err, "finding the set's sections")
	}
	set.Sections, err = s.SectionsByID(ctx, ids)
	return set, err
}

// UnlinkedSets lists the sets that were unlinked, the latest first, without their sections.
func (s *Store) UnlinkedSets(ctx context.Context) (all []LinkedSet, err error) {
	err = s.reader(ctx).Where("unlinked_at IS NOT NULL").Order("unlinked_at DESC, id").Find(&all).Error
	return all, known(err, "listing unlinked sets")
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

// EditSet gives a set, whose version must still be the one read, the sections and the lead
// in set, in that order. ErrTaken means that one of them is linked elsewhere.
func (tx *Tx) EditSet(ctx context.Context, set *LinkedSet) error {
	done, err := tx.PGX.Exec(ctx, `UPDATE linked_sets SET lead_id = $3, reason = $4, version = version + 1 WHERE id = $1 AND version = $2 AND unlinked_at IS NULL`, set.ID, set.Version, set.LeadID, set.Reason)
	if err == nil && done.RowsAffected() == 0 {
		return fmt.Errorf("changing the set: %w", ErrStale)
	}
	set.Version++
	ids := make([]string, len(set.Sections))
	for i, x := range set.Sections {
		ids[i] = x.ID
	}
	for _, sql := range []string{
		`UPDATE linked_sections SET unlinked_at = now() WHERE set_id = $1 AND unlinked_at IS NULL AND section_id <> ALL ($2::text[]::uuid[])`,
		`INSERT INTO linked_sections (set_id, section_id, position) SELECT $1, id, n FROM unnest($2::text[]::uuid[]) WITH ORDINALITY AS w (id, n)
			ON CONFLICT (set_id, section_id) DO UPDATE SET position = excluded.position, unlinked_at = NULL`,
	} {
		if err == nil {
			_, err = tx.PGX.Exec(ctx, sql, set.ID, ids)
		}
	}
	if err != nil {
		return known(err, "changing the set")
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

// SafetyCopies lists the copies that were kept when a set was linked and changed, the
// latest first, without what they hold.
func (s *Store) SafetyCopies(ctx context.Context, setID string) (all []SafetyCopy, err error) {
	err = s.reader(ctx).Omit("content").Where("set_id = ?", setID).Order("created_at DESC, id DESC").Find(&all).Error
	return all, known(err, "listing safety copies")
}

// SafetyCopy finds one by id.
func (s *Store) SafetyCopy(ctx context.Context, id string) (c SafetyCopy, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&c).Error
	return c, known(err, "finding the safety copy")
}

// ResultKey names a result: a person's in an activity of a section.
type ResultKey struct{ PersonID, SectionID, ActivityID string }

// KnownResults tells which people and sections are known, and which results are there.
func (s *Store) KnownResults(ctx context.Context, keys []ResultKey) (known map[string]bool, there map[ResultKey]bool, err error) {
	known, there = map[string]bool{}, map[ResultKey]bool{}
	people, sections, activities := make([]string, len(keys)), make([]string, len(keys)), make([]string, len(keys))
	for i, k := range keys {
		people[i], sections[i], activities[i] = k.PersonID, k.SectionID, k.ActivityID
	}
	ids, err := many1[string](ctx, s, "finding people and sections", `SELECT id::text FROM people WHERE id = ANY ($1::text[]::uuid[]) UNION ALL SELECT section_id::text FROM section_facts WHERE section_id = ANY ($2::text[]::uuid[])`, people, sections)
	if err != nil {
		return nil, nil, err
	}
	for _, id := range ids {
		known[id] = true
	}
	rows, err := many[ResultKey](ctx, s, "finding results", `SELECT a.person_id::text, a.section_id::text, a.activity_id FROM activity_progress a
		JOIN unnest($1::text[]::uuid[], $2::text[]::uuid[], $3::text[]) AS w (person, section, activity) ON a.person_id = w.person AND a.section_id = w.section AND a.activity_id = w.activity`, people, sections, activities)
	for _, k := range rows {
		there[k] = true
	}
	return known, there, err
}

// PutBack keeps results that are no longer there, lets progress be worked out anew, and gives
// the courses that it concerns.
func (tx *Tx) PutBack(ctx context.Context, results []Reached) (courses []string, err error) {
	people, sections := make([]string, len(results)), make([]string, len(results))
	for i, r := range results {
		people[i], sections[i] = r.PersonID, r.SectionID
	}
	var batch pgx.Batch
	batch.Queue(`INSERT INTO progress (person_id, section_id, percent, outline_version) SELECT DISTINCT w.person, w.section, 0, 0 FROM unnest($1::text[]::uuid[], $2::text[]::uuid[]) AS w (person, section)
		ORDER BY 1, 2 ON CONFLICT (person_id, section_id) DO UPDATE SET outline_version = 0`, people, sections)
	queueReached(&batch, results, "NOTHING")
	if err := tx.PGX.SendBatch(ctx, &batch).Close(); err != nil {
		return nil, known(err, "putting results back")
	}
	rows, err := tx.PGX.Query(ctx, `SELECT DISTINCT course_id::text FROM section_facts WHERE section_id = ANY ($1::text[]::uuid[]) ORDER BY 1`, sections)
	if err != nil {
		return nil, known(err, "finding the courses")
	}
	courses, err = pgx.CollectRows(rows, pgx.RowTo[string])
	return courses, known(err, "finding the courses")
}

// LeftGroup is a group inside a class that Kanban made for a section which is no longer of
// its set, or of a pairing that ended.
type LeftGroup struct {
	PairingID    string
	SectionID    string
	ConnectionID string
	Ref          string
	Class        string
	Section      string // its title
	Placed       int    // whom Kanban put in and did not take out
}

// LeftGroups lists the groups at a service, or at all, that are for no section any more.
func (s *Store) LeftGroups(ctx context.Context, connectionID string) ([]LeftGroup, error) {
	return many[LeftGroup](ctx, s, "listing left groups", `
		SELECT g.pairing_id::text, g.section_id::text, p.connection_id::text, g.ref, p.target_name, coalesce(f.title, ''), (SELECT count(*)::int FROM group_placements x WHERE x.pairing_id = g.pairing_id AND x.section_id = g.section_id)
		FROM pairing_groups g JOIN pairings p ON p.id = g.pairing_id
		LEFT JOIN section_facts f ON f.section_id = g.section_id
		LEFT JOIN linked_sections l ON l.set_id = p.set_id AND l.section_id = g.section_id AND l.unlinked_at IS NULL AND p.ended_at IS NULL
		WHERE l.section_id IS NULL AND ($1 = '' OR p.connection_id = nullif($1, '')::uuid)`+shown("p")+` ORDER BY p.target_name, f.title, g.ref`, connectionID)
}

// ForgetGroup forgets a group that was removed at the service.
func (tx *Tx) ForgetGroup(ctx context.Context, g LeftGroup) error {
	for _, sql := range []string{`DELETE FROM pairing_groups WHERE pairing_id = $1 AND section_id = $2`, `DELETE FROM group_placements WHERE pairing_id = $1 AND section_id = $2`} {
		if _, err := tx.PGX.Exec(ctx, sql, g.PairingID, g.SectionID); err != nil {
			return known(err, "forgetting a group")
		}
	}
	return nil
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
	PersonID, SectionID       string
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
		SELECT g.person_id::text, g.section_id::text, f.code, h.given_name || ' ' || h.family_name, h.identifier, a.activity_id, a.completed, a.passed, a.failed, a.best, a.first_at, a.last_at, g.percent
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
