// Package learningstore keeps outlines of courses and everybody's progress in them.
package learningstore

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"kanban/internal/core/learning"
	"kanban/internal/core/roster"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
)

// Course is a course of the mirror.
type Course struct {
	ID          string
	Title       string
	Code        string
	HasOutline  bool
	OutlineSize int
}

// Courses lists the courses of the mirror.
func Courses(ctx context.Context, from *db.Database) ([]Course, error) {
	return db.Rows[Course](ctx, from, "listing courses", `
		SELECT c.id::text, c.title, c.code, o.course_id IS NOT NULL, (SELECT count(*)::int FROM outline_activities a WHERE a.course_id = c.id)
		FROM courses c LEFT JOIN outlines o ON o.course_id = c.id WHERE c.gone_at IS NULL`+connectionstore.NotRemoved("c")+` ORDER BY c.title`)
}

// CourseTitle gives the title of a course, empty when it is not there any more.
func CourseTitle(ctx context.Context, from *db.Database, id string) (title string, err error) {
	err = from.Pool.QueryRow(ctx, `SELECT title FROM courses WHERE id = $1`, id).Scan(&title)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	return title, db.Known(err, "finding the course")
}

// Outline finds the outline of a course.
func Outline(ctx context.Context, from *db.Database, courseID string) (learning.Outline, error) {
	o, _, err := OutlineNow(ctx, from, courseID)
	return o, err
}

// OutlineNow finds the outline of a course with its version.
func OutlineNow(ctx context.Context, from *db.Database, courseID string) (o learning.Outline, version int, err error) {
	var text []byte
	err = from.Pool.QueryRow(ctx, `SELECT outline, version FROM outlines WHERE course_id = $1`, courseID).Scan(&text, &version)
	if err == nil {
		err = json.Unmarshal(text, &o)
	}
	return o, version, db.Known(err, "finding the outline")
}

// OutlineAt finds what an outline was like.
func OutlineAt(ctx context.Context, from *db.Database, courseID string, version int) (o learning.Outline, err error) {
	var text []byte
	err = from.Pool.QueryRow(ctx, `SELECT outline FROM outline_versions WHERE course_id = $1 AND version = $2`, courseID, version).Scan(&text)
	if errors.Is(err, pgx.ErrNoRows) {
		return o, nil // before there was any
	}
	if err == nil {
		err = json.Unmarshal(text, &o)
	}
	return o, db.Known(err, "finding an earlier outline")
}

// Crossings gives the percentages whose crossing is an event anywhere within a scope,
// ascending.
func Crossings(ctx context.Context, from *db.Database, courseID, sectionID string) ([]int, error) {
	rows, err := from.Pool.Query(ctx, `SELECT DISTINCT coalesce(o.outline->'percentages', 'null')::text FROM outlines o
		WHERE ($1 = '' OR o.course_id::text = $1) AND ($2 = '' OR o.course_id = (SELECT c.id FROM sections x JOIN courses c ON c.connection_id = x.connection_id AND c.sourced_id = x.course WHERE x.id::text = $2))`, courseID, sectionID)
	if err != nil {
		return nil, db.Known(err, "finding percentages")
	}
	var out []int
	var text string
	_, err = pgx.ForEachRow(rows, []any{&text}, func() error {
		var o learning.Outline
		if err := json.Unmarshal([]byte(text), &o.Percentages); err != nil {
			return err
		}
		out = append(out, o.Crossings()...)
		return nil
	})
	if len(out) == 0 {
		out = slices.Clone(learning.Usual)
	}
	slices.Sort(out)
	return slices.Compact(out), db.Known(err, "finding percentages")
}

// OutlineVersions gives the version of the outline of each course that has one.
func OutlineVersions(ctx context.Context, from *db.Database, courseIDs []string) (map[string]int, error) {
	rows, err := from.Pool.Query(ctx, `SELECT course_id::text, version FROM outlines WHERE course_id = ANY ($1::text[]::uuid[])`, courseIDs)
	if err != nil {
		return nil, db.Known(err, "finding outlines")
	}
	out := map[string]int{}
	var id string
	var version int
	_, err = pgx.ForEachRow(rows, []any{&id, &version}, func() error { out[id] = version; return nil })
	return out, db.Known(err, "finding outlines")
}

