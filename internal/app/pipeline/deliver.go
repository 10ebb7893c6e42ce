package pipeline

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"kanban/internal/adapter/hooks"
	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rulestore"
)

// Deliver makes one attempt at a delivery, if nobody else is at it. again is how long to
// wait before the next one; 0 means that there is none to come.
func (s *Deliveries) Deliver(ctx context.Context, deliveryID string) (again time.Duration, err error) {
	m := s.maker("once-" + uuid.NewString()) // without a lease: whoever has one may take it over
	m.anyTime = true
	defer m.close()
	d, err := deliverystore.FindDelivery(ctx, s.Store, deliveryID)
	if err != nil || d.State != deliverystore.DeliveryQueued && d.State != deliverystore.DeliveryRetrying {
		return 0, err
	}
	turns, err := m.turns(ctx, []deliverystore.Delivery{d})
	if err != nil {
		return 0, err
	}
	for _, t := range turns {
		if err := m.take(ctx, t); err != nil {
			return 0, err
		}
		again = t.again
	}
	return again, nil
}

// turn is what becomes of one delivery when its turn comes.
type turn struct {
	delivery deliverystore.Delivery
	rule     rulestore.Rule
	event    eventstore.Event
	values   rule.Values
	next     *deliverystore.Delivery
	attempt  *deliverystore.Attempt // nil when none was made
	ended    time.Time
	failure  error
	keep     func(context.Context, *db.Tx) error
	settled  bool // its state is to be written
	stopped  bool // it and what follows it are over
	again    time.Duration
	through  bool // its service rests, and it finds out whether that works again

	interfaces *interfacesOf // of those claimed together
}

// maker makes deliveries for one worker. What is written for them is
// written together with what is written for others at the same moment.
type maker struct {
	*Deliveries
	worker string
	// anyTime lets deliveries be made before their time.
	anyTime bool
	begin   *together[*turn]
	end     *together[*turn]
	hold    *together[deliverystore.HeldDelivery]
}

func (s *Deliveries) maker(worker string) *maker {
	m := &maker{Deliveries: s, worker: worker}
	m.begin = newTogether(m.beginAll)
	m.end = newTogether(func(ctx context.Context, turns []*turn) error { return s.write(ctx, worker, turns) })
	m.hold = newTogether(func(ctx context.Context, held []deliverystore.HeldDelivery) error {
		return deliverystore.HoldUntil(ctx, s.Store, held...)
	})
	return m
}

func (m *maker) close() {
	m.begin.close()
	m.end.close()
	m.hold.close()
}

// beginAll puts attempts on record that are about to be made. A turn whose delivery is
// over by now, or is somebody else's, gets none.
func (m *maker) beginAll(ctx context.Context, turns []*turn) error {
	started := m.Clock.Now()
	ids := make([]string, len(turns))
	for i, t := range turns {
		ids[i] = t.delivery.ID
	}
	due := started
	if m.anyTime {
		due = started.AddDate(100, 0, 0)
	}
	numbers, err := deliverystore.BeginAttempts(ctx, m.Store, m.worker, due, started, ids...)
	if err != nil {
		return err
	}
	for _, t := range turns {
		if n := numbers[t.delivery.ID]; n > 0 {
			t.delivery.Attempts = n
			t.attempt = &deliverystore.Attempt{DeliveryID: t.delivery.ID, Number: n, StartedAt: started}
		}
	}
	return nil
}

// turns reads what deliveries are about. Those that cannot be made are settled already.
func (m *maker) turns(ctx context.Context, list []deliverystore.Delivery) ([]*turn, error) {
	if len(list) == 0 {
		return nil, nil
	}
	byID, err := deliverystore.EventsOf(ctx, m.Store, list)
	if err != nil {
		return nil, err
	}
	turns, interfaces := make([]*turn, 0, len(list)), &interfacesOf{s: m.Deliveries, at: time.Now()}
	events := make([]eventstore.Event, 0, len(list))
	for _, d := range list {
		e, there := byID[d.EventID]
		if t := (&turn{delivery: d, event: e, interfaces: interfaces}); there {
			turns, events = append(turns, t), append(events, e)
		} else if err := m.end.do(ctx, t.without(m.Clock.Now(),
			fmt.Errorf("the event %s is gone", d.EventID))); err != nil {
			return nil, err
		}
	}
	known := m.newKnown()
	if err := known.prefetch(ctx, events); err != nil {
		return nil, err
	}
	for _, t := range turns {
		if err := m.look(ctx, known, t); err != nil {
			return nil, err
		}
	}
	return turns, nil
}

// without ends a turn whose delivery lacks what it is about.
func (t *turn) without(now time.Time, cause error) *turn {
	t.delivery.State, t.delivery.Code, t.delivery.LastError, t.delivery.FinishedAt = deliverystore.DeliveryWaiting,
		string(finding.DeliveryWaiting), cause.Error(), &now
	t.settled = true
	return t
}

