// Package taskstore keeps what people have to do.
package taskstore

import (
	"context"
	"encoding/json"
	"time"

	"kanban/internal/core/permission"
	"kanban/internal/store/db"
	"kanban/internal/store/reachstore"
)

// Task is something a person must do, opened by a rule, or handed on by a teacher.
type Task struct {
	ID         string
	DeliveryID *string // nil of what a teacher handed on
	RuleID     *string
	Title      string
	Detail     string
	Owner      string
	PersonID   *string
	SectionID  *string
	DueAt      *time.Time
	DoneAt     *time.Time
	DoneBy     string
	CreatedAt  time.Time
	AskedBy    *string         // the user who handed it on
	Asker      string          // what they are called
	About      json.RawMessage `gorm:"type:jsonb"` // the comparison as it was
	Answer     string          // of whoever did it
}

// ListedTask is a task with the names that a person reads.
type ListedTask struct {
	Task    `gorm:"embedded"`
	Person  string
	Section string
	Rule    string
}

// named are the columns of a task with the names that a person reads.
const named = `t.*,
	coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p WHERE p.id = t.person_id AND p.leads), '') AS person,
	coalesce((SELECT x.title FROM sections x WHERE x.id = t.section_id), '') AS section,
	coalesce((SELECT r.name FROM rules r WHERE r.id = t.rule_id), '') AS rule`

// FindTask finds one by id.
func FindTask(ctx context.Context, from db.From, id string) (t ListedTask, err error) {
	done := from.Records(ctx).Table("tasks t").Select(named).Where("t.id::text = ?", id).Scan(&t)
	if err = done.Error; err == nil && done.RowsAffected == 0 {
		err = db.ErrNotFound
	}
	return t, db.Known(err, "finding the task")
}

// Tasks lists those that are open, the most urgent first, or those that are done,
// the latest first: of some sections, or of all when within is nil. What belongs to no section is of those of its
// person.
func Tasks(ctx context.Context, from db.From, done bool, limit int, within *permission.Reach) (all []ListedTask,
	err error,
) {
	q := from.Records(ctx).Table("tasks t").Select(named)
	q = q.Where(db.NoTest("t.person_id"))
	if within != nil {
		q = q.Where(reachstore.In(permission.OfTask, "t.id", "?::uuid[]"), db.TextArray(within.IDs()))
	}
	if limit > 0 {
		q = q.Limit(limit)
	}
	if done {
		q = q.Where("t.done_at IS NOT NULL").Order("t.done_at DESC")
	} else {
		q = q.Where("t.done_at IS NULL").Order("t.due_at NULLS LAST, t.id")
	}
	err = q.Scan(&all).Error
	return all, db.Known(err, "listing tasks")
}

// Handed lists what was handed on of sections, the latest first.
func Handed(ctx context.Context, from db.From, sections []string) (all []ListedTask, err error) {
	err = from.Records(ctx).Table("tasks t").Select(named).
		Where("t.about IS NOT NULL AND t.section_id = ANY (?::uuid[])", db.TextArray(sections)).
		Order("t.created_at DESC, t.id DESC").Limit(mostHanded).Scan(&all).Error
	return all, db.Known(err, "listing what was handed on")
}

// mostHanded bounds how much of what was handed on is looked at.
const mostHanded = 1000

// HandedNow reports whether it is handed on, and not yet answered, that somebody is missing in one of some
// sections; who asks it of them is alone until the transaction ends.
func HandedNow(ctx context.Context, tx *db.Tx, sections []string, personID string) (yes bool, err error) {
	if _, err := db.Exec(ctx, tx, `SELECT pg_advisory_xact_lock(hashtextextended('handed ' || $1, 0))`,
		personID); err != nil {
		return false, db.Known(err, "looking for what was handed on")
	}
	err = db.Into(ctx, tx, &yes, `SELECT EXISTS (SELECT 1 FROM tasks WHERE about IS NOT NULL AND done_at IS NULL
		AND section_id = ANY ($1::text[]::uuid[]) AND person_id = $2)`, sections, personID)
	return yes, db.Known(err, "looking for what was handed on")
}

// EndTask marks an open task as done, by its own id or by its delivery's, with what whoever did it answers; ok is
// false when there is no such open one.
func EndTask(ctx context.Context, tx *db.Tx, t Task, who string) (ok bool, err error) {
	changed, err := db.Exec(ctx, tx, `UPDATE tasks SET done_at = now(), done_by = $3, answer = $4
		WHERE (id::text = $1 OR delivery_id::text = $2) AND done_at IS NULL`, t.ID, t.DeliveryID, who, t.Answer)
	if err == nil && changed == 1 {
		err = tx.Announce(ctx, "task", t.ID)
	}
	return changed == 1, db.Known(err, "ending the task")
}

// HasTask gives ErrNotFound when there is no task of this id.
func HasTask(ctx context.Context, tx *db.Tx, id string) error {
	var there bool
	return db.Known(db.Into(ctx, tx, &there, `SELECT true FROM tasks WHERE id::text = $1`, id), "finding the task")
}

// ReopenTask opens a task again.
func ReopenTask(ctx context.Context, tx *db.Tx, id string) (ok bool, err error) {
	changed, err := db.Exec(ctx, tx, `UPDATE tasks SET done_at = NULL, done_by = '', answer = ''
		WHERE id::text = $1 AND done_at IS NOT NULL`, id)
	if err == nil && changed == 1 {
		err = tx.Announce(ctx, "task", id)
	}
	return changed == 1, db.Known(err, "opening the task again")
}
