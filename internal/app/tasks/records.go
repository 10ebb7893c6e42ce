package tasks

import (
	"context"

	"kanban/internal/core/permission"
	"kanban/internal/store/taskstore"
)

// Tasks lists those that are open, the most urgent first, or those that are done,
// the latest first: of some sections, or of all when within is nil.
func (s *Service) Tasks(ctx context.Context, done bool, limit int, within *permission.Reach) (
	[]taskstore.ListedTask, error,
) {
	return taskstore.Tasks(ctx, s.Store, done, limit, within)
}
