package web

import (
	"cmp"
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/core/finding"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type eventsInput struct {
	Paging
	Type    string `query:"type" doc:"Type of event, e.g. module.completed"`
	Person  string `query:"person" doc:"Id of a person"`
	Section string `query:"section" doc:"Id of a section"`
}

type deliveriesInput struct {
	Paging
	Event      string    `query:"event" doc:"Id of an event"`
	Rule       string    `query:"rule" doc:"Id of a rule"`
	State      string    `query:"state" enum:",planned,queued,retrying,delivered,waiting,skipped,stopped" doc:"Only those in this state"`
	Person     string    `query:"person" doc:"Id of a person"`
	Section    string    `query:"section" doc:"Id of a section"`
	Connection string    `query:"connection" doc:"Id of a connection"`
	Offer      string    `query:"offer" doc:"Id of an offer"`
	StagePlan  string    `query:"stagePlan" doc:"Id of a stage plan"`
	Since      time.Time `query:"since" doc:"Made at or after then"`
	Until      time.Time `query:"until" doc:"Made before then"`
}

type cartridgeInput struct {
	ID      string `path:"id" doc:"The course's id"`
	Prefix  string `query:"prefix" required:"true" doc:"With an item's identifier it gives the IRI under which the activity's statements come"`
	RawBody []byte `contentType:"application/xml"`
}

func (s *Server) events(a huma.API) {
	handle(a, operation{
		ID: "list-events", Method: http.MethodGet, Path: "/events", Status: http.StatusOK,
		Tag: "events", Summary: "List events, the newest first",
	}, func(ctx context.Context, in *eventsInput) (api.Page[api.Event], error) {
		all, err := s.Deliveries.Events(ctx, eventstore.EventFilter{Type: in.Type, PersonID: in.Person, SectionID: in.Section, Before: in.Cursor, Limit: in.Limit})
		return api.Page[api.Event]{Items: each(all, event), Next: last(all, in.Limit, func(e eventstore.ListedEvent) string { return e.ID })}, err
	})
	handle(a, operation{
		ID: "list-deliveries", Method: http.MethodGet, Path: "/deliveries", Status: http.StatusOK,
		Tag: "events", Summary: "List deliveries, the newest first",
	}, func(ctx context.Context, in *deliveriesInput) (api.Page[api.Delivery], error) {
		all, err := s.Deliveries.Deliveries(ctx, deliverystore.DeliveryFilter{
			EventID: in.Event, RuleID: in.Rule, OfferID: in.Offer, StagePlanID: in.StagePlan, PersonID: in.Person, SectionID: in.Section, ConnectionID: in.Connection, State: in.State, Since: in.Since, Until: in.Until, Before: in.Cursor, Limit: in.Limit,
		})
		return api.Page[api.Delivery]{Items: each(all, delivery), Next: last(all, in.Limit, func(d deliverystore.ListedDelivery) string { return d.ID })}, err
	})
	handle(a, operation{
		ID: "list-attempts", Method: http.MethodGet, Path: "/deliveries/{id}/attempts", Status: http.StatusOK,
		Tag: "events", Summary: "Every try of a delivery",
	}, func(ctx context.Context, in *byID) ([]api.Attempt, error) {
		if _, err := s.Deliveries.FindDelivery(ctx, in.ID); err != nil {
			return nil, err
		}
		all, err := s.Deliveries.Attempts(ctx, in.ID)
		return each(all, func(a deliverystore.Attempt) api.Attempt {
			return api.Attempt{Number: a.Number, StartedAt: a.StartedAt, Millis: a.Millis, Status: a.Status, Request: a.Request, Answer: a.Answer, Error: a.Error}
		}), err
	})
	handleEmpty(a, operation{
		ID: "retry-delivery", Method: http.MethodPost, Path: "/deliveries/{id}/retry", Status: http.StatusNoContent,
		Tag: "events", Summary: "Try a delivery again now",
	}, func(ctx context.Context, in *byID) error {
		return s.Deliveries.Retry(ctx, auth.Caller(ctx).Name, in.ID)
	})
	handle(a, operation{
		ID: "retry-deliveries", Method: http.MethodPost, Path: "/deliveries/retry", Status: http.StatusOK,
		Tag: "events", Summary: "Try many again now: those of a rule, of a connection, or everything since a time",
	}, func(ctx context.Context, in *with[api.RetryRequest]) (api.Retried, error) {
		f := deliverystore.DeliveryFilter{RuleID: in.Body.RuleID, ConnectionID: in.Body.ConnectionID, OfferID: in.Body.OfferID}
		if in.Body.Since != nil {
			f.Since = *in.Body.Since
		}
		n, err := s.Deliveries.RetryAll(ctx, auth.Caller(ctx).Name, f)
		return api.Retried{Deliveries: n}, err
	})
	handle(a, operation{
		ID: "give-up-deliveries", Method: http.MethodPost, Path: "/deliveries/give-up", Status: http.StatusOK,
		Tag: "events", Summary: "Give up what is still to come: one, those of a rule, or those to a connection, with a reason",
	}, func(ctx context.Context, in *with[api.GiveUpRequest]) (api.GivenUp, error) {
		f := deliverystore.DeliveryFilter{ID: in.Body.ID, RuleID: in.Body.RuleID, ConnectionID: in.Body.ConnectionID, State: in.Body.State}
		stopped, underWay, err := s.Deliveries.GiveUp(ctx, auth.Caller(ctx).Name, f, in.Body.Reason)
		return api.GivenUp{Stopped: stopped, UnderWay: underWay}, err
	})
	handle(a, operation{
		ID: "list-courses", Method: http.MethodGet, Path: "/courses", Status: http.StatusOK,
		Tag: "courses", Summary: "List courses",
	}, func(ctx context.Context, _ *struct{}) (api.Page[api.Course], error) {
		all, err := s.Outlines.Courses(ctx)
		return api.Page[api.Course]{Items: each(all, func(c learningstore.Course) api.Course {
			return api.Course{ID: c.ID, Title: c.Title, Code: c.Code, Activities: c.OutlineSize}
		})}, err
	})
	handle(a, operation{
		ID: "get-outline", Method: http.MethodGet, Path: "/courses/{id}/outline", Status: http.StatusOK,
		Tag: "courses", Summary: "Show a course's outline",
	}, func(ctx context.Context, in *byID) (api.Outline, error) {
		return s.Outlines.Outline(ctx, in.ID)
	})
	handleEmpty(a, operation{
		ID: "set-outline", Method: http.MethodPut, Path: "/courses/{id}/outline", Status: http.StatusNoContent,
		Tag: "courses", Summary: "Set a course's outline",
	}, func(ctx context.Context, in *withID[api.Outline]) error {
		return s.Outlines.SetOutline(ctx, auth.Caller(ctx).Name, in.ID, in.Body)
	})
	handle(a, operation{
		ID: "load-cartridge", Method: http.MethodPut, Path: "/courses/{id}/cartridge", Status: http.StatusOK,
		Tag: "courses", Summary: "Set a course's outline from a Common Cartridge: a package (.imscc) or its manifest",
	}, func(ctx context.Context, in *cartridgeInput) (api.Outline, error) {
		return s.Outlines.LoadCartridge(ctx, auth.Caller(ctx).Name, in.ID, in.Prefix, in.RawBody)
	})
}

