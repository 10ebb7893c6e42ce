package reacting

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"regexp"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/wire/call"
)

// DefaultDelays are the pauses after the first, second, … failed attempt. After
// the last one the delivery waits for a person. Together they span three days.
var DefaultDelays = []time.Duration{
	2 * time.Second, 10 * time.Second, time.Minute, 5 * time.Minute, 30 * time.Minute, 2 * time.Hour, 8 * time.Hour, 24 * time.Hour, 36 * time.Hour,
}

// A connection that failed so often in a row rests, at first for a short while, then
// for twice as long each time.
const (
	restFrom  = 5
	restFirst = 10 * time.Second
	restMost  = 10 * time.Minute
)

// pausedFor is how long a delivery waits before it looks again whether its
// connection is still paused.
const pausedFor = 30 * time.Second

// behindFor is how long a delivery waits before it looks again whether an earlier
// one to the same person has been made.
const behindFor = time.Second

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
	r, err := s.ruleOf(ctx, d)
	if err != nil {
		return 0, err
	}
	if until, held, err := s.heldBack(ctx, d, r); err != nil || held != "" {
		if err == nil && held != justWait {
			err = s.Store.Hold(ctx, d.ID, held, until)
		}
		return max(until.Sub(s.now()), time.Millisecond), err
	}
	e, values, err := s.about(ctx, d, r.Stop)
	if err != nil {
		return 0, err
	}
	if over, err := s.overBefore(ctx, &d, r, values); err != nil || over {
		return 0, err
	}
	started := time.Now().UTC()
	out, failure := s.attempt(ctx, d, e, values)
	if ctx.Err() != nil {
		return 0, ctx.Err() // cut off; the next worker makes the same attempt again
	}
	d.Attempts++
	attempt := store.Attempt{DeliveryID: d.ID, Number: d.Attempts, StartedAt: started, Millis: int(time.Since(started).Milliseconds()), Status: out.status, Request: mask(out.request), Answer: mask(out.answer)}
	again = s.settle(&d, &attempt, out, failure)
	return again, s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.EndAttempt(ctx, &d, attempt); err != nil {
			return err
		}
		if err := s.health(ctx, tx, d, failure); err != nil {
			return err
		}
		if out.keep != nil && failure == nil {
			if err := out.keep(ctx, tx); err != nil {
				return err
			}
		}
		return s.goOn(ctx, tx, d)
	})
}

// ruleOf gives the rule of a delivery as it is now; the zero rule for an offer's.
func (s *Service) ruleOf(ctx context.Context, d store.Delivery) (store.Rule, error) {
	if d.RuleID == nil {
		return store.Rule{}, nil
	}
	b, err := s.rulesOn(ctx)
	if err != nil {
		return store.Rule{}, err
	}
	if r, ok := b.byID[*d.RuleID]; ok {
		return r, nil
	}
	return s.Store.Rule(ctx, *d.RuleID)
}

// justWait holds a delivery without a word, because it shows by itself.
const justWait = "due later"

// heldBack says until when a delivery waits, and for what, without having failed;
// held is empty when its time has come.
func (s *Service) heldBack(ctx context.Context, d store.Delivery, r store.Rule) (until time.Time, held string, err error) {
	now := s.now()
	if d.DueAt != nil && d.DueAt.After(now) {
		return *d.DueAt, justWait, nil
	}
	if quiet := r.Quiet.Until(now, s.zone()); quiet.After(now) && d.Undoes == nil {
		return quiet, "quiet hours", nil
	}
	if d.ConnectionID == nil {
		return now, "", nil
	}
	if r.InOrder && d.PersonID != nil {
		if behind, err := s.Store.Earlier(ctx, d); err != nil || behind {
			return now.Add(behindFor), "an earlier delivery to the same person", err
		}
	}
	if r.Most.Most > 0 {
		calls, err := s.Store.Calls(ctx, r.ID, now.Add(-r.Most.Window()), r.Most.Most)
		if err != nil {
			return now, "", err
		}
		if len(calls) >= r.Most.Most {
			return calls[0].Add(r.Most.Window()), fmt.Sprintf("the rule's limit of %d calls", r.Most.Most), nil
		}
	}
	c, err := s.Store.Connection(ctx, *d.ConnectionID)
	if errors.Is(err, store.ErrNotFound) {
		return now, "", nil // the attempt says so
	}
	if err != nil {
		return now, "", err
	}
	if c.PausedAt != nil {
		return now.Add(pausedFor), "the connection is paused", nil
	}
	if c.RestsUntil != nil {
		until, err := s.Store.Rested(ctx, c.ID, restFirst)
		if err != nil || until == nil {
			return now, "", err
		}
		// Not all at once when the rest is over.
		return until.Add(rand.N(time.Second)), "the service keeps failing and rests", nil
	}
	return now, "", nil
}

// about gives a delivery's event and what its texts can refer to.
func (s *Service) about(ctx context.Context, d store.Delivery, more ...string) (store.Event, rule.Values, error) {
	events, err := s.Store.EventsByID(ctx, []string{d.EventID})
	if err != nil || len(events) == 0 {
		return store.Event{}, nil, errors.Join(err, errors.New("the event is gone"))
	}
	values, err := s.newKnown().values(ctx, events[0], append(textsOf(d.Action), more...)...)
	if err == nil && d.Position > 0 {
		err = s.addAward(ctx, d, values)
	}
	return events[0], values, err
}

