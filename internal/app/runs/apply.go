package runs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/call"
)

// batch is how many changes are noted as begun, then carried out together.
const batch = 100

// execution is one run at work.
type execution struct {
	*Service
	run runstore.Run
	sides
	changes []runstore.Change
}

// Work carries out a run, or goes on with one that was cut off. An error means
// that it may be tried again; with last set there is no next try, so the run
// ends as failed instead and can be resumed by hand.
func (s *Service) Work(ctx context.Context, runID string, last bool) error {
	run, err := runstore.FindRun(ctx, s.Store, runID)
	if err != nil || !run.Active() {
		return err
	}
	x := &execution{Service: s, run: run}
	if err = runstore.ErrCancelled; !run.CancelAsked {
		err = x.work(ctx)
	}
	keep := context.WithoutCancel(ctx)
	if errors.Is(err, runstore.ErrCancelled) {
		x.run.State, x.run.Error, x.run.Done = runstore.Cancelled,
			"stopped by a person; what was done is kept, and the run can be resumed", x.done()
		return s.Store.InTx(keep, func(tx *db.Tx) error { return runstore.FinishRun(keep, tx, &x.run) })
	}
	if err == nil || ctx.Err() != nil {
		return err // cut off: another worker, or this one after a restart, goes on
	}
	if adapter.MayWait(err, run.StartedAt) {
		last = false // it said for how long it wants to be left alone
	}
	if adapter.MayPass(err) && !last {
		if told := runstore.KeepRunProgress(keep, s.Store, runID, waits(err), x.done(), x.run.Total); told != nil &&
			!errors.Is(told, runstore.ErrCancelled) {
			return errors.Join(err, told)
		}
		return err
	}
	x.run.State, x.run.Error, x.run.ErrorCode, x.run.Done = runstore.Failed, err.Error(),
		string(adapter.RunCodeOf(err)), x.done()
	return s.Store.InTx(keep, func(tx *db.Tx) error { return runstore.FinishRun(keep, tx, &x.run) })
}

func (x *execution) work(ctx context.Context) (err error) {
	pairing, err := pairingstore.FindPairing(ctx, x.Store, *x.run.PairingID)
	if err != nil {
		return err
	}
	if err := x.allowed(ctx, pairing, x.run.Reverts != nil || x.run.Ends); err != nil {
		return err
	}
	if x.sides, err = x.Service.sides(ctx, pairing); err != nil {
		return err
	}
	if x.changes, err = runstore.Changes(ctx, x.Store, x.run.ID); err != nil {
		return err
	}
	if err := runstore.StartRun(ctx, x.Store, x.run.ID, "comparing"); err != nil {
		return err
	}
	if x.untouched() {
		if stop, err := x.promise(ctx); stop || err != nil {
			return err
		}
	} else if err := x.catchUp(ctx); err != nil {
		return err
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
	preview, err := pairingstore.FindPreview(ctx, x.Store, *x.run.PreviewID)
	if err != nil {
		return false, err
	}
	plan, err := x.plan(ctx)
	if err != nil {
		return false, err
	}
	if plan.Keeps(preview.Plan) {
		x.adopt(plan)
		return false, nil
	}
	fresh := pairingstore.Preview{
		ID: db.NewID(), PairingID: x.pairing.ID, Plan: plan, Fingerprint: plan.Fingerprint,
		Reverts: x.run.Reverts, Ends: x.run.Ends,
	}
	x.run.State, x.run.ErrorCode, x.run.NextPreview = runstore.Moved, string(finding.PreviewMoved), &fresh.ID
	x.run.Error = "things changed since the preview; look at the new one and run that"
	for _, m := range roster.Moved(preview.Plan, plan) {
		x.run.Findings = append(x.run.Findings, runstore.Noticed{
			Code: finding.PreviewMoved, Subject: m.Name,
			Detail: fmt.Sprintf("was %s, is %s", orNothing(m.Before), orNothing(m.After)),
		})
	}
	return true, x.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &fresh, "keeping the preview"); err != nil {
			return err
		}
		return runstore.FinishRun(ctx, tx, &x.run)
	})
}

// adopt takes over the accounts that others made since the preview.
func (x *execution) adopt(plan roster.Plan) {
	made := map[string]string{}
	for _, e := range plan.Entries {
		if e.Reason == finding.NewMember {
			made[e.Key()] = e.AccountID
		}
	}
	for i := range x.changes {
		if e := &x.changes[i].Entry; e.Reason == finding.NewAccount {
			e.AccountID = made[e.Key()]
		}
	}
}

