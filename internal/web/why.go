package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/findings"
	"kanban/internal/core/permission"
	"kanban/internal/wire/api"
)

var (
	listThingsOp = operation{
		ID: "list-things", Act: permission.Look, Of: permission.OfPerson,
		Method: http.MethodGet, Path: "/people/{id}/things", Status: http.StatusOK, Tag: "people",
		Summary: "What can have happened to somebody, to ask why",
	}
	whyOp = operation{
		ID: "why", Act: permission.Look, Of: permission.OfPerson,
		Method: http.MethodGet, Path: "/people/{id}/why", Status: http.StatusOK, Tag: "people",
		Summary: "Why something has happened to somebody, or has not: step by step, to the one at which it ended",
	}
)

// why registers the questions why something happened to somebody.
func (s *Server) why(a huma.API) {
	handle(a, listThingsOp, s.listThings)
	handle(a, whyOp, s.answerWhy)
}

type thingsInput struct {
	ID   string `path:"id" doc:"The person's id"`
	Text string `query:"text" maxLength:"200" doc:"Words of the thing's title"`
}

type whyInput struct {
	ID    string `path:"id" doc:"The person's id"`
	Kind  string `query:"kind" required:"true" enum:"section,badge,stage,rule,score,event" doc:"What sort of thing"`
	Thing string `query:"thing" required:"true" maxLength:"500" doc:"Its id, as things are listed with it"`
}

func shownThing(t findings.Thing) api.Thing {
	return api.Thing{Kind: string(t.Kind), ID: t.ID, Title: t.Title, Apart: t.Apart}
}

func (s *Server) listThings(ctx context.Context, in *thingsInput) (api.Page[api.Thing], error) {
	id, err := s.Persons.Now(ctx, in.ID)
	if err != nil {
		return api.Page[api.Thing]{}, err
	}
	all, total, err := s.Findings.Things(ctx, id, in.Text, reach(ctx))
	return api.Page[api.Thing]{Items: each(all, shownThing), Total: total}, err
}

func (s *Server) answerWhy(ctx context.Context, in *whyInput) (api.Why, error) {
	id, err := s.Persons.Now(ctx, in.ID)
	if err != nil {
		return api.Why{}, err
	}
	a, err := s.Findings.Why(ctx, id, findings.Thing{Kind: findings.ThingKind(in.Kind), ID: in.Thing}, reach(ctx))
	return api.Why{
		Thing: shownThing(a.Thing), Person: a.Person, Happened: a.Happened, At: a.At, Again: a.Again,
		AgainAt: a.AgainAt,
		Steps: each(a.Steps, func(x findings.WhyStep) api.WhyStep {
			return api.WhyStep{
				Needed: x.Needed, Met: x.Met, Found: x.Found, At: x.At, Code: x.Code, Remedy: x.Remedy, Owner: x.Owner,
			}
		}),
	}, err
}
