package runs

import (
	"context"

	"kanban/internal/store/runstore"
)

// Changes lists a run's people in the order of its plan.
func (s *Service) Changes(ctx context.Context, runID string) ([]runstore.Change, error) {
	return runstore.Changes(ctx, s.Store, runID)
}

// FindRun finds one by id.
func (s *Service) FindRun(ctx context.Context, id string) (runstore.Run, error) {
	return runstore.FindRun(ctx, s.Store, id)
}

// QueueOf says where a run stands that has not begun.
func (s *Service) QueueOf(ctx context.Context, r runstore.Run) (runstore.Queue, error) {
	return runstore.QueueOf(ctx, s.Store, r)
}

// RevertedBy finds the run that reverted what another one did, "" when none did.
func (s *Service) RevertedBy(ctx context.Context, runID string) (string, error) {
	return runstore.RevertedBy(ctx, s.Store, runID)
}

// Runs lists the newest runs, of one pairing or interface if given, older than
// the run before if given.
func (s *Service) Runs(ctx context.Context, w runstore.Wanted) ([]runstore.Run, error) {
	return runstore.Runs(ctx, s.Store, w)
}