func event(e eventstore.ListedEvent) api.Event {
	person := ""
	if e.PersonID != nil {
		person = *e.PersonID
	}
	return api.Event{
		PersonID: person, ID: e.ID, Type: e.Type, Person: e.Person, Section: e.Section, Course: e.Course, ModuleID: e.ModuleID, Module: e.Module, ActivityID: e.ActivityID, Activity: e.Activity,
		Data: e.Data, OccurredAt: e.OccurredAt, RecordedAt: e.RecordedAt, Deliveries: e.Deliveries, Waiting: e.Waiting,
	}
}

func delivery(d deliverystore.ListedDelivery) api.Delivery {
	return api.Delivery{
		ID: d.ID, EventID: d.EventID, EventType: d.EventType, RuleID: given(d.RuleID), OfferID: given(d.OfferID), StagePlanID: given(d.StagePlanID), Version: d.RuleVersion, Undoes: given(d.Undoes), Reverted: d.Reverted,
		Section: d.Section, Held: cmp.Or(d.Held, d.HeldNow), DueAt: d.DueAt, Rule: d.Rule, Action: d.Action.Kind, Connection: d.Connection, Person: d.Person,
		State: d.State, Attempts: d.Attempts, NextAt: d.NextAt, Code: finding.Code(d.Code), Error: d.LastError, Result: d.Result, CreatedAt: d.CreatedAt, FinishedAt: d.FinishedAt,
	}
}
