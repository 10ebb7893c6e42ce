package badges

import (
	"context"
	"fmt"
	"strings"

	"kanban/internal/core/refusal"
	"kanban/internal/store"
)

// RemoveBadge removes a badge that nobody was ever awarded and that nothing is to award or
// asks for: whoever checks an award finds its badge for ever.
func (s *Service) RemoveBadge(ctx context.Context, who, id string) error {
	b, err := s.Store.Badge(ctx, id)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		use, err := tx.UseOfBadge(ctx, id)
		if err != nil {
			return err
		}
		var by []string
		if use.Awards > 0 {
			by = append(by, fmt.Sprintf("it was awarded %s", times(use.Awards)))
		}
		for _, name := range use.Rules {
			by = append(by, fmt.Sprintf("the rule %q awards it", name))
		}
		for _, name := range use.StagePlans {
			by = append(by, fmt.Sprintf("the stages %q are about it", name))
		}
		if len(by) > 0 {
			return refusal.Conflict("", "%s cannot be removed: %s", b.Name, strings.Join(by, ", "))
		}
		if err := tx.DeleteBadge(ctx, id); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "removed a badge", "badge/"+id, map[string]string{"name": b.Name}); err != nil {
			return err
		}
		return tx.Announce(ctx, "badge", id)
	})
}

// RemoveIssuer removes an issuer that has no badge.
func (s *Service) RemoveIssuer(ctx context.Context, who, id string) error {
	i, err := s.Store.Issuer(ctx, id)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		badges, err := tx.BadgesOfIssuer(ctx, id)
		if err != nil {
			return err
		}
		if len(badges) > 0 {
			return refusal.Conflict("", "%s cannot be removed: it gives out %s", i.Name, strings.Join(badges, ", "))
		}
		if err := tx.DeleteIssuer(ctx, id); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "removed an issuer", "issuer/"+id, map[string]string{"name": i.Name})
	})
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}
