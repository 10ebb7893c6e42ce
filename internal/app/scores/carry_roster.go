package scores

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/call"
)

// Rosters brings in step whose scores are carried: who learns in a section, and who is in the classes that it is
// paired with.
type Rosters interface {
	// Read begins a read of a register, and gives its run; that of a read that is at work already is as good.
	Read(ctx context.Context, who, registerID string) (runID string, err error)
	// Sync begins a run of each pairing of sections that is not in step and may run, and gives the runs.
	Sync(ctx context.Context, who string, sectionIDs []string) (runIDs []string, err error)
}

// heldByRoster are the reasons for which scores wait because of who is in which section as far as it is known.
var heldByRoster = []finding.Code{finding.ScoreNotInBook, finding.ScoreOfUnknown, finding.ScoreMoved}

// HeldByRoster counts the scores of a plan that wait because of the roster.
func HeldByRoster(p grade.Plan) (n int) {
	for _, item := range p.Items {
		for k := range item.Entries {
			if e := &item.Entries[k]; e.Outcome == grade.Waiting && slices.Contains(heldByRoster, e.Reason) {
				n++
			}
		}
	}
	return n
}

// rosterEvery is after how long it is looked again whether the roster is in step.
const rosterEvery = 2 * time.Second

// roster brings the roster in step before anything else, when that was asked for: the register is read first, then
// what its sections are paired with. It waits by handing the work back; the runs that it waits for are on record.
func (x *carrying) roster(ctx context.Context) error {
	at := slices.IndexFunc(x.changes, func(c scorestore.Change) bool { return c.What == scorestore.AboutRoster })
	if at < 0 || !x.changes[at].Open() {
		return nil
	}
	c := &x.changes[at]
	phase, ids, _ := strings.Cut(c.BookID, " ")
	active, ended, err := x.rosterRuns(ctx, strings.Fields(ids))
	switch {
	case err != nil:
		return err
	case active:
		return waitsForRoster()
	case phase == "":
		run, err := x.Rosters.Read(ctx, x.run.RequestedBy, x.c.register())
		return x.rosterPhase(ctx, c, "read", []string{run}, err)
	case phase == "read":
		c.Answer = said(c.Answer, ended)
		var sections []string
		for _, s := range x.c.sections {
			sections = append(sections, s.ID)
		}
		runs, err := x.Rosters.Sync(ctx, x.run.RequestedBy, sections)
		return x.rosterPhase(ctx, c, "sync", runs, err)
	}
	c.Answer = said(c.Answer, ended)
	if err := x.look(ctx); err != nil {
		return err
	}
	return x.extend(ctx, c)
}

// waitsForRoster hands the work back for a moment.
func waitsForRoster() error {
	return fmt.Errorf("%w: %w", errRosterFirst, &call.Problem{Kind: call.Throttled, RetryAfter: rosterEvery})
}

var errRosterFirst = errors.New("the roster is brought in step first")

// rosterPhase notes what was begun. What could not be begun is said, and keeps no score from being carried.
func (x *carrying) rosterPhase(ctx context.Context, c *scorestore.Change, phase string, runs []string,
	err error,
) error {
	if _, refused := refusal.As(err); err != nil && !refused {
		return err
	}
	if err != nil {
		c.Answer = said(c.Answer, []string{err.Error()})
		runs = nil
	}
	c.State, c.BookID = runstore.ChangeStarted, strings.TrimSpace(phase+" "+strings.Join(runs, " "))
	if err := x.Store.InTx(ctx, func(tx *db.Tx) error { return scorestore.MarkWaiting(ctx, tx, *c) }); err != nil {
		return err
	}
	return waitsForRoster()
}

// rosterRuns reports whether any of the runs is at work still, and how the others ended.
func (x *carrying) rosterRuns(ctx context.Context, ids []string) (active bool, ended []string, err error) {
	for _, id := range ids {
		r, err := runstore.FindRun(ctx, x.Store, id)
		if errors.Is(err, db.ErrNotFound) {
			continue
		}
		if err != nil {
			return false, nil, err
		}
		active = active || r.Active()
		what := "the register was read"
		if r.Kind == runstore.RunSync {
			what = fmt.Sprintf("a class was brought in step: %d added, %d removed", r.Counts["added"], r.Counts["removed"])
		}
		switch {
		case r.Active(), r.State == runstore.Finished:
		case r.State == runstore.NeedsPerson:
			what += ", and some of it needs a person"
		default:
			what = strings.TrimSuffix("a run of the roster ended as "+strings.ReplaceAll(r.State, "-", " ")+": "+r.Error, ": ")
		}
		ended = append(ended, what)
	}
	return active, ended, nil
}

func said(had string, more []string) string {
	if had != "" {
		more = append([]string{had}, more...)
	}
	return strings.Join(more, "; ")
}

// extend adds the scores that the preview held back because of the roster, and that can be carried now.
func (x *carrying) extend(ctx context.Context, c *scorestore.Change) error {
	p, err := scorestore.FindPreview(ctx, x.Store, *x.run.PreviewID)
	if err != nil {
		return err
	}
	mine := map[string]bool{}
	for _, had := range x.changes {
		if had.ItemID != nil {
			mine[*had.ItemID] = true
		}
	}
	var more []scorestore.Change
	narrowed := x.narrowed(p, mine)
	for _, item := range p.Plan.Items {
		if narrowed && !mine[item.ID] {
			continue // somebody left it out
		}
		now := x.plan.Item(item.ID)
		if now == nil || now.Outcome != grade.ItemLinked && now.Outcome != grade.ItemMade {
			continue
		}
		for _, e := range now.Entries {
			had := item.Entry(e.Who)
			waited := had == nil || had.Outcome == grade.Waiting && slices.Contains(heldByRoster, had.Reason)
			if waited && (e.Outcome == grade.New || e.Outcome == grade.Update) {
				more = append(more, scoreChange(x.run.ID, x.plan, item.ID, e))
			}
		}
	}
	for i := range more {
		more[i].Position, more[i].State = len(x.changes)+i, runstore.ChangePending
	}
	c.Answer = said(c.Answer, []string{finding.Number(len(more), "score") + " can be carried now that waited for it"})
	if err := x.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := scorestore.AddChanges(tx, more); err != nil {
			return err
		}
		return x.ended(ctx, tx, c, nil)
	}); err != nil {
		return err
	}
	x.changes = append(x.changes, more...)
	x.run.Total = len(x.changes)
	return x.planned(ctx)
}

// narrowed reports whether a run is about some assignments of its preview only: about mine.
func (x *carrying) narrowed(p scorestore.Preview, mine map[string]bool) bool {
	for _, item := range p.Plan.Items {
		if (item.Outcome == grade.ItemMade || item.Counts().Changes() > 0) && !mine[item.ID] {
			return true
		}
	}
	return false
}
