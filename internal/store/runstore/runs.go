// Package runstore keeps runs with their changes, and batches of things done to many.
package runstore

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/reachstore"
)

// Kinds of run.
const (
	RunRead = "read" // reads a register
	RunSync = "sync" // brings a target in step
	// RunScores carries scores into a book.
	RunScores = "scores"
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
	ID          string
	Kind        string
	InterfaceID *string
	PairingID   *string
	ScoreLinkID *string // of a run that carries scores
	PreviewID   *string
	BatchID     *string
	Approved    bool // removals above the guard were approved
	ApprovedBy  string
	State       string
	Step        string // what it is doing now
	Done        int
	Total       int
	Counts      map[string]int `gorm:"serializer:json"`
	Findings    []Noticed      `gorm:"serializer:json"`
	NextPreview *string        // the new preview of a run that ended as moved
	Reverts     *string        // the run whose effect it undoes
	Ends        bool           // takes everybody out and ends the pairing
	ErrorCode   string
	Error       string
	CancelAsked bool       // somebody asked it to stop
	Since       *time.Time // a read that asks only for what changed after this
	RequestedBy string
	CreatedAt   time.Time
	StartedAt   *time.Time
	FinishedAt  *time.Time
}

// Active reports whether the run has not ended.
func (r Run) Active() bool { return r.State == Queued || r.State == Running }

// FindRun finds one by id.
func FindRun(ctx context.Context, from db.From, id string) (r Run, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&r).Error
	return r, db.Known(err, "finding the run")
}

// Wanted narrows a list of runs; what is empty does not.
type Wanted struct {
	PairingID   string
	InterfaceID string
	ScoreLinkID string
	Active      bool // only what is queued or running
	Single      bool // only what belongs to no batch
	Before      string
	Limit       int
	Within      *permission.Reach // only those of these sections; all when nil
}

// Runs lists the newest runs.
func Runs(ctx context.Context, from db.From, w Wanted) (all []Run, err error) {
	q := from.Records(ctx).Order("id DESC").Limit(w.Limit)
	if w.PairingID != "" {
		q = q.Where("pairing_id = ?", w.PairingID)
	}
	if w.ScoreLinkID != "" {
		q = q.Where("score_link_id = ?", w.ScoreLinkID)
	}
	if w.InterfaceID != "" {
		q = q.Where("interface_id = ?", w.InterfaceID)
	}
	if w.Active {
		q = q.Where("state IN ('queued', 'running')")
	}
	if w.Single {
		q = q.Where("batch_id IS NULL")
	}
	if w.Before != "" {
		q = q.Where("id < ?", w.Before)
	}
	if w.Within != nil {
		sections := db.TextArray(w.Within.IDs())
		q = q.Where("("+reachstore.In(permission.OfPairing, "pairing_id", "?::uuid[]")+" OR "+
			reachstore.In(permission.OfScoreLink, "score_link_id", "?::uuid[]")+")", sections, sections)
	}
	err = q.Find(&all).Error
	return all, db.Known(err, "listing runs")
}

// LastRead is when the last read of a register that finished began; nil when
// none has.
func LastRead(ctx context.Context, from db.From, interfaceID string) (at *time.Time, err error) {
	err = db.Into(ctx, from, &at, `SELECT max(started_at) FROM runs WHERE interface_id = $1 AND kind = 'read'
		AND state = 'finished'`, interfaceID)
	return at, db.Known(err, "finding the last read")
}

// LastWholeRead is the same for a read that asked for everything.
func LastWholeRead(ctx context.Context, from db.From, interfaceID string) (at *time.Time, err error) {
	err = db.Into(ctx, from, &at, `SELECT max(started_at) FROM runs WHERE interface_id = $1 AND kind = 'read'
		AND state = 'finished' AND since IS NULL`, interfaceID)
	return at, db.Known(err, "finding the last whole read")
}

// LatestRevert finds the run that reverts what another one did, however it stands.
func LatestRevert(ctx context.Context, from db.From, runID string) (r Run, err error) {
	err = from.Records(ctx).Where("reverts = ?", runID).Order("id DESC").First(&r).Error
	return r, db.Known(err, "finding what reverts the run")
}

// RevertedBy finds the run that reverted what another one did, "" when none did.
func RevertedBy(ctx context.Context, from db.From, runID string) (id string, err error) {
	err = db.Into(ctx, from, &id, `SELECT coalesce((SELECT id::text FROM runs
		WHERE reverts = $1 AND state IN ('queued', 'running', 'finished', 'needs-person') ORDER BY id DESC
		LIMIT 1), '')`, runID)
	return id, db.Known(err, "finding what took the run back")
}