// look reads the rule of a delivery, what its texts refer to, and what comes before and
// after it.
func (m *maker) look(ctx context.Context, known *known, t *turn) (err error) {
	if t.rule, err = m.ruleOf(ctx, t.delivery); err != nil {
		return err
	}
	known.next()
	t.values, err = known.values(ctx, t.event, append(textsOf(t.delivery.Action), t.rule.Stop, t.rule.Condition)...)
	if errors.Is(err, db.ErrNotFound) { // whoever it is about went with their register
		t.without(m.Clock.Now(), err)
		return nil
	}
	if err != nil || t.delivery.Position == 0 && len(t.rule.Actions) < 2 {
		return err
	}
	following, err := deliverystore.Following(ctx, m.Store, t.delivery)
	for _, x := range following {
		switch {
		case x.Action.Kind == rule.Award && x.Position < t.delivery.Position &&
			x.State == deliverystore.DeliveryDelivered:
			t.values["award"] = x.Result // a later action can refer to what an earlier one awarded
		case x.Position == t.delivery.Position+1 && x.State == deliverystore.DeliveryPlanned &&
			t.delivery.Undoes == nil:
			t.next = &x
		}
	}
	return err
}

// take gives one delivery its turn: what holds it back is noted, or one attempt is made.
// The attempt is on record before its call is made, and what became of it as soon as that
// is known.
func (m *maker) take(ctx context.Context, t *turn) error {
	if t.settled {
		return m.end.do(ctx, t)
	}
	d := &t.delivery
	until, held, operation, err := m.heldBack(ctx, t)
	if err == nil && held == "" && !m.overBefore(t) && t.rule.Most.Most > 0 && d.InterfaceID != nil {
		var full *time.Time
		if full, err = deliverystore.ClaimCall(ctx, m.Store, t.rule.ID, m.Clock.Now(), t.rule.Most.Window(),
			t.rule.Most.Most); full != nil {
			until, held = *full, "the rule's limit of "+t.rule.Most.String()
		}
	}
	if err != nil {
		return err
	}
	if held != "" {
		t.again = max(until.Sub(m.Clock.Now()), time.Millisecond)
		return m.hold.do(ctx, deliverystore.HeldDelivery{ID: d.ID, Why: held, For: operation, Until: until})
	}
	if !t.settled && !t.stopped {
		if _, err := m.unsubscribed(ctx, t); err != nil {
			return err
		}
	}
	if t.settled || t.stopped {
		return m.end.do(ctx, t)
	}
	if err := m.begin.do(context.WithoutCancel(ctx), t); err != nil {
		return err
	}
	if t.attempt == nil { // stopped, given up, or somebody else is at it
		return nil
	}
	out, failure := m.attempt(ctx, t.interfaces.open, *d, t.event, t.values)
	ended := m.Clock.Now()
	t.ended, t.attempt.Millis, t.attempt.Status = ended, int(ended.Sub(t.attempt.StartedAt).Milliseconds()),
		out.status
	t.attempt.Request, t.attempt.Answer = mask(out.request, t.values["person"]), mask(out.answer, t.values["person"])
	t.settled, t.failure = true, failure
	if failure != nil && ctx.Err() != nil { // cut off by ourselves: what it did is not known
		t.failure, t.attempt.Error = nil, deliverystore.CutOff
		return m.finish(ctx, t)
	}
	t.again = m.settle(d, t.attempt, out, failure)
	if failure == nil {
		t.keep = out.keep
	}
	return m.finish(ctx, t)
}

// writeAgain is how long it takes until something is written again that could not be
// written, and refusals how often the database may refuse it.
const (
	writeAgain = time.Second
	refusals   = 3
)

