package learningstore

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kanban/internal/core/learning"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rulestore"
)

// ProgressRow is one person's progress in one section.
type ProgressRow struct {
	PersonID  string
	SectionID string
	DoneBits  learning.DoneBits // nil when it has to be worked out
	Percent   int
	Version   int        // of the outline by which it was worked out
	FirstAt   *time.Time // the earliest activity, nil for none
	LastAt    *time.Time // the latest activity, nil for none
}

// SectionKey says whose progress something is, and in which section.
type SectionKey struct{ PersonID, SectionID string }

// Key is whose progress it is, and in which section.
func (g ProgressRow) Key() SectionKey { return SectionKey{g.PersonID, g.SectionID} }

// ActivityKey says who did something, in which section and in which activity.
type ActivityKey struct{ PersonID, SectionID, ActivityID string }

// Key is who did it, in which section and in which activity.
func (r Reached) Key() ActivityKey { return ActivityKey{r.PersonID, r.SectionID, r.ActivityID} }

// Reached is what is known about one person and one activity in one section.
type Reached struct {
	PersonID   string
	SectionID  string
	ActivityID string
	learning.ActivityState
}

const reachedColumns = `person_id::text, section_id::text, activity_id, first_at AS first, last_at AS last, completed, passed, failed, best`

// ProgressOf gives everything that is known about a person in a section.
func ProgressOf(ctx context.Context, from db.From, personID, sectionID string) (learning.State, error) {
	all, err := States(ctx, from, []ProgressRow{{PersonID: personID, SectionID: sectionID}})
	return all[SectionKey{personID, sectionID}], err
}

// States gives everything that is known about people in sections, by person and section.
func States(ctx context.Context, from db.From, of []ProgressRow) (map[SectionKey]learning.State, error) {
	if len(of) == 0 {
		return nil, nil
	}
	people, sections := make([]string, len(of)), make([]string, len(of))
	for i, g := range of {
		people[i], sections[i] = g.PersonID, g.SectionID
	}
	list, err := db.Rows[Reached](ctx, from, "reading progress", `SELECT `+reachedColumns+` FROM activity_progress
		WHERE (person_id, section_id) IN (SELECT * FROM unnest($1::text[]::uuid[], $2::text[]::uuid[]))`, people, sections)
	out := map[SectionKey]learning.State{}
	for _, r := range list {
		key := SectionKey{r.PersonID, r.SectionID}
		if out[key].Activities == nil {
			out[key] = learning.State{Activities: map[string]learning.ActivityState{}}
		}
		out[key].Activities[r.ActivityID] = r.ActivityState
	}
	return out, err
}

// LockProgress reads and locks progress, one for each pair of person and section;
// rows are made where there are none, with the given version, so that two facts never
// advance one at once. The pairs must be ordered by person and section, so that nobody
// waits for each other. It gives what is known about the activities asked for, too.
func LockProgress(ctx context.Context, tx *db.Tx, pairs []ProgressRow, asked []Reached) ([]ProgressRow, []Reached,
	error,
) {
	people, sections, versions := make([]string, len(pairs)), make([]string, len(pairs)), make([]int32, len(pairs))
	for i, p := range pairs {
		people[i], sections[i], versions[i] = p.PersonID, p.SectionID, int32(p.Version)
	}
	var batch pgx.Batch
	batch.Queue(`INSERT INTO progress (person_id, section_id, done_bits, percent, outline_version)
		SELECT person, section, '', 0, version FROM unnest($1::text[]::uuid[], $2::text[]::uuid[],
			$3::int[]) WITH ORDINALITY AS w (person, section, version, n) ORDER BY n
		ON CONFLICT (person_id, section_id) DO NOTHING`, people, sections, versions)
	// One after the other, whatever PostgreSQL thinks of the size of the table.
	batch.Queue(`SELECT g.* FROM unnest($1::text[]::uuid[], $2::text[]::uuid[]) WITH ORDINALITY AS w (person, section,
		n)
		CROSS JOIN LATERAL (SELECT person_id::text, section_id::text, done_bits, percent, outline_version AS version,
			first_at, last_at FROM progress WHERE person_id = w.person AND section_id = w.section FOR NO KEY UPDATE) g`, people, sections)
	// Its own statement: it sees what was committed while the one before it waited.
	of, in, activities := make([]string, len(asked)), make([]string, len(asked)), make([]string, len(asked))
	for i, r := range asked {
		of[i], in[i], activities[i] = r.PersonID, r.SectionID, r.ActivityID
	}
	batch.Queue(`SELECT a.* FROM unnest($1::text[]::uuid[], $2::text[]::uuid[], $3::text[]) AS w (person, section,
		activity)
		CROSS JOIN LATERAL (SELECT `+reachedColumns+` FROM activity_progress WHERE person_id = w.person AND section_id = w.section AND activity_id = w.activity OFFSET 0) a`, of, in, activities)
	results := tx.PGX.SendBatch(ctx, &batch)
	defer results.Close()
	if _, err := results.Exec(); err != nil {
		return nil, nil, db.Known(err, "making progress")
	}
	rows, err := results.Query()
	if err != nil {
		return nil, nil, db.Known(err, "reading progress")
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByName[ProgressRow])
	if err != nil {
		return nil, nil, db.Known(err, "reading progress")
	}
	if rows, err = results.Query(); err != nil {
		return nil, nil, db.Known(err, "reading progress")
	}
	reached, err := pgx.CollectRows(rows, pgx.RowToStructByName[Reached])
	return list, reached, db.Known(err, "reading progress")
}

