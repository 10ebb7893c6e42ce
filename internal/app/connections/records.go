package connections

import (
	"context"

	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
)

// Connections lists all that were not removed, ordered by name.
func (s *Service) Connections(ctx context.Context) ([]connectionstore.Connection, error) {
	return connectionstore.Connections(ctx, s.Store)
}

// Dependents lists what hangs on a connection: pairings that have not ended, of it or of
// its sections; rules and offers that name it; and how many sections and people were read
// through it.
func (s *Service) Dependents(ctx context.Context, id string) ([]connectionstore.Dependent, error) {
	return connectionstore.Dependents(ctx, s.Store, id)
}

// FindConnection finds one by id that was not removed.
func (s *Service) FindConnection(ctx context.Context, id string) (connectionstore.Connection, error) {
	return connectionstore.FindConnection(ctx, s.Store, id)
}

// FindOperation finds one of a connection by name.
func (s *Service) FindOperation(ctx context.Context, connectionID string, name string) (rule.Operation, error) {
	return connectionstore.FindOperation(ctx, s.Store, connectionID, name)
}

// Operations lists those of a connection, ordered by name.
func (s *Service) Operations(ctx context.Context, connectionID string) ([]rule.Operation, error) {
	return connectionstore.Operations(ctx, s.Store, connectionID)
}

// RemovedConnections lists those that were removed and can be restored, the latest first.
func (s *Service) RemovedConnections(ctx context.Context) ([]connectionstore.Connection, error) {
	return connectionstore.RemovedConnections(ctx, s.Store)
}
