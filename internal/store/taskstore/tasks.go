// Package taskstore keeps what people have to do.
package taskstore

import (
	"context"
	"time"

	"kanban/internal/core/permission"
	"kanban/internal/store/db"
	"kanban/internal/store/reachstore"
)

// Task is something a person must do, opened by a rule.
type Task struct {
	ID         string
	DeliveryID string
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
}

// ListedTask is a task with the names that a person reads.
type ListedTask struct {
	Task    `gorm:"embedded"`
	Person  string
	Section string
	Rule    string
}

// Tasks lists those that are open, the most urgent first, or those that are done,
// the latest first: of some sections, or of all when within is nil. What belongs to no section is of those of its
// person.
func Tasks(ctx context.Context, from db.From, done bool, limit int, within *permission.Reach) (all []ListedTask,
	err error,
) {
	q := from.Records(ctx).Table("tasks t").Select(`t.*,
		coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p WHERE p.id = t.person_id AND p.leads), '') AS person,
		coalesce((SELECT x.title FROM sections x WHERE x.id = t.section_id), '') AS section,
		coalesce((SELECT r.name FROM rules r WHERE r.id = t.rule_id), '') AS rule`)
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

// EndTask marks an open task as done, by its own id or by its delivery's; ok is false
// when there is no such open one.
func EndTask(ctx context.Context, tx *db.Tx, t Task, who string) (ok bool, err error) {
	changed, err := db.Exec(ctx, tx, `UPDATE tasks SET done_at = now(), done_by = $3
		WHERE (id::text = $1 OR delivery_id::text = $2) AND done_at IS NULL`, t.ID, t.DeliveryID, who)
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
	changed, err := db.Exec(ctx, tx, `UPDATE tasks SET done_at = NULL, done_by = ''
		WHERE id::text = $1 AND done_at IS NOT NULL`, id)
	if err == nil && changed == 1 {
		err = tx.Announce(ctx, "task", id)
	}
	return changed == 1, db.Known(err, "opening the task again")
}
