package badges

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"kanban/internal/core/badge"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/wire/openbadge"
)

// Restore cancels a revocation that was made by mistake: the award holds again, and the
// status list says so. Whoever looked meanwhile was told that it was revoked.
func (s *Service) Restore(ctx context.Context, who, awardID string) (badgestore.Award, error) {
	a, err := badgestore.FindAward(ctx, s.Store, awardID)
	if err != nil {
		return a, err
	}
	if a.RevokedAt == nil {
		return a, refusal.Conflict("", "this award is not revoked")
	}
	b, err := badgestore.FindBadge(ctx, s.Store, a.BadgeID)
	if err != nil {
		return a, err
	}
	was := map[string]string{
		"badge": b.Name, "person": a.PersonID, "revoked": a.RevokedAt.UTC().Format(time.RFC3339),
		"reason": a.Reason,
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		ok, err := badgestore.Restore(ctx, tx, &a)
		if err != nil {
			return err
		}
		if !ok {
			return refusal.Conflict("", "this award is not revoked any more")
		}
		if err := tx.Audit(ctx, who, "cancelled a revocation", "award/"+a.ID, was); err != nil {
			return err
		}
		return s.tell(ctx, tx, rule.BadgeAwarded, a, b, s.Clock.Now(), "/again/"+db.NewID(), 0)
	})
	if errors.Is(err, db.ErrTaken) {
		return a, refusal.Conflict("",
			"the badge was awarded anew since; revoke that award first, or leave it as it is")
	}
	return a, err
}

// Revoke revokes an award for a reason, which verifiers are shown from then on. The badge
// can be awarded anew, and Restore mends a mistake.
func (s *Service) Revoke(ctx context.Context, who, awardID, reason string) (badgestore.Award, error) {
	a, err := badgestore.FindAward(ctx, s.Store, awardID)
	if err != nil {
		return a, err
	}
	if reason, err = refusal.Reason(reason, "whoever checks the badge is shown it"); err != nil {
		return a, err
	}
	b, err := badgestore.FindBadge(ctx, s.Store, a.BadgeID)
	if err != nil {
		return a, err
	}
	now := s.Clock.Now()
	a.RevokedAt, a.RevokedBy, a.Reason = &now, who, reason
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		ok, err := badgestore.Revoke(ctx, tx, &a)
		if err != nil {
			return err
		}
		if !ok {
			return refusal.Conflict("", "this award was revoked already")
		}
		if err := tx.Audit(ctx, who, "revoked an award", "award/"+a.ID,
			map[string]string{"badge": b.Name, "person": a.PersonID, "reason": reason}); err != nil {
			return err
		}
		return s.tell(ctx, tx, rule.BadgeRevoked, a, b, now, "/"+strconv.FormatInt(now.UnixNano(), 36), 0)
	})
	return a, err
}

func (s *Service) listAddress(issuerID string, list int64) string {
	return fmt.Sprintf("%s/status/%d", s.IssuerAddress(issuerID), list)
}

// StatusList is one of an issuer's signed lists of what is revoked, by its number.
func (s *Service) StatusList(ctx context.Context, issuerID, number string) (string, error) {
	list, err := strconv.ParseInt(number, 10, 32)
	if err != nil || list < 0 || strconv.FormatInt(list, 10) != number {
		return "", db.ErrNotFound
	}
	highest, err := badgestore.LastAwardNumber(ctx, s.Store)
	if err != nil {
		return "", err
	}
	if list > highest/badge.Entries {
		return "", db.ErrNotFound // nothing stands there yet
	}
	issuer, key, err := s.issuer(ctx, issuerID)
	if err != nil {
		return "", err
	}
	numbers, err := badgestore.RevokedNumbers(ctx, s.Store, issuerID, list*badge.Entries, (list+1)*badge.Entries)
	if err != nil {
		return "", err
	}
	places := make([]int, len(numbers))
	for i, n := range numbers {
		places[i] = int(n - list*badge.Entries)
	}
	l, err := badge.BuildStatusList(s.listAddress(issuerID, list), s.IssuerAddress(issuerID), places, s.Clock.Now())
	if err != nil {
		return "", err
	}
	return openbadge.SignList(l, key, s.keyAddress(issuer.ID, issuer.KeyID))
}
