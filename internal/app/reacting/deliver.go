package reacting

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/store"
)

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
		if t.rule.InOrder { // each must see how the one before ended
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
	all, byID, err := s.Store.DeliveriesByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	var turns []*turn
	var events []store.Event
	for _, d := range all {
		if d.State != store.DeliveryQueued && d.State != store.DeliveryRetrying {
			continue
		}
		e, there := byID[d.EventID]
		if !there {
			return nil, fmt.Errorf("the event %s is gone", d.EventID)
		}
		turns, events = append(turns, &turn{delivery: d, event: e}), append(events, e)
	}
	if len(turns) == 0 {
		return nil, nil
	}
	known := s.newKnown()
	if err := known.prefetch(ctx, events); err != nil {
		return nil, err
	}
	for _, t := range turns {
		if t.rule, err = s.ruleOf(ctx, t.delivery); err != nil {
			return nil, err
		}
		known.next()
		t.values, err = known.values(ctx, t.event, append(textsOf(t.delivery.Action), t.rule.Stop, t.rule.Condition)...)
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
	if limit := t.rule.Most; d.ConnectionID != nil && limit.Most > 0 {
		until, err := s.Store.ClaimCall(ctx, t.rule.ID, s.now(), limit.Window(), limit.Most)
		if err != nil {
			return err
		}
		if until != nil {
			t.again = max(until.Sub(s.now()), time.Millisecond)
			return s.Store.Hold(ctx, d.ID, fmt.Sprintf("the rule's limit of %d calls", limit.Most), *until)
		}
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
	out, failure := s.attempt(ctx, connections.open, *d, t.event, t.values)
	if ctx.Err() != nil {
		return ctx.Err() // cut off; the next worker makes the same attempt again
	}
	d.Attempts++
	t.attempt = &store.Attempt{DeliveryID: d.ID, Number: d.Attempts, StartedAt: started, Millis: int(time.Since(started).Milliseconds()), Status: out.status, Request: mask(out.request, t.values["person"]), Answer: mask(out.answer, t.values["person"])}
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
	repeatable := true
	for _, t := range turns {
		repeatable = repeatable && t.keep == nil && t.next == nil && !t.stopped && t.failure == nil
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
	write := func(tx *store.Tx) error {
		stopped, err := tx.EndAttempts(ctx, settled, attempts, repeatable)
		if err != nil {
			return err
		}
		for _, d := range settled { // what was taken back while it was being done
			if stopped[d.ID] && d.State == store.DeliveryDelivered && d.Undoes == nil {
				// Nobody would make this attempt once more.
				if err := tx.WaitForDisk(ctx); err != nil {
					return err
				}
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
	}
	// Facts that take deliveries back may stand in the way; the attempts were made, so they
	// are not made once more for that.
	return store.Again(func() error { return s.Store.InShortTx(ctx, write) })
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
