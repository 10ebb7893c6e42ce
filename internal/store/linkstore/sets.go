// Package linkstore keeps linked sets, the safety copies made before linking, and the groups of shared classes.
package linkstore

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/mirror"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
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
	Sections   []rosterstore.Section `gorm:"-"` // in the order in which they were linked, the lead first
}

// FindLinkedSet finds one by id, with its sections.
func FindLinkedSet(ctx context.Context, from db.From, id string) (LinkedSet, error) {
	var set LinkedSet
	if err := from.Records(ctx).Where("id = ?", id).First(&set).Error; err != nil {
		return set, db.Known(err, "finding the linked set")
	}
	var ids []string
	err := db.Into(ctx, from, &ids, `SELECT coalesce(array_agg(section_id::text ORDER BY position), '{}')
		FROM linked_sections l JOIN linked_sets t ON t.id = l.set_id
		WHERE l.set_id = $1 AND l.unlinked_at IS NOT DISTINCT FROM t.unlinked_at`, id)
	if err != nil {
		return set, db.Known(err, "finding the set's sections")
	}
	set.Sections, err = rosterstore.SectionsByID(ctx, from, ids)
	return set, err
}

// UnlinkedSets lists the sets that were unlinked, the latest first, without their sections.
func UnlinkedSets(ctx context.Context, from db.From) (all []LinkedSet, err error) {
	err = from.Records(ctx).Where("unlinked_at IS NOT NULL").Order("unlinked_at DESC, id").Find(&all).Error
	return all, db.Known(err, "listing unlinked sets")
}

// LinkedSets lists the sets that are linked now, without their sections.
func LinkedSets(ctx context.Context, from db.From) (all []LinkedSet, err error) {
	err = from.Records(ctx).Where("unlinked_at IS NULL").Order("name, id").Find(&all).Error
	return all, db.Known(err, "listing linked sets")
}

// LinkSections keeps a set. ErrTaken means that one of the sections is linked already.
func LinkSections(ctx context.Context, tx *db.Tx, set *LinkedSet) error {
	if err := db.Create(tx, set, "linking sections"); err != nil {
		return err
	}
	for i, x := range set.Sections {
		if _, err := db.Exec(ctx, tx,
			`INSERT INTO linked_sections (set_id, section_id, position) VALUES ($1, $2, $3)`, set.ID, x.ID,
			i); err != nil {
			return db.Known(err, "linking sections")
		}
	}
	return mirror.SectionsChanged(ctx, tx)
}

// EditSet gives a set, whose version must still be the one read, the sections and the lead
// in set, in that order. ErrTaken means that one of them is linked elsewhere.
func EditSet(ctx context.Context, tx *db.Tx, set *LinkedSet) error {
	done, err := db.Exec(ctx, tx, `UPDATE linked_sets SET lead_id = $3, reason = $4, version = version + 1
		WHERE id = $1 AND version = $2 AND unlinked_at IS NULL`, set.ID, set.Version, set.LeadID, set.Reason)
	if err == nil && done == 0 {
		return fmt.Errorf("changing the set: %w", db.ErrStale)
	}
	set.Version++
	ids := make([]string, len(set.Sections))
	for i, x := range set.Sections {
		ids[i] = x.ID
	}
	for _, sql := range []string{
		`UPDATE linked_sections SET unlinked_at = now() WHERE set_id = $1 AND unlinked_at IS NULL
			AND section_id <> ALL ($2::text[]::uuid[])`,
		`INSERT INTO linked_sections (set_id, section_id, position) SELECT $1, id, n
			FROM unnest($2::text[]::uuid[]) WITH ORDINALITY AS w (id, n)
			ON CONFLICT (set_id, section_id) DO UPDATE SET position = excluded.position, unlinked_at = NULL`,
	} {
		if err == nil {
			_, err = db.Exec(ctx, tx, sql, set.ID, ids)
		}
	}
	if err != nil {
		return db.Known(err, "changing the set")
	}
	return mirror.SectionsChanged(ctx, tx)
}

// Unlink ends a set whose version must still be the one read.
func Unlink(ctx context.Context, tx *db.Tx, set LinkedSet) error {
	done, err := db.Exec(ctx, tx, `UPDATE linked_sets SET unlinked_at = now(), version = version + 1
		WHERE id = $1 AND version = $2 AND unlinked_at IS NULL`, set.ID, set.Version)
	if err == nil && done == 0 {
		return fmt.Errorf("unlinking: %w", db.ErrStale)
	}
	if err == nil {
		_, err = db.Exec(ctx, tx, `UPDATE linked_sections SET unlinked_at = now()
			WHERE set_id = $1 AND unlinked_at IS NULL`, set.ID)
	}
	if err == nil {
		return mirror.SectionsChanged(ctx, tx)
	}
	return db.Known(err, "unlinking")
}

