package web

import (
	"context"
	"net/http"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/wire/api"

	"github.com/danielgtaylor/huma/v2"
)

var (
	installationOp = operation{
		ID: "installation", Act: permission.Own,
		Method: http.MethodGet, Path: "/installation",
		Status: http.StatusOK, Tag: "installation",
		Summary: "Where this service is reached",
	}
	listKindsOp = operation{
		ID: "list-kinds", Act: permission.Own,
		Method: http.MethodGet, Path: "/kinds", Status: http.StatusOK, Tag: "installation",
		Summary: "The kinds of interface and what each needs",
	}
	listCodesOp = operation{
		ID: "list-codes", Act: permission.Own,
		Method: http.MethodGet, Path: "/catalogue", Status: http.StatusOK, Tag: "installation",
		Summary: "Everything Kanban can notice, with its remedy",
	}
)

// aboutItself registers the operations about the service itself.
func (s *Server) aboutItself(a huma.API) {
	handle(a, installationOp, s.installation)
	handle(a, listKindsOp, s.listKinds)
	handle(a, listCodesOp, s.listCodes)
}

func (s *Server) installation(context.Context, *struct{}) (api.Installation, error) {
	return api.Installation{Version: s.Version, Address: s.Public}, nil
}

func (s *Server) listKinds(context.Context, *struct{}) ([]adapter.Kind, error) {
	return adapter.Kinds, nil
}

func (s *Server) listCodes(context.Context, *struct{}) ([]finding.Entry, error) {
	return finding.All(), nil
}