// KeepProgress writes progress and what is known about activities now, and the events
// that follow from it. It gives the ids of the events that were new, and the mark of
// the rules as RulesMark does.
func KeepProgress(ctx context.Context, tx *db.Tx, all []ProgressRow, reached []Reached,
	events []eventstore.Event,
) (fresh []string, mark int64, err error) {
	people, sections, bits := make([]string, len(all)), make([]string, len(all)), make([][]byte, len(all))
	percents, versions := make([]int32, len(all)), make([]int32, len(all))
	firsts, lasts := make([]*time.Time, len(all)), make([]*time.Time, len(all))
	for i, g := range all {
		people[i], sections[i], bits[i], percents[i], versions[i] = g.PersonID, g.SectionID, g.DoneBits,
			int32(g.Percent), int32(g.Version)
		firsts[i], lasts[i] = g.FirstAt, g.LastAt
	}
	var batch pgx.Batch
	batch.Queue(`INSERT INTO progress (person_id, section_id, done_bits, percent, done, first_at, last_at, done_at,
			outline_version)
		SELECT w.person, w.section, w.done_bits, w.percent, w.percent = 100, w.first, w.last,
			CASE WHEN w.percent = 100 THEN w.last END, w.version
		FROM unnest($1::text[]::uuid[], $2::text[]::uuid[], $3::bytea[], $4::int[], $5::int[],
			$6::timestamptz[], $7::timestamptz[]) AS w (person, section, done_bits, percent, version, first, last)
		ON CONFLICT (person_id, section_id) DO UPDATE SET done_bits = excluded.done_bits, percent = excluded.percent,
			done = excluded.done, first_at = excluded.first_at, last_at = excluded.last_at,
			done_at = CASE WHEN excluded.done THEN coalesce(progress.done_at, excluded.last_at) END,
		outline_version = excluded.outline_version, updated_at = now()`, people, sections, bits, percents, versions,
		firsts, lasts)
	QueueReached(&batch, reached, `UPDATE SET first_at = excluded.first_at, last_at = excluded.last_at,
		completed = excluded.completed, passed = excluded.passed, failed = excluded.failed, best = excluded.best`)
	if err := eventstore.QueueEvents(&batch, events, &fresh); err != nil {
		return nil, 0, err
	}
	batch.Queue(rulestore.RulesMarkSQL).QueryRow(func(row pgx.Row) error { return row.Scan(&mark) })
	if err := tx.PGX.SendBatch(ctx, &batch).Close(); err != nil {
		return nil, 0, db.Known(err, "keeping progress")
	}
	if len(fresh) > 0 {
		err = tx.Announce(ctx, "event", "")
	}
	return fresh, mark, err
}

// QueueReached queues writing what is known about activities, and what is done where something
// is there already.
func QueueReached(batch *pgx.Batch, reached []Reached, there string) {
	n := len(reached)
	if n == 0 {
		return
	}
	people, sections, activities := make([]string, n), make([]string, n), make([]string, n)
	first, last, best := make([]time.Time, n), make([]time.Time, n), make([]*float64, n)
	completed, passed, failed := make([]bool, n), make([]bool, n), make([]bool, n)
	for i, r := range reached {
		people[i], sections[i], activities[i], first[i], last[i], best[i] = r.PersonID, r.SectionID, r.ActivityID,
			r.First, r.Last, r.Best
		completed[i], passed[i], failed[i] = r.Completed, r.Passed, r.Failed
	}
	batch.Queue(`INSERT INTO activity_progress (person_id, section_id, activity_id, first_at, last_at, completed,
		passed, failed, best)
		SELECT * FROM unnest($1::text[]::uuid[], $2::text[]::uuid[], $3::text[], $4::timestamptz[], $5::timestamptz[],
			$6::bool[], $7::bool[], $8::bool[], $9::float8[])
		ON CONFLICT (person_id, section_id, activity_id) DO `+there, people, sections, activities, first, last, completed, passed, failed, best)
}

