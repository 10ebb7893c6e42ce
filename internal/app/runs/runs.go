// Package runs shows what a pairing's run would do, does exactly that, reads
// the target back and reports.
package runs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/adapter/mails"
	"kanban/internal/core/clock"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/settingstore"
	"kanban/internal/wire/call"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *db.Database
	// Connections gives interfaces with their secrets.
	Connections adapter.Opener
	Call        call.Options
	// Mailer gives what sends mails of the service's own; nil when no mail server is connected.
	Mailer func(context.Context) (*mails.Mailer, error)
	// Public is this service's own address, for links in mails.
	Public string
	Clock  clock.Clock
	// Zone is the institution's, for schedules by the time of day; UTC when nil.
	Zone *time.Location
}

// Compare brings a pairing's counts, and so its state, up to date without
// changing anything at the service.
func (s *Service) Compare(ctx context.Context, pairingID string) (roster.Plan, error) {
	p, err := pairingstore.FindPairing(ctx, s.Store, pairingID)
	if err != nil {
		return roster.Plan{}, err
	}
	both, err := s.sides(ctx, p)
	if err != nil {
		return roster.Plan{}, err
	}
	plan, err := both.compare(ctx)
	if r, ok := refusal.As(err); ok && r.Code == finding.TargetGone { // whoever sees it first notes it
		return plan, errors.Join(err, s.Store.InTx(ctx,
			func(tx *db.Tx) error { return pairingstore.KeepTargetLost(ctx, tx, p.ID) }))
	}
	if err != nil {
		return plan, err
	}
	refused, err := s.refusals(ctx, p)
	if err != nil {
		return plan, err
	}
	return plan, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := standing(plan, p, refused, s.Clock.Now()).keep(ctx, tx, both.pairing); err != nil {
			return err
		}
		return tx.Announce(ctx, "pairing", p.ID)
	})
}

// Preview compares now and keeps the plan, so that a run can do exactly it.
// Whoever was refused last time is told so in their detail.
func (s *Service) Preview(ctx context.Context, pairingID string) (pairingstore.Preview, error) {
	p, err := pairingstore.FindPairing(ctx, s.Store, pairingID)
	if err != nil {
		return pairingstore.Preview{}, err
	}
	if p.EndedAt != nil {
		return pairingstore.Preview{}, refusal.Conflict("", "this pairing has ended; pair the section again")
	}
	plan, err := s.Compare(ctx, pairingID)
	if err != nil {
		return pairingstore.Preview{}, err
	}
	refused, err := s.refusals(ctx, p)
	if err != nil {
		return pairingstore.Preview{}, err
	}
	plan = told(plan, refused)
	preview := pairingstore.Preview{ID: db.NewID(), PairingID: p.ID, Plan: plan, Fingerprint: plan.Fingerprint}
	return preview, s.Store.InTx(ctx, func(tx *db.Tx) error {
		return db.Create(tx, &preview, "keeping the preview")
	})
}

// Start queues a run that does exactly what a preview shows. approved allows
// removals above the pairing's guard. only narrows it to the people with these
// keys; without any it is for everybody.
func (s *Service) Start(ctx context.Context, who, previewID string, approved bool, only ...string) (runstore.Run,
	error,
) {
	return s.StartIn(ctx, who, previewID, approved, "", only...)
}

// StartIn does the same as a part of a batch.
func (s *Service) StartIn(ctx context.Context, who, previewID string, approved bool, batchID string,
	only ...string,
) (runstore.Run, error) {
	preview, err := pairingstore.FindPreview(ctx, s.Store, previewID)
	if errors.Is(err, db.ErrNotFound) {
		return runstore.Run{}, refusal.Invalid("previewId", "there is no preview %q; make one first", previewID)
	}
	if err != nil {
		return runstore.Run{}, err
	}
	p, err := pairingstore.FindPairing(ctx, s.Store, preview.PairingID)
	if err != nil {
		return runstore.Run{}, err
	}
	if err := s.allowed(ctx, p, preview.Reverts != nil || preview.Ends); err != nil {
		return runstore.Run{}, err
	}
	asked, err := narrowed(preview.Plan, only)
	if err != nil {
		return runstore.Run{}, err
	}
	if n, tripped := kept(preview.Plan, asked).GuardTripped(p.Policy); tripped && !approved &&
		preview.Reverts == nil && !preview.Ends {
		return runstore.Run{}, refusal.Conflict(finding.RemovalGuard,
			"this would take %d people out of %s, more than its guard allows; if that is right, run it with the removal approved", n, p.TargetName)
	}
	r := queued(p, preview, approved, who)
	if batchID != "" {
		r.BatchID = &batchID
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error { return s.queue(ctx, tx, &r, preview, asked) })
	if errors.Is(err, db.ErrTaken) {
		active, findErr := runstore.ActiveRun(ctx, s.Store, "pairing_id", p.ID)
		if findErr != nil {
			return r, findErr
		}
		return r, refusal.Conflict("", "run %s is at work on this pairing already; wait until it is done", active.ID)
	}
	return r, err
}

