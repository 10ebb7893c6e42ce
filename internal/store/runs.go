package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
)

// Kinds of run.
const (
	RunRead = "read" // reads a register
	RunSync = "sync" // brings a target in step
)

// States of a run.
const (
	Queued      = "queued"
	Running     = "running"
	Finished    = "finished"
	NeedsPerson = "needs-person" // finished, with people to mend
	Moved       = "moved"        // nothing done: things changed since the preview
	Failed      = "failed"
	Cancelled   = "cancelled" // stopped by a person; what was done is kept
)

// Noticed is a finding of a run.
type Noticed struct {
	Code    finding.Code `json:"code"`
	Subject string       `json:"subject" doc:"What it is about, e.g. /users record 17 (u17)"`
	Detail  string       `json:"detail"`
}

// Run is one read or one synchronisation.
type Run struct {
	ID           string
	Kind         string
	ConnectionID *string
	PairingID    *string
	PreviewID    *string
	BatchID      *string
	Approved     bool // removals above the guard were approved
	ApprovedBy   string
	State        string
	Step         string // what it is doing now
	Done         int
	Total        int
	Counts       map[string]int `gorm:"serializer:json"`
	Findings     []Noticed      `gorm:"serializer:json"`
	NextPreview  *string        // the new preview of a run that ended as moved
	Reverts      *string        // the run whose effect it undoes
	Ends         bool           // takes everybody out and ends the pairing
	ErrorCode    string
	Error        string
	CancelAsked  bool       // somebody asked it to stop
	Since        *time.Time // a read that asks only for what changed after this
	RequestedBy  string
	CreatedAt    time.Time
	StartedAt    *time.Time
	FinishedAt   *time.Time
}

// Active reports whether the run has not ended.
func (r Run) Active() bool { return r.State == Queued || r.State == Running }

// Run finds one by id.
func (s *Store) Run(ctx context.Context, id string) (r Run, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&r).Error
	return r, known(err, "finding the run")
}

// Runs lists the newest runs, of one pairing or connection if given, older than
// the run before if given.
func (s *Store) Runs(ctx context.Context, pairingID, connectionID, before string, limit int) (all []Run, err error) {
	q := s.reader(ctx).Order("id DESC").Limit(limit)
	if pairingID != "" {
		q = q.Where("pairing_id = ?", pairingID)
	}
	if connectionID != "" {
		q = q.Where("connection_id = ?", connectionID)
	}
	if before != "" {
		q = q.Where("id < ?", before)
	}
	err = q.Find(&all).Error
	return all, known(err, "listing runs")
}

// LastRead is when the last read of a register that finished began; nil when
// none has.
func (s *Store) LastRead(ctx context.Context, connectionID string) (at *time.Time, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT max(started_at) FROM runs WHERE connection_id = $1 AND kind = 'read' AND state = 'finished'`, connectionID).Scan(&at)
	return at, known(err, "finding the last read")
}

// LastWholeRead is the same for a read that asked for everything.
func (s *Store) LastWholeRead(ctx context.Context, connectionID string) (at *time.Time, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT max(started_at) FROM runs WHERE connection_id = $1 AND kind = 'read' AND state = 'finished' AND since IS NULL`, connectionID).Scan(&at)
	return at, known(err, "finding the last whole read")
}

// RevertedBy finds the run that reverted what another one did, "" when none did.
func (s *Store) RevertedBy(ctx context.Context, runID string) (id string, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT coalesce((SELECT id::text FROM runs WHERE reverts = $1 AND state IN ('queued', 'running', 'finished', 'needs-person') ORDER BY id DESC LIMIT 1), '')`, runID).Scan(&id)
	return id, known(err, "finding what took the run back")
}

// ActiveRun finds the run that keeps another one from starting.
func (s *Store) ActiveRun(ctx context.Context, column, id string) (r Run, err error) {
	err = s.reader(ctx).Where("state IN ('queued', 'running')").Where(map[string]any{column: id}).First(&r).Error
	return r, known(err, "finding the active run")
}

// CountRunning counts the pairings at whose runs somebody works, or is to.
func (s *Store) CountRunning(ctx context.Context) (n int, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT count(DISTINCT pairing_id) FROM runs WHERE state IN ('queued', 'running') AND pairing_id IS NOT NULL`).Scan(&n)
	return n, known(err, "counting what is being run")
}

