package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/connections"
	"kanban/internal/core/permission"
	"kanban/internal/store/connectionstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type listedConnections struct {
	Removed bool `query:"removed" doc:"Those that were removed and can be restored"`
}

var (
	listConnectionsOp = operation{
		ID: "list-connections", Act: permission.Look,
		Method: http.MethodGet, Path: "/connections",
		Status: http.StatusOK, Tag: "connections",
		Summary: "List connections with their interfaces",
	}
	getConnectionOp = operation{
		ID: "get-connection", Act: permission.Look,
		Method: http.MethodGet, Path: "/connections/{id}",
		Status: http.StatusOK, Tag: "connections",
		Summary: "Show a connection with its interfaces",
	}
	makeConnectionOp = operation{
		ID: "make-connection", Act: permission.Connect,
		Method: http.MethodPost, Path: "/connections",
		Status: http.StatusCreated, Tag: "connections",
		Summary: "Connect an outside system, with its first interfaces",
	}
	editConnectionOp = operation{
		ID: "edit-connection", Act: permission.Connect,
		Method: http.MethodPatch, Path: "/connections/{id}",
		Status: http.StatusOK, Tag: "connections",
		Summary: "Change, pause or resume a connection",
	}
	previewConnectionRemovalOp = operation{
		ID: "preview-connection-removal", Act: permission.Look,
		Method: http.MethodGet, Path: "/connections/{id}/removal",
		Status: http.StatusOK, Tag: "connections",
		Summary: "What removing a connection would hide and stop",
	}
	removeConnectionOp = operation{
		ID: "remove-connection", Act: permission.Connect,
		Method: http.MethodDelete, Path: "/connections/{id}",
		Status: http.StatusNoContent, Tag: "connections",
		Summary: "Remove a connection with its interfaces: it is switched off and hidden, and can be restored for 30 days",
	}
	restoreConnectionOp = operation{
		ID: "restore-connection", Act: permission.Connect,
		Method: http.MethodPost, Path: "/connections/{id}/restore",
		Status: http.StatusOK, Tag: "connections",
		Summary: "Bring a removed connection back as it was",
	}
)

// connections registers the operations about connections.
func (s *Server) connections(a huma.API) {
	handle(a, listConnectionsOp, s.listConnections)
	handleTagged(a, getConnectionOp, s.getConnection)
	handleTagged(a, makeConnectionOp, s.makeConnection)
	handleTagged(a, editConnectionOp, s.editConnection)
	handle(a, previewConnectionRemovalOp, s.previewConnectionRemoval)
	handleEmpty(a, removeConnectionOp, s.removeConnection)
	handle(a, restoreConnectionOp, s.restoreConnection)
}

func (s *Server) listConnections(ctx context.Context, in *listedConnections) (api.Page[api.Connection], error) {
	var all []connectionstore.Connection
	var err error
	if in.Removed {
		all, err = s.Connections.RemovedConnections(ctx)
	} else {
		all, err = s.Connections.Connections(ctx)
	}
	page := api.Page[api.Connection]{Items: []api.Connection{}}
	for _, c := range all {
		shown, err := s.connection(ctx, c)
		if err != nil {
			return page, err
		}
		page.Items = append(page.Items, shown)
	}
	return page, err
}

func (s *Server) getConnection(ctx context.Context, in *byID) (api.Connection, int, error) {
	c, err := s.Connections.FindConnection(ctx, in.ID)
	if err != nil {
		return api.Connection{}, 0, err
	}
	shown, err := s.connection(ctx, c)
	return shown, c.Version, err
}

func (s *Server) makeConnection(ctx context.Context, in *with[api.NewConnection]) (api.Connection, int, error) {
	b := in.Body
	n := connections.NewConnection{Name: b.Name, Details: connections.Details{
		Owner: &b.Owner, Address: &b.Address, Notes: &b.Notes, AtOnce: &b.AtOnce, PerMinute: &b.PerMinute,
		RestAfter: &b.RestAfter,
	}}
	for _, x := range b.Interfaces {
		n.Interfaces = append(n.Interfaces, connections.NewInterface{Kind: x.Kind, Label: x.Label, Values: x.Values})
	}
	c, interfaces, made, err := s.Connections.Connect(ctx, auth.Caller(ctx).Name, n)
	if err != nil {
		return api.Connection{}, 0, err
	}
	shown := system(c)
	for i, x := range interfaces {
		one, err := s.madeInterface(ctx, x, made[i])
		if err != nil {
			return shown, c.Version, err
		}
		shown.Interfaces = append(shown.Interfaces, one)
	}
	return shown, c.Version, nil
}

func (s *Server) editConnection(ctx context.Context, in *edit[api.EditConnection]) (api.Connection, int, error) {
	v, err := version(in.IfMatch)
	if err != nil {
		return api.Connection{}, 0, err
	}
	b := in.Body
	c, err := s.Connections.EditConnection(ctx, auth.Caller(ctx).Name, in.ID, v, connections.EditConnection{
		Name: b.Name, Paused: b.Paused, Details: connections.Details{
			Owner: b.Owner, Address: b.Address, Notes: b.Notes, AtOnce: b.AtOnce, PerMinute: b.PerMinute,
			RestAfter: b.RestAfter,
		},
	})
	if err != nil {
		return api.Connection{}, 0, err
	}
	shown, err := s.connection(ctx, c)
	return shown, c.Version, err
}

func (s *Server) previewConnectionRemoval(ctx context.Context, in *byID) (api.Removal, error) {
	c, err := s.Connections.FindConnection(ctx, in.ID)
	if err != nil {
		return api.Removal{}, err
	}
	all, err := s.Connections.ConnectionDependents(ctx, in.ID)
	return removalOf(c.Name, all), err
}

func removalOf(name string, all []connectionstore.Dependent) api.Removal {
	return api.Removal{
		Name: name, Summary: connections.Describe(all),
		Dependents: each(all, func(d connectionstore.Dependent) api.Dependent { return api.Dependent(d) }),
	}
}

func (s *Server) removeConnection(ctx context.Context, in *removal) error {
	return s.Connections.RemoveConnection(ctx, auth.Caller(ctx).Name, in.ID, in.Name)
}

func (s *Server) restoreConnection(ctx context.Context, in *withID[api.Restored]) (api.Connection, error) {
	c, err := s.Connections.RestoreConnection(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Name)
	if err != nil {
		return api.Connection{}, err
	}
	return s.connection(ctx, c)
}

// system shows a connection without its interfaces.
func system(c connectionstore.Connection) api.Connection {
	return api.Connection{
		ID: c.ID, Name: c.Name, Owner: c.Owner, Address: c.Address, Notes: c.Notes, AtOnce: c.AtOnce,
		PerMinute: c.PerMinute, RestAfter: c.RestAfter, Paused: c.PausedAt != nil, RemovedAt: c.RemovedAt,
		Version: c.Version, Interfaces: []api.Interface{},
	}
}

// connection shows a connection with its interfaces.
func (s *Server) connection(ctx context.Context, c connectionstore.Connection) (api.Connection, error) {
	shown := system(c)
	all, err := s.Connections.InterfacesOf(ctx, c.ID)
	if err != nil {
		return shown, err
	}
	for _, x := range all {
		one, err := s.oneInterface(ctx, x)
		if err != nil {
			return shown, err
		}
		shown.Interfaces = append(shown.Interfaces, one)
	}
	return shown, nil
}
