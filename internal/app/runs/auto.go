package runs

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"github.com/riverqueue/river"

	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/schedule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/settingstore"
)

// spread is the span over which scheduled runs are spread, so that a thousand
// pairings with one schedule do not start at once.
const spread = 5 * time.Minute

// due is how many pairings one tick starts; the next tick takes the others.
const due = 20_000

// bySchedule is who asks for what the clock starts.
const bySchedule = "schedule"

// NextRun is when a pairing with this policy runs next by itself after a moment;
// nil when no clock starts it.
func NextRun(p pairingstore.Pairing, after time.Time, zone *time.Location) *time.Time {
	if zone == nil {
		zone = time.UTC
	}
	next := p.Policy.Schedule.Next(after, zone, schedule.Spread(p.ID, spread))
	if next.IsZero() {
		return nil
	}
	return &next
}

// NextRun is the same by the institution's zone.
func (s *Service) NextRun(p pairingstore.Pairing, after time.Time) *time.Time {
	return NextRun(p, after, s.Zone)
}

// Tick starts every pairing that is due, and opens the classes whose time has
// come. What was missed while nothing worked happens once, not once for each time.
// While everything is paused nothing is due: it happens once that is over.
func (s *Service) Tick(ctx context.Context, at time.Time) error {
	m, err := settingstore.FindMaintenance(ctx, s.Store)
	if err != nil || m.Since != nil {
		return err
	}
	if err := s.compareAll(ctx, at); err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		all, err := pairingstore.DuePairings(ctx, tx, at, due)
		if err != nil {
			return err
		}
		var run []pairingstore.Pairing
		for i := range all {
			p := &all[i]
			if p.OpensAt != nil && !p.OpensAt.After(at) {
				if err := s.opened(ctx, tx, p, bySchedule); err != nil {
					return err
				}
			}
			p.NextAt = NextRun(*p, at, s.Zone)
			if p.RanAt != nil && p.PausedAt == nil { // the first run is by hand
				run = append(run, *p)
			}
		}
		if err := pairingstore.Reschedule(ctx, tx, all); err != nil {
			return err
		}
		return pairingstore.AskComparison(ctx, tx, bySchedule, true, run...)
	})
}

// Auto brings a pairing in step without anybody watching. Removals above the
// guard wait for a person, while everything else goes on.
func (s *Service) Auto(ctx context.Context, pairingID, who string) error {
	p, err := pairingstore.FindPairing(ctx, s.Store, pairingID)
	if err != nil {
		return err
	}
	standing, err := s.statuses(ctx, p.InterfaceID, []pairingstore.Pairing{p})
	if err != nil || !standing[p.ID].Allows(roster.ActAuto) {
		return err // what is paused or over waits; the first run is by hand
	}
	preview, err := s.Preview(ctx, pairingID)
	if r, refused := refusal.As(err); refused && r.Code == finding.TargetGone {
		return s.Store.InTx(ctx, func(tx *db.Tx) error { return pairingstore.KeepTargetLost(ctx, tx, p.ID) })
	}
	if err != nil {
		return err
	}
	var only []string
	changes := 0
	_, tripped := preview.Plan.GuardTripped(p.Policy)
	for _, e := range preview.Plan.Entries {
		if !e.Outcome.Changes() || tripped && e.Outcome == roster.OutcomeRemove {
			continue
		}
		changes++
		if tripped {
			only = append(only, e.Key())
		}
	}
	if tripped {
		if err := s.askApproval(ctx, p, preview); err != nil {
			return err
		}
	}
	if changes == 0 {
		return nil
	}
	_, err = s.Start(ctx, who, preview.ID, false, only...)
	if _, refused := refusal.As(err); refused {
		return nil // a run is at work, or the pairing was paused meanwhile
	}
	return err
}

// statuses gives what the states of pairings with one interface are computed from.
func (s *Service) statuses(ctx context.Context, interfaceID string,
	pairings []pairingstore.Pairing,
) (map[string]roster.SectionStatus, error) {
	var ids []string
	for _, p := range pairings {
		ids = append(ids, p.ID)
	}
	sections, err := pairingstore.SectionsOfPairings(ctx, s.Store, ids)
	if err != nil {
		return nil, err
	}
	c, err := connectionstore.FindInterface(ctx, s.Store, interfaceID)
	if err != nil {
		return nil, err
	}
	m, err := settingstore.FindMaintenance(ctx, s.Store)
	out := make(map[string]roster.SectionStatus, len(pairings))
	for _, p := range pairings {
		out[p.ID] = p.Status(sections[p.ID], c.Paused() || m.Since != nil, s.Clock.Now())
	}
	return out, err
}

// few is up to how many pairings are brought in step one by one, each with its own
// look at the service.
const few = 20

// SyncNow queues runs of every pairing that fits: of a course, of an interface,
// or with one of the ids. It gives how many.
func (s *Service) SyncNow(ctx context.Context, who, courseID, interfaceID string, ids []string) (int, error) {
	all, err := pairingstore.PairingsIn(ctx, s.Store, courseID, interfaceID, ids)
	if err != nil {
		return 0, err
	}
	all = slices.DeleteFunc(all, func(p pairingstore.Pairing) bool { return p.PausedAt != nil })
	return len(all), s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := tx.Audit(ctx, who, "asked for runs", "pairings",
			map[string]any{"course": courseID, "interface": interfaceID, "pairings": len(all)}); err != nil {
			return err
		}
		if len(all) > few {
			return pairingstore.AskComparison(ctx, tx, who, true, all...)
		}
		var work []river.JobArgs
		for _, p := range all {
			work = append(work, jobs.RunPairing{PairingID: p.ID, Who: who, ByHand: true})
		}
		return tx.Enqueue(ctx, work...)
	})
}

