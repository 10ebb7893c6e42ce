package web

import (
	"context"
	"net/http"

	"kanban/internal/core/permission"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"

	"github.com/danielgtaylor/huma/v2"
)

var (
	listOperationsOp = operation{
		ID: "list-operations", Act: permission.Look,
		Method: http.MethodGet, Path: "/interfaces/{id}/operations",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "List the operations of a service's own API",
	}
	getOperationOp = operation{
		ID: "get-operation", Act: permission.Look,
		Method: http.MethodGet, Path: "/interfaces/{id}/operations/{name}",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "Show an operation",
	}
	keepOperationOp = operation{
		ID: "keep-operation", Act: permission.Connect,
		Method: http.MethodPut, Path: "/interfaces/{id}/operations/{name}",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "Define an operation, or define it anew",
	}
	dropOperationOp = operation{
		ID: "drop-operation", Act: permission.Connect,
		Method: http.MethodDelete, Path: "/interfaces/{id}/operations/{name}",
		Status: http.StatusNoContent, Tag: "interfaces",
		Summary: "Remove an operation",
	}
	tryOperationOp = operation{
		ID: "try-operation", Act: permission.Connect,
		Method: http.MethodPost, Path: "/interfaces/{id}/operations/{name}/try",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "Call an operation now, for real",
	}
)

// operations registers the operations about the operations that an interface's service offers.
func (s *Server) operations(a huma.API) {
	handle(a, listOperationsOp, s.listOperations)
	handle(a, getOperationOp, s.getOperation)
	handle(a, keepOperationOp, s.keepOperation)
	handleEmpty(a, dropOperationOp, s.dropOperation)
	handle(a, tryOperationOp, s.tryOperation)
}

func (s *Server) listOperations(ctx context.Context, in *byID) ([]api.Operation, error) {
	if _, err := s.Connections.FindInterface(ctx, in.ID); err != nil {
		return nil, err
	}
	return s.Connections.Operations(ctx, in.ID)
}

func (s *Server) getOperation(ctx context.Context, in *operationInput) (api.Operation, error) {
	return s.Connections.FindOperation(ctx, in.ID, in.Name)
}

func (s *Server) keepOperation(ctx context.Context, in *keepOperationInput) (api.Operation, error) {
	in.Body.Name = in.Name
	if err := s.Rules.KeepOperation(ctx, auth.Caller(ctx).Name, in.ID, in.Body); err != nil {
		return api.Operation{}, err
	}
	return s.Connections.FindOperation(ctx, in.ID, in.Name)
}

func (s *Server) dropOperation(ctx context.Context, in *operationInput) error {
	return s.Rules.DropOperation(ctx, auth.Caller(ctx).Name, in.ID, in.Name)
}

func (s *Server) tryOperation(ctx context.Context, in *tryOperationInput) (api.OperationTried, error) {
	t, err := s.Rules.TryOperation(ctx, auth.Caller(ctx).Name, in.ID, in.Name, in.Body.Values)
	return api.OperationTried(t), err
}

type operationInput struct {
	ID   string `path:"id" doc:"The interface's id"`
	Name string `path:"name" doc:"The operation's name"`
}

type tryOperationInput struct {
	ID   string `path:"id" doc:"The interface's id"`
	Name string `path:"name" doc:"The operation's name"`
	Body api.OperationTry
}

type keepOperationInput struct {
	ID   string `path:"id" doc:"The interface's id"`
	Name string `path:"name" doc:"The operation's name"`
	Body api.Operation
}