func orNothing(outcome string) string {
	if outcome == "" {
		return "not there"
	}
	return outcome
}

// catchUp looks at what a run had begun when it was cut off: what has arrived is
// done, and an account that was made is not made again. Repeating it would be
// harmless too, except at services that list a member twice who is added twice.
func (x *execution) catchUp(ctx context.Context) error {
	plan, err := x.plan(ctx)
	if err != nil {
		return err
	}
	now := make(map[string]roster.Entry, len(plan.Entries))
	for _, e := range plan.Entries {
		now[e.Key()] = e
	}
	for i := range x.changes {
		c := &x.changes[i]
		if c.State != runstore.ChangeStarted {
			continue
		}
		e, there := now[c.Entry.Key()]
		switch {
		case c.Outcome == string(roster.OutcomeRemove) && !c.Entry.Deactivate && (!there || !e.Outcome.Changes()):
			err = x.note(ctx, c, c.Entry.AccountID, nil)
		case c.Outcome != string(roster.OutcomeRemove) && there && e.Outcome == roster.OutcomeInStep:
			err = x.note(ctx, c, e.AccountID, nil)
		case c.Outcome == string(roster.OutcomeAdd) && there && c.Entry.AccountID == "":
			c.Entry.AccountID = e.AccountID
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// apply carries out every change without an outcome: noted before, done, noted
// after. One person's refusal never stops the others. A change that had been
// begun when the process died is done again; that is harmless.
func (x *execution) apply(ctx context.Context) error {
	var open []*runstore.Change
	for i := range x.changes {
		if c := &x.changes[i]; c.State == runstore.ChangePending || c.State == runstore.ChangeStarted {
			open = append(open, c)
		}
	}
	var passing error
	told := time.Time{}
	for len(open) > 0 {
		now := open[:min(batch, len(open))]
		open = open[len(now):]
		steps, positions := make([]workspaces.Step, len(now)), make([]int, len(now))
		for i, c := range now {
			e := c.Entry
			steps[i] = workspaces.Step{
				Outcome: e.Outcome, AccountID: e.AccountID, Want: e.Want,
				Deactivate: e.Deactivate, Activate: e.Activate, Notify: x.pairing.Policy.Notify, Join: x.refs(e.Join),
				Quit: x.refs(e.Quit),
			}
			positions[i] = c.Position
		}
		if err := runstore.MarkStarted(ctx, x.Store, x.run.ID, positions...); err != nil {
			return err
		}
		err := x.target.Apply(ctx, x.pairing.TargetRef, steps, func(i int, account string, err error) error {
			if p, ok := call.As(err); ok && p.Passing() {
				passing = err
				return nil
			}
			if err := x.note(ctx, now[i], account, err); err != nil {
				return err
			}
			if time.Since(told) < 150*time.Millisecond { // often enough for a person
				return nil
			}
			told = time.Now()
			return runstore.KeepRunProgress(ctx, x.Store, x.run.ID, describe(now[i].Entry), x.done(), x.run.Total)
		})
		if err != nil {
			return err
		}
	}
	return passing
}

func describe(e roster.Entry) string { return fmt.Sprintf("%s %s", e.Outcome, e.Name) }

// note keeps how one change ended.
func (x *execution) note(ctx context.Context, c *runstore.Change, account string, err error) error {
	c.State = runstore.ChangeDone
	if p, ok := call.As(err); ok && (p.Kind == call.Refused || p.Kind == call.NotFound) {
		c.State, c.Code, c.Answer = runstore.ChangeRefused, string(finding.RefusedByService), p.Detail
	} else if err != nil {
		return err
	}
	at := x.Clock.Now()
	c.FinishedAt, c.Entry.AccountID = &at, account
	return x.Store.InTx(ctx, func(tx *db.Tx) error {
		if c.State == runstore.ChangeDone {
			if err := x.keep(ctx, tx, c.Entry, account); err != nil {
				return err
			}
		}
		return runstore.MarkEnded(ctx, tx, *c)
	})
}

// keep stores whose account it is and whom Kanban placed.
func (x *execution) keep(ctx context.Context, tx *db.Tx, e roster.Entry, account string) error {
	if err := linkstore.KeepGrouping(ctx, tx, x.pairing.ID, account, e.Join, e.Quit); err != nil {
		return err
	}
	switch e.Outcome {
	case roster.OutcomeAdd:
		if e.PersonID == "" { // a guest who is put back
			return nil
		}
		if err := connectionstore.KeepAccount(ctx, tx, x.pairing.InterfaceID, account, e.PersonID); err != nil {
			return err
		}
		if err := matchstore.KeepSwitchedOff(ctx, tx, x.pairing.InterfaceID, account, false); err != nil {
			return err
		}
		return pairingstore.KeepPlacement(ctx, tx, x.pairing.ID, account, e.PersonID, e.Name)
	case roster.OutcomeRemove:
		if e.Deactivate {
			if err := matchstore.KeepSwitchedOff(ctx, tx, x.pairing.InterfaceID, account, true); err != nil {
				return err
			}
		}
		return pairingstore.DropPlacement(ctx, tx, x.pairing.ID, account)
	}
	return nil
}

// readBack reads the target again: what was sent has to be there.
func (x *execution) readBack(ctx context.Context) error {
	if err := runstore.KeepRunProgress(ctx, x.Store, x.run.ID, "reading back", x.done(), x.run.Total); err != nil {
		return err
	}
	var plan roster.Plan
	var missing []runstore.Change
	// A service may show only after a while what it has carried out: late is not lost.
	_, err := x.target.LookAgain(ctx, func() (_ bool, err error) {
		if plan, err = x.plan(ctx); err != nil {
			return false, err
		}
		if missing = x.missing(plan); len(missing) == 0 {
			return true, nil
		}
		return false, runstore.KeepRunProgress(ctx, x.Store, x.run.ID,
			fmt.Sprintf("reading back again: %s", changesNotSeen(len(missing))), x.done(), x.run.Total)
	})
	if err != nil {
		return err
	}
	if err := x.repair(ctx, plan); err != nil {
		return err
	}
	refused := map[string]runstore.Change{}
	for _, c := range append(slices.Clone(x.changes), missing...) {
		if c.State == runstore.ChangeRefused || c.State == runstore.ChangeNotArrived {
			refused[c.Entry.Key()] = c
		}
	}
	if x.run.Reverts != nil { // how the pairing stands is another question
		if plan, err = x.compare(ctx); err != nil {
			return err
		}
	}
	s := standing(plan, x.pairing, refused, x.Clock.Now())
	x.run.Counts, x.run.Done = x.report(plan, missing), x.done()
	x.run.State = runstore.Finished
	if s.counts[roster.OutcomeNeedsPerson] > 0 {
		x.run.State = runstore.NeedsPerson
	}
	return x.Store.InTx(ctx, func(tx *db.Tx) error { return x.finish(ctx, tx, plan, s, missing) })
}

// missing are the changes that the service accepted and a comparison does not show.
func (x *execution) missing(plan roster.Plan) (missing []runstore.Change) {
	left := make(map[string]roster.Outcome, len(plan.Entries))
	for _, e := range plan.Entries {
		left[e.Key()] = e.Outcome
	}
	for _, c := range x.changes {
		if c.State == runstore.ChangeDone && left[c.Entry.Key()] == c.Entry.Outcome {
			c.State, c.Code, c.Answer = runstore.ChangeNotArrived, string(finding.NotArrived),
				"accepted by the service, but not there when read back"
			missing = append(missing, c)
		}
	}
	return missing
}

func changesNotSeen(n int) string {
	if n == 1 {
		return "one change does not show yet"
	}
	return fmt.Sprintf("%d changes do not show yet", n)
}

// repair notes what earlier runs of the pairing had carried out and could not note: who is
// there because of them is ours, and is taken out again one day.
func (x *execution) repair(ctx context.Context, plan roster.Plan) error {
	if x.run.Reverts != nil || x.run.Ends { // they are about other people
		return nil
	}
	open, err := runstore.UnendedAdditions(ctx, x.Store, x.pairing.ID, x.run.ID)
	if err != nil || len(open) == 0 {
		return err
	}
	there := make(map[string]roster.Entry, len(plan.Entries))
	for _, e := range plan.Entries {
		if e.Outcome == roster.OutcomeInStep {
			there[e.PersonID] = e
		}
	}
	return x.Store.InTx(ctx, func(tx *db.Tx) error {
		for _, c := range open {
			e, ok := there[c.Entry.PersonID]
			if !ok || e.AccountID == "" {
				continue
			}
			at := x.Clock.Now()
			c.State, c.FinishedAt, c.Entry.AccountID = runstore.ChangeDone, &at, e.AccountID
			if err := x.keep(ctx, tx, c.Entry, e.AccountID); err != nil {
				return err
			}
			if err := runstore.MarkEnded(ctx, tx, c); err != nil {
				return err
			}
		}
		return nil
	})
}

// plan is what the run is to do as things are now.
func (x *execution) plan(ctx context.Context) (roster.Plan, error) {
	switch {
	case x.run.Ends:
		return x.ending(ctx)
	case x.run.Reverts != nil:
		return x.revert(ctx, *x.run.Reverts)
	}
	return x.compare(ctx)
}

// report gives everybody one result: what the run did about them, or how they stand when it
// did nothing. Who would still be changed was left for later.
func (x *execution) report(plan roster.Plan, missing []runstore.Change) map[string]int {
	out := map[string]int{"added": 0, "updated": 0, "removed": 0, "refused": 0, "not-arrived": len(missing)}
	names := map[roster.Outcome]string{
		roster.OutcomeAdd: "added", roster.OutcomeUpdate: "updated",
		roster.OutcomeRemove: "removed",
	}
	told := map[string]bool{}
	for _, c := range missing {
		told[c.Entry.Key()] = true
	}
	for _, c := range x.changes {
		key := c.Entry.Key()
		switch {
		case told[key]:
		case c.State == runstore.ChangeDone:
			out[names[c.Entry.Outcome]]++
			told[key] = true
		case c.State == runstore.ChangeRefused:
			out["refused"]++
			told[key] = true
		}
	}
	for _, e := range plan.Entries {
		switch {
		case told[e.Key()]:
		case e.Outcome.Changes():
			out[roster.LeftForLater]++
		default:
			out[string(e.Outcome)]++
		}
	}
	return out
}

// takeOver keeps whose places are Kanban's to mind from now on, as the preview has said; a
// run that takes one back leaves them to whoever put them in.
func (x *execution) takeOver(ctx context.Context, tx *db.Tx, plan roster.Plan) error {
	if x.run.Reverts != nil {
		return pairingstore.GiveOver(ctx, tx, x.pairing.ID, *x.run.Reverts)
	}
	if x.pairing.TakeOver != pairingstore.TakesOverNext || x.run.Ends {
		return nil
	}
	var ours []roster.Entry
	for _, e := range plan.Entries {
		if e.TakeOver {
			ours = append(ours, e)
		}
	}
	return pairingstore.TakeOver(ctx, tx, x.pairing.ID, x.run.ID, ours)
}

func (x *execution) finish(ctx context.Context, tx *db.Tx, plan roster.Plan, s stand,
	missing []runstore.Change,
) error {
	for _, c := range missing {
		if err := runstore.MarkEnded(ctx, tx, c); err != nil {
			return err
		}
	}
	if err := s.keep(ctx, tx, x.pairing); err != nil {
		return err
	}
	if err := x.takeOver(ctx, tx, plan); err != nil {
		return err
	}
	if x.run.Ends && x.run.State == runstore.Finished && s.counts.Changes() == 0 {
		if err := tx.Audit(ctx, x.run.RequestedBy, "unpaired a section and took its people out",
			"pairing/"+x.pairing.ID, nil); err != nil {
			return err
		}
		if err := pairingstore.EndPairing(ctx, tx, x.pairing.ID); err != nil {
			return err
		}
	}
	if x.run.Reverts != nil { // or the next run would do it all again
		if err := pairingstore.PausePairing(ctx, tx, x.pairing.ID); err != nil {
			return err
		}
	}
	if x.run.State == runstore.NeedsPerson {
		if _, err := eventstore.RecordEvents(ctx, tx, []eventstore.Event{{
			Type: string(rule.RunNeedsPerson), NaturalKey: "run.needs-person/" + x.run.ID,
			SectionID:  &x.pairing.SectionID,
			Data:       map[string]any{"runId": x.run.ID, "people": s.counts[roster.OutcomeNeedsPerson]},
			OccurredAt: x.Clock.Now(),
		}}); err != nil {
			return err
		}
	}
	return runstore.FinishRun(ctx, tx, &x.run)
}