// addAward lets a later action refer to what an earlier one awarded.
func (s *Service) addAward(ctx context.Context, d store.Delivery, values rule.Values) error {
	list, err := s.Store.Following(ctx, d)
	for _, x := range list {
		if x.Action.Kind == rule.Award && x.Position < d.Position && x.State == store.DeliveryDelivered {
			values["award"] = x.Result
		}
	}
	return err
}

// overBefore ends a delivery whose rule's stop condition holds, and skips one whose
// own condition does not. A condition that cannot be worked out waits for a person.
func (s *Service) overBefore(ctx context.Context, d *store.Delivery, r store.Rule, values rule.Values) (over bool, err error) {
	if d.Undoes != nil {
		return false, nil
	}
	now := s.now()
	stop, problem := false, error(nil)
	if r.Stop != "" {
		stop, problem = s.Expressions.Holds(r.Stop, values)
	}
	if stop && problem == nil {
		return true, s.Store.InTx(ctx, func(tx *store.Tx) error {
			if err := tx.Stop(ctx, *d, "the stop condition holds"); err != nil {
				return err
			}
			return tx.Announce(ctx, "delivery", d.ID)
		})
	}
	goes := true
	if problem == nil {
		goes, problem = s.Expressions.Holds(d.Action.If, values)
	}
	switch {
	case problem != nil:
		d.State, d.Code, d.LastError, d.FinishedAt, d.Held, d.NextAt = store.DeliveryWaiting, string(finding.ConditionRefused), problem.Error(), &now, "", nil
	case !goes:
		d.State, d.Held, d.FinishedAt, d.NextAt = store.DeliverySkipped, "its condition did not hold", &now, nil
	default:
		return false, nil
	}
	return true, s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.Settle(ctx, d); err != nil {
			return err
		}
		return s.goOn(ctx, tx, *d)
	})
}

// goOn begins the delivery that follows one that is over.
func (s *Service) goOn(ctx context.Context, tx *store.Tx, d store.Delivery) error {
	if d.State != store.DeliveryDelivered && d.State != store.DeliverySkipped || d.Undoes != nil {
		return nil
	}
	list, err := s.Store.Following(ctx, d)
	for _, next := range list {
		if next.Position == d.Position+1 && next.State == store.DeliveryPlanned {
			wait, _ := rule.Span(next.Action.After)
			return tx.Begin(ctx, next.ID, s.now().Add(wait))
		}
	}
	return err
}

// health counts failures of a connection, so that one that keeps failing rests.
func (s *Service) health(ctx context.Context, tx *store.Tx, d store.Delivery, failure error) error {
	if d.ConnectionID == nil {
		return nil
	}
	p, isCall := call.As(failure)
	switch {
	case failure == nil:
		return tx.Worked(ctx, *d.ConnectionID)
	case isCall && p.Passing():
		return tx.Failed(ctx, *d.ConnectionID, restFrom, restFirst, restMost)
	}
	return nil
}

// settle decides what an attempt means for its delivery.
func (s *Service) settle(d *store.Delivery, a *store.Attempt, out outcome, failure error) (again time.Duration) {
	now := time.Now().UTC()
	d.NextAt, d.LastError, d.Code, d.Held = nil, "", "", ""
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
		pause := delays[d.Attempts-1]
		if s.Delays == nil { // so that those that failed together do not come back together
			pause -= rand.N(pause/4 + 1)
		}
		again = max(pause, p.RetryAfter)
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

var addresses = regexp.MustCompile(`([\p{L}\d._%+-])[\p{L}\d._%+-]*(@|%40)`)

// mask hides e-mail addresses in what is kept for looking at.
func mask(text string) string {
	const most = 2000
	if len(text) > most {
		text = text[:most] + " …"
	}
	return addresses.ReplaceAllString(text, "$1…$2")
}

// Retry queues a delivery that waits for a person, or that would be tried later.
func (s *Service) Retry(ctx context.Context, who, deliveryID string) error {
	if _, err := s.Store.Delivery(ctx, deliveryID); err != nil {
		return err
	}
	err := s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.RequeueOne(ctx, deliveryID); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "retried a delivery", "delivery/"+deliveryID, nil)
	})
	if errors.Is(err, store.ErrStale) {
		return refusal.Conflict("", "only a delivery that waits or is to be tried again can be retried")
	}
	return err
}

// RetryAll queues every delivery that fits the filter and waits for a person, or
// would be tried later, and gives how many there were. Each keeps its id, so that
// receivers can drop what they have had.
func (s *Service) RetryAll(ctx context.Context, who string, f store.DeliveryFilter) (n int, err error) {
	if f.RuleID == "" && f.ConnectionID == "" && f.OfferID == "" && f.Since.IsZero() {
		return 0, refusal.Invalid("since", "say which to try again: those of a rule, of a connection, or everything since a time")
	}
	err = s.Store.InTx(ctx, func(tx *store.Tx) error {
		ids, err := tx.Requeue(ctx, f)
		if n = len(ids); err != nil || n == 0 {
			return err
		}
		if f.ConnectionID != "" { // somebody says that it works again
			if err := tx.Worked(ctx, f.ConnectionID); err != nil {
				return err
			}
		}
		return tx.Audit(ctx, who, "retried deliveries", "deliveries", map[string]any{"count": n, "rule": f.RuleID, "connection": f.ConnectionID, "since": f.Since})
	})
	return n, err
}
