package awarding

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"kanban/internal/core/badge"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/wire/openbadge"
)

// longestReason bounds a reason, in characters.
const longestReason = 500

// Revoke revokes an award for a reason, which verifiers are shown from then on. It
// cannot be undone; the badge can be awarded anew.
func (s *Service) Revoke(ctx context.Context, who, awardID, reason string) (store.Award, error) {
	a, err := s.Store.Award(ctx, awardID)
	if err != nil {
		return a, err
	}
	if reason = strings.TrimSpace(reason); reason == "" {
		return a, refusal.Invalid("reason", "is missing: whoever checks the badge is shown it")
	}
	if n := len([]rune(reason)); n > longestReason {
		return a, refusal.Invalid("reason", "has %d characters, more than %d", n, longestReason)
	}
	b, err := s.Store.Badge(ctx, a.BadgeID)
	if err != nil {
		return a, err
	}
	now := time.Now().UTC()
	a.RevokedAt, a.RevokedBy, a.Reason = &now, who, reason
	err = s.Store.InTx(ctx, func(tx *store.Tx) error {
		ok, err := tx.Revoke(ctx, &a)
		if err != nil {
			return err
		}
		if !ok {
			return refusal.Conflict("", "this award was revoked already")
		}
		if err := tx.Audit(ctx, who, "revoked an award", "award/"+a.ID, map[string]string{"badge": b.Name, "person": a.PersonID, "reason": reason}); err != nil {
			return err
		}
		return s.tell(ctx, tx, rule.BadgeRevoked, a, b, now)
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
		return "", store.ErrNotFound
	}
	highest, err := s.Store.LastAwardNumber(ctx)
	if err != nil {
		return "", err
	}
	if list > highest/badge.Entries {
		return "", store.ErrNotFound // nothing stands there yet
	}
	issuer, key, err := s.issuer(ctx, issuerID)
	if err != nil {
		return "", err
	}
	numbers, err := s.Store.RevokedNumbers(ctx, issuerID, list*badge.Entries, (list+1)*badge.Entries)
	if err != nil {
		return "", err
	}
	places := make([]int, len(numbers))
	for i, n := range numbers {
		places[i] = int(n - list*badge.Entries)
	}
	l, err := badge.BuildStatusList(s.listAddress(issuerID, list), s.IssuerAddress(issuerID), places, time.Now())
	if err != nil {
		return "", err
	}
	return openbadge.SignList(l, key, s.keyAddress(issuer.ID, issuer.KeyID))
}
