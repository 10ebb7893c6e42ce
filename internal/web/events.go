package web

import (
	"cmp"
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/wire/api"
)

type eventsInput struct {
	Paging
	Type    string `query:"type" doc:"Type of event, e.g. module.completed"`
	Person  string `query:"person" doc:"Id of a person"`
	Section string `query:"section" doc:"Id of a section"`
}

var listEventsOp = operation{
	ID: "list-events", Act: permission.Look, Of: permission.Listed,
	Method: http.MethodGet, Path: "/events", Status: http.StatusOK, Tag: "events",
	Summary: "List events, the newest first",
}

// events registers the operations about events.
func (s *Server) events(a huma.API) {
	handle(a, listEventsOp, s.listEvents)
}

func (s *Server) listEvents(ctx context.Context, in *eventsInput) (api.Page[api.Event], error) {
	all, err := s.Deliveries.Events(ctx, eventstore.EventFilter{
		Type: in.Type, PersonID: in.Person,
		SectionID: in.Section, Before: in.Cursor, Limit: in.Limit, Within: reach(ctx),
	})
	return api.Page[api.Event]{
		Items: each(all, event),
		Next:  last(all, in.Limit, func(e eventstore.ListedEvent) string { return e.ID }),
	}, err
}

func event(e eventstore.ListedEvent) api.Event {
	person := ""
	if e.PersonID != nil {
		person = *e.PersonID
	}
	return api.Event{
		PersonID: person, ID: e.ID, Type: e.Type, Person: e.Person, Section: e.Section, Course: e.Course,
		ModuleID: e.ModuleID, Module: e.Module, ActivityID: e.ActivityID, Activity: e.Activity,
		Data: e.Data, OccurredAt: e.OccurredAt, RecordedAt: e.RecordedAt, Deliveries: e.Deliveries,
		Waiting: e.Waiting,
	}
}

func delivery(d deliverystore.ListedDelivery) api.Delivery {
	return api.Delivery{
		ID: d.ID, EventID: d.EventID, EventType: d.EventType, RuleID: given(d.RuleID), OfferID: given(d.OfferID),
		StagePlanID: given(d.StagePlanID), Version: d.RuleVersion, Undoes: given(d.Undoes), Reverted: d.Reverted,
		Section: d.Section, Held: cmp.Or(d.Held, d.HeldNow), DueAt: d.DueAt, Rule: d.Rule, Action: d.Action.Kind,
		Interface: d.Interface, Person: d.Person,
		State: d.State, Attempts: d.Attempts, NextAt: d.NextAt, Code: finding.Code(d.Code), Error: d.LastError,
		Result: d.Result, CreatedAt: d.CreatedAt, FinishedAt: d.FinishedAt,
	}
}
