// Package eventstore keeps events, the statements they come from, and the months in which both are kept.
package eventstore

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"kanban/internal/core/permission"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/rulestore"
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

// Thing is what an event is about beside person and place, if anything: the name of the
// field of Data that holds its id, and the id.
func (e Event) Thing() (field, id string) {
	for _, field := range []string{"badgeId", "stageId"} {
		if id, ok := e.Data[field].(string); ok {
			return field, id
		}
	}
	return "", ""
}

// Results gives every pass and fail of an event's person in its section and activity, except
// those whose statement was voided: a result's natural key ends with its statement's id.
func Results(ctx context.Context, tx *db.Tx, e Event) ([]rule.Result, error) {
	return db.Rows[rule.Result](ctx, tx, "finding results", `SELECT type AS trigger, occurred_at AS at,
		natural_key AS key FROM events e WHERE person_id = $1 AND section_id IS NOT DISTINCT
		FROM $2 AND activity_id = $3 AND type IN ($4, $5)
		AND NOT EXISTS (SELECT 1 FROM statements s WHERE s.person_id = e.person_id AND s.voided_at IS NOT NULL
			AND s.id::text = right(e.natural_key, 36))`, e.PersonID, e.SectionID, e.ActivityID, string(rule.AssessmentPassed), string(rule.AssessmentFailed))
}

// eventsPerJob is how many events one React job takes.
const eventsPerJob = 200

// RecordEvents writes events whose natural key is new, together with the jobs that
// react to them, and returns the ids of those that were new.
func RecordEvents(ctx context.Context, tx *db.Tx, events []Event) ([]string, error) {
	if len(events) == 0 {
		return nil, nil
	}
	var batch pgx.Batch
	var fresh []string
	if err := QueueEvents(&batch, events, &fresh); err != nil {
		return nil, err
	}
	if err := tx.PGX.SendBatch(ctx, &batch).Close(); err != nil || len(fresh) == 0 {
		return nil, db.Known(err, "recording events")
	}
	if err := tx.Announce(ctx, "event", ""); err != nil {
		return nil, err
	}
	return fresh, EnqueueReactions(ctx, tx, fresh)
}

// EnqueueReactions queues the jobs that react to events.
func EnqueueReactions(ctx context.Context, tx *db.Tx, eventIDs []string) error {
	var work []river.JobArgs
	for from := 0; from < len(eventIDs); from += eventsPerJob {
		work = append(work, jobs.React{EventIDs: eventIDs[from:min(from+eventsPerJob, len(eventIDs))]})
	}
	return tx.Enqueue(ctx, work...)
}

// QueueEvents gives events their ids and adds the writing of them to a batch, which
// gives the ids of those that were new.
func QueueEvents(batch *pgx.Batch, events []Event, fresh *[]string) error {
	var rows eventRows
	seen := make(map[string]bool, len(events))
	for i := range events {
		e := &events[i]
		e.ID = db.NewID()
		if seen[e.NaturalKey] {
			continue
		}
		seen[e.NaturalKey] = true
		if err := rows.add(e); err != nil {
			return err
		}
		if len(rows.id) == eventsAtOnce {
			rows.queue(batch, fresh)
			rows = eventRows{}
		}
	}
	rows.queue(batch, fresh)
	return nil
}

// eventsAtOnce is how many events are written in one statement.
const eventsAtOnce = 2_000

// eventRows are events column by column.
type eventRows struct {
	id, kind, key           []string
	person, section, course []*string
	module, activity, data  []string
	at                      []time.Time
}

func (r *eventRows) add(e *Event) error {
	if e.Data == nil {
		e.Data = map[string]any{}
	}
	data, err := json.Marshal(e.Data)
	if err != nil {
		return fmt.Errorf("recording the event %s: %w", e.NaturalKey, err)
	}
	r.id, r.kind, r.key = append(r.id, e.ID), append(r.kind, e.Type), append(r.key, e.NaturalKey)
	r.person, r.section, r.course = append(r.person, e.PersonID), append(r.section, e.SectionID), append(r.course,
		e.CourseID)
	r.module, r.activity = append(r.module, e.ModuleID), append(r.activity, e.ActivityID)
	r.data, r.at = append(r.data, string(data)), append(r.at, e.OccurredAt)
	return nil
}

// queue adds the writing of the events to a batch. Their keys are kept by everybody in
// one order, so that nobody waits for each other.
func (r eventRows) queue(batch *pgx.Batch, fresh *[]string) {
	if len(r.id) == 0 {
		return
	}
	batch.Queue(`WITH w AS MATERIALIZED (SELECT key_of(key) AS short, * FROM
			unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::text[],
				$9::text[], $10::timestamptz[])
			AS w (id, type, key, person, section, course, module, activity, data, at)),
		fresh AS (INSERT INTO event_keys SELECT short FROM w ORDER BY short ON CONFLICT DO NOTHING RETURNING key)
		INSERT INTO events (id, type, natural_key, person_id, section_id, course_id, module_id, activity_id, data,
			occurred_at)
		SELECT w.id::uuid, w.type, w.key, w.person::uuid, w.section::uuid, w.course::uuid, w.module, w.activity,
			w.data::jsonb, w.at
		FROM w JOIN fresh ON fresh.key = w.short RETURNING id::text`, r.id, r.kind, r.key, r.person, r.section, r.course, r.module, r.activity, r.data, r.at).Query(func(rows pgx.Rows) error {
		some, err := pgx.CollectRows(rows, pgx.RowTo[string])
		slices.Sort(some) // as they were given: the ids grow
		*fresh = append(*fresh, some...)
		return err
	})
}

