package runs

import (
	"context"

	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store"
)

// Revert shows how the effect of a run would be undone, as a preview that can
// be run. When that has been done, the pairing is paused: the section still says
// what the run did, and the next run would do it again.
func (s *Service) Revert(ctx context.Context, runID string) (store.Preview, error) {
	r, err := s.Store.Run(ctx, runID)
	if err != nil {
		return store.Preview{}, err
	}
	switch {
	case r.Kind != store.RunSync:
		return store.Preview{}, refusal.Conflict("", "a read cannot be reverted: read the register again once it is right")
	case r.Active():
		return store.Preview{}, refusal.Conflict("", "this run is still at work; stop it first: kanban runs cancel %s", r.ID)
	case r.Reverts != nil:
		return store.Preview{}, refusal.Conflict("", "this run took another one back; run the pairing again instead")
	}
	p, err := s.Store.Pairing(ctx, *r.PairingID)
	if err != nil {
		return store.Preview{}, err
	}
	if p.EndedAt != nil {
		return store.Preview{}, refusal.Conflict("", "this pairing has ended, so its runs cannot be reverted")
	}
	both, err := s.sides(ctx, p)
	if err != nil {
		return store.Preview{}, err
	}
	plan, err := both.revert(ctx, runID)
	if err != nil {
		return store.Preview{}, err
	}
	if len(plan.Entries) == 0 {
		return store.Preview{}, refusal.Conflict("", "this run changed nothing, so there is nothing to revert")
	}
	preview := store.Preview{ID: store.NewID(), PairingID: p.ID, Plan: plan, Fingerprint: plan.Fingerprint, Reverts: &r.ID}
	return preview, s.Store.InTx(ctx, func(tx *store.Tx) error {
		return store.Create(tx, &preview, "keeping the preview")
	})
}

// revert reads the service and works out how a run's effect is undone.
func (x *sides) revert(ctx context.Context, runID string) (roster.Plan, error) {
	changes, err := x.store.Changes(ctx, runID)
	if err != nil {
		return roster.Plan{}, err
	}
	var done []roster.Entry
	var ids []string
	for _, c := range changes {
		if c.State == store.ChangeDone {
			done, ids = append(done, c.Entry), append(ids, c.Entry.AccountID)
		}
	}
	if len(done) == 0 {
		return roster.Plan{}, nil
	}
	seen, err := x.target.Look(ctx, x.place(), nil, ids)
	return roster.Revert(done, roster.Target{Accounts: seen.Accounts}), err
}

// Lines compares now and puts both sides beside each other, without changing
// anything anywhere but the pairing's state.
func (s *Service) Lines(ctx context.Context, pairingID string) ([]roster.Side, error) {
	p, err := s.Store.Pairing(ctx, pairingID)
	if err != nil {
		return nil, err
	}
	both, err := s.sides(ctx, p)
	if err != nil {
		return nil, err
	}
	source, target, err := both.read(ctx)
	if err != nil {
		return nil, err
	}
	refused, err := s.refusals(ctx, p)
	if err != nil {
		return nil, err
	}
	return roster.SideBySide(source, target, told(roster.Compare(source, target, p.Policy, both.matching), refused)), nil
}
