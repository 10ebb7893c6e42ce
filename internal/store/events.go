package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
)

// Event is a fact, recorded once.
type Event struct {
	ID         string
	Type       string
	NaturalKey string // two facts with one key are the same fact
	PersonID   *string
	SectionID  *string
	CourseID   *string
	ModuleID   string
	ActivityID string
	Data       map[string]any `gorm:"serializer:json"`
	OccurredAt time.Time
	RecordedAt time.Time
}

// eventsPerJob is how many events one React job takes.
const eventsPerJob = 200

// Record writes events whose natural key is new, together with the jobs that
// react to them, and returns the ids of those that were new.
func (tx *Tx) Record(ctx context.Context, events []Event) ([]string, error) {
	if len(events) == 0 {
		return nil, nil
	}
	rows := make([][]any, len(events))
	for i := range events {
		e := &events[i]
		e.ID = NewID()
		if e.Data == nil {
			e.Data = map[string]any{}
		}
		data, err := json.Marshal(e.Data)
		if err != nil {
			return nil, fmt.Errorf("recording the event %s: %w", e.NaturalKey, err)
		}
		rows[i] = []any{e.ID, e.Type, e.NaturalKey, e.PersonID, e.SectionID, e.CourseID, e.ModuleID, e.ActivityID, data, e.OccurredAt}
	}
	insert := tx.insertEvents
	if len(rows) > copyEvents {
		insert = tx.copyEvents
	}
	fresh, err := insert(ctx, rows)
	if err != nil {
		return nil, known(err, "recording events")
	}
	if len(fresh) == 0 {
		return nil, nil
	}
	var jobs []river.JobArgs
	for from := 0; from < len(fresh); from += eventsPerJob {
		jobs = append(jobs, React{EventIDs: fresh[from:min(from+eventsPerJob, len(fresh))]})
	}
	if err := tx.Enqueue(ctx, jobs...); err != nil {
		return nil, err
	}
	return fresh, tx.Announce(ctx, "event", "")
}

// copyEvents is from how many events on they are copied rather than inserted.
const copyEvents = 200

const eventColumns = `id, type, natural_key, person_id, section_id, course_id, module_id, activity_id, data, occurred_at`

// insertEvents writes a few events and gives the ids of those that were new.
func (tx *Tx) insertEvents(ctx context.Context, rows [][]any) ([]string, error) {
	var batch pgx.Batch
	for _, r := range rows {
		batch.Queue(`INSERT INTO events (`+eventColumns+`) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) ON CONFLICT (natural_key) DO NOTHING`, r...)
	}
	results := tx.PGX.SendBatch(ctx, &batch)
	var fresh []string
	for _, r := range rows {
		tag, err := results.Exec()
		if err != nil {
			_ = results.Close()
			return nil, err
		}
		if tag.RowsAffected() == 1 {
			fresh = append(fresh, r[0].(string))
		}
	}
	return fresh, results.Close()
}

// copyEvents writes many events at once, in one statement.
func (tx *Tx) copyEvents(ctx context.Context, rows [][]any) ([]string, error) {
	if _, err := tx.PGX.Exec(ctx, `CREATE TEMP TABLE IF NOT EXISTS staged_events (id text, type text, natural_key text, person_id text, section_id text,
		course_id text, module_id text, activity_id text, data jsonb, occurred_at timestamptz) ON COMMIT DELETE ROWS`); err != nil {
		return nil, err
	}
	columns := strings.Split(eventColumns, ", ")
	if _, err := tx.PGX.CopyFrom(ctx, pgx.Identifier{"staged_events"}, columns, pgx.CopyFromRows(rows)); err != nil {
		return nil, err
	}
	inserted, err := tx.PGX.Query(ctx, `INSERT INTO events (`+eventColumns+`)
		SELECT id::uuid, type, natural_key, person_id::uuid, section_id::uuid, course_id::uuid, module_id, activity_id, data, occurred_at
		FROM staged_events ORDER BY id ON CONFLICT (natural_key) DO NOTHING RETURNING id::text`)
	if err != nil {
		return nil, err
	}
	fresh, err := pgx.CollectRows(inserted, pgx.RowTo[string])
	if err == nil {
		_, err = tx.PGX.Exec(ctx, `TRUNCATE staged_events`)
	}
	return fresh, err
}

// EventFilter narrows a list of events; empty fields do not.
type EventFilter struct {
	Type, PersonID, SectionID string
	Before                    string // id of the last event of the previous page
	Limit                     int
}

// ListedEvent is an event with the names that a person reads.
type ListedEvent struct {
	Event      `gorm:"embedded"`
	Person     string
	Section    string
	Course     string
	Deliveries int
	Waiting    int
}

