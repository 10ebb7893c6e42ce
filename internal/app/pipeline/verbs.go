package pipeline

import (
	"context"
	"sync"
	"time"

	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
	"kanban/internal/store/settingstore"
)

// verbsSetting is the setting under which the institution's own verbs are kept.
const verbsSetting = "verbs"

// Verbs are the institution's own, beside the default ones.
func (s *Facts) Verbs(ctx context.Context) (own []learning.VerbRule, err error) {
	_, err = settingstore.FindSetting(ctx, s.Store, verbsSetting, &own)
	return own, err
}

// verbsFor is how long a process goes on with the verbs that it has read.
const verbsFor = 2 * time.Second

// keptVerbs are the verbs that a process has read last.
type keptVerbs struct {
	mu    sync.Mutex
	at    time.Time
	verbs *learning.Verbs
}

func (s *Facts) verbTable(ctx context.Context) (*learning.Verbs, error) {
	s.verbs.mu.Lock()
	defer s.verbs.mu.Unlock()
	if s.verbs.verbs != nil && time.Since(s.verbs.at) < verbsFor {
		return s.verbs.verbs, nil
	}
	own, err := s.Verbs(ctx)
	if err != nil {
		return nil, err
	}
	s.verbs.verbs, s.verbs.at = learning.NewVerbs(own), time.Now()
	return s.verbs.verbs, nil
}

// SetVerbs replaces the institution's own verbs. Statements from which nothing
// followed are looked at again.
func (s *Facts) SetVerbs(ctx context.Context, who string, own []learning.VerbRule) error {
	if err := learning.CheckVerbs(own); err != nil {
		return refusal.Invalid("verbs", "%v", err)
	}
	defer func() {
		s.verbs.mu.Lock()
		s.verbs.verbs = nil
		s.verbs.mu.Unlock()
	}()
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, verbsSetting, own); err != nil {
			return err
		}
		var verbs []string
		for _, r := range own {
			verbs = append(verbs, r.Verb)
		}
		if err := eventstore.ReconsiderStatements(ctx, tx, learning.NoMeaning, verbs); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, jobs.ResolveStatements{}); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "set the institution's verbs", "installation", map[string]int{"verbs": len(own)})
	})
}