// ActiveRun finds the run that keeps another one from starting.
func ActiveRun(ctx context.Context, from db.From, column, id string) (r Run, err error) {
	err = from.Records(ctx).Where("state IN ('queued', 'running')").Where(map[string]any{column: id}).First(&r).Error
	return r, db.Known(err, "finding the active run")
}

// Queue is where a run stands that has not begun.
type Queue struct {
	Ahead int // runs of its kind that were asked for before it and have not ended
	// Pace is how many seconds lie between the ends of two of them, by the latest that ended; 0 when too few did
	// lately.
	Pace float64
}

// QueueOf says where a run stands among those of its kind.
func QueueOf(ctx context.Context, from db.From, r Run) (Queue, error) {
	return db.Row[Queue](ctx, from, "finding the run's place", `SELECT
		(SELECT count(*) FROM runs WHERE kind = $1 AND state IN ('queued', 'running')
			AND (created_at, id) < ($2, $3))::int AS ahead,
		(SELECT CASE WHEN count(*) > 2 THEN extract(epoch FROM max(finished_at) - min(finished_at)) / (count(*) - 1)
			ELSE 0 END FROM (SELECT finished_at FROM runs WHERE kind = $1 AND finished_at > now() - interval '5 minutes'
			ORDER BY finished_at DESC LIMIT 50) latest)::float8 AS pace`, r.Kind, r.CreatedAt, r.ID)
}

// CountRunning counts the pairings at whose runs somebody works, or is to.
func CountRunning(ctx context.Context, from db.From) (n int, err error) {
	err = db.Into(ctx, from, &n, `SELECT count(DISTINCT pairing_id) FROM runs
		WHERE state IN ('queued', 'running') AND pairing_id IS NOT NULL`)
	return n, db.Known(err, "counting what is being run")
}

