package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

const viewPath = "/session/viewing"

var (
	viewAsOp = operation{
		ID: "view-as", Act: permission.ViewAs,
		Method: http.MethodPost, Path: viewPath, Status: http.StatusOK, Tag: "sign-in",
		Summary: "Look as a teacher or a learner of the register does, without their password; nothing can be changed meanwhile",
	}
	endViewOp = operation{
		ID: "end-view", Act: permission.Own,
		Method: http.MethodDelete, Path: viewPath, Status: http.StatusNoContent, Tag: "sign-in",
		Summary: "Look as yourself again",
	}
)

// viewing registers looking as somebody else does.
func (s *Server) viewing(a huma.API) {
	handle(a, viewAsOp, s.viewAs)
	handleEmpty(a, endViewOp, s.endView)
}

func (s *Server) viewAs(ctx context.Context, in *with[api.Viewing]) (api.Viewed, error) {
	if auth.Kept(ctx) == "" {
		return api.Viewed{}, refusal.Conflict("", "a token has no session: this is done in the console")
	}
	v, err := s.Access.BeginViewing(ctx, auth.Caller(ctx), in.Body.PersonID)
	if err != nil {
		return api.Viewed{}, err
	}
	return api.Viewed{PersonID: v.PersonID, Name: v.Name}, s.auth.View(ctx, &v)
}

func (s *Server) endView(ctx context.Context, _ *struct{}) error {
	err := s.Access.EndViewing(ctx, auth.Caller(ctx))
	if err != nil {
		return err
	}
	return s.auth.View(ctx, nil)
}
