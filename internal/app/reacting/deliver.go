package reacting

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

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
	if _, err := s.Store.Delivery(ctx, deliveryID); err != nil {
		return 0, err
	}
	agains, err := s.deliver(ctx, []string{deliveryID}, false)
	return agains[deliveryID], err
}

// nearby is how soon a delivery must be tried again for its job to keep it; those that
// have longer to wait are queued for their time.
const nearby = 5 * time.Second

// DeliverAll makes one attempt at each of several deliveries. Those to be tried again
// are queued for then; again is when to call it anew with the same ones, because some
// of them are to be tried again within a moment, and 0 when none is.
func (s *Service) DeliverAll(ctx context.Context, deliveryIDs []string) (again time.Duration, err error) {
	agains, err := s.deliver(ctx, deliveryIDs, true)
	for _, wait := range agains {
		if wait > 0 && wait <= nearby && (again == 0 || wait < again) {
			again = wait
		}
	}
	return again, err
}

// deliveriesAtOnce is how many attempts of one job are made at a time.
const deliveriesAtOnce = 8

// attemptsAtOnce is how many attempts a process makes at a time, over all of its jobs.
const attemptsAtOnce = 48

// enter waits until one more attempt may be made.
func (s *Service) enter(ctx context.Context) (leave func(), err error) {
	s.attempts.once.Do(func() { s.attempts.slots = make(chan struct{}, attemptsAtOnce) })
	select {
	case s.attempts.slots <- struct{}{}:
		return func() { <-s.attempts.slots }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// attempting bounds the attempts of a process.
type attempting struct {
	once  sync.Once
	slots chan struct{}
}

// turn is what became of one delivery when its turn came.
type turn struct {
	delivery store.Delivery
	rule     store.Rule
	event    store.Event
	values   rule.Values
	next     *store.Delivery
	attempt  *store.Attempt // nil when none was made
	failure  error
	keep     func(context.Context, *store.Tx) error
	settled  bool // its state is to be written
	stopped  bool // it and what follows it are over
	troubled bool // its connection has failed before
	again    time.Duration
}

// deliver gives every delivery its turn: the reading and the writing are done for all
// of them together, the attempts several at a time. With requeue, those to be tried
// again are queued, and those whose time has not come are left alone.
func (s *Service) deliver(ctx context.Context, ids []string, requeue bool) (map[string]time.Duration, error) {
	turns, err := s.turns(ctx, ids)
	if err != nil || len(turns) == 0 {
		return nil, err
	}
	group, groupCtx := errgroup.WithContext(ctx)
	group.SetLimit(deliveriesAtOnce)
	connections := &connectionsOf{s: s}
	var ordered []*turn
	for _, t := range turns {
		if t.settled {
			continue
		}
		if t.rule.InOrder || t.rule.Most.Most > 0 { // each must see how the one before ended
			ordered = append(ordered, t)
			continue
		}
		group.Go(func() error { return s.take(groupCtx, t, connections, requeue) })
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	if err := s.write(ctx, turns, requeue); err != nil {
		return nil, err
	}
	for _, t := range ordered {
		if err := s.take(ctx, t, connections, requeue); err != nil {
			return nil, err
		}
		if err := s.write(ctx, []*turn{t}, requeue); err != nil {
			return nil, err
		}
	}
	agains := make(map[string]time.Duration, len(turns))
	for _, t := range turns {
		agains[t.delivery.ID] = t.again
	}
	return agains, nil
}

// turns reads deliveries that are to be made, with their rules and events.
func (s *Service) turns(ctx context.Context, ids []string) ([]*turn, error) {
	all, err := s.Store.DeliveriesByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	var turns []*turn
	var eventIDs []string
	for _, d := range all {
		if d.State == store.DeliveryQueued || d.State == store.DeliveryRetrying {
			turns = append(turns, &turn{delivery: d})
			eventIDs = append(eventIDs, d.EventID)
		}
	}
	if len(turns) == 0 {
		return nil, nil
	}
	events, err := s.Store.EventsByID(ctx, distinct(eventIDs))
	if err != nil {
		return nil, err
	}
	known := s.newKnown()
	if err := known.prefetch(ctx, events); err != nil {
		return nil, err
	}
	for _, t := range turns {
		if t.rule, err = s.ruleOf(ctx, t.delivery); err != nil {
			return nil, err
		}
		i := slices.IndexFunc(events, func(e store.Event) bool { return e.ID == t.delivery.EventID })
		if i < 0 {
			return nil, fmt.Errorf("the event %s is gone", t.delivery.EventID)
		}
		t.event = events[i]
		known.next()
		t.values, err = known.values(ctx, t.event, append(textsOf(t.delivery.Action), t.rule.Stop)...)
		if errors.Is(err, store.ErrNotFound) { // whoever it is about went with their register
			now := s.now()
			t.delivery.State, t.delivery.Code, t.delivery.LastError, t.delivery.FinishedAt = store.DeliveryWaiting, string(finding.DeliveryWaiting), err.Error(), &now
			t.settled = true
			continue
		}
		if err != nil {
			return nil, err
		}
		if t.delivery.Position == 0 && len(t.rule.Actions) < 2 {
			continue
		}
		following, err := s.Store.Following(ctx, t.delivery)
		if err != nil {
			return nil, err
		}
		for _, x := range following {
			switch {
			case x.Action.Kind == rule.Award && x.Position < t.delivery.Position && x.State == store.DeliveryDelivered:
				t.values["award"] = x.Result // a later action can refer to what an earlier one awarded
			case x.Position == t.delivery.Position+1 && x.State == store.DeliveryPlanned && t.delivery.Undoes == nil:
				t.next = &x
			}
		}
	}
	return turns, nil
}

// take gives one delivery its turn, without writing anything.
func (s *Service) take(ctx context.Context, t *turn, connections *connectionsOf, requeue bool) error {
	d := &t.delivery
	if requeue && d.State == store.DeliveryRetrying && d.NextAt != nil && d.NextAt.After(s.now().Add(50*time.Millisecond)) {
		t.again = d.NextAt.Sub(s.now()) // the job came twice
		return nil
	}
	until, held, err := s.heldBack(ctx, *d, t.rule, connections)
	if err != nil {
		return err
	}
	if held != "" {
		t.again = max(until.Sub(s.now()), time.Millisecond)
		if held != justWait {
			return s.Store.Hold(ctx, d.ID, held, until)
		}
		return nil
	}
	if s.overBefore(t) {
		return nil
	}
	if d.ConnectionID != nil {
		if c, err := connections.find(ctx, *d.ConnectionID); err == nil {
			t.troubled = c.Failures > 0 || c.RestsUntil != nil
		}
	}
	leave, err := s.enter(ctx)
	if err != nil {
		return err
	}
	defer leave()
	started := time.Now().UTC()
	out, failure := s.attempt(ctx, *d, t.event, t.values)
	if ctx.Err() != nil {
		return ctx.Err() // cut off; the next worker makes the same attempt again
	}
	d.Attempts++
	t.attempt = &store.Attempt{DeliveryID: d.ID, Number: d.Attempts, StartedAt: started, Millis: int(time.Since(started).Milliseconds()), Status: out.status, Request: mask(out.request), Answer: mask(out.answer)}
	t.again = s.settle(d, t.attempt, out, failure)
	t.settled, t.failure = true, failure
	if failure == nil {
		t.keep = out.keep
	}
	return nil
}

// write keeps what became of deliveries, together with what follows from it.
func (s *Service) write(ctx context.Context, turns []*turn, requeue bool) error {
	var settled []*store.Delivery
	var attempts []store.Attempt
	again := map[time.Time][]string{}
	now := s.now()
	for _, t := range turns {
		if t.settled {
			settled = append(settled, &t.delivery)
		}
		if t.attempt != nil {
			attempts = append(attempts, *t.attempt)
		}
		if requeue && t.again > nearby {
			at := now.Add(t.again).Truncate(100 * time.Millisecond)
			again[at] = append(again[at], t.delivery.ID)
		}
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		stopped, err := tx.EndAttempts(ctx, settled, attempts)
		if err != nil {
			return err
		}
		for _, d := range settled { // what was taken back while it was being done
			if stopped[d.ID] && d.State == store.DeliveryDelivered && d.Undoes == nil {
				if err := s.opposite(ctx, tx, d.EventID, *d); err != nil {
					return err
				}
			}
		}
		var next []string
		worked := map[string]bool{}
		for _, t := range turns {
			if t.stopped {
				if err := tx.Stop(ctx, t.delivery, "the stop condition holds"); err != nil {
					return err
				}
			}
			if t.keep != nil {
				if err := t.keep(ctx, tx); err != nil {
					return err
				}
			}
			if t.attempt != nil {
				if err := s.health(ctx, tx, t, worked); err != nil {
					return err
				}
			}
			over := t.delivery.State == store.DeliveryDelivered || t.delivery.State == store.DeliverySkipped
			if t.settled && over && t.next != nil {
				if wait, _ := rule.Span(t.next.Action.After); wait > 0 {
					if err := tx.Begin(ctx, now.Add(wait), t.next.ID); err != nil {
						return err
					}
				} else {
					next = append(next, t.next.ID)
				}
			}
		}
		for at, ids := range again {
			if err := tx.EnqueueDeliveries(ctx, at, ids...); err != nil {
				return err
			}
		}
		return tx.Begin(ctx, now, next...)
	})
}

// connectionsOf reads each connection of a job's deliveries once.
type connectionsOf struct {
	s   *Service
	mu  sync.Mutex
	all map[string]store.Connection
}

func (c *connectionsOf) find(ctx context.Context, id string) (store.Connection, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if x, ok := c.all[id]; ok {
		return x, nil
	}
	x, err := c.s.Store.Connection(ctx, id)
	if err == nil {
		if c.all == nil {
			c.all = map[string]store.Connection{}
		}
		c.all[id] = x
	}
	return x, err
}

// ruleOf gives the rule of a delivery as it is now; the zero rule for an offer's.
func (s *Service) ruleOf(ctx context.Context, d store.Delivery) (store.Rule, error) {
	if d.RuleID == nil {
		return store.Rule{}, nil
	}
	b, err := s.rulesLately(ctx)
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
func (s *Service) heldBack(ctx context.Context, d store.Delivery, r store.Rule, connections *connectionsOf) (until time.Time, held string, err error) {
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
	c, err := connections.find(ctx, *d.ConnectionID)
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

// overBefore ends a delivery whose rule's stop condition holds, and skips one whose
// own condition does not. A condition that cannot be worked out waits for a person.
func (s *Service) overBefore(t *turn) (over bool) {
	d := &t.delivery
	if d.Undoes != nil {
		return false
	}
	now := s.now()
	stop, problem := false, error(nil)
	if t.rule.Stop != "" {
		stop, problem = s.Expressions.Holds(t.rule.Stop, t.values)
	}
	holds := true
	if problem == nil && !stop {
		holds, problem = s.Expressions.Holds(d.Action.If, t.values)
	}
	switch {
	case problem != nil:
		d.State, d.Code, d.LastError, d.FinishedAt, d.Held, d.NextAt = store.DeliveryWaiting, string(finding.ConditionRefused), problem.Error(), &now, "", nil
	case stop:
		t.stopped = true
		return true
	case !holds:
		d.State, d.Held, d.FinishedAt, d.NextAt = store.DeliverySkipped, "its condition did not hold", &now, nil
	default:
		return false
	}
	t.settled = true
	return true
}

// health counts failures of a connection, so that one that keeps failing rests.
func (s *Service) health(ctx context.Context, tx *store.Tx, t *turn, worked map[string]bool) error {
	id := t.delivery.ConnectionID
	if id == nil {
		return nil
	}
	p, isCall := call.As(t.failure)
	switch {
	case t.failure == nil && t.troubled && !worked[*id]:
		worked[*id] = true
		return tx.Worked(ctx, *id)
	case isCall && p.Passing():
		return tx.Failed(ctx, *id, restFrom, restFirst, restMost)
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
