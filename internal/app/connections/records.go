package connections

import (
	"context"
	"errors"

	"kanban/internal/adapter"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
)

// Interfaces lists all that were not removed, ordered by name.
func (s *Service) Interfaces(ctx context.Context) ([]connectionstore.Interface, error) {
	return connectionstore.Interfaces(ctx, s.Store)
}

// Dependents lists what hangs on an interface: pairings that have not ended, of it or of
// its sections; rules and offers that name it; and how many sections and people were read
// through it.
func (s *Service) Dependents(ctx context.Context, id string) ([]connectionstore.Dependent, error) {
	return connectionstore.Dependents(ctx, s.Store, id)
}

// FindInterface finds one by id that was not removed.
func (s *Service) FindInterface(ctx context.Context, id string) (connectionstore.Interface, error) {
	return connectionstore.FindInterface(ctx, s.Store, id)
}

// AnyInterface finds one by id, one that was removed too.
func (s *Service) AnyInterface(ctx context.Context, id string) (connectionstore.Interface, error) {
	c, err := connectionstore.FindInterface(ctx, s.Store, id)
	if errors.Is(err, db.ErrNotFound) {
		return connectionstore.FindRemovedInterface(ctx, s.Store, id)
	}
	return c, err
}

// FindOperation finds one of an interface by name.
func (s *Service) FindOperation(ctx context.Context, interfaceID string, name string) (rule.Operation, error) {
	return connectionstore.FindOperation(ctx, s.Store, interfaceID, name)
}

// Operations lists those of an interface, ordered by name.
func (s *Service) Operations(ctx context.Context, interfaceID string) ([]rule.Operation, error) {
	return connectionstore.Operations(ctx, s.Store, interfaceID)
}

// RemovedInterfaces lists those that were removed and can be restored, the latest first.
func (s *Service) RemovedInterfaces(ctx context.Context) ([]connectionstore.Interface, error) {
	return connectionstore.RemovedInterfaces(ctx, s.Store)
}

// Connections lists all that were not removed, ordered by name.
func (s *Service) Connections(ctx context.Context) ([]connectionstore.Connection, error) {
	return connectionstore.Connections(ctx, s.Store)
}

// RemovedConnections lists those that were removed and can be restored, the latest first.
func (s *Service) RemovedConnections(ctx context.Context) ([]connectionstore.Connection, error) {
	return connectionstore.RemovedConnections(ctx, s.Store)
}

// FindConnection finds one by id that was not removed.
func (s *Service) FindConnection(ctx context.Context, id string) (connectionstore.Connection, error) {
	return connectionstore.FindConnection(ctx, s.Store, id)
}

// InterfacesOf lists those of a connection, in the order in which they were made.
func (s *Service) InterfacesOf(ctx context.Context, connectionID string) ([]connectionstore.Interface, error) {
	return connectionstore.InterfacesOf(ctx, s.Store, connectionID)
}

// PageTemplates gives the settings of the interfaces that say where the pages of the other side are.
func (s *Service) PageTemplates(ctx context.Context) (map[string]map[string]string, error) {
	return connectionstore.PageTemplates(ctx, s.Store)
}

// MayReport reports whether scripts of an origin may report statements.
func (s *Service) MayReport(ctx context.Context, origin string) (bool, error) {
	return connectionstore.OriginListed(ctx, s.Store.Quickly(), adapter.KindXAPI, origin)
}