// Opening is what opening a class means: how many learners go in, and for how many of them
// an account is made.
type Opening struct {
	Learners, NewAccounts int
}

// Opening looks what opening a held class would mean now.
func (s *Service) Opening(ctx context.Context, pairingID string) (o Opening, err error) {
	p, err := s.held(ctx, pairingID, true)
	if err != nil {
		return o, err
	}
	both, err := s.sides(ctx, p)
	if err != nil {
		return o, err
	}
	source, target, err := both.read(ctx)
	if err != nil {
		return o, err
	}
	waiting := map[string]bool{}
	for _, e := range roster.Compare(source, target, p.Policy, both.matching).Entries {
		waiting[e.Key()] = e.Reason == finding.HeldBack
	}
	open := p.Policy
	open.Hold = false
	for _, e := range roster.Compare(source, target, open, both.matching).Entries {
		if waiting[e.Key()] {
			if o.Learners++; e.Reason == finding.NewAccount {
				o.NewAccounts++
			}
		}
	}
	return o, nil
}

// CancelOpening cancels when a held class opens; it stays held.
func (s *Service) CancelOpening(ctx context.Context, who, pairingID string) error {
	p, err := s.held(ctx, pairingID, true)
	if err != nil {
		return err
	}
	if p.OpensAt == nil {
		return refusal.Conflict("", "no time is set at which the class opens")
	}
	p.OpensAt = nil
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := pairingstore.UpdatePairing(tx, &p); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "cancelled when a class opens", "pairing/"+p.ID, nil); err != nil {
			return err
		}
		return tx.Announce(ctx, "pairing", p.ID)
	})
}

// OpenClass lets the learners of a held pairing in: now, or at a time to come.
func (s *Service) OpenClass(ctx context.Context, who, pairingID string, at *time.Time) error {
	p, err := s.held(ctx, pairingID, true)
	if err != nil {
		return err
	}
	if at != nil && !at.After(s.Clock.Now()) {
		return refusal.Invalid("at", "%s has passed; give a time to come, or none to open the class now",
			at.Format("2 January 2006 15:04 MST"))
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if at != nil {
			p.OpensAt = at
			if err := pairingstore.UpdatePairing(tx, &p); err != nil {
				return err
			}
			if err := tx.Audit(ctx, who, "set when a class opens", "pairing/"+p.ID,
				map[string]any{"at": at}); err != nil {
				return err
			}
			return tx.Announce(ctx, "pairing", p.ID)
		}
		if err := s.opened(ctx, tx, &p, who); err != nil {
			return err
		}
		if p.RanAt == nil || p.PausedAt != nil {
			return nil
		}
		return tx.Enqueue(ctx, jobs.RunPairing{PairingID: p.ID, Who: who, ByHand: true})
	})
}

// opened notes that a class is open. Whoever was held back is to go in from this
// moment on: the class is not in step before they are in.
func (s *Service) opened(ctx context.Context, tx *db.Tx, p *pairingstore.Pairing, who string) error {
	p.Policy.Hold, p.OpensAt = false, nil
	if err := pairingstore.UpdatePairing(tx, p); err != nil {
		return err
	}
	var quiet []pairingstore.Mend
	counts := maps.Clone(p.Counts)
	for _, m := range p.LeftAsIs {
		if m.Code != finding.HeldBack {
			quiet = append(quiet, m)
			continue
		}
		counts[roster.OutcomeWaiting]--
		counts[roster.OutcomeAdd]++
	}
	if len(quiet) < len(p.LeftAsIs) {
		if err := pairingstore.KeepReleased(ctx, tx, p.ID, counts, quiet); err != nil {
			return err
		}
	}
	if err := tx.Audit(ctx, who, "opened a class", "pairing/"+p.ID, nil); err != nil {
		return err
	}
	return tx.Announce(ctx, "pairing", p.ID)
}

// HoldClass takes an opening back: learners who are in stay in, all others wait.
func (s *Service) HoldClass(ctx context.Context, who, pairingID string) error {
	p, err := s.held(ctx, pairingID, false)
	if err != nil {
		return err
	}
	p.Policy.Hold, p.OpensAt = true, nil
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := pairingstore.UpdatePairing(tx, &p); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "held a class back", "pairing/"+p.ID, nil); err != nil {
			return err
		}
		if err := pairingstore.AskComparison(ctx, tx, who, false, p); err != nil {
			return err
		}
		return tx.Announce(ctx, "pairing", p.ID)
	})
}

// held gives a pairing that is held, or that is not, as wanted.
func (s *Service) held(ctx context.Context, pairingID string, want bool) (pairingstore.Pairing, error) {
	p, err := pairingstore.FindPairing(ctx, s.Store, pairingID)
	switch {
	case errors.Is(err, db.ErrNotFound), err != nil:
		return p, err
	case p.EndedAt != nil:
		return p, refusal.Conflict("", "this pairing has ended; pair the section again")
	}
	standing, err := s.statuses(ctx, p.InterfaceID, []pairingstore.Pairing{p})
	if err != nil {
		return p, err
	}
	act := map[bool]roster.Act{true: roster.ActOpen, false: roster.ActHold}[want]
	switch {
	case !standing[p.ID].Allows(act):
		return p, refusal.Conflict("", "this section is %s, which does not allow this",
			roster.StateOf(standing[p.ID]).About().Word)
	case p.Policy.Hold == want:
		return p, nil
	case want:
		return p, refusal.Conflict("", "this class is open already; learners go in at once")
	}
	return p, refusal.Conflict("", "this class is held back already; open it: kanban pairings open")
}
