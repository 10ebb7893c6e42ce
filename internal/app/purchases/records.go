package purchases

import (
	"context"

	"kanban/internal/store/purchasestore"
)

// Accesses lists what was bought and what was given by hand, the newest first.
func (s *Service) Accesses(ctx context.Context, f purchasestore.AccessFilter) ([]purchasestore.ListedAccess, error) {
	return purchasestore.Accesses(ctx, s.Store, f)
}

// FindOffer finds one by id.
func (s *Service) FindOffer(ctx context.Context, id string) (purchasestore.Offer, error) {
	return purchasestore.FindOffer(ctx, s.Store, id)
}

// Offers lists them, ordered by name.
func (s *Service) Offers(ctx context.Context) ([]purchasestore.Offer, error) {
	return purchasestore.Offers(ctx, s.Store)
}

// UnmappedOffers lists what was bought and leads nowhere.
func (s *Service) UnmappedOffers(ctx context.Context) ([]purchasestore.Unmapped, error) {
	return purchasestore.UnmappedOffers(ctx, s.Store)
}
