package web

import (
	"context"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/findings"
	"kanban/internal/app/matching"
	"kanban/internal/app/stages"
	"kanban/internal/core/learning"
	"kanban/internal/core/permission"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/personstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type peopleInput struct {
	Text  string `query:"text" required:"true" minLength:"2" doc:"A part of name, address, user name or identifier"`
	Limit int    `query:"limit" default:"50" minimum:"1" maximum:"200" doc:"At most so many"`
}

// newestAbout is how many events and deliveries a person's page shows.
const newestAbout = 50

var (
	dropMarkOp = operation{
		ID: "drop-mark", Act: permission.Recognise,
		Method: http.MethodDelete, Path: "/people/{id}/mark",
		Status: http.StatusNoContent, Tag: "people",
		Summary: "Drop what was said of a person's record: that it is a second account or a test learner, or neither",
	}
	listCandidatesOp = operation{
		ID: "list-candidates", Act: permission.Look,
		Method: http.MethodGet, Path: "/people/{id}/accounts/{interface}",
		Status: http.StatusOK, Tag: "people",
		Summary: "Accounts that could be a person's",
	}
	chooseAccountOp = operation{
		ID: "choose-account", Act: permission.Recognise,
		Method: http.MethodPut, Path: "/people/{id}/accounts/{interface}",
		Status: http.StatusNoContent, Tag: "people",
		Summary: "Say whose account it is, or is not",
	}
	forgetChoicesOp = operation{
		ID: "forget-choices", Act: permission.Recognise,
		Method: http.MethodDelete, Path: "/people/{id}/accounts/{interface}",
		Status: http.StatusNoContent, Tag: "people",
		Summary: "Drop the decisions about a person's accounts",
	}
	findPeopleOp = operation{
		ID: "find-people", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/people", Status: http.StatusOK, Tag: "people",
		Summary: "Find people",
	}
	getPersonOp = operation{
		ID: "get-person", Act: permission.Look, Of: permission.OfPerson,
		Method: http.MethodGet, Path: "/people/{id}", Status: http.StatusOK, Tag: "people",
		Summary: "Everything known about a person",
	}
	getProgressOp = operation{
		ID: "get-progress", Act: permission.Look, Of: permission.OfPerson,
		Method: http.MethodGet, Path: "/people/{id}/progress/{section}",
		Status: http.StatusOK, Tag: "people",
		Summary: "Where a person stands in a section's course, activity by activity",
	}
	personStagePlansOp = operation{
		ID: "person-stage-plans", Act: permission.Look, Of: permission.OfPerson,
		Method: http.MethodGet, Path: "/people/{id}/stage-plans",
		Status: http.StatusOK, Tag: "people",
		Summary: "Where a person stands in every stage plan that is on",
	}
)

// people registers the operations about people.
func (s *Server) people(a huma.API) {
	handleEmpty(a, dropMarkOp, s.dropMark)
	handle(a, listCandidatesOp, s.listCandidates)
	handleEmpty(a, chooseAccountOp, s.chooseAccount)
	handleEmpty(a, forgetChoicesOp, s.forgetChoices)
	handle(a, findPeopleOp, s.findPeople)
	handle(a, getPersonOp, s.getPerson)
	handle(a, getProgressOp, s.getProgress)
	handle(a, personStagePlansOp, s.personStagePlans)
}

func (s *Server) dropMark(ctx context.Context, in *byID) error {
	return s.Matching.Undecide(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) listCandidates(ctx context.Context, in *personAt) (api.Page[api.Candidate], error) {
	list, err := s.Matching.Candidates(ctx, in.ID, in.InterfaceID)
	return api.Page[api.Candidate]{Items: each(list,
		func(x matching.Candidate) api.Candidate { return api.Candidate(x) })}, err
}

func (s *Server) chooseAccount(ctx context.Context, in *accountAt) error {
	if in.Body.Not {
		return s.Matching.Deny(ctx, auth.Caller(ctx).Name, in.ID, in.InterfaceID, in.Body.AccountID)
	}
	return s.Matching.Choose(ctx, auth.Caller(ctx).Name, in.ID, in.InterfaceID, in.Body.AccountID)
}

func (s *Server) forgetChoices(ctx context.Context, in *personAt) error {
	return s.Matching.Forget(ctx, auth.Caller(ctx).Name, in.ID, in.InterfaceID)
}

func (s *Server) findPeople(ctx context.Context, in *peopleInput) (api.Page[api.Person], error) {
	found, err := s.Registers.People(ctx, in.Text, in.Limit, reach(ctx))
	shown := each(found.People, func(f rosterstore.FoundPerson) api.Person {
		p := person(f.Person)
		p.Register = f.Register
		return p
	})
	return api.Page[api.Person]{Total: found.Total, Items: shown}, err
}

func (s *Server) getPerson(ctx context.Context, in *byID) (api.PersonPage, error) {
	return s.personPage(ctx, in.ID)
}

func (s *Server) getProgress(ctx context.Context, in *progressInput) (api.Progress, error) {
	if err := allOf(ctx, in.Section); err != nil {
		return api.Progress{}, err
	}
	look, err := s.Facts.Progress(ctx, in.ID, in.Section)
	return shownProgress(look), err
}

func (s *Server) personStagePlans(ctx context.Context, in *byID) ([]api.PersonStagePlan, error) {
	all, err := s.Stages.Of(ctx, in.ID)
	return each(all, personStagePlan), err
}

func person(p rosterstore.Person) api.Person {
	return api.Person{ID: p.ID, Name: p.Name(), Email: p.Email, UserName: p.UserName, Identifier: p.Identifier}
}

func (s *Server) personPage(ctx context.Context, id string) (page api.PersonPage, err error) {
	if id, err = s.Persons.Now(ctx, id); err != nil {
		return page, err
	}
	p, err := s.Registers.FindPerson(ctx, id)
	if err != nil {
		return page, err
	}
	records, merges, sections, err := s.known(ctx, id)
	if err != nil {
		return page, err
	}
	accounts, err := s.Matching.AccountsOf(ctx, id)
	if err != nil {
		return page, err
	}
	awards, err := s.Badges.Awards(ctx, badgestore.AwardFilter{PersonID: id, Limit: 200, Within: reach(ctx)})
	if err != nil {
		return page, err
	}
	events, err := s.Deliveries.Events(ctx, eventstore.EventFilter{
		PersonID: id, Limit: newestAbout, Within: reach(ctx),
	})
	if err != nil {
		return page, err
	}
	deliveries, err := s.Deliveries.Deliveries(ctx, deliverystore.DeliveryFilter{
		PersonID: id, Limit: newestAbout, Within: reach(ctx),
	})
	if err != nil {
		return page, err
	}
	pages, err := s.counterparts(ctx)
	if err != nil {
		return page, err
	}
	mark, err := s.Matching.MarkOf(ctx, id)
	if err != nil {
		return page, err
	}
	register, sourcedID, err := s.Registers.PersonInRegister(ctx, id)
	return api.PersonPage{
		Person: person(p), Page: pages.person(register, sourcedID, p), Mark: (*api.Mark)(mark),
		Records: each(records, record), Merges: each(merges, shownMerge),
		Accounts: each(accounts, func(a matchstore.KnownAccount) api.Account {
			return api.Account{
				InterfaceID: a.InterfaceID, Interface: a.Interface, RemoteID: a.RemoteID, Denied: a.Denied, By: a.By,
				At: a.At, Page: pages.person(a.InterfaceID, a.RemoteID, p),
			}
		}),
		Sections: each(sections, whereabouts),
		Awards:   each(awards, s.shownAward), Events: each(events, event), Deliveries: pages.deliveries(deliveries),
	}, err
}

// known gives what registers have of a person, who they were before they were merged, and their sections. Which other
// registers have them, and where else they are, is not for those who reach only some sections.
func (s *Server) known(ctx context.Context, id string) (records []personstore.Record, merges []personstore.Merge,
	sections []rosterstore.Whereabouts, err error,
) {
	if sections, err = s.Registers.WhereaboutsOf(ctx, id); err != nil {
		return nil, nil, nil, err
	}
	if reach(ctx) != nil {
		return nil, nil, slices.DeleteFunc(sections, func(w rosterstore.Whereabouts) bool {
			return !auth.Reach(ctx).Covers(w.SectionID)
		}), nil
	}
	if records, err = s.Persons.Records(ctx, id); err != nil {
		return nil, nil, nil, err
	}
	merges, err = s.Persons.Merges(ctx, id, "", 100)
	return records, merges, sections, err
}

func whereabouts(w rosterstore.Whereabouts) api.Whereabouts {
	return api.Whereabouts{
		SectionID: w.SectionID, Section: w.Section, Course: w.Course, Role: w.Role, JoinedAt: w.JoinedAt,
		LeftAt: w.LeftAt, Through: w.Through, BeginsOn: w.BeginsOn, PairingID: w.PairingID, Target: w.Target,
		Percent: w.Percent, From: w.From, Class: api.InClass(findings.InClassOf(w)),
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
	out := api.Progress{
		Percent: o.Percent, Done: o.Done, FirstAt: moment(o.First), LastAt: moment(o.Last),
		Elsewhere: o.Elsewhere, Modules: []api.ProgressModule{},
	}
	for _, m := range o.Modules {
		x := api.ProgressModule{
			ID: m.ID, Title: m.Title, Done: m.Done, Optional: m.Optional,
			Activities: []api.ProgressActivity{},
		}
		for _, a := range m.Activities {
			x.Activities = append(x.Activities, api.ProgressActivity{
				ID: a.ID, Title: a.Title, Kind: string(a.Kind), Depth: a.Depth, Counts: a.Counts, Done: a.Done,
				Word: a.Word(), Best: a.Best, FirstAt: moment(a.First), LastAt: moment(a.Last),
			})
		}
		out.Modules = append(out.Modules, x)
	}
	return out
}

// personAt is the input of an operation on a person's accounts at an interface.
type personAt struct {
	ID          string `path:"id" doc:"The person's id"`
	InterfaceID string `path:"interface" doc:"The interface's id"`
}

type accountAt struct {
	ID          string `path:"id" doc:"The person's id"`
	InterfaceID string `path:"interface" doc:"The interface's id"`
	Body        api.AccountChoice
}

func personStagePlan(l stages.PlanProgress) api.PersonStagePlan {
	return api.PersonStagePlan{
		ID: l.ID, Name: l.Name, Course: l.Course, Percent: l.Percent, Finished: l.Finished,
		Stages: each(l.Stages, func(x stages.StageProgress) api.StageProgress {
			return api.StageProgress{
				StageID: x.ID, Title: x.Title, Optional: x.Optional, Reached: x.Reached, ReachedAt: x.ReachedAt,
				Open: x.Open, Badge: x.Badge, BadgeID: x.BadgeID, Holds: x.Holds,
				Criteria: each(x.Asks,
					func(c stages.CriterionProgress) api.CriterionProgress { return criterionProgress(c) }),
			}
		}),
	}
}
