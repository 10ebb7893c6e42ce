package runs

import (
	"context"
	"maps"
	"reflect"
	"time"

	"github.com/riverqueue/river"
	"golang.org/x/sync/errgroup"

	"kanban/internal/adapter"
	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/schedule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/settingstore"
)

// askedAtOnce is how many pairings are compared between two looks at what else was
// asked for, so that somebody who waits is not behind thousands.
const askedAtOnce = 500

// stale is for how long a survey of a service answers for pairings.
const stale = 2 * time.Minute

// WorkAsked compares every pairing with an interface for which that was asked, and
// starts runs where something has to be done. Few are looked up one by one; for
// many the service is read whole, once. Whoever calls it holds the interface's
// lock. It goes on where it was when it is called again.
func (s *Service) WorkAsked(ctx context.Context, interfaceID string) error {
	err := s.workAsked(ctx, interfaceID)
	code, text := "", ""
	if err != nil && ctx.Err() == nil {
		code, text = string(adapter.RunCodeOf(err)), err.Error()
	}
	if ctx.Err() != nil {
		return err
	}
	if told := pairingstore.KeepAskTrouble(ctx, s.Store, interfaceID, code, text); told != nil {
		return told
	}
	return err
}

func (s *Service) workAsked(ctx context.Context, interfaceID string) error {
	kept, err := connectionstore.FindInterface(ctx, s.Store, interfaceID)
	if err != nil {
		return err
	}
	c, err := s.Connections.Open(ctx, interfaceID)
	if err != nil {
		return err
	}
	service := workspaces.New(c, s.Call)
	var survey *workspaces.Survey
	var surveyed time.Time
	for {
		all, total, err := pairingstore.AskedPairings(ctx, s.Store, interfaceID, askedAtOnce)
		if err != nil || len(all) == 0 {
			return err
		}
		var at DirectoryReader = service
		if total > few || survey != nil {
			if survey == nil || time.Since(surveyed) > stale || askedSince(all, surveyed) > few {
				surveyed = time.Now()
				if survey, err = service.Survey(ctx); err != nil {
					return err
				}
			}
			at = survey
		}
		w := &asked{
			Service: s, pairings: all, matching: kept.Recognise(), at: at, fresh: service, surveyed: surveyed,
			found: make([]found, len(all)),
		}
		if err := w.work(ctx, interfaceID); err != nil {
			return err
		}
	}
}

// askedSince counts what was asked for after a moment.
func askedSince(all []pairingstore.Pairing, at time.Time) (n int) {
	for _, p := range all {
		if p.AskedAt != nil && p.AskedAt.After(at) {
			n++
		}
	}
	return n
}

// asked is one part of the pairings for which a comparison was asked.
type asked struct {
	*Service
	pairings []pairingstore.Pairing
	matching roster.Matching
	at       DirectoryReader // answers for all of them
	fresh    DirectoryReader // the service itself, for what was asked after the survey
	surveyed time.Time
	found    []found // by pairing
}

// found is what a comparison gave.
type found struct {
	stand
	seen     string
	unminded int
	lost     bool // the target is no longer at the service
	same     bool // as it stands in the pairing already
	run      bool // something has to be done about it
}

