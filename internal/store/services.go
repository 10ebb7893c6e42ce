package store

import (
	"context"
	"encoding/json"
	"time"

	"kanban/internal/core/rule"
)

type operationRow struct {
	ConnectionID string
	Name         string
	Title        string
	Method       string
	Path         string
	Fields       []rule.OperationField `gorm:"serializer:json"`
	Success      string
	ProofPath    string
	Proof        string
	Undo         string
}

func (operationRow) TableName() string { return "operations" }

func (o operationRow) operation() rule.Operation {
	return rule.Operation{Name: o.Name, Title: o.Title, Method: o.Method, Path: o.Path, Fields: o.Fields, Success: o.Success, ProofPath: o.ProofPath, Proof: o.Proof, Undo: o.Undo}
}

// Operations lists those of a connection, ordered by name.
func (s *Store) Operations(ctx context.Context, connectionID string) ([]rule.Operation, error) {
	var rows []operationRow
	err := s.reader(ctx).Where("connection_id = ?", connectionID).Order("name").Find(&rows).Error
	all := make([]rule.Operation, len(rows))
	for i, r := range rows {
		all[i] = r.operation()
	}
	return all, known(err, "listing operations")
}

// Operation finds one of a connection by name.
func (s *Store) Operation(ctx context.Context, connectionID, name string) (rule.Operation, error) {
	var row operationRow
	err := s.reader(ctx).Where("connection_id = ? AND name = ?", connectionID, name).First(&row).Error
	return row.operation(), known(err, "finding the operation")
}

// KeepOperation makes or replaces an operation of a connection.
func (tx *Tx) KeepOperation(ctx context.Context, connectionID string, o rule.Operation) error {
	fields, err := json.Marshal(o.Fields)
	if err != nil {
		return err
	}
	_, err = tx.PGX.Exec(ctx, `INSERT INTO operations (connection_id, name, title, method, path, fields, success, undo, proof_path, proof) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
		ON CONFLICT (connection_id, name) DO UPDATE SET title = excluded.title, method = excluded.method, path = excluded.path, fields = excluded.fields, success = excluded.success, undo = excluded.undo, proof_path = excluded.proof_path, proof = excluded.proof`,
		connectionID, o.Name, o.Title, o.Method, o.Path, string(fields), o.Success, o.Undo, o.ProofPath, o.Proof)
	return known(err, "keeping the operation")
}

// DropOperation removes an operation of a connection.
func (tx *Tx) DropOperation(ctx context.Context, connectionID, name string) error {
	tag, err := tx.PGX.Exec(ctx, `DELETE FROM operations WHERE connection_id = $1 AND name = $2`, connectionID, name)
	if err == nil && tag.RowsAffected() == 0 {
		return ErrNotFound
	}
	return known(err, "removing the operation")
}

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
// the latest first.
func (s *Store) Tasks(ctx context.Context, done bool, limit int) (all []ListedTask, err error) {
	q := s.reader(ctx).Table("tasks t").Select(`t.*,
		coalesce((SELECT p.given_name || ' ' || p.family_name FROM people p WHERE p.id = t.person_id), '') AS person,
		coalesce((SELECT x.title FROM sections x WHERE x.id = t.section_id), '') AS section,
		coalesce((SELECT r.name FROM rules r WHERE r.id = t.rule_id), '') AS rule`)
	if limit > 0 {
		q = q.Limit(limit)
	}
	if done {
		q = q.Where("t.done_at IS NOT NULL").Order("t.done_at DESC")
	} else {
		q = q.Where("t.done_at IS NULL").Order("t.due_at NULLS LAST, t.id")
	}
	err = q.Scan(&all).Error
	return all, known(err, "listing tasks")
}

// EndTask marks an open task as done, by its own id or by its delivery's; ok is false
// when there is no such open one.
func (tx *Tx) EndTask(ctx context.Context, t Task, who string) (ok bool, err error) {
	tag, err := tx.PGX.Exec(ctx, `UPDATE tasks SET done_at = now(), done_by = $3 WHERE (id::text = $1 OR delivery_id::text = $2) AND done_at IS NULL`, t.ID, t.DeliveryID, who)
	if err == nil && tag.RowsAffected() == 1 {
		err = tx.Announce(ctx, "task", t.ID)
	}
	return tag.RowsAffected() == 1, known(err, "ending the task")
}

