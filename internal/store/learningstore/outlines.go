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
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/reachstore"
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
func Courses(ctx context.Context, from db.From) ([]Course, error) {
	all, _, err := FindCourses(ctx, from, "", 0, nil)
	return all, err
}

// FindCourses finds courses by a part of title or code, at most so many unless the limit is 0, and
// counts how many fit.
func FindCourses(ctx context.Context, from db.From, text string, limit int, within *permission.Reach) (found []Course,
	total int, err error,
) {
	type row struct {
		Course `gorm:"embedded"`
		Total  int
	}
	args, there := []any{text, limit}, ``
	if within != nil {
		args = append(args, within.IDs())
		there = ` AND ` + reachstore.In(permission.OfCourse, "c.id", "$3::text[]::uuid[]")
	}
	err = db.Each(ctx, from, "finding courses", `
		SELECT c.id::text, c.title, c.code, o.course_id IS NOT NULL AS has_outline, (SELECT count(*)::int
			FROM outline_activities a WHERE a.course_id = c.id) AS outline_size, count(*) OVER ()::int AS total
		FROM courses c LEFT JOIN outlines o ON o.course_id = c.id
		WHERE c.gone_at IS NULL`+connectionstore.NotRemoved("c")+there+`
			AND strpos(lower(c.title || ' ' || c.code), lower($1)) > 0
		ORDER BY c.title, c.id LIMIT nullif($2, 0)`, args, func(r row) error {
		found, total = append(found, r.Course), r.Total
		return nil
	})
	return found, total, err
}

// NamedCourse is a course with what tells it from others.
type NamedCourse struct {
	ID          string
	Title       string
	Code        string
	InterfaceID string // of its register
	SourcedID   string // its register's own identifier
	Gone        bool   // no longer in the register
}

// NamedCourses lists every course that was ever in a register, with what tells it from others.
func NamedCourses(ctx context.Context, from db.From) ([]NamedCourse, error) {
	return db.Rows[NamedCourse](ctx, from, "listing courses", `SELECT c.id::text, c.title, c.code,
		c.interface_id::text, c.sourced_id, c.gone_at IS NOT NULL AS gone FROM courses c
		WHERE true`+connectionstore.NotRemoved("c")+` ORDER BY c.title, c.id`)
}

// CourseTitle gives the title of a course, empty when it is not there any more.
func CourseTitle(ctx context.Context, from db.From, id string) (title string, err error) {
	err = db.Into(ctx, from, &title, `SELECT title FROM courses WHERE id = $1`, id)
	if errors.Is(err, db.ErrNotFound) {
		return "", nil
	}
	return title, db.Known(err, "finding the course")
}

// Outline finds the outline of a course.
func Outline(ctx context.Context, from db.From, courseID string) (learning.Outline, error) {
	o, _, err := OutlineNow(ctx, from, courseID)
	return o, err
}

// OutlineNow finds the outline of a course with its version.
func OutlineNow(ctx context.Context, from db.From, courseID string) (o learning.Outline, version int, err error) {
	type row struct {
		Outline learning.Outline
		Version int
	}
	r, err := db.Row[row](ctx, from, "finding the outline",
		`SELECT outline, version FROM outlines WHERE course_id = $1`, courseID)
	return r.Outline, r.Version, err
}

// OutlineAt finds what an outline was like.
func OutlineAt(ctx context.Context, from db.From, courseID string, version int) (o learning.Outline, err error) {
	var text []byte
	err = db.Into(ctx, from, &text, `SELECT outline FROM outline_versions WHERE course_id = $1 AND version = $2`,
		courseID, version)
	if errors.Is(err, db.ErrNotFound) {
		return o, nil // before there was any
	}
	if err == nil {
		err = json.Unmarshal(text, &o)
	}
	return o, db.Known(err, "finding an earlier outline")
}