func (w *asked) work(ctx context.Context, interfaceID string) error {
	var ids, runs []string
	for _, p := range w.pairings {
		ids = append(ids, p.ID)
		if p.LastRunID != nil {
			runs = append(runs, *p.LastRunID)
		}
	}
	sources, err := pairingstore.Sources(ctx, w.Store, interfaceID, w.pairings)
	if err != nil {
		return err
	}
	groups, err := linkstore.GroupsOf(ctx, w.Store, ids)
	if err != nil {
		return err
	}
	refused, err := runstore.RefusedOf(ctx, w.Store, runs)
	if err != nil {
		return err
	}
	standings, err := w.statuses(ctx, interfaceID, w.pairings)
	if err != nil {
		return err
	}
	var group errgroup.Group
	group.SetLimit(4)
	for i, p := range w.pairings {
		group.Go(func() error {
			x := &sides{pairing: p, groups: groups[p.ID], matching: w.matching, store: w.Store}
			var last map[string]runstore.Change
			if p.LastRunID != nil {
				last = refused[*p.LastRunID]
			}
			auto := p.AskedRun && standings[p.ID].Allows(roster.ActAuto)
			var err error
			w.found[i], err = w.compare(ctx, x, sources[p.ID], last, auto)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return w.keep(ctx)
}

// compare works out one pairing.
func (w *asked) compare(ctx context.Context, x *sides, source roster.Source, refused map[string]runstore.Change,
	auto bool,
) (f found, err error) {
	p := x.pairing
	at := w.at
	if p.AskedAt != nil && p.AskedAt.After(w.surveyed) {
		at = w.fresh
	}
	target, err := x.look(ctx, at, &source)
	if r, ok := refusal.As(err); ok && r.Code == finding.TargetGone {
		return found{lost: true}, nil
	}
	if err != nil {
		return f, err
	}
	f.stand, f.seen = standing(x.work(source, target), p, refused, w.Clock.Now()), x.pairing.TargetSeen
	// What the last run was refused stands as needing a person: it is not tried
	// again until something about it changes.
	c := f.counts
	f.run = auto && (c[roster.OutcomeAdd]+c[roster.OutcomeUpdate] > 0 || c[roster.OutcomeRemove] > 0 &&
		f.guarded == 0 || f.guarded > 0 && f.guarded != p.GuardNotified)
	f.unminded = x.pairing.Unminded
	f.same = f.unminded == p.Unminded && (f.unminded > 0 || p.TakeOver != pairingstore.TakesOverIfAsked) &&
		f.seen == p.TargetSeen && f.guarded == p.Guarded && equal(f.counts, p.Counts) && alike(f.mend, p.Mend) &&
		alike(f.quiet, p.LeftAsIs)
	return f, nil
}

func equal(a, b roster.Counts) bool {
	drop := func(_ roster.Outcome, n int) bool { return n == 0 }
	a, b = maps.Clone(a), maps.Clone(b)
	maps.DeleteFunc(a, drop)
	maps.DeleteFunc(b, drop)
	return maps.Equal(a, b)
}

func alike(a, b []pairingstore.Mend) bool {
	return len(a) == 0 && len(b) == 0 || reflect.DeepEqual(a, b)
}

// keep writes what was found, and starts what has to be done.
func (w *asked) keep(ctx context.Context) error {
	return w.Store.InTx(ctx, func(tx *db.Tx) error {
		var same []string
		var work []river.JobArgs
		for i, p := range w.pairings {
			switch f := w.found[i]; {
			case f.lost:
				if err := pairingstore.KeepTargetLost(ctx, tx, p.ID); err != nil {
					return err
				}
			case f.same:
				same = append(same, p.ID)
			default:
				p.TargetSeen, p.Unminded = f.seen, f.unminded
				if err := f.keep(ctx, tx, p); err != nil {
					return err
				}
				if err := tx.Announce(ctx, "pairing", p.ID); err != nil {
					return err
				}
			}
			if w.found[i].run {
				work = append(work, jobs.RunPairing{PairingID: p.ID, Who: p.AskedBy})
			}
		}
		if err := pairingstore.EndAsked(ctx, tx, w.pairings, same); err != nil {
			return err
		}
		return tx.Enqueue(ctx, work...)
	})
}

// fullComparisonSetting is when all pairings are compared, whatever reads found.
const fullComparisonSetting = "full-comparison"

// FullComparison is the schedule of its own on which every pairing is compared, so
// that what changed at a service is noticed too.
type FullComparison struct {
	Schedule schedule.Schedule `json:"schedule"`
	NextAt   *time.Time        `json:"nextAt,omitempty"`
}

// FullComparison gives that schedule; every night at 03:30 when nobody chose one.
func (s *Service) FullComparison(ctx context.Context) (w FullComparison, err error) {
	ok, err := settingstore.FindSetting(ctx, s.Store, fullComparisonSetting, &w)
	if err == nil && !ok {
		w.Schedule = schedule.Schedule{Kind: schedule.Daily, At: "03:30"}
	}
	return w, err
}

// SetFullComparison changes it.
func (s *Service) SetFullComparison(ctx context.Context, who string, sch schedule.Schedule) error {
	if err := sch.Check(); err != nil {
		return refusal.Invalid("schedule", "%v", err)
	}
	if sch.Kind == schedule.AfterRead {
		return refusal.Invalid("schedule", "after-read is what happens anyway; use by-hand, every or daily")
	}
	w := FullComparison{Schedule: sch, NextAt: s.next(sch, s.Clock.Now())}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, fullComparisonSetting, w); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "changed when all pairings are compared", "settings", w)
	})
}

func (s *Service) next(sch schedule.Schedule, after time.Time) *time.Time {
	zone := s.Zone
	if zone == nil {
		zone = time.UTC
	}
	at := sch.Next(after, zone, 0)
	if at.IsZero() {
		return nil
	}
	return &at
}

// compareAll asks for a comparison of all pairings when its time has come. Those
// that run by themselves are brought in step.
func (s *Service) compareAll(ctx context.Context, at time.Time) error {
	w, err := s.FullComparison(ctx)
	if err != nil {
		return err
	}
	due := w.NextAt != nil && !w.NextAt.After(at)
	if w.NextAt != nil && !due || w.Schedule.Kind == schedule.ByHand || w.Schedule.Kind == "" {
		return nil
	}
	w.NextAt = s.next(w.Schedule, at)
	var compare, run []pairingstore.Pairing
	if due {
		all, err := pairingstore.PairingsIn(ctx, s.Store, "", "", nil)
		if err != nil {
			return err
		}
		for _, p := range all {
			if k := p.Policy.Schedule.Kind; k == schedule.ByHand || k == "" || p.PausedAt != nil || p.RanAt == nil {
				compare = append(compare, p)
			} else {
				run = append(run, p)
			}
		}
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, fullComparisonSetting, w); err != nil {
			return err
		}
		if err := pairingstore.AskComparison(ctx, tx, bySchedule, false, compare...); err != nil {
			return err
		}
		return pairingstore.AskComparison(ctx, tx, bySchedule, true, run...)
	})
}
