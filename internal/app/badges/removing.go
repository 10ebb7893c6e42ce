package badges

import (
	"context"
	"fmt"
	"strings"

	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
)

// RemoveBadge removes a badge that nobody was ever awarded and that nothing is to award or
// asks for: whoever checks an award finds its badge for ever.
func (s *Service) RemoveBadge(ctx context.Context, who, id string) error {
	b, err := badgestore.FindBadge(ctx, s.Store, id)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		use, err := badgestore.FindUseOfBadge(ctx, tx, id)
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
		if err := badgestore.DeleteBadge(ctx, tx, id); err != nil {
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
	i, err := badgestore.FindIssuer(ctx, s.Store, id)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		badges, err := badgestore.BadgesOfIssuer(ctx, tx, id)
		if err != nil {
			return err
		}
		if len(badges) > 0 {
			return refusal.Conflict("", "%s cannot be removed: it gives out %s", i.Name, strings.Join(badges, ", "))
		}
		if err := badgestore.DeleteIssuer(ctx, tx, id); err != nil {
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