// RunningPairings gives the pairings at whose runs somebody works, or is to.
func RunningPairings(ctx context.Context, from db.From) (map[string]bool, error) {
	ids, err := db.Values[string](ctx, from, "listing what is being run", `SELECT DISTINCT pairing_id::text FROM runs
		WHERE state IN ('queued', 'running') AND pairing_id IS NOT NULL`)
	out := make(map[string]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, err
}

// StartRun notes that a run is being worked on; started is when it first was.
func StartRun(ctx context.Context, from *db.Database, id, step string) error {
	return announceRun(ctx, from, id, `UPDATE runs SET state = 'running', step = $2, started_at = coalesce(started_at,
		now()) WHERE id = $1 AND state IN ('queued', 'running')`, id, step)
}

// ErrCancelled means that somebody asked the run to stop.
var ErrCancelled = errors.New("stopped by a person")

// KeepRunProgress tells how far a run is. ErrCancelled says that it is to stop.
func KeepRunProgress(ctx context.Context, from *db.Database, id, step string, done, total int) error {
	if err := announceRun(ctx, from, id, `UPDATE runs SET step = $2, done = $3, total = $4 WHERE id = $1`, id, step,
		done, total); err != nil {
		return err
	}
	var asked bool
	err := db.Into(ctx, from, &asked, `SELECT cancel_asked FROM runs WHERE id = $1`, id)
	if err == nil && asked {
		return ErrCancelled
	}
	return db.Known(err, "noting the run's progress")
}

// AskCancel asks an active run to stop; ok is false when it has ended.
func AskCancel(ctx context.Context, tx *db.Tx, id string) (ok bool, err error) {
	done, err := db.Exec(ctx, tx,
		`UPDATE runs SET cancel_asked = true WHERE id = $1 AND state IN ('queued', 'running')`, id)
	return done > 0, db.Known(err, "stopping the run")
}

func announceRun(ctx context.Context, from *db.Database, id, sql string, args ...any) error {
	return from.InTx(ctx, func(tx *db.Tx) error {
		if _, err := db.Exec(ctx, tx, sql, args...); err != nil {
			return db.Known(err, "noting the run's progress")
		}
		return tx.Announce(ctx, "run", id)
	})
}

// FinishRun ends a run with everything in r that a run can end with.
func FinishRun(ctx context.Context, tx *db.Tx, r *Run) error {
	now := time.Now().UTC()
	r.FinishedAt = &now
	r.Step = ""
	err := tx.DB.Where("id = ?", r.ID).Select("state", "step", "done", "total", "counts", "findings", "next_preview",
		"error_code", "error", "finished_at").Updates(r).Error
	if err != nil {
		return db.Known(err, "ending the run")
	}
	if r.PairingID != nil {
		failed := r.State == Failed || r.State == Moved || r.State == Cancelled
		_, err = db.Exec(ctx, tx, `UPDATE pairings SET last_run_id = $2, last_failed = $3,
			ran_at = CASE WHEN $3 THEN ran_at ELSE now() END WHERE id = $1`, *r.PairingID, r.ID, failed)
		if err == nil {
			err = tx.Announce(ctx, "pairing", *r.PairingID)
		}
	}
	if err == nil && r.ScoreLinkID != nil {
		failed := r.State == Failed || r.State == Moved || r.State == Cancelled
		_, err = db.Exec(ctx, tx, `UPDATE score_links SET last_run_id = $2, last_failed = $3,
			ran_at = CASE WHEN $3 THEN ran_at ELSE now() END WHERE id = $1`, *r.ScoreLinkID, r.ID, failed)
		if err == nil {
			err = tx.Announce(ctx, "scoreLink", *r.ScoreLinkID)
		}
	}
	if err != nil {
		return db.Known(err, "ending the run")
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
func Changes(ctx context.Context, from db.From, runID string) (all []Change, err error) {
	err = from.Records(ctx).Where("run_id = ?", runID).Order("position").Find(&all).Error
	return all, db.Known(err, "listing the run's changes")
}

// UnendedAdditions lists the people whom earlier runs of a pairing had begun to put in and
// of whom they could not note what became.
func UnendedAdditions(ctx context.Context, from db.From, pairingID, besidesRun string) (all []Change, err error) {
	err = from.Records(ctx).Raw(`SELECT c.* FROM changes c JOIN runs r ON r.id = c.run_id
		WHERE r.pairing_id = ? AND r.id <> ? AND c.state = 'started' AND c.outcome = 'add'
		ORDER BY c.run_id, c.position`, pairingID, besidesRun).Scan(&all).Error
	return all, db.Known(err, "listing what earlier runs had begun")
}

// AddChanges writes the people of a plan, so that the run can be resumed. asked
// tells about whom something is to be done; the others are only listed.
func AddChanges(tx *db.Tx, runID string, plan roster.Plan, asked func(roster.Entry) bool) error {
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
	return db.Known(tx.DB.CreateInBatches(changes, 500).Error, "writing the run's changes")
}

// MarkStarted notes, before the service is called, that it is about to be.
func MarkStarted(ctx context.Context, from db.From, runID string, positions ...int) error {
	_, err := db.Exec(ctx, from, `UPDATE changes SET state = 'started', started_at = now()
		WHERE run_id = $1 AND position = ANY ($2::int[])`, runID, positions)
	return db.Known(err, "noting changes")
}

// MarkEnded notes how a change ended.
func MarkEnded(ctx context.Context, tx *db.Tx, c Change) error {
	_, err := db.Exec(ctx, tx, `UPDATE changes SET state = $3, code = $4, answer = $5, finished_at = now(),
		entry = jsonb_set(entry, '{accountId}', to_jsonb($6::text))
		WHERE run_id = $1 AND position = $2`, c.RunID, c.Position, c.State, c.Code, c.Answer, c.Entry.AccountID)
	return db.Known(err, "noting a change")
}

// ReopenRun puts a failed run back into the queue.
func ReopenRun(ctx context.Context, tx *db.Tx, id string) error {
	_, err := db.Exec(ctx, tx, `UPDATE runs SET state = 'queued', error = '', error_code = '', finished_at = NULL,
		cancel_asked = false WHERE id = $1 AND state IN ('failed', 'cancelled')`, id)
	return db.Known(err, "reopening the run")
}

// RefusedOf gives, by run and person, the changes of runs that the service refused
// or that did not arrive.
func RefusedOf(ctx context.Context, from db.From, runIDs []string) (map[string]map[string]Change, error) {
	rows, err := db.Rows[struct {
		RunID, Entry, State, Code, Answer string
	}](ctx, from, "listing refused changes", `SELECT run_id::text, entry::text, state, code, answer FROM changes
		WHERE run_id = ANY ($1::text[]::uuid[]) AND state IN ('refused', 'not-arrived')`, runIDs)
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
