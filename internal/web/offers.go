package web

import (
	"cmp"
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/purchases"
	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/store/purchasestore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type sidesInput struct {
	Offer      string `query:"offer" doc:"Id of an offer; all when absent"`
	Mismatches bool   `query:"mismatches" doc:"Only where access and enrolment do not agree"`
}

type accessesInput struct {
	Paging
	Offer    string `query:"offer" doc:"Id of an offer; all when absent"`
	Person   string `query:"person" doc:"Id of a person"`
	Troubled bool   `query:"troubled" doc:"Only what gives nothing although it should"`
}

var (
	listOffersOp = operation{
		ID: "list-offers", Act: permission.Look,
		Method: http.MethodGet, Path: "/offers", Status: http.StatusOK, Tag: "access",
		Summary: "List offers and whom they give access",
	}
	getOfferOp = operation{
		ID: "get-offer", Act: permission.Look,
		Method: http.MethodGet, Path: "/offers/{id}", Status: http.StatusOK, Tag: "access",
		Summary: "Show an offer",
	}
	makeOfferOp = operation{
		ID: "make-offer", Act: permission.Rules,
		Method: http.MethodPost, Path: "/offers", Status: http.StatusCreated, Tag: "access",
		Summary: "Say to which sections something that is sold gives access",
	}
	editOfferOp = operation{
		ID: "edit-offer", Act: permission.Rules,
		Method: http.MethodPut, Path: "/offers/{id}", Status: http.StatusOK, Tag: "access",
		Summary: "Change an offer",
	}
	removeOfferOp = operation{
		ID: "remove-offer", Act: permission.Rules,
		Method: http.MethodDelete, Path: "/offers/{id}",
		Status: http.StatusNoContent, Tag: "access",
		Summary: "Remove an offer; whom it enrolled stays enrolled",
	}
	listSidesOp = operation{
		ID: "list-sides", Act: permission.Look,
		Method: http.MethodGet, Path: "/sides", Status: http.StatusOK, Tag: "access",
		Summary: "Access and enrolment side by side",
	}
	listAccessesOp = operation{
		ID: "list-accesses", Act: permission.Look,
		Method: http.MethodGet, Path: "/accesses", Status: http.StatusOK, Tag: "access",
		Summary: "List what was bought and what was given by hand, one purchase a line, the newest first",
	}
	giveAccessOp = operation{
		ID: "give-access", Act: permission.Rules,
		Method: http.MethodPost, Path: "/offers/{id}/accesses",
		Status: http.StatusOK, Tag: "access",
		Summary: "Give a person by hand what an offer leads to, until a time and for a reason",
	}
	endAccessOp = operation{
		ID: "end-access", Act: permission.Rules,
		Method: http.MethodPost, Path: "/accesses/{id}/end",
		Status: http.StatusNoContent, Tag: "access",
		Summary: "End access that was given by hand",
	}
	assignAccessOp = operation{
		ID: "assign-access", Act: permission.Rules,
		Method: http.MethodPost, Path: "/accesses/{id}/person",
		Status: http.StatusNoContent, Tag: "access",
		Summary: "Say whose a purchase is when Kanban cannot know",
	}
	switchOfferOp = operation{
		ID: "switch-offer", Act: permission.Rules,
		Method: http.MethodPost, Path: "/offers/{id}/switch", Status: http.StatusOK, Tag: "access",
		Summary: "Switch an offer on or off; what is bought meanwhile counts as soon as it is on",
	}
	listUnmappedOp = operation{
		ID: "list-unmapped", Act: permission.Look,
		Method: http.MethodGet, Path: "/unmapped", Status: http.StatusOK, Tag: "access",
		Summary: "What was bought and leads nowhere",
	}
)

// offers registers the operations about offers and the access that they give.
func (s *Server) offers(a huma.API) {
	handle(a, listOffersOp, s.listOffers)
	handleTagged(a, getOfferOp, s.getOffer)
	handleTagged(a, makeOfferOp, s.makeOffer)
	handleTagged(a, editOfferOp, s.editOffer)
	handleEmpty(a, removeOfferOp, s.removeOffer)
	handleTagged(a, switchOfferOp, s.switchOffer)
	handle(a, listSidesOp, s.listSides)
	handle(a, listAccessesOp, s.listAccesses)
	handle(a, giveAccessOp, s.giveAccess)
	handleEmpty(a, endAccessOp, s.endAccess)
	handleEmpty(a, assignAccessOp, s.assignAccess)
	handle(a, listUnmappedOp, s.listUnmapped)
}

func (s *Server) listOffers(ctx context.Context, _ *struct{}) (api.Page[api.Offer], error) {
	all, err := s.Purchases.Offers(ctx)
	if err != nil {
		return api.Page[api.Offer]{}, err
	}
	sides, err := s.Purchases.Sides(ctx, "")
	return api.Page[api.Offer]{Items: each(all, func(o purchasestore.Offer) api.Offer {
		return shownOffer(o,
			sides)
	})}, err
}

func (s *Server) getOffer(ctx context.Context, in *byID) (api.Offer, int, error) {
	o, err := s.Purchases.FindOffer(ctx, in.ID)
	return s.taggedOffer(ctx, o, err)
}

func (s *Server) makeOffer(ctx context.Context, in *with[api.NewOffer]) (api.Offer, int, error) {
	o, err := s.Purchases.Save(ctx, auth.Caller(ctx).Name, "", 0, offerOf(in.Body))
	return s.taggedOffer(ctx, o, err)
}

func (s *Server) editOffer(ctx context.Context, in *edit[api.NewOffer]) (api.Offer, int, error) {
	v, err := version(in.IfMatch)
	if err != nil {
		return api.Offer{}, 0, err
	}
	o, err := s.Purchases.Save(ctx, auth.Caller(ctx).Name, in.ID, v, offerOf(in.Body))
	return s.taggedOffer(ctx, o, err)
}

func (s *Server) switchOffer(ctx context.Context, in *withID[api.Switch]) (api.Offer, int, error) {
	o, err := s.Purchases.Switch(ctx, auth.Caller(ctx).Name, in.ID, in.Body.On)
	return s.taggedOffer(ctx, o, err)
}

func (s *Server) removeOffer(ctx context.Context, in *byID) error {
	return s.Purchases.Remove(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) listSides(ctx context.Context, in *sidesInput) ([]api.Side, error) {
	all, err := s.Purchases.Sides(ctx, in.Offer)
	out := []api.Side{}
	for _, x := range all {
		if !in.Mismatches || x.Verdict == purchases.Missing || x.Verdict == purchases.Surplus {
			out = append(out, shownSide(x))
		}
	}
	return out, err
}

func (s *Server) listAccesses(ctx context.Context, in *accessesInput) (api.Page[api.Access], error) {
	all, err := s.Purchases.Accesses(ctx, purchasestore.AccessFilter{
		OfferID: in.Offer, PersonID: in.Person,
		Troubled: in.Troubled, Before: in.Cursor, Limit: in.Limit,
	})
	return api.Page[api.Access]{
		Items: each(all, s.shownAccess),
		Next:  last(all, in.Limit, func(x purchasestore.ListedAccess) string { return x.ID }),
	}, err
}

func (s *Server) giveAccess(ctx context.Context, in *withID[api.NewAccess]) (api.Access, error) {
	x, err := s.Purchases.Give(ctx, auth.Caller(ctx).Name, in.ID, in.Body.PersonID, in.Body.Until, in.Body.Reason)
	return s.oneAccess(ctx, x, err)
}

func (s *Server) endAccess(ctx context.Context, in *withID[api.Ending]) error {
	return s.Purchases.End(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Reason)
}

func (s *Server) assignAccess(ctx context.Context, in *withID[api.Whose]) error {
	return s.Purchases.Assign(ctx, auth.Caller(ctx).Name, in.ID, in.Body.PersonID)
}

func (s *Server) listUnmapped(ctx context.Context, _ *struct{}) ([]api.Unmapped, error) {
	all, err := s.Purchases.UnmappedOffers(ctx)
	return each(all, func(u purchasestore.Unmapped) api.Unmapped { return api.Unmapped(u) }), err
}

func (s *Server) oneAccess(ctx context.Context, a purchasestore.Access, err error) (api.Access, error) {
	if err != nil {
		return api.Access{}, err
	}
	all, err := s.Purchases.Accesses(ctx, purchasestore.AccessFilter{ID: a.ID, Limit: 1})
	if err != nil || len(all) == 0 {
		return api.Access{}, err
	}
	return s.shownAccess(all[0]), nil
}

func (s *Server) shownAccess(x purchasestore.ListedAccess) api.Access {
	out := api.Access{
		ID: x.ID, OfferID: given(x.OfferID), Offer: cmp.Or(x.OfferName,
			x.Offer), Name: x.Name, Order: x.OrderRef, PersonID: given(x.PersonID), Person: x.Person,
		Sections: x.Sections, StartedAt: x.StartedAt, EndsOn: x.EndsOn, GivenBy: x.GivenBy, Reason: x.Reason,
		State: "ended",
	}
	if strings.Contains(x.Buyer, "@") {
		out.Buyer = strings.TrimPrefix(x.Buyer, "unknown/")
	}
	if x.GivenBy != "" {
		out.Order = ""
	}
	if x.Trouble != "adopted" {
		out.Trouble, out.Why = x.Trouble, finding.Title(finding.Code(x.Trouble))
	}
	if out.Why == "" && out.OfferID == "" {
		out.Why = "no offer says where it leads"
	}
	now := s.Purchases.Clock.Now()
	switch {
	case !x.Holds(now):
	case len(x.SectionIDs) == 0:
		out.State = "none"
	case x.Over():
		out.State = "grace"
	default:
		out.State = "active"
	}
	return out
}

func optional(id string) *string {
	if id == "" {
		return nil
	}
	return &id
}

func offerOf(n api.NewOffer) purchasestore.Offer {
	return purchasestore.Offer{
		Name: n.Name, InterfaceID: n.InterfaceID, Offer: n.Offer, SectionIDs: n.SectionIDs,
		CourseID: optional(n.CourseID), TermRule: n.TermRule,
		PlatformID: optional(n.PlatformID), GraceDays: n.GraceDays, AtEnd: n.AtEnd, OnlyBuyers: n.OnlyBuyers,
	}
}

func (s *Server) taggedOffer(ctx context.Context, o purchasestore.Offer, err error) (api.Offer, int, error) {
	if err != nil {
		return api.Offer{}, 0, err
	}
	sides, err := s.Purchases.Sides(ctx, o.ID)
	return shownOffer(o, sides), o.Version, err
}

func shownOffer(o purchasestore.Offer, sides []purchases.Side) api.Offer {
	out := api.Offer{
		NewOffer: api.NewOffer{
			Name: o.Name, InterfaceID: o.InterfaceID, Offer: o.Offer, SectionIDs: o.SectionIDs,
			TermRule: o.TermRule,
			CourseID: given(o.CourseID), PlatformID: given(o.PlatformID), GraceDays: o.GraceDays, AtEnd: o.AtEnd,
			OnlyBuyers: o.OnlyBuyers,
		},
		ID: o.ID, On: o.OffSince == nil, Version: o.Version,
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
		if x.Verdict == purchases.Missing || x.Verdict == purchases.Surplus {
			out.Mismatches++
		}
	}
	return out
}

func shownSide(x purchases.Side) api.Side {
	return api.Side{
		OfferID: x.OfferID, Offer: x.Offer, SectionID: x.SectionID, Section: x.Section, PersonID: given(x.PersonID),
		Person: x.Person, Access: x.Access,
		EndsOn: x.EndsOn, Enrolled: x.Enrolled, Delivery: given(x.Delivery), State: x.State,
		Verdict: string(x.Verdict), Since: x.Since,
	}
}

// given is what a pointer leads to, empty when it leads nowhere.
func given(id *string) string {
	if id == nil {
		return ""
	}
	return *id
}