// PairingsOfSections lists the pairings of sections that have not ended, whether
// they have run or not; those of a set count for each of its sections.
func PairingsOfSections(ctx context.Context, from db.From, sectionIDs []string) (all []pairingstore.Pairing,
	err error,
) {
	err = from.Records(ctx).Where("id IN (SELECT pairing_id FROM paired_sections WHERE section_id = ANY (?::uuid[]))",
		db.TextArray(sectionIDs)).Order("id").Find(&all).Error
	return all, db.Known(err, "listing the sections' pairings")
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
func SafetyCopies(ctx context.Context, from db.From, setID string) (all []SafetyCopy, err error) {
	err = from.Records(ctx).Omit("content").Where("set_id = ?",
		setID).Order("created_at DESC, id DESC").Find(&all).Error
	return all, db.Known(err, "listing safety copies")
}

// FindSafetyCopy finds one by id.
func FindSafetyCopy(ctx context.Context, from db.From, id string) (c SafetyCopy, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&c).Error
	return c, db.Known(err, "finding the safety copy")
}

// ResultKey names a result: a person's in an activity of a section.
type ResultKey struct{ PersonID, SectionID, ActivityID string }

// KnownResults tells which people and sections are known, and which results are there.
func KnownResults(ctx context.Context, from db.From, keys []ResultKey) (known map[string]bool,
	there map[ResultKey]bool, err error,
) {
	known, there = map[string]bool{}, map[ResultKey]bool{}
	people, sections, activities := make([]string, len(keys)), make([]string, len(keys)), make([]string, len(keys))
	for i, k := range keys {
		people[i], sections[i], activities[i] = k.PersonID, k.SectionID, k.ActivityID
	}
	ids, err := db.Values[string](ctx, from, "finding people and sections", `SELECT id::text FROM people
		WHERE id = ANY ($1::text[]::uuid[]) UNION ALL SELECT section_id::text FROM section_facts
		WHERE section_id = ANY ($2::text[]::uuid[])`, people, sections)
	if err != nil {
		return nil, nil, err
	}
	for _, id := range ids {
		known[id] = true
	}
	rows, err := db.Rows[ResultKey](ctx, from, "finding results", `SELECT a.person_id::text, a.section_id::text,
		a.activity_id FROM activity_progress a
		JOIN unnest($1::text[]::uuid[], $2::text[]::uuid[], $3::text[]) AS w (person, section,
			activity) ON a.person_id = w.person AND a.section_id = w.section AND a.activity_id = w.activity`, people, sections, activities)
	for _, k := range rows {
		there[k] = true
	}
	return known, there, err
}

// RestoreResults keeps results that are no longer there, lets progress be worked out anew, and gives
// the courses that it concerns.
func RestoreResults(ctx context.Context, tx *db.Tx, results []learningstore.Reached) (courses []string, err error) {
	people, sections := make([]string, len(results)), make([]string, len(results))
	for i, r := range results {
		people[i], sections[i] = r.PersonID, r.SectionID
	}
	var batch pgx.Batch
	batch.Queue(`INSERT INTO progress (person_id, section_id, percent, outline_version) SELECT DISTINCT w.person,
		w.section, 0, 0 FROM unnest($1::text[]::uuid[], $2::text[]::uuid[]) AS w (person, section)
		ORDER BY 1, 2 ON CONFLICT (person_id, section_id) DO UPDATE SET outline_version = 0`, people, sections)
	learningstore.QueueReached(&batch, results, "NOTHING")
	if err := tx.PGX.SendBatch(ctx, &batch).Close(); err != nil {
		return nil, db.Known(err, "putting results back")
	}
	courses, err = db.Values[string](ctx, tx, "finding the courses", `SELECT DISTINCT course_id::text
		FROM section_facts WHERE section_id = ANY ($1::text[]::uuid[]) ORDER BY 1`, sections)
	return courses, db.Known(err, "finding the courses")
}

// LeftGroup is a group inside a class that Kanban made for a section which is no longer of
// its set, or of a pairing that ended.
type LeftGroup struct {
	PairingID   string
	SectionID   string
	InterfaceID string
	Ref         string
	Class       string
	Section     string // its title
	Placed      int    // whom Kanban put in and did not take out
}

