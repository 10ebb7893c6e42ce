package wiring

import (
	"context"
	"errors"

	"kanban/internal/app/registers"
	"kanban/internal/app/runs"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/runstore"
)

// rosters brings the roster in step before scores are carried.
type rosters struct {
	db        *db.Database
	registers *registers.Service
	runs      *runs.Service
}

// Read begins a read of what changed in a register; one that is at work already is as good.
func (x rosters) Read(ctx context.Context, who, registerID string) (string, error) {
	r, err := x.registers.Start(ctx, who, registers.Request{InterfaceID: registerID, Changes: true})
	if _, refused := refusal.As(err); refused {
		active, found := runstore.ActiveRun(ctx, x.db, "interface_id", registerID)
		if found == nil {
			return active.ID, nil
		}
		if !errors.Is(found, db.ErrNotFound) {
			return "", found
		}
	}
	return r.ID, err
}

// Sync begins a run of each pairing of sections that is not in step and may run by itself. One that cannot be compared
// now keeps no other from it.
func (x rosters) Sync(ctx context.Context, who string, sectionIDs []string) (ids []string, err error) {
	all, err := linkstore.PairingsOfSections(ctx, x.db, sectionIDs)
	if err != nil {
		return nil, err
	}
	var failed error
	for _, p := range all {
		if err := x.runs.Auto(ctx, p.ID, who); err != nil {
			if ctx.Err() != nil {
				return nil, err
			}
			failed = errors.Join(failed, refusal.Conflict("", "%s could not be compared: %v", p.TargetName, err))
			continue
		}
		active, err := runstore.Runs(ctx, x.db, runstore.Wanted{PairingID: p.ID, Active: true, Limit: 1})
		if err != nil {
			return nil, err
		}
		for _, r := range active {
			ids = append(ids, r.ID)
		}
	}
	if len(ids) > 0 {
		return ids, nil
	}
	return nil, failed
}
