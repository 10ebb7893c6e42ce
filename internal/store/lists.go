package store

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"

	"github.com/jackc/pgx/v5"
)

// lists holds in memory what lists of sections and pairings show. Ten thousand of
// each take a third of a second to read, and hardly any change from one look to
// the next. What is held is never trusted: each look first asks the database what
// has changed, in the transaction's own terms, and reads only that.
type lists struct {
	mu       sync.Mutex
	version  int64 // of sections
	sections []Section
	pairings map[string]*listed
}

// listed is a pairing with the transaction that wrote it.
type listed struct {
	Pairing
	xmin uint32
}

// Sections lists every section of every register, ordered by title, vanished ones
// too. The list is shared: do not change it.
func (s *Store) Sections(ctx context.Context) ([]Section, error) {
	var version int64
	if err := s.Pool.QueryRow(ctx, `SELECT version FROM section_version`).Scan(&version); err != nil {
		return nil, known(err, "listing sections")
	}
	s.lists.mu.Lock()
	defer s.lists.mu.Unlock()
	if s.lists.sections != nil && s.lists.version == version {
		return s.lists.sections, nil
	}
	// What is read now may be newer than the version read before. Then the next
	// look reads it once more.
	all, err := many[Section](ctx, s, "listing sections", sectionsSQL+` WHERE true`+shown("f")+` ORDER BY f.title, f.section_id`)
	if err == nil {
		s.lists.sections, s.lists.version = all, version
	}
	return all, err
}

// SectionsChanged notes that lists of sections show something else from now on.
func (tx *Tx) SectionsChanged(ctx context.Context) error {
	_, err := tx.PGX.Exec(ctx, `UPDATE section_version SET version = version + 1`)
	return known(err, "noting that sections changed")
}

// RefreshSections works out anew what lists show: of the sections with these ids,
// or of every section of the register when ids is nil.
func (tx *Tx) RefreshSections(ctx context.Context, connectionID string, ids []string) error {
	if _, err := tx.PGX.Exec(ctx, `SELECT refresh_section_facts($1, $2::text[]::uuid[])`, connectionID, ids); err != nil {
		return known(err, "working out what lists show")
	}
	return tx.RefreshPeopleLists(ctx, connectionID)
}

// Listed gives what lists show of the pairings that have not ended: of the policy
// only whether the class is held, and nobody by name. The pairings are shared: do
// not change them.
func (s *Store) Listed(ctx context.Context) ([]*Pairing, error) {
	// Whoever waits for the lock holds no connection: its holder needs two, one
	// after the other.
	s.lists.mu.Lock()
	defer s.lists.mu.Unlock()
	rows, err := s.Pool.Query(ctx, `SELECT id::text, xmin FROM pairings WHERE ended_at IS NULL AND id NOT IN (SELECT id FROM hidden_pairings) ORDER BY id`)
	if err != nil {
		return nil, known(err, "listing pairings")
	}
	held := s.lists.pairings
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
		return nil, known(err, "listing pairings")
	}
	if err := s.relist(ctx, held, changed); err != nil {
		return nil, err
	}
	now, all := make(map[string]*listed, len(ids)), make([]*Pairing, 0, len(ids))
	for _, id := range ids {
		if p := held[id]; p != nil && p.EndedAt == nil {
			now[id], all = p, append(all, &p.Pairing)
		}
	}
	s.lists.pairings = now
	return all, nil
}

// relist reads some pairings anew.
func (s *Store) relist(ctx context.Context, held map[string]*listed, ids []string) error {
	if len(ids) == 0 {
		return nil
	}
	rows, err := s.Pool.Query(ctx, `SELECT id::text, section_id::text, set_id::text, connection_id::text, target_name, coalesce((policy->>'hold')::boolean, false), coalesce(counts::text, '{}'),
		guarded, last_failed, ran_at, next_at, opens_at, paused_at, compared_at, ended_at, version, xmin FROM pairings WHERE id = ANY ($1::text[]::uuid[])`, ids)
	if err != nil {
		return known(err, "listing pairings")
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
	return known(err, "listing pairings")
}