// LeftGroups lists the groups at a service, or at all, that are for no section any more.
func LeftGroups(ctx context.Context, from db.From, interfaceID string) ([]LeftGroup, error) {
	return db.Rows[LeftGroup](ctx, from, "listing left groups", `
		SELECT g.pairing_id::text, g.section_id::text, p.interface_id::text, g.ref, p.target_name AS class,
			coalesce(f.title, '') AS section, (SELECT count(*)::int FROM group_placements x
			WHERE x.pairing_id = g.pairing_id AND x.section_id = g.section_id) AS placed
		FROM pairing_groups g JOIN pairings p ON p.id = g.pairing_id
		LEFT JOIN section_facts f ON f.section_id = g.section_id
		LEFT JOIN linked_sections l ON l.set_id = p.set_id AND l.section_id = g.section_id AND l.unlinked_at IS NULL
			AND p.ended_at IS NULL
		WHERE l.section_id IS NULL AND ($1 = '' OR p.interface_id = nullif($1, '')::uuid)`+connectionstore.NotRemoved("p")+` ORDER BY p.target_name, f.title, g.ref`, interfaceID)
}

// ForgetGroup forgets a group that was removed at the service.
func ForgetGroup(ctx context.Context, tx *db.Tx, g LeftGroup) error {
	for _, sql := range []string{`DELETE FROM pairing_groups WHERE pairing_id = $1 AND section_id = $2`, `DELETE
		FROM group_placements WHERE pairing_id = $1 AND section_id = $2`} {
		if _, err := db.Exec(ctx, tx, sql, g.PairingID, g.SectionID); err != nil {
			return db.Known(err, "forgetting a group")
		}
	}
	return nil
}

// Groups gives the groups inside a pairing's target: the service's id by section.
func Groups(ctx context.Context, from db.From, pairingID string) (map[string]string, error) {
	all, err := GroupsOf(ctx, from, []string{pairingID})
	if all[pairingID] == nil {
		return map[string]string{}, err
	}
	return all[pairingID], err
}

// GroupsOf does the same for many pairings.
func GroupsOf(ctx context.Context, from db.From, pairingIDs []string) (map[string]map[string]string, error) {
	type group struct{ PairingID, SectionID, Ref string }
	out := map[string]map[string]string{}
	err := db.Each(ctx, from, "listing groups", `SELECT pairing_id::text, section_id::text, ref FROM pairing_groups
		WHERE pairing_id = ANY ($1::text[]::uuid[])`, []any{pairingIDs}, func(g group) error {
		if out[g.PairingID] == nil {
			out[g.PairingID] = map[string]string{}
		}
		out[g.PairingID][g.SectionID] = g.Ref
		return nil
	})
	return out, err
}

// SetGroup keeps the service's id of a group inside a target.
func SetGroup(ctx context.Context, tx *db.Tx, pairingID, sectionID, ref string) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO pairing_groups (pairing_id, section_id, ref) VALUES ($1, $2, $3)
		ON CONFLICT (pairing_id, section_id) DO UPDATE SET ref = excluded.ref`, pairingID, sectionID, ref)
	return db.Known(err, "keeping a group")
}

// KeepGrouping notes into which groups Kanban put an account, and out of which it took it.
func KeepGrouping(ctx context.Context, tx *db.Tx, pairingID, remoteID string, join, quit []string) error {
	if len(join) > 0 {
		if _, err := db.Exec(ctx, tx, `INSERT INTO group_placements (pairing_id, section_id, remote_id) SELECT $1,
			unnest($3::text[]::uuid[]), $2 ON CONFLICT DO NOTHING`, pairingID, remoteID, join); err != nil {
			return db.Known(err, "noting groups")
		}
	}
	if len(quit) > 0 {
		_, err := db.Exec(ctx, tx, `DELETE FROM group_placements WHERE pairing_id = $1 AND remote_id = $2
			AND section_id = ANY ($3::text[]::uuid[])`, pairingID, remoteID, quit)
		return db.Known(err, "noting groups")
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
func ResultsOf(ctx context.Context, from db.From, sectionIDs []string) ([]Result, error) {
	return db.Rows[Result](ctx, from, "listing results", `
		SELECT g.person_id::text, g.section_id::text, f.code, h.given_name || ' ' || h.family_name AS person,
			h.identifier, a.activity_id, a.completed, a.passed, a.failed, a.best, a.first_at, a.last_at, g.percent
		FROM progress g JOIN activity_progress a USING (person_id, section_id)
			JOIN section_facts f ON f.section_id = g.section_id JOIN people h ON h.id = g.person_id AND h.leads
		WHERE g.section_id = ANY ($1::text[]::uuid[]) ORDER BY f.code, h.family_name, h.given_name, h.id, a.first_at,
			a.activity_id`, sectionIDs)
}

// ServicesOfSections gives, by section, the names of the services at which it is paired.
func ServicesOfSections(ctx context.Context, from db.From) (map[string][]string, error) {
	return db.Map[string, []string](ctx, from, "listing the sections' services", `SELECT p.section_id::text AS key,
		array_agg(c.name ORDER BY c.name) AS value FROM pairings p JOIN interfaces c ON c.id = p.interface_id
		WHERE p.ended_at IS NULL GROUP BY 1`)
}
