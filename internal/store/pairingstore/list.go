package pairingstore

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"

	"github.com/jackc/pgx/v5"

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
	xmin uint32
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
	rows, err := from.Pool.Query(ctx, `SELECT id::text, xmin FROM pairings WHERE ended_at IS NULL AND id NOT IN (SELECT id FROM hidden_pairings) ORDER BY id`)
	if err != nil {
		return nil, db.Known(err, "listing pairings")
	}
	held := list.pairings
	if held == nil {
		held = map[string]*listed{}
	}
	var ids, changed []string
	var id string
	var xmin uint32
	if _, err = pgx.ForEachRow(rows, []any{&id, &xmin}, func() error {
		ids = append(ids, id)
		if p := held[id]; p == nil || p.xmin != xmin {
			changed = append(changed, id)
		}
		return nil
	}); err != nil {
		return nil, db.Known(err, "listing pairings")
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
func relist(ctx context.Context, from *db.Database, held map[string]*listed, ids []string) error {
	if len(ids) == 0 {
		return nil
	}
	rows, err := from.Pool.Query(ctx, `SELECT id::text, section_id::text, set_id::text, connection_id::text, target_name, coalesce((policy->>'hold')::boolean, false), coalesce(counts::text, '{}'),
		guarded, last_failed, ran_at, next_at, opens_at, paused_at, compared_at, ended_at, version, xmin FROM pairings WHERE id = ANY ($1::text[]::uuid[])`, ids)
	if err != nil {
		return db.Known(err, "listing pairings")
	}
	var p listed
	var counts []byte
	_, err = pgx.ForEachRow(rows, []any{
		&p.ID, &p.SectionID, &p.SetID, &p.ConnectionID, &p.TargetName, &p.Policy.Hold, &counts,
		&p.Guarded, &p.LastFailed, &p.RanAt, &p.NextAt, &p.OpensAt, &p.PausedAt, &p.ComparedAt, &p.EndedAt, &p.Version, &p.xmin,
	}, func() error {
		one := p
		one.Counts = nil
		if err := json.Unmarshal(counts, &one.Counts); err != nil {
			return fmt.Errorf("reading the counts of pairing %s: %w", one.ID, err)
		}
		held[one.ID] = &one
		return nil
	})
	return db.Known(err, "listing pairings")
}
