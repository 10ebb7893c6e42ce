package pairings

import (
	"context"

	"kanban/internal/store/pairingstore"
)

// FindPairing finds one by id.
func (s *Service) FindPairing(ctx context.Context, id string) (pairingstore.Pairing, error) {
	return pairingstore.FindPairing(ctx, s.Store, id)
}

// FindPreview finds one by id.
func (s *Service) FindPreview(ctx context.Context, id string) (pairingstore.Preview, error) {
	return pairingstore.FindPreview(ctx, s.Store, id)
}

// PairingsByID finds some.
func (s *Service) PairingsByID(ctx context.Context, ids []string) (map[string]pairingstore.Pairing, error) {
	return pairingstore.PairingsByID(ctx, s.Store, ids)
}