// Crossings gives the percentages whose crossing is an event anywhere within a scope,
// ascending.
func Crossings(ctx context.Context, from db.From, courseID, sectionID string) ([]int, error) {
	type row struct {
		Percentages []int `gorm:"serializer:json"`
	}
	var out []int
	err := db.Each(ctx, from, "finding percentages", `SELECT DISTINCT coalesce(o.outline->'percentages',
		'null') AS percentages FROM outlines o
		WHERE ($1 = '' OR o.course_id::text = $1) AND ($2 = '' OR o.course_id = (SELECT c.id FROM sections x
			JOIN courses c ON c.interface_id = x.interface_id AND c.sourced_id = x.course WHERE x.id::text = $2))`, []any{courseID, sectionID}, func(r row) error {
		o := learning.Outline{Percentages: r.Percentages}
		out = append(out, o.Crossings()...)
		return nil
	})
	if len(out) == 0 {
		out = slices.Clone(learning.Usual)
	}
	slices.Sort(out)
	return slices.Compact(out), err
}

// OutlineVersions gives the version of the outline of each course that has one.
func OutlineVersions(ctx context.Context, from db.From, courseIDs []string) (map[string]int, error) {
	return db.Map[string, int](ctx, from, "finding outlines", `SELECT course_id::text AS key, version AS value
		FROM outlines WHERE course_id = ANY ($1::text[]::uuid[])`, courseIDs)
}

