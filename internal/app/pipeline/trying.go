package pipeline

import (
	"context"

	"kanban/internal/adapter"
	"kanban/internal/adapter/services"
	"kanban/internal/core/rule"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rulestore"
)

// Values gives what the texts of a rule may refer to, for an event.
func (s *Deliveries) Values(ctx context.Context, e eventstore.Event, texts ...string) (rule.Values, error) {
	return s.newKnown().values(ctx, e, texts...)
}

// Prepared is a delivery's action with everything filled in.
type Prepared struct{ prepared }

// Prepare fills a delivery's action in, so that it can be shown, checked or done. What is
// known of it is given even when that fails.
func (s *Deliveries) Prepare(ctx context.Context, d deliverystore.Delivery, e eventstore.Event,
	values rule.Values,
) (Prepared, error) {
	p, err := s.prepare(ctx, s.Connections.Open, d, e, values)
	return Prepared{p}, err
}

// Interface is the name of the interface that it goes through.
func (p Prepared) Interface() string { return p.via.Name }

// Shown is what is going to be sent, for people.
func (p Prepared) Shown() map[string]any { return p.shown }

// Needs reports whether something must exist at the service beforehand.
func (p Prepared) Needs() bool { return p.check != nil }

// Check asks the service whether that exists.
func (p Prepared) Check(ctx context.Context) error { return p.check(ctx) }

// Do does it, for real.
func (p Prepared) Do(ctx context.Context) error {
	_, err := p.do(ctx)
	return err
}

// Firing works out what rules make of events, one after the other, without keeping it. It is
// not safe for concurrent use.
type Firing struct{ known *known }

// Firing begins one.
func (s *Deliveries) Firing() *Firing { return &Firing{s.newKnown()} }

// Fire gives the deliveries of a rule for an event: none when its condition does not hold.
func (f *Firing) Fire(ctx context.Context, e eventstore.Event, r rulestore.Rule) ([]deliverystore.Delivery, error) {
	f.known.next()
	return f.known.s.fire(ctx, f.known, e, r)
}

// Names gives the name of an event's person and the title of its section; empty when they are
// gone.
func (f *Firing) Names(ctx context.Context, e eventstore.Event) (person, section string) {
	if e.PersonID != nil {
		if p, err := f.known.person(ctx, *e.PersonID); err == nil {
			person, _ = p["name"].(string)
		}
	}
	if e.SectionID != nil {
		if x, err := f.known.section(ctx, *e.SectionID); err == nil {
			section = x.Title
		}
	}
	return person, section
}

// ValuesThere lists the values that a service has for a field of an operation.
func (s *Deliveries) ValuesThere(ctx context.Context, c adapter.Interface, f rule.OperationField) ([]string, error) {
	return s.listed(ctx, services.New(c, s.once()), f)
}

// Answer is what was sent to a service and what came back, for people.
type Answer struct {
	Status          int
	Request, Answer string
}

// CallOperation calls an operation once, for real, with values given by hand.
func (s *Deliveries) CallOperation(ctx context.Context, c adapter.Interface, o rule.Operation,
	values map[string]any,
) (Answer, error) {
	request, err := o.Fill(values)
	if err != nil {
		return Answer{}, refuseText("values", err)
	}
	service := services.New(c, s.once())
	if err := s.checkListed(ctx, service, o, values); err != nil {
		return Answer{}, err
	}
	out, err := s.operated(ctx, service, o, request, "")
	return Answer{out.status, out.request, out.answer}, err
}