// LockOutline reads the outline of a course and keeps others from changing it; the
// empty one when there is none.
func LockOutline(ctx context.Context, tx *db.Tx, courseID string) (o learning.Outline, err error) {
	if _, err := tx.PGX.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtextextended('outline/' || $1, 0))`, courseID); err != nil {
		return o, db.Known(err, "locking the outline")
	}
	var text []byte
	err = tx.PGX.QueryRow(ctx, `SELECT outline FROM outlines WHERE course_id = $1`, courseID).Scan(&text)
	if errors.Is(err, pgx.ErrNoRows) {
		return o, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &o)
	}
	return o, db.Known(err, "finding the outline")
}

// SetOutline replaces the outline of a course and keeps it as a version.
func SetOutline(ctx context.Context, tx *db.Tx, who, courseID string, o learning.Outline) error {
	text, err := json.Marshal(o)
	if err != nil {
		return err
	}
	var version int
	err = tx.PGX.QueryRow(ctx, `INSERT INTO outlines (course_id, outline) VALUES ($1, $2)
		ON CONFLICT (course_id) DO UPDATE SET outline = excluded.outline, version = outlines.version + 1, updated_at = now() RETURNING version`, courseID, string(text)).Scan(&version)
	if err == nil {
		_, err = tx.PGX.Exec(ctx, `INSERT INTO outline_versions (course_id, version, outline, who) VALUES ($1, $2, $3, $4)`, courseID, version, string(text), who)
	}
	if err == nil {
		_, err = tx.PGX.Exec(ctx, `DELETE FROM outline_activities WHERE course_id = $1`, courseID)
	}
	var rows [][]any
	for _, m := range o.Modules {
		for _, a := range m.All() {
			rows = append(rows, []any{a.ID, courseID})
		}
	}
	if err == nil {
		_, err = tx.PGX.CopyFrom(ctx, pgx.Identifier{"outline_activities"}, []string{"activity_id", "course_id"}, pgx.CopyFromRows(rows))
	}
	return db.Known(err, "keeping the outline")
}

// Placed says in which courses' outlines activities stand, and which version of each
// outline is the present one.
type Placed struct {
	Courses  map[string][]string // by activity
	Versions map[string]int      // by course
}

const placedQuery = `SELECT a.activity_id, a.course_id::text, o.version FROM outline_activities a JOIN outlines o ON o.course_id = a.course_id WHERE a.activity_id = ANY ($1)`

func collectPlaced(rows pgx.Rows) (Placed, error) {
	out := Placed{map[string][]string{}, map[string]int{}}
	var activity, course string
	var version int
	_, err := pgx.ForEachRow(rows, []any{&activity, &course, &version}, func() error {
		out.Courses[activity], out.Versions[course] = append(out.Courses[activity], course), version
		return nil
	})
	return out, err
}

// CoursesWith finds the courses in whose outlines activities stand.
func CoursesWith(ctx context.Context, from *db.Database, activityIDs []string) (Placed, error) {
	rows, err := from.Pool.Query(ctx, placedQuery, activityIDs)
	if err != nil {
		return Placed{}, db.Known(err, "finding activities")
	}
	out, err := collectPlaced(rows)
	return out, db.Known(err, "finding activities")
}

// Recognised is who and what is known of what a batch of facts names.
type Recognised struct {
	ByIdentifier, ByAddress map[string]rosterstore.Person
	Placed
}

// Recognise finds people by identifiers and by the keys of addresses, and activities in
// outlines, all at once. Whoever is not the only one with an identifier or address is
// left out.
func Recognise(ctx context.Context, from *db.Database, identifiers, addressKeys, activityIDs []string) (a Recognised, err error) {
	people := `SELECT ` + rosterstore.PersonColumns + ` FROM people p WHERE p.%s = ANY ($1) AND p.%[1]s <> '' AND p.gone_at IS NULL` + connectionstore.NotRemoved("p")
	var batch pgx.Batch
	for _, q := range []struct {
		column string
		keys   []string
		into   *map[string]rosterstore.Person
		key    func(rosterstore.Person) string
	}{
		{"identifier", identifiers, &a.ByIdentifier, func(p rosterstore.Person) string { return p.Identifier }},
		{"email_key", addressKeys, &a.ByAddress, func(p rosterstore.Person) string { k, _ := roster.AddressKey(p.Email); return k }},
	} {
		*q.into = map[string]rosterstore.Person{}
		if len(q.keys) == 0 {
			continue
		}
		batch.Queue(fmt.Sprintf(people, q.column), q.keys).Query(func(rows pgx.Rows) error {
			list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[rosterstore.Person])
			twice := map[string]bool{}
			for _, p := range list {
				k := q.key(p)
				if _, there := (*q.into)[k]; there {
					twice[k] = true
				}
				(*q.into)[k] = p
			}
			for k := range twice {
				delete(*q.into, k)
			}
			return err
		})
	}
	batch.Queue(placedQuery, activityIDs).Query(func(rows pgx.Rows) (err error) {
		a.Placed, err = collectPlaced(rows)
		return err
	})
	return a, db.Known(from.Quick.SendBatch(ctx, &batch).Close(), "finding people and activities")
}

// Idle is somebody who stopped, or never began.
type Idle struct {
	PersonID, SectionID, CourseID string
	Percent                       int
	Last                          time.Time // the latest activity, or when they joined
}

// IdleSince lists the learners who have done nothing in a section since a time, are
// not through, and for whom that has not been recorded yet. Sections whose term is
// over, and courses without an outline, do not count. For rule.PersonNotBegun only those
// who have never done anything there do.
func IdleSince(ctx context.Context, from *db.Database, trigger rule.Trigger, since time.Time, days, limit int) ([]Idle, error) {
	return db.Rows[Idle](ctx, from, "finding who stopped", `
		SELECT p.id::text, x.id::text, c.id::text, coalesce(g.percent, 0), i.last
		FROM enrolments e
		JOIN people p ON p.connection_id = e.connection_id AND p.sourced_id = e.person AND p.gone_at IS NULL AND p.enabled
		JOIN sections x ON x.connection_id = e.connection_id AND x.sourced_id = e.section AND x.gone_at IS NULL
		JOIN section_facts f ON f.section_id = x.id AND (f.ends_on IS NULL OR f.ends_on >= current_date)
		JOIN courses c ON c.connection_id = x.connection_id AND c.sourced_id = x.course
		JOIN outlines o ON o.course_id = c.id
		LEFT JOIN progress g ON g.person_id = p.id AND g.section_id = x.id
		CROSS JOIN LATERAL (SELECT coalesce(g.last_at, e.joined_at) AS last) i
		WHERE e.gone_at IS NULL AND e.role = 'student' AND NOT coalesce(g.done, false) AND i.last < $1 AND ($4::text = 'person.inactive' OR g.last_at IS NULL)`+connectionstore.NotRemoved("e")+`
		AND NOT EXISTS (SELECT 1 FROM event_keys k WHERE k.key = key_of($4::text || '/' || p.id || '/' || x.id || '/' || $2::int || '/' || extract(epoch FROM date_trunc('second', i.last))::bigint))
		ORDER BY 1, 2 LIMIT $3`, since, days, limit, string(trigger))
}