// finish writes what became of an attempt. While the database cannot be reached it goes
// on trying: the call is not made again for that. What the database refuses again and
// again waits for a person.
func (m *maker) finish(ctx context.Context, t *turn) error {
	for refused := 0; ; {
		err := m.end.do(context.WithoutCancel(ctx), t)
		if err == nil || ctx.Err() != nil {
			return err
		}
		if db.Refused(err) {
			if refused++; refused == refusals {
				t.keep, t.next, t.stopped = nil, nil, false
				t.attempt.Error = "it was done, but could not be written down: " + err.Error()
				t.without(m.Clock.Now(), errors.New(t.attempt.Error))
			}
			if refused > refusals {
				return err
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(writeAgain):
		}
	}
}

// write keeps what became of deliveries. From most nothing else follows, and they are
// written with less ado.
func (s *Deliveries) write(ctx context.Context, worker string, turns []*turn) error {
	if !s.plain(turns) {
		return s.writeWhole(ctx, worker, turns)
	}
	settled, attempts := make([]*deliverystore.Delivery, len(turns)), make([]deliverystore.Attempt, len(turns))
	for i, t := range turns {
		settled[i], attempts[i] = &t.delivery, *t.attempt
	}
	written, err := deliverystore.EndPlain(ctx, s.Store, worker, settled, attempts)
	if err != nil || len(written) == len(turns) {
		return err
	}
	return s.writeWhole(ctx, worker, slices.DeleteFunc(slices.Clone(turns),
		func(t *turn) bool { return written[t.delivery.ID] }))
}

// plain reports whether all turns are attempts that worked, at services that have not failed
// before, and whether nothing else is to be written for them.
func (s *Deliveries) plain(turns []*turn) bool {
	return !slices.ContainsFunc(turns, func(t *turn) bool {
		if t.attempt == nil || t.attempt.Error != "" || t.keep != nil || t.next != nil || t.stopped ||
			t.delivery.State != deliverystore.DeliveryDelivered {
			return true
		}
		key, _ := t.delivery.Action.Target()
		return t.delivery.InterfaceID != nil && (s.hasFailed(t, "") || s.hasFailed(t, key))
	})
}

// writeWhole does so together with what follows from it.
func (s *Deliveries) writeWhole(ctx context.Context, worker string, turns []*turn) error {
	var settled []*deliverystore.Delivery
	var attempts []deliverystore.Attempt
	now := s.Clock.Now()
	repeatable := true
	for _, t := range turns {
		repeatable = repeatable && t.keep == nil && t.next == nil && !t.stopped && t.failure == nil
		if t.settled {
			settled = append(settled, &t.delivery)
		}
		if t.attempt != nil {
			attempts = append(attempts, *t.attempt)
		}
	}
	var rested []resting
	write := func(tx *db.Tx) error {
		rested = nil
		stopped, err := deliverystore.EndAttempts(ctx, tx, worker, settled, attempts, repeatable)
		if err != nil {
			return err
		}
		for _, d := range settled { // what was reverted while it was being done
			if stopped[d.ID] && d.State == deliverystore.DeliveryDelivered && d.Undoes == nil {
				// Nobody would make this attempt once more.
				if err := tx.WaitForDisk(ctx); err != nil {
					return err
				}
				if err := s.opposite(ctx, tx, d.EventID, 0, *d); err != nil {
					return err
				}
			}
		}
		var next []string
		for _, t := range turns {
			if t.stopped {
				if err := deliverystore.StopFollowing(ctx, tx, t.delivery, "the stop condition holds"); err != nil {
					return err
				}
			}
			if t.keep != nil {
				if err := t.keep(ctx, tx); err != nil {
					return err
				}
			}
			over := t.delivery.State == deliverystore.DeliveryDelivered ||
				t.delivery.State == deliverystore.DeliverySkipped
			if t.settled && over && t.next != nil {
				if wait, _ := rule.Span(t.next.Action.After); wait > 0 {
					if err := deliverystore.QueuePlanned(ctx, tx, now.Add(wait), t.next.ID); err != nil {
						return err
					}
				} else {
					next = append(next, t.next.ID)
				}
			}
		}
		if rested, err = s.health(ctx, tx, turns); err != nil {
			return err
		}
		ended, err := endSubscriptions(ctx, tx, turns, now)
		if err != nil {
			return err
		}
		rested = append(rested, ended...)
		return deliverystore.QueuePlanned(ctx, tx, now, next...)
	}
	// Facts that take deliveries back may stand in the way; the attempts were made, so they
	// are not made once more for that.
	err := db.Again(func() error { return s.Store.InShortTx(ctx, write) })
	if err == nil {
		s.rest(rested)
	}
	return err
}

// endSubscriptions pauses the interfaces whose service has said that it takes no more events, and
// gives them as resting for a moment, so that what was read before is not begun.
func endSubscriptions(ctx context.Context, tx *db.Tx, turns []*turn, now time.Time) (ended []resting, err error) {
	for _, t := range turns {
		if t.delivery.InterfaceID == nil || !errors.Is(t.failure, hooks.ErrEnded) {
			continue
		}
		id := *t.delivery.InterfaceID
		ended = append(ended, resting{interfaceID: id, until: now.Add(time.Minute)})
		paused, err := connectionstore.PauseInterface(ctx, tx, id, now)
		if err != nil {
			return nil, err
		}
		if !paused {
			continue
		}
		if err := tx.Audit(ctx, "the service", "ended its subscription (410); the interface was paused",
			"interface/"+id, nil); err != nil {
			return nil, err
		}
		if err := tx.Announce(ctx, "interface", id); err != nil {
			return nil, err
		}
	}
	return ended, nil
}

// ruleOf gives the rule of a delivery as it is now; the zero rule for an offer's.
func (s *Deliveries) ruleOf(ctx context.Context, d deliverystore.Delivery) (rulestore.Rule, error) {
	if d.RuleID == nil {
		return rulestore.Rule{}, nil
	}
	b, err := s.rulesLately(ctx)
	if err != nil {
		return rulestore.Rule{}, err
	}
	if r, ok := b.byID[*d.RuleID]; ok {
		return r, nil
	}
	return rulestore.FindRule(ctx, s.Store, *d.RuleID)
}
