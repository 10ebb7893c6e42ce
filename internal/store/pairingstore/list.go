package pairingstore

import (
	"context"
	"sync"
	"time"

	"kanban/internal/core/roster"
	"kanban/internal/store/db"
)

// pairingList holds in memory what lists of pairings show, for the reason and in the way
// that the list of sections is held.
type pairingList struct {
	mu       sync.Mutex
	pairings map[string]*listed
}

// listed is a pairing with the transaction that wrote it.
type listed struct {
	Pairing
	xmin string
}

// Listed gives what lists show of the pairings that have not ended: of the policy
// only whether the class is held, and nobody by name. The pairings are shared: do
// not change them.
func Listed(ctx context.Context, from *db.Database) ([]*Pairing, error) {
	// Whoever waits for the lock holds no connection: its holder needs two, one
	// after the other.
	list := db.Kept[pairingList](from)
	list.mu.Lock()
	defer list.mu.Unlock()
	held := list.pairings
	if held == nil {
		held = map[string]*listed{}
	}
	var ids, changed []string
	type written struct{ ID, Xmin string }
	err := db.EachFast(ctx, from, "listing pairings", `SELECT id::text, xmin::text FROM pairings
		WHERE ended_at IS NULL AND id NOT IN (SELECT id FROM hidden_pairings) ORDER BY id`, nil, func(w written) error {
		ids = append(ids, w.ID)
		if p := held[w.ID]; p == nil || p.xmin != w.Xmin {
			changed = append(changed, w.ID)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if err := relist(ctx, from, held, changed); err != nil {
		return nil, err
	}
	now, all := make(map[string]*listed, len(ids)), make([]*Pairing, 0, len(ids))
	for _, id := range ids {
		if p := held[id]; p != nil && p.EndedAt == nil {
			now[id], all = p, append(all, &p.Pairing)
		}
	}
	list.pairings = now
	return all, nil
}

// relist reads some pairings anew.
func relist(ctx context.Context, from db.From, held map[string]*listed, ids []string) error {
	if len(ids) == 0 {
		return nil
	}
	type row struct {
		ID, SectionID                                         string
		SetID                                                 *string
		InterfaceID, TargetName                               string
		Hold                                                  bool
		Counts                                                roster.Counts
		Guarded                                               int
		LastFailed                                            bool
		RanAt, NextAt, OpensAt, PausedAt, ComparedAt, EndedAt *time.Time
		Version                                               int
		Xmin                                                  string
	}
	return db.EachFast(ctx, from, "listing pairings", `SELECT id::text, section_id::text, set_id::text,
		interface_id::text, target_name, coalesce((policy->>'hold')::boolean, false) AS hold, coalesce(counts,
		'{}') AS counts,
		guarded, last_failed, ran_at, next_at, opens_at, paused_at, compared_at, ended_at, version, xmin::text
			FROM pairings WHERE id = ANY ($1::text[]::uuid[])`, []any{ids}, func(r row) error {
		held[r.ID] = &listed{Pairing{
			ID: r.ID, SectionID: r.SectionID, SetID: r.SetID, InterfaceID: r.InterfaceID, TargetName: r.TargetName,
			Policy: roster.Policy{Hold: r.Hold}, Counts: r.Counts,
			Guarded: r.Guarded, LastFailed: r.LastFailed, RanAt: r.RanAt, NextAt: r.NextAt, OpensAt: r.OpensAt,
			PausedAt: r.PausedAt, ComparedAt: r.ComparedAt, EndedAt: r.EndedAt, Version: r.Version,
		}, r.Xmin}
		return nil
	})
}
