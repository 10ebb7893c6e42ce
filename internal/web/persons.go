package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/persons"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/personstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type sameInput struct {
	Paging
	Certainty string `query:"certainty" enum:"sure,likely,unsure,ambiguous" doc:"Only these"`
	Text      string `query:"text" doc:"A part of a name, address or identifier of either"`
	Person    string `query:"person" doc:"Only those with a record of this person, by id"`
}

type mergesInput struct {
	Paging
	Person string `query:"person" doc:"Only this person's, by id"`
}

var (
	samePeopleOp = operation{
		ID: "list-same-people", Act: permission.Look,
		Method: http.MethodGet, Path: "/same-people", Status: http.StatusOK, Tag: "people",
		Summary: "Records of two registers that look like one person's, with what speaks for it",
	}
	mergeSameOp = operation{
		ID: "merge-same-people", Act: permission.Recognise,
		Method: http.MethodPost, Path: "/same-people/merge", Status: http.StatusOK,
		Tag: "people", Summary: "Make one person of pairs of records", Most: 2 << 20,
	}
	keepApartOp = operation{
		ID: "keep-people-apart", Act: permission.Recognise,
		Method: http.MethodPost, Path: "/same-people/two-people", Status: http.StatusOK,
		Tag: "people", Summary: "Say that pairs of records are two people's; they are not proposed again",
		Most: 2 << 20,
	}
	twoPeopleOp = operation{
		ID: "list-two-people", Act: permission.Look,
		Method: http.MethodGet, Path: "/same-people/two-people", Status: http.StatusOK,
		Tag: "people", Summary: "Pairs of records of which somebody said that they are two people's",
	}
	dropTwoPeopleOp = operation{
		ID: "drop-two-people", Act: permission.Recognise,
		Method: http.MethodDelete, Path: "/same-people/two-people/{id}",
		Status: http.StatusNoContent, Tag: "people",
		Summary: "Drop that a pair is two people; it may be proposed again",
	}
	mergePeopleOp = operation{
		ID: "merge-people", Act: permission.Recognise,
		Method: http.MethodPost, Path: "/people/{id}/merge", Status: http.StatusOK,
		Tag:     "people",
		Summary: "Make one person of two, with a choice where both have an account at a service",
	}
	mergesOp = operation{
		ID: "list-merges", Act: permission.Look,
		Method: http.MethodGet, Path: "/merges", Status: http.StatusOK, Tag: "people",
		Summary: "People who became one, the latest first",
	}
	splitOp = operation{
		ID: "split-people", Act: permission.Recognise,
		Method: http.MethodPost, Path: "/merges/{id}/split", Status: http.StatusOK,
		Tag:     "people",
		Summary: "Make two people of one again, each with what was theirs",
	}
)

// persons registers the operations about people whom several registers have.
func (s *Server) persons(a huma.API) {
	handle(a, samePeopleOp, s.samePeople)
	handle(a, mergeSameOp, s.mergeSame)
	handle(a, keepApartOp, s.keepApart)
	handle(a, twoPeopleOp, s.twoPeople)
	handleEmpty(a, dropTwoPeopleOp, s.dropTwoPeople)
	handle(a, mergePeopleOp, s.mergePeople)
	handle(a, mergesOp, s.merges)
	handle(a, splitOp, s.split)
}

func record(r personstore.Record) api.Record {
	return api.Record{
		PersonID: r.PersonID, InterfaceID: r.InterfaceID, Register: r.Register, SourcedID: r.SourcedID,
		Name: r.GivenName + " " + r.FamilyName, Email: r.Email, UserName: r.UserName, Identifier: r.Identifier,
		Leads: r.Leads, Left: r.Left, Enrolments: r.Enrolments,
	}
}

func shownMerge(m personstore.Merge) api.Merge {
	return api.Merge{
		ID: m.ID, PersonID: m.PersonID, OtherID: m.OtherID, Name: m.Name, Other: m.Other, Evidence: m.Evidence,
		MergedBy: m.MergedBy, MergedAt: m.MergedAt,
	}
}

func mergeOutcome(o persons.Outcome) api.MergeOutcome {
	return api.MergeOutcome{
		PersonID: o.PersonID, OtherID: o.OtherID, Name: o.Name, Other: o.Other, MergeID: o.MergeID, Why: o.Why,
		Clashes: each(o.Clashes, func(c personstore.Clash) api.Clash {
			return api.Clash{
				Kind: c.Kind, InterfaceID: c.InterfaceID, Subject: c.Subject, Mine: c.Mine,
				Theirs: c.Theirs,
			}
		}),
	}
}

func (s *Server) samePeople(ctx context.Context, in *sameInput) (api.SamePeople, error) {
	list, counts, err := s.Persons.Same(ctx, personstore.SameFilter{
		Certainty: roster.Certainty(in.Certainty), Text: in.Text, PersonID: in.Person, After: in.Cursor,
		Limit: in.Limit,
	})
	return api.SamePeople{
		Items: each(list, func(x personstore.Same) api.SamePerson {
			return api.SamePerson{
				ID: x.ID, Certainty: string(x.Certainty), Signs: x.Signs, A: record(x.A), B: record(x.B),
			}
		}), Counts: counts, Next: last(list, in.Limit, func(x personstore.Same) string { return x.ID }),
	}, err
}

func (s *Server) mergeSame(ctx context.Context, in *with[api.MergeSame]) (out api.MergeOutcomes, err error) {
	all, err := s.Persons.MergeSame(ctx, auth.Caller(ctx).Name, in.Body.IDs, in.Body.Sure, in.Body.Expected)
	out.Refused = []api.MergeOutcome{}
	for _, o := range all {
		if o.MergeID != "" {
			out.Merged++
		} else {
			out.Refused = append(out.Refused, mergeOutcome(o))
		}
	}
	return out, err
}

func (s *Server) keepApart(ctx context.Context, in *with[api.Pairs]) (api.Decided, error) {
	n, err := s.Persons.KeepApart(ctx, auth.Caller(ctx).Name, in.Body.IDs)
	return api.Decided{Count: n}, err
}

func (s *Server) twoPeople(ctx context.Context, _ *struct{}) (api.Page[api.TwoPeople], error) {
	all, err := s.Persons.KeptApart(ctx)
	return api.Page[api.TwoPeople]{
		Items: each(all, func(x personstore.Apart) api.TwoPeople { return api.TwoPeople(x) }), Total: len(all),
	}, err
}

func (s *Server) dropTwoPeople(ctx context.Context, in *byID) error {
	return s.Persons.Forget(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) mergePeople(ctx context.Context, in *withID[api.MergePeople]) (api.MergeOutcome, error) {
	o, err := s.Persons.MergeTwo(ctx, auth.Caller(ctx).Name,
		persons.Wish{PersonID: in.ID, OtherID: in.Body.OtherID, Accounts: in.Body.Accounts})
	return mergeOutcome(o), err
}

func (s *Server) merges(ctx context.Context, in *mergesInput) (api.Page[api.Merge], error) {
	all, err := s.Persons.Merges(ctx, in.Person, in.Cursor, in.Limit)
	return api.Page[api.Merge]{
		Items: each(all, shownMerge), Next: last(all, in.Limit, func(m personstore.Merge) string { return m.ID }),
	}, err
}

func (s *Server) split(ctx context.Context, in *byID) (api.Merge, error) {
	m, err := s.Persons.Split(ctx, auth.Caller(ctx).Name, in.ID)
	return shownMerge(m), err
}
