package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/core/permission"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var ownPageOp = operation{
	ID: "own-page", Act: permission.Own,
	Method: http.MethodGet, Path: "/session/page", Status: http.StatusOK, Tag: "sign-in",
	Summary: "Your own sections, progress, badges and stages, when you are somebody of the register",
}

// own registers what people see of themselves.
func (s *Server) own(a huma.API) {
	handle(a, ownPageOp, s.getOwnPage)
}

func (s *Server) getOwnPage(ctx context.Context, _ *struct{}) (page api.OwnPage, err error) {
	c := auth.Caller(ctx)
	page = api.OwnPage{
		Name: c.Name, Sections: []api.OwnSection{}, Awards: []api.Award{}, Plans: []api.PersonStagePlan{},
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
