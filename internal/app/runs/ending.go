package runs

import (
	"context"

	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
)

// Ending shows what it would mean to end a pairing and take everybody out whom
// Kanban put in. Running the preview does so; the pairing ends when everybody is
// out. To end it and leave the members where they are, no run is needed.
func (s *Service) Ending(ctx context.Context, pairingID string) (pairingstore.Preview, error) {
	p, err := pairingstore.FindPairing(ctx, s.Store, pairingID)
	if err != nil {
		return pairingstore.Preview{}, err
	}
	if p.EndedAt != nil {
		return pairingstore.Preview{}, refusal.Conflict("", "this pairing has ended already")
	}
	both, err := s.sides(ctx, p)
	if err != nil {
		return pairingstore.Preview{}, err
	}
	plan, err := both.ending(ctx)
	if err != nil {
		return pairingstore.Preview{}, err
	}
	preview := pairingstore.Preview{
		ID: db.NewID(), PairingID: p.ID, Plan: plan, Fingerprint: plan.Fingerprint,
		Ends: true,
	}
	return preview, s.Store.InTx(ctx, func(tx *db.Tx) error {
		return db.Create(tx, &preview, "keeping the preview")
	})
}

// ending compares the target with a section in which nobody is: whoever Kanban
// put in comes out, whoever else is in it stays.
func (x *sides) ending(ctx context.Context) (roster.Plan, error) {
	source, target, err := x.read(ctx)
	if err != nil {
		return roster.Plan{}, err
	}
	return x.emptied(source, target), nil
}

func (x *sides) emptied(source roster.Source, target roster.Target) roster.Plan {
	policy := x.pairing.Policy
	policy.OwnTarget = false
	if policy.Leavers == roster.LeaversKeep {
		policy.Leavers = roster.LeaversRemove
	}
	return roster.Compare(roster.Source{Placed: source.Placed}, target, policy, x.matching)
}
