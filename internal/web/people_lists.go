package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/lists"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type listedInput struct {
	ID string `path:"id" doc:"The list's id"`
	Paging
}

var (
	listPeopleListsOp = operation{
		ID: "list-people-lists", Act: permission.Look,
		Method: http.MethodGet, Path: "/people-lists",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Lists of people that can be paired like a section",
	}
	makePeopleListOp = operation{
		ID: "make-people-list", Act: permission.Rosters,
		Method: http.MethodPost, Path: "/people-lists",
		Status: http.StatusCreated, Tag: "sections",
		Summary: "Make a list of people that can be paired like a section",
	}
	getPeopleListOp = operation{
		ID: "get-people-list", Act: permission.Look,
		Method: http.MethodGet, Path: "/people-lists/{id}",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Show a people list",
	}
	editPeopleListOp = operation{
		ID: "edit-people-list", Act: permission.Rosters,
		Method: http.MethodPatch, Path: "/people-lists/{id}",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Rename a people list, or put named people on it and take some off",
	}
	removePeopleListOp = operation{
		ID: "remove-people-list", Act: permission.Rosters,
		Method: http.MethodDelete, Path: "/people-lists/{id}",
		Status: http.StatusNoContent, Tag: "sections",
		Summary: "Remove a people list that is not paired",
	}
	listPeopleOfListOp = operation{
		ID: "list-people-of-list", Act: permission.Look,
		Method: http.MethodGet, Path: "/people-lists/{id}/people",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Who is on a people list now",
	}
	listOrganisationsOp = operation{
		ID: "list-organisations", Act: permission.Look,
		Method: http.MethodGet, Path: "/organisations",
		Status: http.StatusOK, Tag: "sections",
		Summary: "Organisations of the registers",
	}
)

// peopleLists registers the operations about lists of people.
func (s *Server) peopleLists(a huma.API) {
	handle(a, listPeopleListsOp, s.listPeopleLists)
	handleTagged(a, makePeopleListOp, s.makePeopleList)
	handleTagged(a, getPeopleListOp, s.getPeopleList)
	handleTagged(a, editPeopleListOp, s.editPeopleList)
	handleEmpty(a, removePeopleListOp, s.removePeopleList)
	handle(a, listPeopleOfListOp, s.listPeopleOfList)
	handle(a, listOrganisationsOp, s.listOrganisations)
}

func (s *Server) listPeopleLists(ctx context.Context, in *Paging) (api.Page[api.PeopleList], error) {
	all, err := s.Registers.PeopleLists(ctx)
	if err != nil {
		return api.Page[api.PeopleList]{}, err
	}
	part, next, err := paged(all, in.Cursor, in.Limit)
	out := api.Page[api.PeopleList]{Next: next, Items: []api.PeopleList{}}
	for _, l := range part {
		shown, err := s.peopleList(ctx, l)
		if err != nil {
			return out, err
		}
		out.Items = append(out.Items, shown)
	}
	return out, err
}

func (s *Server) makePeopleList(ctx context.Context, in *with[api.NewPeopleList]) (api.PeopleList, int, error) {
	l, err := s.Lists.Make(ctx, auth.Caller(ctx).Name, lists.Wish(in.Body))
	return s.shownList(ctx, l, err)
}

func (s *Server) getPeopleList(ctx context.Context, in *byID) (api.PeopleList, int, error) {
	l, err := s.Registers.FindPeopleList(ctx, in.ID)
	return s.shownList(ctx, l, err)
}

func (s *Server) editPeopleList(ctx context.Context, in *edit[api.EditPeopleList]) (api.PeopleList, int, error) {
	v, err := version(in.IfMatch)
	if err != nil {
		return api.PeopleList{}, 0, err
	}
	l, err := s.Lists.Change(ctx, auth.Caller(ctx).Name, in.ID, v, lists.Edit(in.Body))
	return s.shownList(ctx, l, err)
}

func (s *Server) removePeopleList(ctx context.Context, in *byID) error {
	return s.Lists.Remove(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) listPeopleOfList(ctx context.Context, in *listedInput) (api.Page[api.Listed], error) {
	if _, err := s.Registers.FindPeopleList(ctx, in.ID); err != nil {
		return api.Page[api.Listed]{}, err
	}
	all, err := s.Registers.PeopleOf(ctx, in.ID)
	if err != nil {
		return api.Page[api.Listed]{}, err
	}
	items, next, err := paged(all, in.Cursor, in.Limit)
	return api.Page[api.Listed]{Next: next, Items: each(items, func(l rosterstore.Listing) api.Listed {
		return api.Listed{
			PersonID: l.PersonID, Name: l.Name, Identifier: l.Identifier, Role: roster.Role(l.Role),
			Begins: l.Begins,
		}
	})}, err
}

func (s *Server) listOrganisations(ctx context.Context, in *Paging) (api.Page[api.Organisation], error) {
	all, err := s.Registers.Orgs(ctx)
	if err != nil {
		return api.Page[api.Organisation]{}, err
	}
	items, next, err := paged(all, in.Cursor, in.Limit)
	return api.Page[api.Organisation]{Next: next, Items: each(items, func(o rosterstore.Org) api.Organisation {
		return api.Organisation{ID: o.ID, Name: o.Name, Type: o.Type, InterfaceID: o.InterfaceID}
	})}, err
}

func (s *Server) shownList(ctx context.Context, l rosterstore.PeopleList, err error) (api.PeopleList, int, error) {
	if err != nil {
		return api.PeopleList{}, 0, err
	}
	out, err := s.peopleList(ctx, l)
	return out, out.Version, err
}

func (s *Server) peopleList(ctx context.Context, l rosterstore.PeopleList) (api.PeopleList, error) {
	x, err := s.Registers.FindSection(ctx, l.ID)
	if err != nil {
		return api.PeopleList{}, err
	}
	pairings, err := s.Linking.PairingsOfSections(ctx, []string{l.ID})
	return api.PeopleList{
		ID: l.ID, Kind: l.Kind, Name: l.Name, InterfaceID: l.InterfaceID, Learners: x.Learners,
		Teachers: x.Teachers, Gone: x.Gone,
		Targets: each(pairings, func(p pairingstore.Pairing) string { return p.TargetName }), MadeBy: l.MadeBy,
		CreatedAt: l.CreatedAt, Version: l.Version,
	}, err
}
