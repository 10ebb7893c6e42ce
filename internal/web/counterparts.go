package web

import (
	"context"

	"kanban/internal/adapter"
	"kanban/internal/app/pairings"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/api"
)

// counterparts knows the addresses of the pages that people open at the other sides: the templates of
// the interfaces that have any, by the interface's id.
type counterparts map[string]map[string]string

func (s *Server) counterparts(ctx context.Context) (counterparts, error) {
	return s.Connections.PageTemplates(ctx)
}

// linked shows sections with the pages of their own and of their classes.
func (s *Server) linked(ctx context.Context, cards []pairings.Card) ([]api.Section, error) {
	shown := each(cards, section)
	c, err := s.counterparts(ctx)
	if err != nil || len(c) == 0 {
		return shown, err
	}
	var sections, paired []string
	for _, x := range cards {
		if c[x.Section.Interface]["classPage"] != "" {
			sections = append(sections, x.Section.ID)
		}
		if p := x.Pairing; p != nil && c[p.InterfaceID]["classPage"] != "" {
			paired = append(paired, p.ID)
		}
	}
	there, err := s.Registers.SourcedIDs(ctx, sections)
	if err != nil {
		return shown, err
	}
	classes, err := s.Pairings.TargetRefs(ctx, paired)
	if err != nil {
		return shown, err
	}
	for i, x := range cards {
		shown[i].Page = adapter.Page(c[x.Section.Interface], "classPage", map[string]string{
			"id": there[x.Section.ID], "code": x.Section.Code, "name": x.Section.Title,
		})
		if p := x.Pairing; p != nil {
			shown[i].TargetPage = adapter.Page(c[p.InterfaceID], "classPage", map[string]string{
				"id": classes[p.ID], "code": x.Section.Code, "name": p.TargetName,
			})
		}
	}
	return shown, nil
}

// deliveries shows deliveries with their pages at the services.
func (c counterparts) deliveries(all []deliverystore.ListedDelivery) []api.Delivery {
	return each(all, func(d deliverystore.ListedDelivery) api.Delivery {
		out := delivery(d)
		if d.InterfaceID != nil && d.Attempts > 0 {
			values := map[string]string{"id": d.ID, "person": d.Person}
			out.Page = adapter.Page(c[*d.InterfaceID], "deliveryPage", values)
		}
		return out
	})
}

// person gives the address of a person's own page, where they have an id.
func (c counterparts) person(interfaceID, id string, p rosterstore.Person) string {
	return adapter.Page(c[interfaceID], "personPage", map[string]string{
		"id": id, "identifier": p.Identifier, "email": p.Email, "userName": p.UserName,
	})
}
