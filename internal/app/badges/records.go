package badges

import (
	"context"

	"kanban/internal/core/permission"
	"kanban/internal/store/badgestore"
)

// Awards lists the newest.
func (s *Service) Awards(ctx context.Context, f badgestore.AwardFilter) ([]badgestore.ListedAward, error) {
	return badgestore.Awards(ctx, s.Store, f)
}

// Badges lists all, ordered by name.
func (s *Service) Badges(ctx context.Context, within *permission.Reach) ([]badgestore.ListedBadge, error) {
	return badgestore.Badges(ctx, s.Store, within)
}

// Listed finds one as it is listed.
func (s *Service) Listed(ctx context.Context, id string, within *permission.Reach) (badgestore.ListedBadge, error) {
	return badgestore.FindListed(ctx, s.Store, id, within)
}

// FindListedAward finds one by id.
func (s *Service) FindListedAward(ctx context.Context, id string) (badgestore.ListedAward, error) {
	return badgestore.FindListedAward(ctx, s.Store, id)
}

// IssuerOf finds who gave an award, as they are now.
func (s *Service) IssuerOf(ctx context.Context, a badgestore.Award) (badgestore.Issuer, error) {
	b, err := badgestore.FindBadge(ctx, s.Store, a.BadgeID)
	if err != nil {
		return badgestore.Issuer{}, err
	}
	return badgestore.FindIssuer(ctx, s.Store, b.IssuerID)
}

// Issuers lists all, ordered by name.
func (s *Service) Issuers(ctx context.Context) ([]badgestore.Issuer, error) {
	return badgestore.Issuers(ctx, s.Store)
}
