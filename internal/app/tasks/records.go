package tasks

import (
	"context"

	"kanban/internal/store/taskstore"
)

// Tasks lists those that are open, the most urgent first, or those that are done,
// the latest first.
func (s *Service) Tasks(ctx context.Context, done bool, limit int) ([]taskstore.ListedTask, error) {
	return taskstore.Tasks(ctx, s.Store, done, limit)
}