// queued is a run of a preview.
func queued(p pairingstore.Pairing, preview pairingstore.Preview, approved bool, who string) runstore.Run {
	r := runstore.Run{
		ID: db.NewID(), Kind: runstore.RunSync, PairingID: &p.ID, InterfaceID: &p.InterfaceID,
		PreviewID: &preview.ID, Approved: approved, State: runstore.Queued, Reverts: preview.Reverts,
		Ends: preview.Ends, RequestedBy: who,
	}
	if approved {
		r.ApprovedBy = who
	}
	return r
}

// byItself are who asks for runs for which nobody waits.
var byItself = []string{bySchedule, "after a read", "new matching"}

// queue keeps a run and its changes, and lets it be worked on.
func (s *Service) queue(ctx context.Context, tx *db.Tx, r *runstore.Run, preview pairingstore.Preview,
	asked func(roster.Entry) bool,
) error {
	r.Total = kept(preview.Plan, asked).Counts().Changes()
	if err := db.Create(tx, r, "queueing the run"); err != nil {
		return err
	}
	if err := runstore.AddChanges(tx, r.ID, preview.Plan, asked); err != nil {
		return err
	}
	if err := tx.Audit(ctx, r.RequestedBy, "started a run", "run/"+r.ID,
		map[string]any{"pairing": r.PairingID, "approved": r.Approved, "changes": r.Total}); err != nil {
		return err
	}
	if err := tx.Enqueue(ctx, jobs.ApplyRun{
		RunID:  r.ID,
		ByHand: !slices.Contains(byItself, r.RequestedBy) && r.BatchID == nil,
	}); err != nil {
		return err
	}
	return tx.Announce(ctx, "run", r.ID)
}

// StartPlanned queues a run of a plan that somebody has been shown, in a
// transaction of a larger work.
func (s *Service) StartPlanned(ctx context.Context, tx *db.Tx, who string, p pairingstore.Pairing, plan roster.Plan,
	approved bool, batchID string,
) (runstore.Run, error) {
	preview := pairingstore.Preview{ID: db.NewID(), PairingID: p.ID, Plan: plan, Fingerprint: plan.Fingerprint}
	if err := db.Create(tx, &preview, "keeping the preview"); err != nil {
		return runstore.Run{}, err
	}
	r := queued(p, preview, approved, who)
	r.BatchID = &batchID
	return r, s.queue(ctx, tx, &r, preview, func(roster.Entry) bool { return true })
}

// narrowed tells about whom a run is to do something. A key that would change
// nothing is refused: whoever asked for it expects something to happen.
func narrowed(plan roster.Plan, only []string) (asked func(roster.Entry) bool, err error) {
	if len(only) == 0 {
		return func(roster.Entry) bool { return true }, nil
	}
	wanted := make(map[string]bool, len(only))
	for _, key := range only {
		wanted[key] = true
	}
	for _, e := range plan.Entries {
		if wanted[e.Key()] && e.Outcome.Changes() {
			delete(wanted, e.Key())
		}
	}
	for key := range wanted {
		return nil, refusal.Invalid("only", "nothing is to be done about %q; the preview says why", key)
	}
	return func(e roster.Entry) bool { return slices.Contains(only, e.Key()) }, nil
}

// kept is the plan as a narrowed run leaves it: who is not asked about stays.
func kept(plan roster.Plan, asked func(roster.Entry) bool) roster.Plan {
	entries := slices.Clone(plan.Entries)
	for i, e := range entries {
		if e.Outcome.Changes() && !asked(e) {
			entries[i].Outcome = roster.OutcomeInStep
			if e.Outcome == roster.OutcomeAdd {
				entries[i].Outcome = roster.OutcomeWaiting // not in the target
			}
		}
	}
	return roster.Plan{Entries: entries}
}

