package badges

import (
	"context"
	"errors"
	"strconv"
	"time"

	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
)

// Restore makes an award hold again, and the status list says so: it ends a suspension, or cancels a revocation
// that was made by mistake. Whoever looked meanwhile was told that it did not hold.
func (s *Service) Restore(ctx context.Context, who, awardID string) (badgestore.Award, error) {
	a, b, err := s.found(ctx, awardID)
	if err != nil {
		return a, err
	}
	if a.RevokedAt == nil {
		return s.reinstate(ctx, who, a, b)
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
	a, b, err := s.found(ctx, awardID)
	if err != nil {
		return a, err
	}
	if reason, err = refusal.Reason(reason, "whoever checks the badge is shown it"); err != nil {
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

// Suspend says that an award does not hold for now, for a reason, which verifiers are shown. Restore ends that.
func (s *Service) Suspend(ctx context.Context, who, awardID, reason string) (badgestore.Award, error) {
	a, b, err := s.found(ctx, awardID)
	if err != nil {
		return a, err
	}
	if reason, err = refusal.Reason(reason, "whoever checks the badge is shown it"); err != nil {
		return a, err
	}
	now := s.Clock.Now()
	a.SuspendedAt, a.SuspendedBy, a.SuspendedReason = &now, who, reason
	return a, s.Store.InTx(ctx, func(tx *db.Tx) error {
		ok, err := badgestore.Suspend(ctx, tx, &a)
		if err != nil {
			return err
		}
		if !ok {
			return refusal.Conflict("", "this award is suspended or revoked already")
		}
		return s.noted(ctx, tx, who, "suspended an award", a, b, reason)
	})
}

// reinstate ends a suspension.
func (s *Service) reinstate(ctx context.Context, who string, a badgestore.Award, b badgestore.Badge) (badgestore.Award,
	error,
) {
	reason := a.SuspendedReason
	return a, s.Store.InTx(ctx, func(tx *db.Tx) error {
		ok, err := badgestore.Reinstate(ctx, tx, &a)
		if err != nil {
			return err
		}
		if !ok {
			return refusal.Conflict("", "this award is not revoked and not suspended")
		}
		return s.noted(ctx, tx, who, "ended a suspension", a, b, reason)
	})
}

// found finds an award and its badge.
func (s *Service) found(ctx context.Context, awardID string) (a badgestore.Award, b badgestore.Badge, err error) {
	if a, err = badgestore.FindAward(ctx, s.Store, awardID); err != nil {
		return a, b, err
	}
	b, err = badgestore.FindBadge(ctx, s.Store, a.BadgeID)
	return a, b, err
}

func (s *Service) noted(ctx context.Context, tx *db.Tx, who, what string, a badgestore.Award, b badgestore.Badge,
	reason string,
) error {
	if err := tx.Audit(ctx, who, what, "award/"+a.ID,
		map[string]string{"badge": b.Name, "person": a.PersonID, "reason": reason}); err != nil {
		return err
	}
	return tx.Announce(ctx, "badge", b.ID)
}
