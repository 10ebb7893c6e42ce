package web

import (
	"context"
	"net/http"
	"time"

	"kanban/internal/core/permission"
	"kanban/internal/store/deliverystore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"

	"github.com/danielgtaylor/huma/v2"
)

var (
	listDeliveriesOp = operation{
		ID: "list-deliveries", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/deliveries", Status: http.StatusOK, Tag: "events",
		Summary: "List deliveries, the newest first",
	}
	listAttemptsOp = operation{
		ID: "list-attempts", Act: permission.Look, Of: permission.OfDelivery,
		Method: http.MethodGet, Path: "/deliveries/{id}/attempts",
		Status: http.StatusOK, Tag: "events",
		Summary: "Every try of a delivery",
	}
	retryDeliveryOp = operation{
		ID: "retry-delivery", Act: permission.Rules,
		Method: http.MethodPost, Path: "/deliveries/{id}/retry",
		Status: http.StatusNoContent, Tag: "events",
		Summary: "Try a delivery again now",
	}
	retryDeliveriesOp = operation{
		ID: "retry-deliveries", Act: permission.Rules,
		Method: http.MethodPost, Path: "/deliveries/retry",
		Status: http.StatusOK, Tag: "events",
		Summary: "Try many again now: those of a rule, of an interface, or everything since a time",
	}
	giveUpDeliveriesOp = operation{
		ID: "give-up-deliveries", Act: permission.Rules,
		Method: http.MethodPost, Path: "/deliveries/give-up",
		Status: http.StatusOK, Tag: "events",
		Summary: "Give up what is still to come: one, those of a rule, or those to an interface, with a reason",
	}
)

// deliveries registers the operations about deliveries.
func (s *Server) deliveries(a huma.API) {
	handle(a, listDeliveriesOp, s.listDeliveries)
	handle(a, listAttemptsOp, s.listAttempts)
	handleEmpty(a, retryDeliveryOp, s.retryDelivery)
	handle(a, retryDeliveriesOp, s.retryDeliveries)
	handle(a, giveUpDeliveriesOp, s.giveUpDeliveries)
}

func (s *Server) listDeliveries(ctx context.Context, in *deliveriesInput) (api.Page[api.Delivery], error) {
	all, err := s.Deliveries.Deliveries(ctx, deliverystore.DeliveryFilter{
		EventID: in.Event, RuleID: in.Rule, OfferID: in.Offer, StagePlanID: in.StagePlan, PersonID: in.Person,
		SectionID: in.Section, InterfaceID: in.Interface, State: in.State, Since: in.Since, Until: in.Until,
		Before: in.Cursor, Limit: in.Limit, Within: reach(ctx),
	})
	if err != nil {
		return api.Page[api.Delivery]{}, err
	}
	pages, err := s.counterparts(ctx)
	return api.Page[api.Delivery]{
		Items: pages.deliveries(all),
		Next:  last(all, in.Limit, func(d deliverystore.ListedDelivery) string { return d.ID }),
	}, err
}

func (s *Server) listAttempts(ctx context.Context, in *byID) ([]api.Attempt, error) {
	if _, err := s.Deliveries.FindDelivery(ctx, in.ID); err != nil {
		return nil, err
	}
	all, err := s.Deliveries.Attempts(ctx, in.ID)
	return each(all, func(a deliverystore.Attempt) api.Attempt {
		return api.Attempt{
			Number: a.Number, StartedAt: a.StartedAt, Millis: a.Millis, Status: a.Status,
			Request: a.Request, Answer: a.Answer, Error: a.Error,
		}
	}), err
}

func (s *Server) retryDelivery(ctx context.Context, in *byID) error {
	return s.Deliveries.Retry(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) retryDeliveries(ctx context.Context, in *with[api.RetryRequest]) (api.Retried, error) {
	f := deliverystore.DeliveryFilter{
		RuleID: in.Body.RuleID, InterfaceID: in.Body.InterfaceID,
		OfferID: in.Body.OfferID,
	}
	if in.Body.Since != nil {
		f.Since = *in.Body.Since
	}
	n, err := s.Deliveries.RetryAll(ctx, auth.Caller(ctx).Name, f)
	return api.Retried{Deliveries: n}, err
}

func (s *Server) giveUpDeliveries(ctx context.Context, in *with[api.GiveUpRequest]) (api.GivenUp, error) {
	f := deliverystore.DeliveryFilter{
		ID: in.Body.ID, RuleID: in.Body.RuleID, InterfaceID: in.Body.InterfaceID,
		State: in.Body.State,
	}
	stopped, underWay, err := s.Deliveries.GiveUp(ctx, auth.Caller(ctx).Name, f, in.Body.Reason)
	return api.GivenUp{Stopped: stopped, UnderWay: underWay}, err
}

type deliveriesInput struct {
	Paging
	Event     string    `query:"event" doc:"Id of an event"`
	Rule      string    `query:"rule" doc:"Id of a rule"`
	State     string    `query:"state" enum:",planned,queued,retrying,delivered,waiting,skipped,stopped" doc:"Only those in this state"`
	Person    string    `query:"person" doc:"Id of a person"`
	Section   string    `query:"section" doc:"Id of a section"`
	Interface string    `query:"interface" doc:"Id of an interface"`
	Offer     string    `query:"offer" doc:"Id of an offer"`
	StagePlan string    `query:"stagePlan" doc:"Id of a stage plan"`
	Since     time.Time `query:"since" doc:"Made at or after then"`
	Until     time.Time `query:"until" doc:"Made before then"`
}
