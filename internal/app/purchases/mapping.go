package purchases

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/purchasestore"
	"kanban/internal/store/rosterstore"
)

// Example is an event that a service sent, and what a mapping makes of it.
type Example struct {
	eventstore.Event
	rule.Mapped
	Places []rule.EventValue
	Means  string
	Known  string // the name of whom it is about, when the register knows them
	Leads  string // the name of the offer here, when there is one
}

// What an event can mean.
const (
	Starts  = "starts"
	Ends    = "ends"
	Nothing = "nothing"
	Unclear = "unclear" // it would both start and end access, which is taken for neither
)

// examples is how many of the latest events a mapping is tried on.
const examples = 20

// Tried is what expressions make of the latest events of a service.
type Tried struct {
	Mapping  map[string]string
	Wrong    map[string]string // by expression: why it cannot be used at all
	Examples []Example
}

// TryMapping says what expressions would make of the latest events of a service; those
// that are not given stay as they are. Nothing is changed.
func (s *Service) TryMapping(ctx context.Context, interfaceID string, values map[string]string) (out Tried,
	err error,
) {
	c, err := connectionstore.FindInterface(ctx, s.Store, interfaceID)
	if err != nil {
		return out, err
	}
	if c.Kind != adapter.KindEvents {
		return out, refusal.Invalid("id", "%s reports no events; a mapping belongs to an interface of kind %s",
			c.Name, adapter.KindEvents)
	}
	out = Tried{Mapping: map[string]string{}, Wrong: map[string]string{}}
	for _, name := range rule.MappingNames {
		out.Mapping[name] = c.Settings[name]
	}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if !slices.Contains(rule.MappingNames, name) {
			return out, refusal.Invalid("values."+name, "there is no such expression; use %s",
				strings.Join(rule.MappingNames, ", "))
		}
		out.Mapping[name] = strings.TrimSpace(values[name])
	}
	for name, text := range out.Mapping {
		if err := s.Expressions.CheckMapping(name, text); err != nil {
			out.Wrong[name] = err.Error()
		}
	}
	events, err := eventstore.ReportedBy(ctx, s.Store, interfaceID, examples)
	if err != nil {
		return out, err
	}
	for _, e := range events {
		x := Example{Event: e, Mapped: s.Expressions.Read(out.Mapping, e.Data), Places: rule.EventValues(e.Data)}
		switch {
		case x.Starts && x.Ends:
			x.Means = Unclear
		case x.Starts:
			x.Means = Starts
		case x.Ends:
			x.Means = Ends
		default:
			x.Means = Nothing
		}
		if err := s.recognise(ctx, c.ID, &x); err != nil {
			return out, err
		}
		out.Examples = append(out.Examples, x)
	}
	return out, nil
}

// recognise finds whom an example is about and to which offer it leads.
func (s *Service) recognise(ctx context.Context, interfaceID string, x *Example) error {
	p, err := rosterstore.PersonCalled(ctx, s.Store, x.Person)
	if err == nil {
		x.Known = p.Name()
	} else if !errors.Is(err, db.ErrNotFound) {
		return err
	}
	o, mapped, err := purchasestore.OfferOf(ctx, s.Store, interfaceID, x.Offer)
	if mapped {
		x.Leads = o.Name
	}
	return err
}
