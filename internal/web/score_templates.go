package web

import (
	"cmp"
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/scores"
	"kanban/internal/core/grade"
	"kanban/internal/core/permission"
	"kanban/internal/core/rollover"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type templateForInput struct {
	Section string `query:"section" doc:"Id of a section; the usual policy when absent"`
	Name    string `query:"name" doc:"Name of a template, instead of that of the section's organisation"`
}

type followingInput struct {
	Ahead int `query:"ahead" minimum:"0" maximum:"400" default:"60" doc:"Days until the term ends at the latest"`
}

// usualAhead is how many days before its end a term counts as ending.
const usualAhead = 60

var (
	listScoreTemplatesOp = scoreOperation("list-score-templates", "", http.MethodGet, "/score-templates", http.StatusOK,
		"List what score links begin with, and what is expected of gradebooks")
	editScoreTemplatesOp = scoreOperation("edit-score-templates", "", http.MethodPut, "/score-templates", http.StatusOK,
		"Replace the templates of score links; links that are there keep their policy")
	scoreTemplateForOp = scoreOperation("get-score-template-for", "", http.MethodGet, "/score-templates/for", http.StatusOK,
		"Which template score links of a section begin with")
	listScoreMismatchesOp = scoreOperation("list-score-mismatches", permission.OfScoreLink, http.MethodGet, "/score-links/{id}/mismatches",
		http.StatusOK, "What is set up differently at both sides, or not as it is expected")
	listFollowingScoresOp = scoreOperation("list-following-score-links", "", http.MethodGet, "/following-score-links",
		http.StatusOK, "List score links whose term ends, with the sections that follow")
	followScoreLinkOp = scoreOperation("follow-score-link", permission.OfScoreLink, http.MethodPost, "/score-links/{id}/follow",
		http.StatusCreated, "Copy a score link for the sections that follow in the next term")
)

// scoreTemplates registers the operations about templates of score links, and what they are used for.
func (s *Server) scoreTemplates(a huma.API) {
	handle(a, listScoreTemplatesOp, s.listScoreTemplates)
	handle(a, editScoreTemplatesOp, s.editScoreTemplates)
	handle(a, scoreTemplateForOp, s.scoreTemplateFor)
	handle(a, listScoreMismatchesOp, s.listScoreMismatches)
	handle(a, listFollowingScoresOp, s.listFollowingScores)
	handle(a, followScoreLinkOp, s.followScoreLink)
}

func scoreTemplate(t scores.Template) api.ScoreTemplate {
	return api.ScoreTemplate{
		Name: t.Name, OrganisationID: t.Organisation, Policy: scorePolicy(t.Policy),
		Expected: api.ScoreExpectation{
			Scale: t.Expected.Scale, PeriodKind: t.Expected.PeriodKind,
			Categories: each(t.Expected.Categories, func(c grade.Expected) api.ExpectedCategory {
				return api.ExpectedCategory(c)
			}),
		},
	}
}

func (s *Server) listScoreTemplates(ctx context.Context, _ *struct{}) ([]api.ScoreTemplate, error) {
	list, err := s.Scores.Templates(ctx)
	if err != nil {
		return nil, err
	}
	orgs, err := s.Registers.Orgs(ctx)
	names := map[string]string{}
	for _, o := range orgs {
		names[o.ID] = o.Name
	}
	out := each(list, scoreTemplate)
	for i := range out {
		if id := out[i].OrganisationID; id != "" {
			out[i].Organisation = cmp.Or(names[id], "no longer in a register")
		}
	}
	return out, err
}

func (s *Server) editScoreTemplates(ctx context.Context, in *with[[]api.ScoreTemplate]) ([]api.ScoreTemplate, error) {
	list := make([]scores.Template, len(in.Body))
	for i, t := range in.Body {
		p, err := scorePolicyOf(t.Policy)
		if err != nil {
			return nil, err
		}
		list[i] = scores.Template{
			Name: t.Name, Organisation: t.OrganisationID, Policy: p,
			Expected: grade.Expectation{
				Scale: t.Expected.Scale, PeriodKind: t.Expected.PeriodKind,
				Categories: each(t.Expected.Categories, func(c api.ExpectedCategory) grade.Expected {
					return grade.Expected(c)
				}),
			},
		}
	}
	if err := s.Scores.SetTemplates(ctx, auth.Caller(ctx).Name, list); err != nil {
		return nil, err
	}
	return s.listScoreTemplates(ctx, nil)
}

func (s *Server) scoreTemplateFor(ctx context.Context, in *templateForInput) (api.ScoreTemplateFor, error) {
	t, found, err := s.Scores.Begin(ctx, in.Name, in.Section)
	return api.ScoreTemplateFor{Found: found, Name: t.Name, Policy: scorePolicy(t.Policy)}, err
}

func (s *Server) listScoreMismatches(ctx context.Context, in *byID) (api.ScoreMismatches, error) {
	m, err := s.Scores.Mismatches(ctx, in.ID)
	return api.ScoreMismatches{
		Template: m.Template,
		Items: each(m.List, func(x grade.Mismatch) api.ScoreMismatch {
			return api.ScoreMismatch{
				Kind: string(x.Kind), About: x.About, Source: x.Source, Book: x.Book, Expected: x.Expected,
			}
		}),
	}, err
}

func (s *Server) listFollowingScores(ctx context.Context, in *followingInput) (
	api.Page[api.FollowingScoreLink], error,
) {
	all, err := s.Scores.Following(ctx, in.Ahead)
	return api.Page[api.FollowingScoreLink]{Items: each(all, func(f scores.Following) api.FollowingScoreLink {
		return api.FollowingScoreLink{
			LinkID: f.Link.ID, Title: f.Link.Title, Source: f.Link.Source, Book: f.Link.Book,
			Interface: f.Link.SourceInterfaceID, SourceClass: f.SourceClass, Ready: f.Why == "", Why: f.Why,
			Moves: each(f.Moves, func(m rollover.Move) api.ScoreMove {
				return api.ScoreMove{From: m.From.Title, To: m.To.Title, Evidence: append([]string{}, m.Evidence...)}
			}),
		}
	})}, err
}

func (s *Server) followScoreLink(ctx context.Context, in *withID[api.FollowScoreLink]) (api.ScoreLink, error) {
	l, err := s.Scores.Follow(ctx, auth.Caller(ctx).Name, in.ID, in.Body.SourceClass,
		cmp.Or(in.Body.Ahead, usualAhead), in.Body.Anyway)
	out, _, err := s.taggedScoreLink(ctx, l.ID, err)
	return out, err
}
