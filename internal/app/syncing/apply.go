package syncing

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/wire/call"
)

// patience is how many people in a row may fail for a passing cause before the
// run stops and waits: the service is down, not the person wrong.
const patience = 3

// execution is one run at work.
type execution struct {
	*Service
	run     store.Run
	pairing store.Pairing
	target  Target
	changes []store.Change
}

// Work carries out a run, or goes on with one that was cut off. An error means
// that it may be tried again; with last set there is no next try, so the run
// ends as failed instead and can be resumed by hand.
func (s *Service) Work(ctx context.Context, runID string, last bool) error {
	run, err := s.Store.Run(ctx, runID)
	if err != nil || !run.Active() {
		return err
	}
	x := &execution{Service: s, run: run}
	if err = store.ErrCancelled; !run.CancelAsked {
		err = x.work(ctx)
	}
	keep := context.WithoutCancel(ctx)
	if errors.Is(err, store.ErrCancelled) {
		x.run.State, x.run.Error, x.run.Done = store.Cancelled, "stopped by a person; what was done is kept, and the run can be resumed", x.done()
		return s.Store.InTx(keep, func(tx *store.Tx) error { return tx.FinishRun(keep, &x.run) })
	}
	if err == nil || ctx.Err() != nil {
		return err // cut off: another worker, or this one after a restart, goes on
	}
	if adapter.MayPass(err) && !last {
		if told := s.Store.Progress(keep, runID, "waiting, then trying again: "+err.Error(), x.done(), x.run.Total); told != nil && !errors.Is(told, store.ErrCancelled) {
			return errors.Join(err, told)
		}
		return err
	}
	x.run.State, x.run.Error, x.run.ErrorCode, x.run.Done = store.Failed, err.Error(), string(adapter.RunCodeOf(err)), x.done()
	return s.Store.InTx(keep, func(tx *store.Tx) error { return tx.FinishRun(keep, &x.run) })
}

func (x *execution) work(ctx context.Context) (err error) {
	if x.pairing, err = x.Store.Pairing(ctx, *x.run.PairingID); err != nil {
		return err
	}
	if err := x.allowed(ctx, x.pairing); err != nil {
		return err
	}
	if x.target, err = x.Service.target(ctx, x.pairing); err != nil {
		return err
	}
	if x.changes, err = x.Store.Changes(ctx, x.run.ID); err != nil {
		return err
	}
	if err := x.Store.StartRun(ctx, x.run.ID, "comparing"); err != nil {
		return err
	}
	if x.untouched() {
		if stop, err := x.promise(ctx); stop || err != nil {
			return err
		}
	}
	if err := x.ensureTarget(ctx); err != nil {
		return err
	}
	if err := x.apply(ctx); err != nil {
		return err
	}
	return x.readBack(ctx)
}

// untouched reports whether nothing of the run has been tried yet.
func (x *execution) untouched() bool {
	for _, c := range x.changes {
		if c.StartedAt != nil {
			return false
		}
	}
	return true
}

func (x *execution) done() int {
	n := 0
	for _, c := range x.changes {
		if c.FinishedAt != nil {
			n++
		}
	}
	return n
}

// promise checks that the preview still holds. If something moved, the run ends
// without having done anything and leaves a new preview.
func (x *execution) promise(ctx context.Context) (stop bool, err error) {
	preview, err := x.Store.Preview(ctx, *x.run.PreviewID)
	if err != nil {
		return false, err
	}
	plan, err := x.compare(ctx, x.pairing, x.target)
	if err != nil {
		return false, err
	}
	if plan.Fingerprint == preview.Fingerprint {
		return false, nil
	}
	fresh := store.Preview{ID: store.NewID(), PairingID: x.pairing.ID, Plan: plan, Fingerprint: plan.Fingerprint}
	x.run.State, x.run.ErrorCode, x.run.NextPreview = store.Moved, string(finding.PreviewMoved), &fresh.ID
	x.run.Error = "things changed since the preview; look at the new one and run that"
	for _, m := range roster.Moved(preview.Plan, plan) {
		x.run.Findings = append(x.run.Findings, store.Noticed{Code: finding.PreviewMoved, Subject: m.Name, Detail: fmt.Sprintf("was %s, is %s", orNothing(m.Before), orNothing(m.After))})
	}
	return true, x.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := store.Create(tx, &fresh, "keeping the preview"); err != nil {
			return err
		}
		return tx.FinishRun(ctx, &x.run)
	})
}

func orNothing(outcome string) string {
	if outcome == "" {
		return "not there"
	}
	return outcome
}

func (x *execution) ensureTarget(ctx context.Context) error {
	if x.pairing.TargetRef != "" {
		return nil
	}
	ref, err := x.target.EnsureTarget(ctx, x.pairing.TargetName, x.pairing.ID)
	if err != nil {
		return err
	}
	x.pairing.TargetRef = ref
	return x.Store.InTx(ctx, func(tx *store.Tx) error { return tx.SetTarget(ctx, x.pairing.ID, ref) })
}

// apply carries out every change without an outcome. One person's refusal never
// stops the others.
func (x *execution) apply(ctx context.Context) error {
	var passing error
	inARow, told := 0, time.Time{}
	for i := range x.changes {
		c := &x.changes[i]
		if c.State != store.ChangePending && c.State != store.ChangeStarted {
			continue
		}
		if time.Since(told) > 150*time.Millisecond { // often enough for a person
			told = time.Now()
			if err := x.Store.Progress(ctx, x.run.ID, describe(c.Entry), x.done(), x.run.Total); err != nil {
				return err
			}
		}
		err := x.carryOut(ctx, c)
		p, _ := call.As(err)
		switch {
		case err == nil:
			inARow = 0
		case p != nil && p.Passing():
			passing = err
			if inARow++; inARow >= patience {
				return passing
			}
		default:
			return err
		}
	}
	return passing
}