// Events lists the newest first.
func (s *Store) Events(ctx context.Context, f EventFilter) (all []ListedEvent, err error) {
	q := s.reader(ctx).Table("events e").Select(`e.*,
		coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p WHERE p.id = e.person_id), '') AS person,
		coalesce((SELECT s.title FROM sections s WHERE s.id = e.section_id), '') AS section,
		coalesce((SELECT c.title FROM courses c WHERE c.id = e.course_id), '') AS course,
		(SELECT count(*) FROM deliveries d WHERE d.event_id = e.id) AS deliveries,
		(SELECT count(*) FROM deliveries d WHERE d.event_id = e.id AND d.state = 'waiting') AS waiting`).Order("e.id DESC").Limit(f.Limit)
	for column, value := range map[string]string{"e.type = ?": f.Type, "e.person_id = ?": f.PersonID, "e.section_id = ?": f.SectionID, "e.id < ?": f.Before} {
		if value != "" {
			q = q.Where(column, value)
		}
	}
	err = q.Scan(&all).Error
	return all, known(err, "listing events")
}

// EventQuery finds the events that could set a rule off.
type EventQuery struct {
	Trigger   string
	Scope     rule.Scope
	Since     time.Time // recorded at or after
	Ascending bool      // oldest first, else newest first
	Limit     int
}

// EventsFor lists the events of a trigger within a scope.
func (s *Store) EventsFor(ctx context.Context, f EventQuery) (all []Event, err error) {
	order := "id DESC"
	if f.Ascending {
		order = "id"
	}
	q := s.reader(ctx).Where("type = ?", f.Trigger).Order(order).Limit(f.Limit)
	for _, c := range []struct{ condition, value string }{
		{"course_id = ?", f.Scope.Course}, {"section_id = ?", f.Scope.Section}, {"module_id = ?", f.Scope.Module}, {"activity_id = ?", f.Scope.Activity},
	} {
		if c.value != "" {
			q = q.Where(c.condition, c.value)
		}
	}
	if !f.Since.IsZero() {
		q = q.Where("recorded_at >= ?", f.Since)
	}
	err = q.Find(&all).Error
	return all, known(err, "finding events")
}

// Fired gives the events for which a rule has fired, and every once-key that it has
// used.
func (s *Store) Fired(ctx context.Context, ruleID string) (fired, once map[string]bool, err error) {
	fired, once = map[string]bool{}, map[string]bool{}
	rows, err := s.Pool.Query(ctx, `SELECT d.event_id::text, coalesce(d.once_key, '') FROM deliveries d WHERE d.rule_id = $1 AND d.position = 0 AND d.undoes IS NULL`, ruleID)
	if err != nil {
		return nil, nil, known(err, "finding what a rule has done")
	}
	var event, key string
	_, err = pgx.ForEachRow(rows, []any{&event, &key}, func() error {
		fired[event] = true
		if key != "" {
			once[key] = true
		}
		return nil
	})
	return fired, once, known(err, "finding what a rule has done")
}

// EventsByID finds events, oldest first.
func (s *Store) EventsByID(ctx context.Context, ids []string) (all []Event, err error) {
	err = s.reader(ctx).Where("id = ANY (?::uuid[])", textArray(ids)).Order("id").Find(&all).Error
	return all, known(err, "finding events")
}

// Course is a course of the mirror.
type Course struct {
	ID          string
	Title       string
	Code        string
	HasOutline  bool
	OutlineSize int
}

// Courses lists the courses of the mirror.
func (s *Store) Courses(ctx context.Context) ([]Course, error) {
	return many[Course](ctx, s, "listing courses", `
		SELECT c.id::text, c.title, c.code, o.course_id IS NOT NULL, (SELECT count(*)::int FROM outline_activities a WHERE a.course_id = c.id)
		FROM courses c LEFT JOIN outlines o ON o.course_id = c.id WHERE c.gone_at IS NULL ORDER BY c.title`)
}

// Outline finds the outline of a course.
func (s *Store) Outline(ctx context.Context, courseID string) (learning.Outline, error) {
	var text []byte
	var o learning.Outline
	err := s.Pool.QueryRow(ctx, `SELECT outline FROM outlines WHERE course_id = $1`, courseID).Scan(&text)
	if err == nil {
		err = json.Unmarshal(text, &o)
	}
	return o, known(err, "finding the outline")
}