// HasTask gives ErrNotFound when there is no task of this id.
func (tx *Tx) HasTask(ctx context.Context, id string) error {
	var there bool
	return known(tx.PGX.QueryRow(ctx, `SELECT true FROM tasks WHERE id::text = $1`, id).Scan(&there), "finding the task")
}

// ReopenTask opens a task again.
func (tx *Tx) ReopenTask(ctx context.Context, id string) (ok bool, err error) {
	tag, err := tx.PGX.Exec(ctx, `UPDATE tasks SET done_at = NULL, done_by = '' WHERE id::text = $1 AND done_at IS NOT NULL`, id)
	if err == nil && tag.RowsAffected() == 1 {
		err = tx.Announce(ctx, "task", id)
	}
	return tag.RowsAffected() == 1, known(err, "opening the task again")
}

// Sheet is a sheet that rules fill.
type Sheet struct {
	Name string    `json:"name"`
	Rows int       `json:"rows"`
	Last time.Time `json:"last" doc:"When the latest row was added"`
}

// Sheets lists them, ordered by name.
func (s *Store) Sheets(ctx context.Context) ([]Sheet, error) {
	return many[Sheet](ctx, s, "listing sheets", `SELECT min(sheet), count(*)::int, max(at) FROM sheet_rows GROUP BY lower(sheet) ORDER BY 1`)
}

// SheetRow is one row: its cells by column.
type SheetRow struct {
	At    time.Time
	Cells map[string]any
}

// SheetRows lists the rows of a sheet, the oldest first.
func (s *Store) SheetRows(ctx context.Context, name string) ([]SheetRow, error) {
	return many[SheetRow](ctx, s, "reading a sheet", `SELECT at, cells FROM sheet_rows WHERE lower(sheet) = lower($1) ORDER BY id`, name)
}

// AppendRow adds a row to a sheet; the same delivery adds one only.
func (tx *Tx) AppendRow(ctx context.Context, sheet, deliveryID string, cells map[string]any) error {
	text, err := json.Marshal(cells)
	if err == nil {
		_, err = tx.PGX.Exec(ctx, `INSERT INTO sheet_rows (sheet, delivery_id, cells) VALUES ($1, $2, $3) ON CONFLICT (delivery_id) DO NOTHING`, sheet, deliveryID, string(text))
	}
	return known(err, "adding to a sheet")
}

// Pickup is an enrolment for a course platform to pick up.
type Pickup struct {
	ConnectionID string
	Person       string // identifiers of the register
	Section      string
	Role         string
	Active       bool
	ChangedAt    time.Time
}

// KeepPickup keeps the latest state of an enrolment.
func (tx *Tx) KeepPickup(ctx context.Context, p Pickup) error {
	_, err := tx.PGX.Exec(ctx, `INSERT INTO pickups (connection_id, person, section, role, active) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (connection_id, person, section) DO UPDATE SET active = excluded.active, role = excluded.role, changed_at = now()`, p.ConnectionID, p.Person, p.Section, p.Role, p.Active)
	return known(err, "keeping an enrolment to be picked up")
}

// Pickups lists what has changed after a time, the oldest first, and gives the time after
// which to ask the next time. That is before anything that is just being written: what is
// written with an earlier time and seen later would be missed, so that some may be given
// twice instead.
func (s *Store) Pickups(ctx context.Context, connectionID string, since time.Time) (list []Pickup, next time.Time, err error) {
	// Times are those of the beginning of transactions, whose own queries come after it.
	var earliest time.Time
	if err := s.Pool.QueryRow(ctx, `SELECT least(min(xact_start), clock_timestamp()) - interval '1 microsecond' FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()`).Scan(&earliest); err != nil {
		return nil, since, known(err, "listing what is to be picked up")
	}
	list, err = many[Pickup](ctx, s, "listing what is to be picked up", `SELECT connection_id::text, person, section, role, active, changed_at FROM pickups
		WHERE connection_id = $1 AND changed_at > $2 ORDER BY changed_at, person, section`, connectionID, since)
	next = since
	if len(list) > 0 {
		next = list[len(list)-1].ChangedAt
	}
	if earliest.Before(next) {
		next = earliest
	}
	if next.Before(since) {
		next = since
	}
	return list, next, err
}