// carryOut does one change: noted before, done, noted after. A change that had
// been started when the process died is simply done again; every step of it is
// harmless to repeat.
func (x *execution) carryOut(ctx context.Context, c *store.Change) error {
	if err := x.Store.MarkStarted(ctx, c.RunID, c.Position); err != nil {
		return err
	}
	e := c.Entry
	account, err := e.AccountID, error(nil)
	switch e.Outcome {
	case roster.OutcomeAdd:
		account, err = x.target.Add(ctx, x.pairing.TargetRef, e.AccountID, e.Want)
	case roster.OutcomeUpdate:
		err = x.target.Update(ctx, e.AccountID, e.Want)
	case roster.OutcomeRemove:
		err = x.target.Remove(ctx, x.pairing.TargetRef, e.AccountID, e.Deactivate)
	}
	if p, ok := call.As(err); ok && (p.Kind == call.Refused || p.Kind == call.NotFound) {
		c.State, c.Code, c.Answer = store.ChangeRefused, string(finding.RefusedByService), p.Detail
	} else if err != nil {
		return err
	} else {
		c.State = store.ChangeDone
	}
	at := now()
	c.FinishedAt = &at
	return x.Store.InTx(ctx, func(tx *store.Tx) error {
		if c.State == store.ChangeDone {
			if err := x.keep(ctx, tx, e, account); err != nil {
				return err
			}
		}
		return tx.MarkEnded(ctx, *c)
	})
}

// keep stores whose account it is and whom Kanban placed.
func (x *execution) keep(ctx context.Context, tx *store.Tx, e roster.Entry, account string) error {
	switch e.Outcome {
	case roster.OutcomeAdd:
		if err := tx.Link(ctx, x.pairing.ConnectionID, account, e.PersonID); err != nil {
			return err
		}
		return tx.Place(ctx, x.pairing.ID, account, e.PersonID, e.Name)
	case roster.OutcomeRemove:
		return tx.Unplace(ctx, x.pairing.ID, account)
	}
	return nil
}

// readBack reads the target again: what was sent has to be there.
func (x *execution) readBack(ctx context.Context) error {
	if err := x.Store.Progress(ctx, x.run.ID, "reading back", x.done(), x.run.Total); err != nil {
		return err
	}
	plan, err := x.compare(ctx, x.pairing, x.target)
	if err != nil {
		return err
	}
	left := make(map[string]roster.Outcome, len(plan.Entries))
	for _, e := range plan.Entries {
		left[e.Key()] = e.Outcome
	}
	refused := map[string]store.Change{}
	var missing []store.Change
	for _, c := range x.changes {
		if c.State == store.ChangeDone && left[c.Entry.Key()] == c.Entry.Outcome {
			c.State, c.Code, c.Answer = store.ChangeNotArrived, string(finding.NotArrived), "accepted by the service, but not there when read back"
			missing = append(missing, c)
		}
		if c.State == store.ChangeRefused || c.State == store.ChangeNotArrived {
			refused[c.Entry.Key()] = c
		}
	}
	counts, mend := standing(plan, refused)
	x.run.Counts, x.run.Done = x.report(counts, missing), x.done()
	x.run.State = store.Finished
	if counts[roster.OutcomeNeedsPerson] > 0 {
		x.run.State = store.NeedsPerson
	}
	return x.Store.InTx(ctx, func(tx *store.Tx) error { return x.finish(ctx, tx, counts, mend, missing) })
}

// report counts what changed, not what was processed.
func (x *execution) report(counts roster.Counts, missing []store.Change) map[string]int {
	out := map[string]int{"added": 0, "updated": 0, "removed": 0, "refused": 0, "not-arrived": len(missing)}
	names := map[roster.Outcome]string{roster.OutcomeAdd: "added", roster.OutcomeUpdate: "updated", roster.OutcomeRemove: "removed"}
	for _, c := range x.changes {
		switch c.State {
		case store.ChangeDone:
			out[names[c.Entry.Outcome]]++
		case store.ChangeRefused:
			out["refused"]++
		}
	}
	for _, c := range missing {
		out[names[c.Entry.Outcome]]--
	}
	for _, o := range []roster.Outcome{roster.OutcomeInStep, roster.OutcomeNeedsPerson, roster.OutcomeWaiting, roster.OutcomeLeftOut} {
		out[string(o)] = counts[o]
	}
	return out
}

func (x *execution) finish(ctx context.Context, tx *store.Tx, counts roster.Counts, mend []store.Mend, missing []store.Change) error {
	for _, c := range missing {
		if err := tx.MarkEnded(ctx, c); err != nil {
			return err
		}
	}
	if err := tx.KeepStanding(ctx, x.pairing.ID, counts, mend); err != nil {
		return err
	}
	if x.run.State == store.NeedsPerson {
		if _, err := tx.Record(ctx, []store.Event{{
			Type: string(rule.RunNeedsPerson), NaturalKey: "run.needs-person/" + x.run.ID, SectionID: &x.pairing.SectionID,
			Data: map[string]any{"runId": x.run.ID, "people": counts[roster.OutcomeNeedsPerson]}, OccurredAt: now(),
		}}); err != nil {
			return err
		}
	}
	return tx.FinishRun(ctx, &x.run)
}