// SetOutline replaces the outline of a course.
func (tx *Tx) SetOutline(ctx context.Context, courseID string, o learning.Outline) error {
	text, err := json.Marshal(o)
	if err != nil {
		return err
	}
	_, err = tx.PGX.Exec(ctx, `INSERT INTO outlines (course_id, outline) VALUES ($1, $2)
		ON CONFLICT (course_id) DO UPDATE SET outline = excluded.outline, version = outlines.version + 1, updated_at = now()`, courseID, string(text))
	if err == nil {
		_, err = tx.PGX.Exec(ctx, `DELETE FROM outline_activities WHERE course_id = $1`, courseID)
	}
	var rows [][]any
	for _, m := range o.Modules {
		for _, a := range m.Activities {
			rows = append(rows, []any{a.ID, courseID})
		}
	}
	if err == nil {
		_, err = tx.PGX.CopyFrom(ctx, pgx.Identifier{"outline_activities"}, []string{"activity_id", "course_id"}, pgx.CopyFromRows(rows))
	}
	return known(err, "keeping the outline")
}

// CoursesWith lists the courses in whose outline an activity stands.
func (s *Store) CoursesWith(ctx context.Context, activityID string) ([]string, error) {
	rows, err := s.Pool.Query(ctx, `SELECT course_id::text FROM outline_activities WHERE activity_id = $1`, activityID)
	if err != nil {
		return nil, known(err, "finding the activity")
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[string])
	return ids, known(err, "finding the activity")
}

// ProgressOf gives where a person stands in a section; the empty state when nothing
// has been reported.
func (s *Store) ProgressOf(ctx context.Context, personID, sectionID string) (state learning.State, err error) {
	var text []byte
	err = s.Pool.QueryRow(ctx, `SELECT state FROM progress WHERE person_id = $1 AND section_id = $2`, personID, sectionID).Scan(&text)
	if errors.Is(err, pgx.ErrNoRows) {
		return state, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &state)
	}
	return state, known(err, "reading progress")
}

// ProgressForUpdate reads and locks one person's progress in a section; the
// row is made when there is none, so that two facts never advance it at once.
func (tx *Tx) ProgressForUpdate(ctx context.Context, personID, sectionID string) (learning.State, error) {
	var text json.RawMessage
	err := tx.PGX.QueryRow(ctx, `INSERT INTO progress (person_id, section_id, state, percent) VALUES ($1, $2, '{}', 0)
		ON CONFLICT (person_id, section_id) DO UPDATE SET person_id = excluded.person_id RETURNING state`, personID, sectionID).Scan(&text)
	var state learning.State
	if err == nil {
		err = json.Unmarshal(text, &state)
	}
	return state, known(err, "reading progress")
}

// lastOf is when somebody did something last, nil for never.
func lastOf(s learning.State) *time.Time {
	if last := learning.LastActivity(s); !last.IsZero() {
		return &last
	}
	return nil
}

// Idle is somebody who stopped, or never began.
type Idle struct {
	PersonID, SectionID, CourseID string
	Percent                       int
	Last                          time.Time // the latest activity, or when they joined
}

// IdleSince lists the learners who have done nothing in a section since a time, are
// not through, and for whom that has not been recorded yet. Sections whose term is
// over, and courses without an outline, do not count.
func (s *Store) IdleSince(ctx context.Context, since time.Time, days, limit int) ([]Idle, error) {
	return many[Idle](ctx, s, "finding who stopped", `
		SELECT p.id::text, x.id::text, c.id::text, coalesce(g.percent, 0), i.last
		FROM enrolments e
		JOIN people p ON p.connection_id = e.connection_id AND p.sourced_id = e.person AND p.gone_at IS NULL AND p.enabled
		JOIN sections x ON x.connection_id = e.connection_id AND x.sourced_id = e.section AND x.gone_at IS NULL
		JOIN section_facts f ON f.section_id = x.id AND (f.ends_on IS NULL OR f.ends_on >= current_date)
		JOIN courses c ON c.connection_id = x.connection_id AND c.sourced_id = x.course
		JOIN outlines o ON o.course_id = c.id
		LEFT JOIN progress g ON g.person_id = p.id AND g.section_id = x.id
		CROSS JOIN LATERAL (SELECT coalesce(g.last_at, e.joined_at) AS last) i
		WHERE e.gone_at IS NULL AND e.role = 'student' AND NOT coalesce(g.done, false) AND i.last < $1
		AND NOT EXISTS (SELECT 1 FROM events v WHERE v.natural_key = 'person.inactive/' || p.id || '/' || x.id || '/' || $2::int || '/' || extract(epoch FROM date_trunc('second', i.last))::bigint)
		ORDER BY 1, 2 LIMIT $3`, since, days, limit)
}

// KeepProgress writes one person's progress.
func (tx *Tx) KeepProgress(ctx context.Context, personID, sectionID string, state learning.State, percent int) error {
	text, err := json.Marshal(state)
	if err != nil {
		return err
	}
	_, err = tx.PGX.Exec(ctx, `UPDATE progress SET state = $3, percent = $4, done = $4 = 100, last_at = $5, updated_at = now() WHERE person_id = $1 AND section_id = $2`,
		personID, sectionID, string(text), percent, lastOf(state))
	return known(err, "keeping progress")
}
