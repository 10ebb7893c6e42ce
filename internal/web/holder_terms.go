package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/holders"
	"kanban/internal/core/permission"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var (
	getHolderTermsOp = operation{
		ID: "get-holder-terms", Act: permission.Look,
		Method: http.MethodGet, Path: "/holder-terms", Status: http.StatusOK, Tag: "badges",
		Summary: "Show the terms that people accept before anything about them is public",
	}
	editHolderTermsOp = operation{
		ID: "edit-holder-terms", Act: permission.Badges,
		Method: http.MethodPut, Path: "/holder-terms", Status: http.StatusOK, Tag: "badges",
		Summary: "Change the terms; whoever accepted the former ones is asked again before they share more",
	}
	linkHolderOp = operation{
		ID: "link-holder", Act: permission.Award, Of: permission.OfPerson, Any: true,
		Method: http.MethodPost, Path: "/people/{id}/badges-page", Status: http.StatusOK, Tag: "badges",
		Summary: "Make a link to the page of somebody's badges; it asks for their e-mail address",
	}
)

// holderSettings registers the operations about those who hold badges.
func (s *Server) holderSettings(a huma.API) {
	handle(a, getHolderTermsOp, s.getHolderTerms)
	handle(a, editHolderTermsOp, s.editHolderTerms)
	handle(a, linkHolderOp, s.linkHolder)
}

func holderTerms(t holders.Terms) api.HolderTerms {
	return api.HolderTerms{Version: t.Version, Text: t.Text, ChangedBy: t.ChangedBy}
}

func (s *Server) getHolderTerms(ctx context.Context, _ *struct{}) (api.HolderTerms, error) {
	t, err := s.Holders.Terms(ctx)
	return holderTerms(t), err
}

func (s *Server) editHolderTerms(ctx context.Context, in *with[api.NewHolderTerms]) (api.HolderTerms, error) {
	t, err := s.Holders.SetTerms(ctx, auth.Caller(ctx).Name, in.Body.Text)
	return holderTerms(t), err
}

func (s *Server) linkHolder(ctx context.Context, in *byID) (api.HolderLink, error) {
	address, err := s.Holders.LinkFor(ctx, in.ID)
	return api.HolderLink{Address: address}, err
}