// EventFilter narrows a list of events; empty fields do not.
type EventFilter struct {
	Type, PersonID, SectionID string
	Scope                     rule.Scope // within which they happened
	Before                    string     // id of the last event of the previous page
	Limit                     int
	Within                    *permission.Reach // only those of these sections; all when nil
}

// ListedEvent is an event with the names that a person reads.
type ListedEvent struct {
	Event      `gorm:"embedded"`
	Person     string
	Section    string
	Course     string
	Module     string `gorm:"-"`
	Activity   string `gorm:"-"`
	Deliveries int
	Waiting    int
}

// Events lists the newest first.
func Events(ctx context.Context, from db.From, f EventFilter) (all []ListedEvent, err error) {
	q := from.Records(ctx).Table("events e").Select(`e.*,
		coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p WHERE p.id = e.person_id AND p.leads), '') AS person,
		coalesce((SELECT s.title FROM sections s WHERE s.id = e.section_id), '') AS section,
		coalesce((SELECT c.title FROM courses c WHERE c.id = e.course_id), '') AS course,
		(SELECT count(*) FROM deliveries d WHERE d.event_id = e.id) AS deliveries,
		(SELECT count(*) FROM deliveries d WHERE d.event_id = e.id AND d.state = 'waiting') AS waiting`).Order("e.id DESC").Limit(f.Limit)
	for column, value := range map[string]string{
		"e.type = ?": f.Type, "e.person_id = ?": f.PersonID,
		"e.section_id = ?": f.SectionID, "e.id < ?": f.Before,
		"e.course_id = ?": f.Scope.Course, "e.section_id = ? ": f.Scope.Section, "e.module_id = ?": f.Scope.Module,
		"e.activity_id = ?": f.Scope.Activity,
	} {
		if value != "" {
			q = q.Where(column, value)
		}
	}
	if f.PersonID == "" {
		q = q.Where(db.NoTest("e.person_id"))
	}
	if f.Within != nil {
		q = q.Where("e.section_id = ANY (?::uuid[])", db.TextArray(f.Within.IDs()))
	}
	if err = q.Scan(&all).Error; err != nil {
		return nil, db.Known(err, "listing events")
	}
	about := make([]rule.Scope, len(all))
	for i, e := range all {
		if about[i] = (rule.Scope{Module: e.ModuleID, Activity: e.ActivityID}); e.CourseID != nil {
			about[i].Course = *e.CourseID
		}
	}
	places, err := rulestore.TitlesOfScopes(ctx, from, about)
	for i, p := range places {
		all[i].Module, all[i].Activity = p.Module, p.Activity
	}
	return all, err
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
func EventsFor(ctx context.Context, from db.From, f EventQuery) (all []Event, err error) {
	order := "id DESC"
	if f.Ascending {
		order = "id"
	}
	q := from.Records(ctx).Where("type = ?", f.Trigger).Order(order).Limit(f.Limit)
	for _, c := range []struct{ condition, value string }{
		{"course_id = ?", f.Scope.Course}, {"section_id = ?", f.Scope.Section}, {
			"module_id = ?",
			f.Scope.Module,
		}, {"activity_id = ?", f.Scope.Activity},
	} {
		if c.value != "" {
			q = q.Where(c.condition, c.value)
		}
	}
	if !f.Since.IsZero() {
		q = q.Where("recorded_at >= ?", f.Since)
	}
	err = q.Find(&all).Error
	return all, db.Known(err, "finding events")
}

// FiredFor gives the events for which a rule has fired, and every once-key that it has
// used.
func FiredFor(ctx context.Context, from db.From, ruleID string) (fired, once map[string]bool, err error) {
	type firing struct{ EventID, OnceKey string }
	fired, once = map[string]bool{}, map[string]bool{}
	err = db.Each(ctx, from, "finding what a rule has done", `SELECT event_id::text, coalesce(once_key,
		'') AS once_key FROM deliveries WHERE rule_id = $1 AND position = 0 AND undoes IS NULL`, []any{ruleID}, func(f firing) error {
		fired[f.EventID] = true
		if f.OnceKey != "" {
			once[f.OnceKey] = true
		}
		return nil
	})
	return fired, once, err
}

const EventColumns = `id::text, type, natural_key, person_id::text, section_id::text, course_id::text, module_id, activity_id, data, occurred_at, recorded_at`

// latestLookedAt bounds how many of the latest events are looked through for those of
// one service.
const latestLookedAt = 20_000

// ReportedBy lists the latest events that a service reported, the newest first.
func ReportedBy(ctx context.Context, from db.From, interfaceID string, limit int) ([]Event, error) {
	return db.Rows[Event](ctx, from, "finding what a service reported", `SELECT `+EventColumns+` FROM (SELECT *
		FROM events WHERE type = 'service.reported' ORDER BY id DESC LIMIT $2) e
		WHERE data->>'interfaceId' = $1 ORDER BY id DESC LIMIT $3`, interfaceID, latestLookedAt, limit)
}

// EventsByID finds events, oldest first.
func EventsByID(ctx context.Context, from db.From, ids []string) ([]Event, error) {
	return db.Rows[Event](ctx, from, "finding events",
		`SELECT `+EventColumns+` FROM events WHERE id = ANY ($1::text[]::uuid[]) ORDER BY id`, ids)
}