// Running gives the pairings at whose runs somebody works, or is to.
func (s *Store) Running(ctx context.Context) (map[string]bool, error) {
	ids, err := many1[string](ctx, s, "listing what is being run", `SELECT DISTINCT pairing_id::text FROM runs WHERE state IN ('queued', 'running') AND pairing_id IS NOT NULL`)
	out := make(map[string]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, err
}

// StartRun notes that a run is being worked on; started is when it first was.
func (s *Store) StartRun(ctx context.Context, id, step string) error {
	return s.announceRun(ctx, id, `UPDATE runs SET state = 'running', step = $2, started_at = coalesce(started_at, now()) WHERE id = $1 AND state IN ('queued', 'running')`, id, step)
}

// ErrCancelled means that somebody asked the run to stop.
var ErrCancelled = errors.New("stopped by a person")

// Progress tells how far a run is. ErrCancelled says that it is to stop.
func (s *Store) Progress(ctx context.Context, id, step string, done, total int) error {
	if err := s.announceRun(ctx, id, `UPDATE runs SET step = $2, done = $3, total = $4 WHERE id = $1`, id, step, done, total); err != nil {
		return err
	}
	var asked bool
	err := s.Pool.QueryRow(ctx, `SELECT cancel_asked FROM runs WHERE id = $1`, id).Scan(&asked)
	if err == nil && asked {
		return ErrCancelled
	}
	return known(err, "noting the run's progress")
}

// AskCancel asks an active run to stop; ok is false when it has ended.
func (tx *Tx) AskCancel(ctx context.Context, id string) (ok bool, err error) {
	done, err := tx.PGX.Exec(ctx, `UPDATE runs SET cancel_asked = true WHERE id = $1 AND state IN ('queued', 'running')`, id)
	return done.RowsAffected() > 0, known(err, "stopping the run")
}

func (s *Store) announceRun(ctx context.Context, id, sql string, args ...any) error {
	return s.InTx(ctx, func(tx *Tx) error {
		if _, err := tx.PGX.Exec(ctx, sql, args...); err != nil {
			return known(err, "noting the run's progress")
		}
		return tx.Announce(ctx, "run", id)
	})
}

// FinishRun ends a run with everything in r that a run can end with.
func (tx *Tx) FinishRun(ctx context.Context, r *Run) error {
	now := time.Now().UTC()
	r.FinishedAt = &now
	r.Step = ""
	err := tx.DB.Where("id = ?", r.ID).Select("state", "step", "done", "total", "counts", "findings", "next_preview", "error_code", "error", "finished_at").Updates(r).Error
	if err != nil {
		return known(err, "ending the run")
	}
	if r.PairingID != nil {
		failed := r.State == Failed || r.State == Moved || r.State == Cancelled
		_, err = tx.PGX.Exec(ctx, `UPDATE pairings SET last_run_id = $2, last_failed = $3,
			ran_at = CASE WHEN $3 THEN ran_at ELSE now() END WHERE id = $1`, *r.PairingID, r.ID, failed)
		if err == nil {
			err = tx.Announce(ctx, "pairing", *r.PairingID)
		}
	}
	if err != nil {
		return known(err, "ending the run")
	}
	return tx.Announce(ctx, "run", r.ID)
}

// States of a change.
const (
	ChangeNone       = "none"    // nothing was to be done about this person
	ChangePending    = "pending" // still to do
	ChangeStarted    = "started" // the service was called; its answer is not known
	ChangeDone       = "done"
	ChangeRefused    = "refused"
	ChangeNotArrived = "not-arrived" // accepted, but not there afterwards
)

// Change is one person in one run.
type Change struct {
	RunID      string
	Position   int
	Entry      roster.Entry `gorm:"serializer:json"`
	Outcome    string
	State      string
	Code       string // finding code of a refusal
	Answer     string // the service's words
	StartedAt  *time.Time
	FinishedAt *time.Time
}

// Changes lists a run's people in the order of its plan.
func (s *Store) Changes(ctx context.Context, runID string) (all []Change, err error) {
	err = s.reader(ctx).Where("run_id = ?", runID).Order("position").Find(&all).Error
	return all, known(err, "listing the run's changes")
}

// UnendedAdditions lists the people whom earlier runs of a pairing had begun to put in and
// of whom they could not note what became.
func (s *Store) UnendedAdditions(ctx context.Context, pairingID, besidesRun string) (all []Change, err error) {
	err = s.reader(ctx).Raw(`SELECT c.* FROM changes c JOIN runs r ON r.id = c.run_id WHERE r.pairing_id = ? AND r.id <> ? AND c.state = 'started' AND c.outcome = 'add' ORDER BY c.run_id, c.position`, pairingID, besidesRun).Scan(&all).Error
	return all, known(err, "listing what earlier runs had begun")
}

// AddChanges writes the people of a plan, so that the run can be resumed. asked
// tells about whom something is to be done; the others are only listed.
func (tx *Tx) AddChanges(runID string, plan roster.Plan, asked func(roster.Entry) bool) error {
	if len(plan.Entries) == 0 {
		return nil
	}
	changes := make([]Change, len(plan.Entries))
	for i, e := range plan.Entries {
		state := ChangeNone
		if e.Outcome.Changes() && asked(e) {
			state = ChangePending
		}
		changes[i] = Change{RunID: runID, Position: i, Entry: e, Outcome: string(e.Outcome), State: state}
	}
	return known(tx.DB.CreateInBatches(changes, 500).Error, "writing the run's changes")
}

// MarkStarted notes, before the service is called, that it is about to be.
func (s *Store) MarkStarted(ctx context.Context, runID string, positions ...int) error {
	_, err := s.Pool.Exec(ctx, `UPDATE changes SET state = 'started', started_at = now() WHERE run_id = $1 AND position = ANY ($2::int[])`, runID, positions)
	return known(err, "noting changes")
}

// MarkEnded notes how a change ended.
func (tx *Tx) MarkEnded(ctx context.Context, c Change) error {
	_, err := tx.PGX.Exec(ctx, `UPDATE changes SET state = $3, code = $4, answer = $5, finished_at = now(), entry = jsonb_set(entry, '{accountId}', to_jsonb($6::text))
		WHERE run_id = $1 AND position = $2`, c.RunID, c.Position, c.State, c.Code, c.Answer, c.Entry.AccountID)
	return known(err, "noting a change")
}

// ReopenRun puts a failed run back into the queue.
func (tx *Tx) ReopenRun(ctx context.Context, id string) error {
	_, err := tx.PGX.Exec(ctx, `UPDATE runs SET state = 'queued', error = '', error_code = '', finished_at = NULL, cancel_asked = false WHERE id = $1 AND state IN ('failed', 'cancelled')`, id)
	return known(err, "reopening the run")
}

// RefusedOf gives, by run and person, the changes of runs that the service refused
// or that did not arrive.
func (s *Store) RefusedOf(ctx context.Context, runIDs []string) (map[string]map[string]Change, error) {
	rows, err := many[struct {
		RunID, Entry, State, Code, Answer string
	}](ctx, s, "listing refused changes", `SELECT run_id::text, entry::text, state, code, answer FROM changes WHERE run_id = ANY ($1::text[]::uuid[]) AND state IN ('refused', 'not-arrived')`, runIDs)
	out := map[string]map[string]Change{}
	for _, r := range rows {
		c := Change{RunID: r.RunID, State: r.State, Code: r.Code, Answer: r.Answer}
		if err := json.Unmarshal([]byte(r.Entry), &c.Entry); err != nil {
			return nil, err
		}
		if out[r.RunID] == nil {
			out[r.RunID] = map[string]Change{}
		}
		out[r.RunID][c.Entry.Key()] = c
	}
	return out, err
}
