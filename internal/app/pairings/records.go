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

// TargetRefs gives the services' ids of pairings' targets, by the pairing's id.
func (s *Service) TargetRefs(ctx context.Context, ids []string) (map[string]string, error) {
	return pairingstore.TargetRefs(ctx, s.Store, ids)
}