// ForgetActivity removes what is known about a person and an activity.
func ForgetActivity(ctx context.Context, tx *db.Tx, personID, sectionID, activityID string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM activity_progress WHERE person_id = $1 AND section_id = $2
		AND activity_id = $3`, personID, sectionID, activityID)
	return db.Known(err, "forgetting an activity")
}

// Outdated lists, in the order in which they are locked, progress in a course that was
// worked out by an earlier version of its outline, from a place on.
func Outdated(ctx context.Context, from db.From, courseID string, version int, after ProgressRow,
	limit int,
) ([]ProgressRow, error) {
	return db.Rows[ProgressRow](ctx, from, "finding progress by an earlier outline", `SELECT g.person_id::text,
		g.section_id::text, g.done_bits, g.percent, g.outline_version AS version, g.first_at, g.last_at
		FROM progress g
		JOIN sections x ON x.id = g.section_id JOIN courses c ON c.interface_id = x.interface_id
			AND c.sourced_id = x.course
		WHERE c.id = $1 AND g.outline_version < $2 AND ($3 = '' OR (g.person_id, g.section_id) > (nullif($3,
			'')::uuid, nullif($4, '')::uuid))
		ORDER BY g.person_id, g.section_id LIMIT $5`, courseID, version, after.PersonID, after.SectionID, limit)
}

// KeptProgress lists, in the order in which it is locked, the progress in a course that was worked out by a version of
// its outline, from a place on.
func KeptProgress(ctx context.Context, from db.From, courseID string, version int, after ProgressRow, limit int,
) ([]ProgressRow, error) {
	return db.Rows[ProgressRow](ctx, from, "listing kept progress", `SELECT g.person_id::text,
		g.section_id::text, g.done_bits, g.percent, g.outline_version AS version, g.first_at, g.last_at
		FROM progress g JOIN section_facts f ON f.section_id = g.section_id
		WHERE f.course_id = $1 AND g.outline_version = $2 AND g.done_bits IS NOT NULL AND ($3 = ''
			OR (g.person_id, g.section_id) > (nullif($3, '')::uuid, nullif($4, '')::uuid))
		ORDER BY g.person_id, g.section_id LIMIT $5`, courseID, version, after.PersonID, after.SectionID, limit)
}

// OutlinedCourses lists the courses that have an outline, with their titles.
func OutlinedCourses(ctx context.Context, from db.From) ([]NamedCourse, error) {
	return db.Rows[NamedCourse](ctx, from, "listing courses with an outline", `SELECT c.id::text, c.title, c.code,
		c.interface_id::text, c.sourced_id, c.gone_at IS NOT NULL AS gone FROM courses c WHERE EXISTS (SELECT 1 FROM outlines o WHERE o.course_id = c.id) ORDER BY 2, 1`)
}

// StatesInCourse gives everything that is known about people in any section of a course,
// left ones too, by person and section.
func StatesInCourse(ctx context.Context, tx *db.Tx, courseID string, people []string) (map[SectionKey]learning.State,
	error,
) {
	type row struct{ PersonID, SectionID string }
	var of []ProgressRow
	err := db.Each(ctx, tx, "reading progress", `SELECT g.person_id::text, g.section_id::text FROM progress g
		JOIN section_facts f ON f.section_id = g.section_id WHERE g.person_id = ANY ($1::text[]::uuid[])
		AND f.course_id = $2`, []any{people, courseID}, func(r row) error {
		of = append(of, ProgressRow{PersonID: r.PersonID, SectionID: r.SectionID})
		return nil
	})
	if err != nil {
		return nil, err
	}
	return States(ctx, tx, of)
}

// LearnedElsewhere lists the people who learn in a course now and have progress in another
// section of it.
func LearnedElsewhere(ctx context.Context, from db.From, courseID string) ([]string, error) {
	return db.Values[string](ctx, from, "finding who moved", `SELECT DISTINCT l.person_id::text FROM course_learners l
		JOIN progress g ON g.person_id = l.person_id AND g.section_id <> l.section_id
		JOIN section_facts f ON f.section_id = g.section_id AND f.course_id = l.course_id WHERE l.course_id = $1
			ORDER BY 1`, courseID)
}

// Left is a section that a person was in.
type Left struct {
	PersonID, SectionID, CourseID string
	At                            time.Time
}

// LeftSections lists the sections of courses that people were in and left, the latest first.
func LeftSections(ctx context.Context, from *db.Database, personIDs, courseIDs []string) ([]Left, error) {
	return db.Rows[Left](ctx, from.Quickly(), "finding the sections that people left", `
		SELECT p.id::text AS person_id, x.id::text AS section_id, f.course_id::text, w.at FROM people p
		CROSS JOIN LATERAL (SELECT e.section, e.gone_at AS at FROM enrolments e
			WHERE e.interface_id = p.interface_id AND e.person = p.sourced_id AND e.gone_at IS NOT NULL
			AND e.joined_at IS NOT NULL AND e.role = 'student'
			UNION ALL SELECT e.section, e.left_at FROM past_enrolments e
				WHERE e.interface_id = p.interface_id AND e.person = p.sourced_id AND e.role = 'student') w
		JOIN sections x ON x.interface_id = p.interface_id AND x.sourced_id = w.section
		JOIN section_facts f ON f.section_id = x.id AND f.course_id = ANY ($2::text[]::uuid[])
		WHERE p.id = ANY ($1::text[]::uuid[]) ORDER BY w.at DESC, 2`, personIDs, courseIDs)
}
