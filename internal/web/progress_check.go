package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/core/permission"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var (
	getProgressCheckOp = operation{
		ID: "get-progress-check", Act: permission.Look,
		Method: http.MethodGet, Path: "/progress-check", Status: http.StatusOK,
		Tag:     "reports",
		Summary: "Say what the last comparison of kept progress with what is recorded found",
	}
	startProgressCheckOp = operation{
		ID: "start-progress-check", Act: permission.Learning,
		Method: http.MethodPost, Path: "/progress-check", Status: http.StatusNoContent,
		Tag: "reports", Summary: "Compare kept progress with what is recorded, or count it anew",
	}
)

// progressCheck registers the operations about kept progress.
func (s *Server) progressCheck(a huma.API) {
	handle(a, getProgressCheckOp, s.getProgressCheck)
	handleEmpty(a, startProgressCheckOp, s.startProgressCheck)
}

func (s *Server) getProgressCheck(ctx context.Context, _ *struct{}) (api.ProgressCheck, error) {
	c, err := s.Reports.Check(ctx)
	return api.ProgressCheck(c), err
}

func (s *Server) startProgressCheck(ctx context.Context, in *with[api.StartProgressCheck]) error {
	return s.Reports.StartCheck(ctx, auth.Caller(ctx).Name, in.Body.Mend)
}