// allowed reports why a pairing cannot run now. What undoes something may be run
// while the pairing is paused.
func (s *Service) allowed(ctx context.Context, p pairingstore.Pairing, undoing bool) error {
	c, err := connectionstore.FindInterface(ctx, s.Store, p.InterfaceID)
	if err != nil {
		return err
	}
	m, err := settingstore.FindMaintenance(ctx, s.Store)
	if err != nil {
		return err
	}
	hidden, err := pairingstore.OnRemovedInterface(ctx, s.Store, p.ID)
	switch {
	case err != nil:
		return err
	case hidden:
		return refusal.Conflict("",
			"the register that the section was read from was removed; restore it first: kanban interfaces restore")
	case m.Since != nil:
		return refusal.Conflict("", "everything is paused since %s by %s; resume it first: kanban maintenance off",
			m.Since.Format("2 January 15:04"), m.By)
	case p.EndedAt != nil:
		return refusal.Conflict("", "this pairing has ended; pair the section again")
	case p.PausedAt != nil && !undoing:
		return refusal.Conflict("", "this pairing is paused; resume it first")
	case c.Paused():
		return refusal.Conflict("", "%s is paused; resume it first", c.Name)
	}
	return nil
}

// Resume queues a failed or stopped run again, from the first change without an outcome.
func (s *Service) Resume(ctx context.Context, who, runID string) (runstore.Run, error) {
	r, err := runstore.FindRun(ctx, s.Store, runID)
	if err != nil {
		return r, err
	}
	if r.Kind != runstore.RunSync || r.State != runstore.Failed && r.State != runstore.Cancelled {
		return r, refusal.Conflict("", "only a run that failed or was stopped half-way can go on; this one is %s",
			r.State)
	}
	p, err := pairingstore.FindPairing(ctx, s.Store, *r.PairingID)
	if err != nil {
		return r, err
	}
	if err := s.allowed(ctx, p, r.Reverts != nil || r.Ends); err != nil {
		return r, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := runstore.ReopenRun(ctx, tx, runID); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "resumed a run", "run/"+runID, nil); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, jobs.ApplyRun{RunID: runID}); err != nil {
			return err
		}
		return tx.Announce(ctx, "run", runID)
	})
	if errors.Is(err, db.ErrTaken) {
		return r, refusal.Conflict("", "another run is at work on this pairing; wait until it is done")
	}
	if err != nil {
		return r, err
	}
	return runstore.FindRun(ctx, s.Store, runID)
}

// Rename gives a pairing's target another name, here and, once it is made, at the
// service. The register's own names are never touched. version must be the one that
// was read, or 0.
func (s *Service) Rename(ctx context.Context, who, pairingID string, version int, name string) error {
	p, err := pairingstore.FindPairing(ctx, s.Store, pairingID)
	if err != nil {
		return err
	}
	if version != 0 && version != p.Version {
		return fmt.Errorf("renaming the class: %w", db.ErrStale)
	}
	if name = strings.TrimSpace(name); name == "" || len([]rune(name)) > pairingstore.MaxTargetName {
		return refusal.Invalid("target", "must have 1 to %d characters", pairingstore.MaxTargetName)
	}
	if p.EndedAt != nil {
		return refusal.Conflict("", "this pairing has ended; pair the section again")
	}
	if p.TargetRef != "" {
		both, err := s.sides(ctx, p)
		if err != nil {
			return err
		}
		if err := both.target.Rename(ctx, p.TargetRef, name); err != nil {
			return err
		}
	}
	before := p.TargetName
	p.TargetName = name
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := pairingstore.UpdatePairing(tx, &p); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "renamed a class", "pairing/"+p.ID,
			map[string]any{"before": before, "after": name}); err != nil {
			return err
		}
		return tx.Announce(ctx, "pairing", p.ID)
	})
}

// Cancel asks a run to stop. A read leaves the mirror as it was; a
// synchronisation keeps what it has done and can be resumed.
func (s *Service) Cancel(ctx context.Context, who, runID string) (runstore.Run, error) {
	r, err := runstore.FindRun(ctx, s.Store, runID)
	if err != nil {
		return r, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		ok, err := runstore.AskCancel(ctx, tx, runID)
		if err != nil {
			return err
		}
		if !ok {
			return refusal.Conflict("", "this run has ended already; it is %s", r.State)
		}
		if err := tx.Audit(ctx, who, "stopped a run", "run/"+runID, nil); err != nil {
			return err
		}
		return tx.Announce(ctx, "run", runID)
	})
	return r, err
}

// waits is an error that is told to whoever tries again, once enough time passed.
func waits(err error) string { return fmt.Sprintf("waiting, then trying again: %v", err) }
