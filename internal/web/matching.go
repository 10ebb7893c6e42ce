package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/matching"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/matchstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var (
	getMatchingOp = operation{
		ID: "get-matching", Act: permission.Look,
		Method: http.MethodGet, Path: "/interfaces/{id}/matching",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "How people are recognised at an interface",
	}
	previewMatchingOp = operation{
		ID: "preview-matching", Act: permission.Recognise,
		Method: http.MethodPost, Path: "/interfaces/{id}/matching/preview",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "Whom a change of the matching would touch",
	}
	editMatchingOp = operation{
		ID: "edit-matching", Act: permission.Recognise,
		Method: http.MethodPut, Path: "/interfaces/{id}/matching",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "Change how people are recognised at an interface",
	}
	listProposalsOp = operation{
		ID: "list-proposals", Act: permission.Look,
		Method: http.MethodGet, Path: "/interfaces/{id}/proposals",
		Status: http.StatusOK, Tag: "people",
		Summary: "Records of a register that look like second accounts or test learners, with what speaks for it",
	}
	decideProposalsOp = operation{
		ID: "decide-proposals", Act: permission.Recognise,
		Method: http.MethodPost, Path: "/interfaces/{id}/proposals",
		Status: http.StatusOK, Tag: "people",
		Summary: "Accept or refuse what is proposed of a register's records, one or all",
	}
)

// matching registers the operations about how people are recognised at a service.
func (s *Server) matching(a huma.API) {
	handleTagged(a, getMatchingOp, s.getMatching)
	handle(a, previewMatchingOp, s.previewMatching)
	handleTagged(a, editMatchingOp, s.editMatching)
	handle(a, listProposalsOp, s.listProposals)
	handle(a, decideProposalsOp, s.decideProposals)
}

func (s *Server) getMatching(ctx context.Context, in *byID) (roster.Matching, int, error) {
	return s.Matching.Of(ctx, in.ID)
}

func (s *Server) previewMatching(ctx context.Context, in *withID[roster.Matching]) (api.Page[api.Touched], error) {
	list, err := s.Matching.Preview(ctx, in.ID, in.Body)
	return api.Page[api.Touched]{Items: each(list,
		func(t matching.Touched) api.Touched { return api.Touched(t) })}, err
}

func (s *Server) editMatching(ctx context.Context, in *edit[roster.Matching]) (roster.Matching, int, error) {
	v, err := version(in.IfMatch)
	if err == nil {
		err = s.Matching.Change(ctx, auth.Caller(ctx).Name, in.ID, v, in.Body)
	}
	if err != nil {
		return in.Body, 0, err
	}
	return s.Matching.Of(ctx, in.ID)
}

func (s *Server) listProposals(ctx context.Context, in *byID) (api.Page[api.Proposal], error) {
	list, err := s.Matching.Proposals(ctx, in.ID)
	return api.Page[api.Proposal]{Items: each(list,
		func(p matchstore.Proposal) api.Proposal { return api.Proposal(p) })}, err
}

func (s *Server) decideProposals(ctx context.Context, in *withID[api.Verdict]) (api.Decided, error) {
	n, err := s.Matching.Decide(ctx, auth.Caller(ctx).Name, in.ID, in.Body.People, in.Body.Accept)
	return api.Decided{Count: n}, err
}
