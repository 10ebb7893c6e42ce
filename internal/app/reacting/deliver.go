package reacting

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/adapter/hooks"
	"kanban/internal/adapter/mails"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/wire/call"
	"kanban/internal/wire/webhook"
)

// DefaultDelays are the pauses after the first, second, … failed attempt. After
// the last one the delivery waits for a person. Together they span three days.
var DefaultDelays = []time.Duration{
	2 * time.Second, 10 * time.Second, time.Minute, 5 * time.Minute, 30 * time.Minute, 2 * time.Hour, 8 * time.Hour, 24 * time.Hour, 36 * time.Hour,
}

// React matches rules against events and makes the deliveries that follow. An
// event that has had its deliveries gets no second ones.
func (s *Service) React(ctx context.Context, eventIDs []string) error {
	events, err := s.Store.EventsByID(ctx, eventIDs)
	if err != nil {
		return err
	}
	rules, err := s.Store.RulesOn(ctx)
	if err != nil || len(rules) == 0 {
		return err
	}
	byID := make(map[string]store.Rule, len(rules))
	light := make([]rule.Rule, len(rules))
	for i, r := range rules {
		byID[r.ID] = r
		light[i] = rule.Rule{ID: r.ID, Trigger: rule.Trigger(r.Trigger), Scope: r.Scope}
	}
	index := rule.NewIndex(light)
	for _, e := range events {
		at := rule.Scope{Course: text(e.CourseID), Section: text(e.SectionID), Module: e.ModuleID, Activity: e.ActivityID}
		for _, match := range index.Match(rule.Event{Type: rule.Trigger(e.Type), At: at}) {
			if r := byID[match.ID]; !e.RecordedAt.Before(*r.OnSince) {
				if err := s.fire(ctx, e, r); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func text(id *string) string {
	if id == nil {
		return ""
	}
	return *id
}

// fire makes the deliveries of one rule for one event. The first is queued; each
// of the others is queued when the one before it has been delivered.
func (s *Service) fire(ctx context.Context, e store.Event, r store.Rule) error {
	values, err := s.values(ctx, e)
	if err != nil {
		return err
	}
	held, conditionErr := s.Expressions.Holds(r.Condition, values)
	if conditionErr == nil && !held {
		return nil
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		for i, a := range r.Actions {
			d := store.Delivery{ID: store.NewID(), EventID: e.ID, RuleID: r.ID, Position: i, Action: a, PersonID: e.PersonID, State: store.DeliveryQueued}
			if a.ConnectionID != "" {
				d.ConnectionID = &a.ConnectionID
			}
			if r.Once && e.PersonID != nil {
				key := fmt.Sprintf("%s/%d/%s/%s/%s/%s", r.ID, i, *e.PersonID, text(e.SectionID), e.ModuleID, e.ActivityID)
				d.OnceKey = &key
			}
			if conditionErr != nil {
				d.State, d.Code, d.LastError = store.DeliveryWaiting, string(finding.ConditionRefused), conditionErr.Error()
			}
			fresh, err := tx.AddDelivery(ctx, d)
			if err != nil {
				return err
			}
			if fresh && i == 0 && conditionErr == nil {
				if err := tx.Enqueue(ctx, store.Deliver{DeliveryID: d.ID}); err != nil {
					return err
				}
			}
		}
		return tx.Announce(ctx, "delivery", "")
	})
}

// values are what conditions, mappings and texts can refer to.
func (s *Service) values(ctx context.Context, e store.Event) (rule.Values, error) {
	event := map[string]any{"id": e.ID, "type": e.Type, "at": e.OccurredAt.UTC().Format(time.RFC3339)}
	for k, v := range e.Data {
		event[k] = v
	}
	v := rule.Values{"event": event}
	if e.PersonID != nil {
		p, err := s.Store.Person(ctx, *e.PersonID)
		if err != nil {
			return nil, err
		}
		v["person"] = map[string]any{"id": p.ID, "givenName": p.GivenName, "familyName": p.FamilyName, "name": p.Name(), "email": p.Email, "userName": p.UserName, "identifier": p.Identifier}
	}
	if e.SectionID != nil {
		x, err := s.Store.Section(ctx, *e.SectionID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		v["section"] = map[string]any{"id": *e.SectionID, "title": x.Title, "code": x.Code}
		v["course"] = map[string]any{"id": x.CourseID, "title": x.Course, "code": x.CourseCode}
	}
	if e.CourseID != nil && e.ModuleID != "" {
		o, err := s.Store.Outline(ctx, *e.CourseID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		for _, m := range o.Modules {
			if m.ID == e.ModuleID {
				v["module"] = map[string]any{"id": m.ID, "title": m.Title}
			}
		}
		if _, a, ok := o.Find(e.ActivityID); ok {
			v["activity"] = map[string]any{"id": a.ID, "title": a.Title}
		}
	}
	return v, nil
}

// Deliver makes one attempt at a delivery. again is how long to wait before the
// next one; 0 means that there is none to come.
func (s *Service) Deliver(ctx context.Context, deliveryID string) (again time.Duration, err error) {
	d, err := s.Store.Delivery(ctx, deliveryID)
	if err != nil {
		return 0, err
	}
	if d.State != store.DeliveryQueued && d.State != store.DeliveryRetrying {
		return 0, nil
	}
	if d.ConnectionID != nil {
		c, err := s.Store.Connection(ctx, *d.ConnectionID)
		if err == nil && c.PausedAt != nil {
			return 30 * time.Second, nil // paused: it waits, nothing is broken
		}
	}
	started := time.Now().UTC()
	out, failure := s.attempt(ctx, d)
	if ctx.Err() != nil {
		return 0, ctx.Err() // cut off; the next worker makes the same attempt again
	}
	d.Attempts++
	attempt := store.Attempt{DeliveryID: d.ID, Number: d.Attempts, StartedAt: started, Millis: int(time.Since(started).Milliseconds()), Status: out.status, Request: mask(out.request), Answer: mask(out.answer)}
	again = s.settle(&d, &attempt, out, failure)
	next, err := s.next(ctx, d)
	if err != nil {
		return 0, err
	}
	return again, s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.EndAttempt(ctx, &d, attempt); err != nil {
			return err
		}
		if d.State == store.DeliveryDelivered && next != "" {
			return tx.Enqueue(ctx, store.Deliver{DeliveryID: next})
		}
		return nil
	})
}

// settle decides what an attempt means for its delivery.
func (s *Service) settle(d *store.Delivery, a *store.Attempt, out outcome, failure error) (again time.Duration) {
	now := time.Now().UTC()
	d.NextAt, d.LastError, d.Code = nil, "", ""
	if failure == nil {
		d.State, d.FinishedAt, d.Result = store.DeliveryDelivered, &now, out.result
		return 0
	}
	d.LastError = mask(failure.Error())
	a.Error = d.LastError
	delays := s.Delays
	if delays == nil {
		delays = DefaultDelays
	}
	p, isCall := call.As(failure)
	if isCall && p.Passing() && d.Attempts <= len(delays) {
		again = max(delays[d.Attempts-1], p.RetryAfter)
		at := now.Add(again)
		d.State, d.NextAt, d.Code = store.DeliveryRetrying, &at, string(adapter.CodeOf(failure))
		return again
	}
	d.State, d.FinishedAt = store.DeliveryWaiting, &now
	d.Code = string(finding.DeliveryWaiting)
	if r, ok := refusal.As(failure); ok {
		d.Code = cmp.Or(string(r.Code), d.Code)
	} else if isCall && !p.Passing() && p.Kind != call.Refused {
		d.Code = string(adapter.CodeOf(failure))
	}
	return 0
}

// next finds the delivery that follows d in its rule, if it is still to come.
func (s *Service) next(ctx context.Context, d store.Delivery) (string, error) {
	list, err := s.Store.Deliveries(ctx, store.DeliveryFilter{EventID: d.EventID, RuleID: d.RuleID, Limit: 100})
	for _, x := range list {
		if x.Position == d.Position+1 && x.State == store.DeliveryQueued {
			return x.ID, err
		}
	}
	return "", err
}

// outcome is what an attempt sent and got.
type outcome struct {
	status          int
	request, answer string
	result          map[string]any
}

func (s *Service) attempt(ctx context.Context, d store.Delivery) (outcome, error) {
	events, err := s.Store.EventsByID(ctx, []string{d.EventID})
	if err != nil || len(events) == 0 {
		return outcome{}, errors.Join(err, errors.New("the event is gone"))
	}
	e := events[0]
	values, err := s.values(ctx, e)
	if err != nil {
		return outcome{}, err
	}
	if err := s.addAward(ctx, d, values); err != nil {
		return outcome{}, err
	}
	switch d.Action.Kind {
	case store.ActionSend:
		return s.send(ctx, d, e, values)
	case store.ActionMail:
		return s.mail(ctx, d, values)
	case store.ActionAward:
		award, address, err := s.Award(ctx, d.Action.BadgeID, e, time.Now().UTC())
		return outcome{result: map[string]any{"awardId": award.ID, "address": address}, answer: address}, err
	}
	return outcome{}, refusal.Invalid("kind", "%q cannot be done", d.Action.Kind)
}

// addAward lets a later action refer to what an earlier one awarded.
func (s *Service) addAward(ctx context.Context, d store.Delivery, values rule.Values) error {
	list, err := s.Store.Deliveries(ctx, store.DeliveryFilter{EventID: d.EventID, RuleID: d.RuleID, Limit: 100})
	for _, x := range list {
		if x.Action.Kind == store.ActionAward && x.Position < d.Position && x.State == store.DeliveryDelivered {
			values["award"] = x.Result
		}
	}
	return err
}

func (s *Service) send(ctx context.Context, d store.Delivery, e store.Event, values rule.Values) (outcome, error) {
	c, err := s.Open(ctx, d.Action.ConnectionID)
	if err != nil {
		return outcome{}, err
	}
	data := make(map[string]any, len(d.Action.Fields))
	for name, expression := range d.Action.Fields {
		if data[name], err = s.Expressions.Value(expression, values); err != nil {
			return outcome{}, refuseText("fields."+name, err)
		}
	}
	once := s.Call
	once.Retries = -1 // the delivery itself tries again
	sent, err := hooks.New(c, once).Send(ctx, webhook.Event{ID: d.ID, Source: s.Source, Type: "kanban." + e.Type, Subject: text(e.PersonID), Time: e.OccurredAt, Data: data}, time.Now())
	return outcome{status: sent.Status, request: sent.Request, answer: sent.Answer}, err
}

func refuseText(field string, err error) error {
	return &refusal.Error{Kind: refusal.KindInvalid, Field: field, Detail: err.Error(), Code: finding.TemplateIncorrect}
}

func (s *Service) mail(ctx context.Context, d store.Delivery, values rule.Values) (outcome, error) {
	c, err := s.Open(ctx, d.Action.ConnectionID)
	if err != nil {
		return outcome{}, err
	}
	to, err := s.Expressions.Value(cmp.Or(d.Action.To, "person.email"), values)
	if err != nil {
		return outcome{}, refuseText("to", err)
	}
	address, _ := to.(string)
	if address == "" {
		return outcome{}, refusal.Conflict(finding.AddressMissing, "there is no address to send to")
	}
	subject, err := rule.Fill(d.Action.Subject, values)
	if err != nil {
		return outcome{}, refuseText("subject", err)
	}
	body, err := rule.Fill(d.Action.Text, values)
	if err != nil {
		return outcome{}, refuseText("text", err)
	}
	code, err := mails.New(c, 20*time.Second).Send(ctx, mails.Mail{ID: d.ID, To: address, Subject: subject, Text: body})
	return outcome{status: code, request: "To: " + address + "\nSubject: " + subject + "\n\n" + body}, err
}

var addresses = regexp.MustCompile(`([\p{L}\d._%+-])[\p{L}\d._%+-]*@`)

// mask hides e-mail addresses in what is kept for looking at.
func mask(text string) string {
	const most = 2000
	if len(text) > most {
		text = text[:most] + " …"
	}
	return addresses.ReplaceAllString(text, "$1…@")
}

// Retry queues a delivery that waits for a person, or that would be tried later.
func (s *Service) Retry(ctx context.Context, who, deliveryID string) error {
	if _, err := s.Store.Delivery(ctx, deliveryID); err != nil {
		return err
	}
	err := s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.Requeue(ctx, deliveryID); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "retried a delivery", "delivery/"+deliveryID, nil)
	})
	if errors.Is(err, store.ErrStale) {
		return refusal.Conflict("", "only a delivery that waits or is to be tried again can be retried")
	}
	return err
}
