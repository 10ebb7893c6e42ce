package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

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
	fresh, err := tx.RecordOnly(ctx, events)
	if err != nil || len(fresh) == 0 {
		return nil, err
	}
	var jobs []river.JobArgs
	for from := 0; from < len(fresh); from += eventsPerJob {
		jobs = append(jobs, React{EventIDs: fresh[from:min(from+eventsPerJob, len(fresh))]})
	}
	return fresh, tx.Enqueue(ctx, jobs...)
}

// RecordOnly does the same for whoever reacts in the same transaction.
func (tx *Tx) RecordOnly(ctx context.Context, events []Event) ([]string, error) {
	if len(events) == 0 {
		return nil, nil
	}
	rows := make([][]any, 0, len(events))
	seen := make(map[string]bool, len(events))
	for i := range events {
		e := &events[i]
		e.ID = NewID()
		if seen[e.NaturalKey] {
			continue
		}
		seen[e.NaturalKey] = true
		if e.Data == nil {
			e.Data = map[string]any{}
		}
		data, err := json.Marshal(e.Data)
		if err != nil {
			return nil, fmt.Errorf("recording the event %s: %w", e.NaturalKey, err)
		}
		rows = append(rows, []any{e.ID, e.Type, e.NaturalKey, e.PersonID, e.SectionID, e.CourseID, e.ModuleID, e.ActivityID, string(data), e.OccurredAt})
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
	return fresh, tx.Announce(ctx, "event", "")
}

// copyEvents is from how many events on they are copied rather than inserted.
const copyEvents = 200

// freshKeys keeps the keys of what is to be recorded (w.short) and gives those that are
// new. All do so in one order, so that they never wait for each other.
const freshKeys = `INSERT INTO event_keys SELECT short FROM w ORDER BY short ON CONFLICT DO NOTHING RETURNING key`

const eventColumns = `id, type, natural_key, person_id, section_id, course_id, module_id, activity_id, data, occurred_at`

// insertEvents writes a few events in one statement and gives the ids of those that
// were new.
func (tx *Tx) insertEvents(ctx context.Context, rows [][]any) ([]string, error) {
	columns := make([][]any, len(strings.Split(eventColumns, ", ")))
	for _, r := range rows {
		for i, v := range r {
			columns[i] = append(columns[i], v)
		}
	}
	args := make([]any, len(columns))
	for i := range columns {
		args[i] = columns[i]
	}
	inserted, err := tx.PGX.Query(ctx, `WITH w AS MATERIALIZED (SELECT key_of(key) AS short, * FROM
			unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::text[], $9::text[], $10::timestamptz[])
			AS w (id, type, key, person, section, course, module, activity, data, at)),
		fresh AS (`+freshKeys+`)
		INSERT INTO events (`+eventColumns+`)
		SELECT w.id::uuid, w.type, w.key, w.person::uuid, w.section::uuid, w.course::uuid, w.module, w.activity, w.data::jsonb, w.at
		FROM w JOIN fresh ON fresh.key = w.short RETURNING id::text`, args...)
	if err != nil {
		return nil, err
	}
	fresh, err := pgx.CollectRows(inserted, pgx.RowTo[string])
	slices.Sort(fresh) // as they were given: the ids grow
	return fresh, err
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
	inserted, err := tx.PGX.Query(ctx, `WITH w AS MATERIALIZED (SELECT key_of(natural_key) AS short, * FROM staged_events), fresh AS (`+freshKeys+`)
		INSERT INTO events (`+eventColumns+`)
		SELECT id::uuid, type, natural_key, person_id::uuid, section_id::uuid, course_id::uuid, module_id, activity_id, data, occurred_at
		FROM w JOIN fresh ON fresh.key = w.short ORDER BY id RETURNING id::text`)
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
func (s *Store) EventsByID(ctx context.Context, ids []string) ([]Event, error) {
	return many[Event](ctx, s, "finding events", `SELECT id::text, type, natural_key, person_id::text, section_id::text, course_id::text, module_id, activity_id, data, occurred_at, recorded_at
		FROM events WHERE id = ANY ($1::text[]::uuid[]) ORDER BY id`, ids)
}
