package web

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/core/permission"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var (
	ownPageOp = operation{
		ID: "own-page", Act: permission.Own,
		Method: http.MethodGet, Path: "/session/page", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Your own sections, progress, badges and stages, when you are somebody of the register",
	}
	listOwnSessionsOp = operation{
		ID: "list-own-sessions", Act: permission.Own,
		Method: http.MethodGet, Path: "/sessions", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Where you are signed in, the latest used first",
	}
	endOwnSessionOp = operation{
		ID: "end-own-session", Act: permission.Own,
		Method: http.MethodDelete, Path: "/sessions/{id}", Status: http.StatusNoContent, Tag: "sign-in",
		Summary: "End a session of your own; it ends at once",
	}
	listOwnTokensOp = operation{
		ID: "list-own-tokens", Act: permission.Own,
		Method: http.MethodGet, Path: "/tokens", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Your API tokens, the latest made first",
	}
	endOwnTokenOp = operation{
		ID: "end-own-token", Act: permission.Own,
		Method: http.MethodDelete, Path: "/tokens/{id}", Status: http.StatusNoContent, Tag: "sign-in",
		Summary: "End a token of your own; it ends at once",
	}
)

// own registers what people see of themselves, and where they are signed in.
func (s *Server) own(a huma.API) {
	handle(a, ownPageOp, s.getOwnPage)
	handle(a, listOwnSessionsOp, s.listOwnSessions)
	handleEmpty(a, endOwnSessionOp, s.endOwnSession)
	handle(a, listOwnTokensOp, s.listOwnTokens)
	handleEmpty(a, endOwnTokenOp, s.endOwnToken)
}

func (s *Server) listOwnSessions(ctx context.Context, _ *struct{}) (api.Page[api.OwnSession], error) {
	all, err := s.Access.Sessions(ctx, auth.Caller(ctx))
	return api.Page[api.OwnSession]{Total: len(all), Items: each(all, func(x accessstore.Session) api.OwnSession {
		return api.OwnSession{
			ID: x.ID, Agent: x.Agent, Address: x.Address, BeganAt: x.BeganAt, UsedAt: x.UsedAt,
			Current: x.Token == auth.Kept(ctx),
		}
	})}, err
}

func (s *Server) endOwnSession(ctx context.Context, in *byID) error {
	return s.Access.EndOwnSession(ctx, auth.Caller(ctx), in.ID)
}

func (s *Server) listOwnTokens(ctx context.Context, _ *struct{}) (api.Page[api.OwnToken], error) {
	all, err := s.Access.Tokens(ctx, auth.Caller(ctx))
	return api.Page[api.OwnToken]{Total: len(all), Items: each(all, func(t accessstore.APIToken) api.OwnToken {
		return api.OwnToken{
			ID: t.ID, Name: t.Name, Role: string(t.Role), Scope: string(t.Scope), ScopeName: t.ScopeName,
			CreatedAt: t.CreatedAt, LastUsedAt: t.LastUsedAt, ExpiresAt: t.ExpiresAt,
			Expired: t.ExpiresAt != nil && t.ExpiresAt.Before(time.Now()),
		}
	})}, err
}

func (s *Server) endOwnToken(ctx context.Context, in *byID) error {
	return s.Access.EndOwnToken(ctx, auth.Caller(ctx), in.ID)
}

func (s *Server) getOwnPage(ctx context.Context, _ *struct{}) (page api.OwnPage, err error) {
	c := auth.Caller(ctx)
	page = api.OwnPage{
		Name: c.Name, Sections: []api.OwnSection{}, Awards: []api.Award{}, Plans: []api.PersonStagePlan{},
	}
	if c.Viewing != nil {
		page.Name = c.Viewing.Name
	}
	if c.PersonID == "" {
		return page, nil
	}
	sections, err := s.Registers.WhereaboutsOf(ctx, c.PersonID)
	if err != nil {
		return page, err
	}
	for _, w := range sections {
		one, err := s.ownSection(ctx, c.PersonID, w)
		if err != nil {
			return page, err
		}
		page.Sections = append(page.Sections, one)
	}
	awards, err := s.Badges.Awards(ctx, badgestore.AwardFilter{PersonID: c.PersonID, Limit: 200})
	if err != nil {
		return page, err
	}
	page.Awards = each(awards, func(a badgestore.ListedAward) api.Award {
		shown := s.shownAward(a)
		shown.AwardedBy, shown.RevokedBy, shown.SuspendedBy = "", "", ""
		return shown
	})
	plans, err := s.Stages.Of(ctx, c.PersonID)
	page.Plans = each(plans, personStagePlan)
	return page, err
}

func (s *Server) ownSection(ctx context.Context, personID string, w rosterstore.Whereabouts) (api.OwnSection, error) {
	out := api.OwnSection{
		ID: w.SectionID, Section: w.Section, Course: w.Course, Role: w.Role, JoinedAt: w.JoinedAt, LeftAt: w.LeftAt,
		BeginsOn: w.BeginsOn,
	}
	if w.Percent == nil {
		return out, nil
	}
	look, err := s.Facts.Progress(ctx, personID, w.SectionID)
	if err != nil {
		return out, err
	}
	shown := shownProgress(look)
	out.Progress = &shown
	return out, nil
}
