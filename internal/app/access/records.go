package access

import (
	"context"

	"kanban/internal/store/accessstore"
	"kanban/internal/store/settingstore"
)

// ClaimAnswer takes a key for a request. claimed is false when it was taken during the
// last day, and kept is for what, with the answer if there is one by now.
func (s *Service) ClaimAnswer(ctx context.Context, key string, request []byte) (bool, accessstore.KeptAnswer, error) {
	return accessstore.ClaimAnswer(ctx, s.Store, key, request)
}

// FindMaintenance tells whether everything is paused.
func (s *Service) FindMaintenance(ctx context.Context) (settingstore.Maintenance, error) {
	return settingstore.FindMaintenance(ctx, s.Store)
}

// FindSetting reads a value of the installation into into; ok is false when it was
// never set.
func (s *Service) FindSetting(ctx context.Context, name string, into any) (bool, error) {
	return settingstore.FindSetting(ctx, s.Store, name, into)
}

// FreeAnswer lets a key be claimed again, because its request was not carried out.
func (s *Service) FreeAnswer(ctx context.Context, a accessstore.KeptAnswer) error {
	return accessstore.FreeAnswer(ctx, s.Store, a)
}

// KeepAnswer keeps the answer to a request that has claimed its key.
func (s *Service) KeepAnswer(ctx context.Context, a accessstore.KeptAnswer) error {
	return accessstore.KeepAnswer(ctx, s.Store, a)
}
