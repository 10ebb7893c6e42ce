package runs

import (
	"context"

	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
)

// Revert shows how the effect of a run would be undone, as a preview that can
// be run. When that has been done, the pairing is paused: the section still says
// what the run did, and the next run would do it again.
func (s *Service) Revert(ctx context.Context, runID string) (pairingstore.Preview, error) {
	r, err := runstore.FindRun(ctx, s.Store, runID)
	if err != nil {
		return pairingstore.Preview{}, err
	}
	switch {
	case r.Kind == runstore.RunScores:
		return pairingstore.Preview{}, refusal.Conflict("",
			"this run carried scores; take it back with: kanban scores revert %s", r.ID)
	case r.Kind != runstore.RunSync:
		return pairingstore.Preview{}, refusal.Conflict("",
			"a read cannot be reverted: read the register again once it is right")
	case r.Active():
		return pairingstore.Preview{}, refusal.Conflict("",
			"this run is still at work; stop it first: kanban runs cancel %s", r.ID)
	case r.Reverts != nil:
		return pairingstore.Preview{}, refusal.Conflict("",
			"this run reverted another one; run the pairing again instead")
	}
	p, err := pairingstore.FindPairing(ctx, s.Store, *r.PairingID)
	if err != nil {
		return pairingstore.Preview{}, err
	}
	if p.EndedAt != nil {
		return pairingstore.Preview{}, refusal.Conflict("", "this pairing has ended, so its runs cannot be reverted")
	}
	both, err := s.sides(ctx, p)
	if err != nil {
		return pairingstore.Preview{}, err
	}
	plan, err := both.revert(ctx, runID)
	if err != nil {
		return pairingstore.Preview{}, err
	}
	if len(plan.Entries) == 0 {
		return pairingstore.Preview{}, refusal.Conflict("", "this run changed nothing, so there is nothing to revert")
	}
	preview := pairingstore.Preview{
		ID: db.NewID(), PairingID: p.ID, Plan: plan, Fingerprint: plan.Fingerprint,
		Reverts: &r.ID,
	}
	return preview, s.Store.InTx(ctx, func(tx *db.Tx) error {
		return db.Create(tx, &preview, "keeping the preview")
	})
}

// revert reads the service and works out how a run's effect is undone.
func (x *sides) revert(ctx context.Context, runID string) (roster.Plan, error) {
	changes, err := runstore.Changes(ctx, x.store, runID)
	if err != nil {
		return roster.Plan{}, err
	}
	var done []roster.Entry
	var ids []string
	for _, c := range changes {
		if c.State == runstore.ChangeDone {
			done, ids = append(done, c.Entry), append(ids, c.Entry.AccountID)
		}
	}
	if len(done) == 0 {
		return roster.Plan{}, nil
	}
	seen, err := x.target.ReadTarget(ctx, x.place(), nil, ids)
	return roster.Revert(done, roster.Target{Accounts: seen.Accounts}), err
}

// Lines compares now and puts both sides beside each other, without changing
// anything anywhere but the pairing's state.
func (s *Service) Lines(ctx context.Context, pairingID string) ([]roster.Side, error) {
	p, err := pairingstore.FindPairing(ctx, s.Store, pairingID)
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
	return roster.SideBySide(source, target, told(roster.Compare(source, target, p.Policy, both.matching),
		refused)), nil
}