// LockOutline reads the outline of a course and keeps others from changing it; the
// empty one when there is none.
func LockOutline(ctx context.Context, tx *db.Tx, courseID string) (o learning.Outline, err error) {
	if _, err := db.Exec(ctx, tx, `SELECT pg_advisory_xact_lock(hashtextextended('outline/' || $1, 0))`,
		courseID); err != nil {
		return o, db.Known(err, "locking the outline")
	}
	var text []byte
	err = db.Into(ctx, tx, &text, `SELECT outline FROM outlines WHERE course_id = $1`, courseID)
	if errors.Is(err, db.ErrNotFound) {
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
	err = db.Into(ctx, tx, &version, `INSERT INTO outlines (course_id, outline) VALUES ($1, $2)
		ON CONFLICT (course_id) DO UPDATE SET outline = excluded.outline, version = outlines.version + 1,
			updated_at = now() RETURNING version`, courseID, string(text))
	if err == nil {
		_, err = db.Exec(ctx, tx, `INSERT INTO outline_versions (course_id, version, outline, who)
			VALUES ($1, $2, $3, $4)`, courseID, version, string(text), who)
	}
	if err == nil {
		_, err = db.Exec(ctx, tx, `DELETE FROM outline_activities WHERE course_id = $1`, courseID)
	}
	var activities []string
	for _, m := range o.Modules {
		for _, a := range m.All() {
			activities = append(activities, a.ID)
		}
	}
	if err == nil {
		_, err = db.Exec(ctx, tx, `INSERT INTO outline_activities (activity_id, course_id) SELECT unnest($1::text[]),
			$2`, activities, courseID)
	}
	return db.Known(err, "keeping the outline")
}

// Placed says in which courses' outlines activities stand, and which version of each
// outline is the present one.
type Placed struct {
	Courses  map[string][]string // by activity
	Versions map[string]int      // by course
}

const placedQuery = `SELECT a.activity_id, a.course_id::text, o.version FROM outline_activities a
	JOIN outlines o ON o.course_id = a.course_id WHERE a.activity_id = ANY ($1)`

// placement is an activity in the outline of a course.
type placement struct {
	ActivityID, CourseID string
	Version              int
}

func placedIn(list []placement) Placed {
	out := Placed{map[string][]string{}, map[string]int{}}
	for _, x := range list {
		out.Courses[x.ActivityID], out.Versions[x.CourseID] = append(out.Courses[x.ActivityID], x.CourseID), x.Version
	}
	return out
}

// CoursesWith finds the courses in whose outlines activities stand.
func CoursesWith(ctx context.Context, from db.From, activityIDs []string) (Placed, error) {
	list, err := db.Rows[placement](ctx, from, "finding activities", placedQuery, activityIDs)
	return placedIn(list), err
}

// Recognised is who and what is known of what a batch of facts names.
type Recognised struct {
	ByIdentifier, ByAddress map[string]rosterstore.Person
	Placed
}

// Recognise finds people by identifiers and by the keys of addresses, and activities in
// outlines, all at once. Whoever is not the only one with an identifier or address is
// left out.
func Recognise(ctx context.Context, from *db.Database, identifiers, addressKeys, activityIDs []string) (a Recognised,
	err error,
) {
	people := `SELECT ` + rosterstore.PersonColumns + ` FROM people p WHERE p.%s = ANY ($1) AND p.%[1]s <> '' AND p.gone_at IS NULL` + connectionstore.NotRemoved("p")
	var batch pgx.Batch
	for _, q := range []struct {
		column string
		keys   []string
		into   *map[string]rosterstore.Person
		key    func(rosterstore.Person) string
	}{
		{"identifier", identifiers, &a.ByIdentifier, func(p rosterstore.Person) string { return p.Identifier }},
		{"email_key", addressKeys, &a.ByAddress, func(p rosterstore.Person) string {
			k,
				_ := roster.AddressKey(p.Email)
			return k
		}},
	} {
		*q.into = map[string]rosterstore.Person{}
		if len(q.keys) == 0 {
			continue
		}
		batch.Queue(fmt.Sprintf(people, q.column), q.keys).Query(func(rows pgx.Rows) error {
			list, err := pgx.CollectRows(rows, pgx.RowToStructByName[rosterstore.Person])
			twice := map[string]bool{}
			for _, p := range list {
				k := q.key(p)
				if o, there := (*q.into)[k]; there && o.ID != p.ID { // two records may be one person's
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
	batch.Queue(placedQuery, activityIDs).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByName[placement])
		a.Placed = placedIn(list)
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
// not finished, and for whom that has not been recorded yet. Sections whose term is
// over, and courses without an outline, do not count. For rule.PersonNotBegun only those
// who have never done anything there do.
func IdleSince(ctx context.Context, from db.From, trigger rule.Trigger, since time.Time, days, limit int) ([]Idle,
	error,
) {
	return db.Rows[Idle](ctx, from, "finding who stopped", `
		SELECT p.id::text AS person_id, x.id::text AS section_id, c.id::text AS course_id, coalesce(g.percent,
			0) AS percent, i.last
		FROM enrolments e
		JOIN people p ON p.interface_id = e.interface_id AND p.sourced_id = e.person AND p.gone_at IS NULL
			AND p.enabled
		JOIN sections x ON x.interface_id = e.interface_id AND x.sourced_id = e.section AND x.gone_at IS NULL
		JOIN section_facts f ON f.section_id = x.id AND (f.ends_on IS NULL OR f.ends_on >= current_date)
		JOIN courses c ON c.interface_id = x.interface_id AND c.sourced_id = x.course
		JOIN outlines o ON o.course_id = c.id
		LEFT JOIN progress g ON g.person_id = p.id AND g.section_id = x.id
		CROSS JOIN LATERAL (SELECT coalesce(g.last_at, e.joined_at) AS last) i
		WHERE e.gone_at IS NULL AND e.role = 'student' AND NOT coalesce(g.done, false) AND i.last < $1
			AND ($4::text = 'person.inactive' OR g.last_at IS NULL)`+connectionstore.NotRemoved("e")+`
		AND NOT EXISTS (SELECT 1 FROM event_keys k WHERE k.key = key_of($4::text || '/' || p.id || '/' || x.id || '/'
			|| $2::int || '/' || extract(epoch FROM date_trunc('second', i.last))::bigint))
		ORDER BY 1, 2 LIMIT $3`, since, days, limit, string(trigger))
}
