package web

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/reports"
	"kanban/internal/core/learning"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/api"
)

type peopleInput struct {
	Text  string `query:"text" required:"true" minLength:"2" doc:"A part of name, address, user name or identifier"`
	Limit int    `query:"limit" default:"50" minimum:"1" maximum:"200" doc:"At most so many"`
}

// newestAbout is how many events and deliveries a person's page shows.
const newestAbout = 50

func (s *Server) people(a huma.API) {
	handle(a, operation{
		ID: "find-people", Method: http.MethodGet, Path: "/people", Status: http.StatusOK,
		Tag: "people", Summary: "Find people",
	}, func(ctx context.Context, in *peopleInput) (api.Page[api.Person], error) {
		all, err := s.Registers.People(ctx, in.Text, in.Limit)
		return api.Page[api.Person]{Items: each(all, func(f rosterstore.FoundPerson) api.Person {
			p := person(f.Person)
			p.Register = f.Register
			return p
		})}, err
	})
	handle(a, operation{
		ID: "get-person", Method: http.MethodGet, Path: "/people/{id}", Status: http.StatusOK,
		Tag: "people", Summary: "Everything known about a person",
	}, func(ctx context.Context, in *byID) (api.PersonPage, error) {
		return s.personPage(ctx, in.ID)
	})
	handle(a, operation{
		ID: "get-progress", Method: http.MethodGet, Path: "/people/{id}/progress/{section}", Status: http.StatusOK,
		Tag: "people", Summary: "Where a person stands in a section's course, activity by activity",
	}, func(ctx context.Context, in *progressInput) (api.Progress, error) {
		look, err := s.Facts.Progress(ctx, in.ID, in.Section)
		return shownProgress(look), err
	})
}

func person(p rosterstore.Person) api.Person {
	return api.Person{ID: p.ID, Name: p.Name(), Email: p.Email, UserName: p.UserName, Identifier: p.Identifier}
}

func (s *Server) personPage(ctx context.Context, id string) (page api.PersonPage, err error) {
	p, err := s.Registers.FindPerson(ctx, id)
	if err != nil {
		return page, err
	}
	accounts, err := s.Matching.AccountsOf(ctx, id)
	if err != nil {
		return page, err
	}
	sections, err := s.Registers.WhereaboutsOf(ctx, id)
	if err != nil {
		return page, err
	}
	awards, err := s.Badges.Awards(ctx, "", id, "", 200)
	if err != nil {
		return page, err
	}
	events, err := s.Deliveries.Events(ctx, eventstore.EventFilter{PersonID: id, Limit: newestAbout})
	if err != nil {
		return page, err
	}
	deliveries, err := s.Deliveries.Deliveries(ctx, deliverystore.DeliveryFilter{PersonID: id, Limit: newestAbout})
	return api.PersonPage{
		Person:   person(p),
		Accounts: each(accounts, func(a matchstore.KnownAccount) api.Account { return api.Account(a) }),
		Sections: each(sections, whereabouts),
		Awards:   each(awards, s.shownAward), Events: each(events, event), Deliveries: each(deliveries, delivery),
	}, err
}

func whereabouts(w rosterstore.Whereabouts) api.Whereabouts {
	return api.Whereabouts{
		SectionID: w.SectionID, Section: w.Section, Course: w.Course, Role: w.Role, JoinedAt: w.JoinedAt, LeftAt: w.LeftAt, Through: w.Through, BeginsOn: w.BeginsOn, PairingID: w.PairingID, Target: w.Target,
		Percent: w.Percent, From: w.From, Class: api.InClass(reports.InClassOf(w)),
	}
}

type progressInput struct {
	ID      string `path:"id" doc:"The person's id"`
	Section string `path:"section" doc:"The section's id"`
}

func shownProgress(o learning.Overview) api.Progress {
	moment := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	out := api.Progress{Percent: o.Percent, Done: o.Done, FirstAt: moment(o.First), LastAt: moment(o.Last), Elsewhere: o.Elsewhere, Modules: []api.ProgressModule{}}
	for _, m := range o.Modules {
		x := api.ProgressModule{ID: m.ID, Title: m.Title, Done: m.Done, Optional: m.Optional, Activities: []api.ProgressActivity{}}
		for _, a := range m.Activities {
			x.Activities = append(x.Activities, api.ProgressActivity{
				ID: a.ID, Title: a.Title, Kind: string(a.Kind), Depth: a.Depth, Counts: a.Counts, Done: a.Done, Word: a.Word(), Best: a.Best, FirstAt: moment(a.First), LastAt: moment(a.Last),
			})
		}
		out.Modules = append(out.Modules, x)
	}
	return out
}
