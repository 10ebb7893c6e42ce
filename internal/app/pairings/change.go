package pairings

import (
	"context"
	"errors"
	"fmt"

	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/schedule"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
)

func (s *Service) audit(ctx context.Context, tx *db.Tx, who, what string, p pairingstore.Pairing) error {
	detail := map[string]any{
		"section": p.SectionID, "target": p.TargetName, "policy": p.Policy,
		"paused": p.PausedAt != nil,
	}
	if err := tx.Audit(ctx, who, what, "pairing/"+p.ID, detail); err != nil {
		return err
	}
	return tx.Announce(ctx, "pairing", p.ID)
}

// Edit is what can be changed about a pairing; nil leaves it.
type Edit struct {
	Policy *roster.Policy
	Paused *bool
}

// Change edits a pairing. version must be the one that was read, or 0.
func (s *Service) Change(ctx context.Context, who, id string, version int, e Edit) (pairingstore.Pairing, error) {
	p, err := pairingstore.FindPairing(ctx, s.Store, id)
	if err != nil {
		return p, err
	}
	if version != 0 && version != p.Version {
		return p, fmt.Errorf("changing the pairing: %w", db.ErrStale)
	}
	if p.EndedAt != nil {
		return p, refusal.Conflict("", "this pairing has ended; pair the section again")
	}
	if e.Policy != nil {
		if err := CheckPolicy(*e.Policy); err != nil {
			return p, err
		}
		p.Policy = *e.Policy
		p.NextAt = s.Schedules.NextRun(p, s.Clock.Now())
		if !p.Policy.Hold {
			p.OpensAt = nil
		}
	}
	if e.Paused != nil {
		p.PausedAt = nil
		if *e.Paused {
			now := s.Clock.Now()
			p.PausedAt = &now
		}
	}
	return p, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := pairingstore.UpdatePairing(tx, &p); err != nil {
			return err
		}
		if e.Paused != nil && !*e.Paused && p.RanAt != nil && p.Policy.Schedule.Kind == schedule.AfterRead {
			// what was read while it was paused
			if err := pairingstore.AskComparison(ctx, tx, who, true, p); err != nil {
				return err
			}
		}
		return s.audit(ctx, tx, who, "changed a pairing", p)
	})
}

// TakeOver says whether Kanban minds the places of the section's people who were in the
// class already. The next preview shows them, and the next run takes them over.
func (s *Service) TakeOver(ctx context.Context, who, id string, yes bool) error {
	p, err := pairingstore.FindPairing(ctx, s.Store, id)
	if err != nil {
		return err
	}
	switch {
	case p.EndedAt != nil:
		return refusal.Conflict("", "this pairing has ended; pair the section again")
	case p.TargetRef == "":
		return refusal.Conflict("", "the class is made by the first run, so nobody is in it yet")
	}
	what := "leaves the people in a class to whoever put them in"
	if yes {
		what = "takes over the people in a class"
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := pairingstore.DecideTakeOver(ctx, tx, id, yes); err != nil {
			return err
		}
		return s.audit(ctx, tx, who, what, p)
	})
}

// AtRest refuses while a run is at work on one of several pairings.
func (s *Service) AtRest(ctx context.Context, pairings ...pairingstore.Pairing) error {
	for _, p := range pairings {
		active, err := runstore.ActiveRun(ctx, s.Store, "pairing_id", p.ID)
		if err == nil {
			return refusal.Conflict("", "run %s is still at work on %s; wait until it is done", active.ID,
				p.TargetName)
		}
		if !errors.Is(err, db.ErrNotFound) {
			return err
		}
	}
	return nil
}

// Unpair ends a pairing. The target and its members stay at the service.
func (s *Service) Unpair(ctx context.Context, who, id string) error {
	p, err := pairingstore.FindPairing(ctx, s.Store, id)
	if err != nil {
		return err
	}
	if p.EndedAt != nil {
		return nil
	}
	if err := s.AtRest(ctx, p); err != nil {
		return err
	}
	now := s.Clock.Now()
	p.EndedAt = &now
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := pairingstore.UpdatePairing(tx, &p); err != nil {
			return err
		}
		return s.audit(ctx, tx, who, "unpaired a section", p)
	})
}
