package web

import (
	"context"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/offering"
	"kanban/internal/store"
	"kanban/internal/wire/api"
)

type sidesInput struct {
	Offer string `query:"offer" doc:"Id of an offer; all when absent"`
	Amiss bool   `query:"amiss" doc:"Only where access and enrolment do not go together"`
}

func (s *Server) offers(a huma.API) {
	handle(a, "access", "GET /offers list-offers List offers and whom they give access", func(ctx context.Context, _ *struct{}) (api.Page[api.Offer], error) {
		all, err := s.Store.Offers(ctx)
		if err != nil {
			return api.Page[api.Offer]{}, err
		}
		sides, err := s.Offering.Sides(ctx, "")
		return api.Page[api.Offer]{Items: each(all, func(o store.Offer) api.Offer { return shownOffer(o, sides) })}, err
	})
	handleTagged(a, "access", "GET /offers/{id} get-offer Show an offer", func(ctx context.Context, in *byID) (api.Offer, int, error) {
		o, err := s.Store.Offer(ctx, in.ID)
		return s.taggedOffer(ctx, o, err)
	})
	handleTagged(a, "access", "POST /offers make-offer Say to which sections something that is sold gives access", func(ctx context.Context, in *with[api.NewOffer]) (api.Offer, int, error) {
		o, err := s.Offering.Save(ctx, callerOf(ctx).Name, "", 0, offerOf(in.Body))
		return s.taggedOffer(ctx, o, err)
	})
	handleTagged(a, "access", "PUT /offers/{id} edit-offer Change an offer", func(ctx context.Context, in *edit[api.NewOffer]) (api.Offer, int, error) {
		v, err := version(in.IfMatch)
		if err != nil {
			return api.Offer{}, 0, err
		}
		o, err := s.Offering.Save(ctx, callerOf(ctx).Name, in.ID, v, offerOf(in.Body))
		return s.taggedOffer(ctx, o, err)
	})
	handleEmpty(a, "access", "DELETE /offers/{id} remove-offer Remove an offer; whom it enrolled stays enrolled", func(ctx context.Context, in *byID) error {
		return s.Offering.Remove(ctx, callerOf(ctx).Name, in.ID)
	})
	handle(a, "access", "POST /connections/{id}/meaning try-meaning Try what a service's expressions make of the latest events that it reported", func(ctx context.Context, in *withID[api.MeaningTry]) (api.Meaning, error) {
		t, err := s.Offering.TryMapping(ctx, in.ID, in.Body.Values)
		return api.Meaning{Mapping: t.Mapping, Wrong: t.Wrong, Examples: each(t.Examples, meaningExample)}, err
	})
	handle(a, "access", "GET /sides list-sides Access and enrolment side by side", func(ctx context.Context, in *sidesInput) ([]api.Side, error) {
		all, err := s.Offering.Sides(ctx, in.Offer)
		out := []api.Side{}
		for _, x := range all {
			if !in.Amiss || x.Verdict == offering.Missing || x.Verdict == offering.Surplus {
				out = append(out, shownSide(x))
			}
		}
		return out, err
	})
	handle(a, "access", "GET /unmapped list-unmapped What was bought and leads nowhere", func(ctx context.Context, _ *struct{}) ([]api.Unmapped, error) {
		all, err := s.Store.Unmapped(ctx)
		return each(all, func(u store.Unmapped) api.Unmapped { return api.Unmapped(u) }), err
	})
}

func optional(id string) *string {
	if id == "" {
		return nil
	}
	return &id
}

func offerOf(n api.NewOffer) store.Offer {
	return store.Offer{
		Name: n.Name, ConnectionID: n.ConnectionID, Offer: n.Offer, SectionIDs: n.SectionIDs, CourseID: optional(n.CourseID), TermRule: n.TermRule,
		PlatformID: optional(n.PlatformID), GraceDays: n.GraceDays, AtEnd: n.AtEnd, OnlyBuyers: n.OnlyBuyers,
	}
}

func (s *Server) taggedOffer(ctx context.Context, o store.Offer, err error) (api.Offer, int, error) {
	if err != nil {
		return api.Offer{}, 0, err
	}
	sides, err := s.Offering.Sides(ctx, o.ID)
	return shownOffer(o, sides), o.Version, err
}

func shownOffer(o store.Offer, sides []offering.Side) api.Offer {
	out := api.Offer{
		NewOffer: api.NewOffer{
			Name: o.Name, ConnectionID: o.ConnectionID, Offer: o.Offer, SectionIDs: o.SectionIDs, TermRule: o.TermRule,
			CourseID: given(o.CourseID), PlatformID: given(o.PlatformID), GraceDays: o.GraceDays, AtEnd: o.AtEnd, OnlyBuyers: o.OnlyBuyers,
		},
		ID: o.ID, Version: o.Version,
	}
	for _, x := range sides {
		if x.OfferID != o.ID {
			continue
		}
		switch x.Access {
		case "active", "grace":
			out.Active++
		case "ended":
			out.Ended++
		}
		if x.Verdict == offering.Missing || x.Verdict == offering.Surplus {
			out.Amiss++
		}
	}
	return out
}

func shownSide(x offering.Side) api.Side {
	return api.Side{
		OfferID: x.OfferID, Offer: x.Offer, SectionID: x.SectionID, Section: x.Section, PersonID: given(x.PersonID), Person: x.Person, Access: x.Access,
		EndsOn: x.EndsOn, Enrolled: x.Enrolled, Delivery: given(x.Delivery), State: x.State, Verdict: string(x.Verdict), Since: x.Since,
	}
}

// given is what a pointer leads to, empty when it leads nowhere.
func given(id *string) string {
	if id == nil {
		return ""
	}
	return *id
}

func meaningExample(x offering.Example) api.MeaningExample {
	reported, _ := x.Data["reported"].(string)
	values := map[string]string{"person": x.Person, "offer": x.Offer, "order": x.Order, "buyerName": x.BuyerName, "starts": fmt.Sprint(x.Starts), "ends": fmt.Sprint(x.Ends)}
	return api.MeaningExample{
		EventID: x.ID, At: x.OccurredAt, Reported: reported, Means: x.Means, Values: values, Problems: x.Problems, Known: x.Known, Leads: x.Leads, Places: x.Places,
	}
}
