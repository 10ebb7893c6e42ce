package pipeline

import (
	"context"
	"errors"
	"math/rand/v2"
	"regexp"
	"slices"
	"sync"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rest"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/wire/call"
)

// pausedFor is how long a delivery waits before it looks again whether its
// interface is still paused.
const pausedFor = 30 * time.Second

// behindFor is how long a delivery waits before it looks again whether an earlier
// one to the same person has been made.
const behindFor = time.Second

// interfacesOf reads, and opens, each interface of deliveries that were read together
// once.
type interfacesOf struct {
	s      *Deliveries
	mu     sync.Mutex
	all    map[string]connectionstore.Interface
	rests  map[string][]deliverystore.Rest
	opened map[string]adapter.Interface
	at     time.Time // when the deliveries were read; what is read of interfaces is newer
}

// open gives an interface with its secrets.
func (c *interfacesOf) open(ctx context.Context, id string) (adapter.Interface, error) {
	c.mu.Lock()
	x, opened := c.opened[id]
	read, there := c.all[id]
	c.mu.Unlock()
	if opened {
		return x, nil
	}
	var err error // nobody waits meanwhile: a grant may have to be renewed at its service
	if there {
		x, err = c.s.Connections.Opened(ctx, read)
	} else {
		x, err = c.s.Connections.Open(ctx, id)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if err == nil {
		if c.opened == nil {
			c.opened = map[string]adapter.Interface{}
		}
		c.opened[id] = x
	}
	return x, err
}

func (c *interfacesOf) find(ctx context.Context, id string) (connectionstore.Interface, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if x, ok := c.all[id]; ok {
		return x, nil
	}
	x, err := connectionstore.FindInterface(ctx, c.s.Store, id)
	if err == nil {
		if c.all == nil {
			c.all = map[string]connectionstore.Interface{}
		}
		c.all[id] = x
	}
	return x, err
}

// restAfter is after how many failures in a row an interface rests, 0 for the usual number.
func (c *interfacesOf) restAfter(ctx context.Context, id string) (int, error) {
	x, err := c.find(ctx, id)
	if errors.Is(err, db.ErrNotFound) { // it was removed meanwhile
		return 0, nil
	}
	return x.Connection.RestAfter, err
}

func (c *interfacesOf) resting(ctx context.Context, id string) ([]deliverystore.Rest, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if x, ok := c.rests[id]; ok {
		return x, nil
	}
	x, err := deliverystore.Rests(ctx, c.s.Store, id)
	if err == nil {
		if c.rests == nil {
			c.rests = map[string][]deliverystore.Rest{}
		}
		c.rests[id] = x
	}
	return x, err
}

// justWait holds a delivery without a word, because it shows by itself.
const justWait = "due later"

// Why deliveries wait although nothing is wrong with them.
const (
	heldRefused = "it is refused the same way again and again, and rests"
)

// heldBack says until when a delivery waits, and for what, without having failed; held is
// empty when its time has come. operation is the one that rests.
func (s *Deliveries) heldBack(ctx context.Context, t *turn) (until time.Time, held, operation string, err error) {
	d, r, interfaces, now := t.delivery, t.rule, t.interfaces, s.Clock.Now()
	if d.DueAt != nil && d.DueAt.After(now) {
		return *d.DueAt, justWait, "", nil
	}
	if quiet := r.QuietHours.Until(now, s.zone()); quiet.After(now) && d.Undoes == nil {
		return quiet, r.QuietHours.String(), "", nil
	}
	if d.InterfaceID == nil {
		return now, "", "", nil
	}
	if r.InOrder && d.PersonID != nil {
		if behind, err := deliverystore.HasEarlier(ctx, s.Store, d); err != nil || behind {
			return now.Add(behindFor), "an earlier delivery to the same person", "", err
		}
	}
	c, err := interfaces.find(ctx, *d.InterfaceID)
	if errors.Is(err, db.ErrNotFound) {
		return now, "", "", nil // the attempt says so
	}
	if err != nil {
		return now, "", "", err
	}
	if c.Paused() {
		return now.Add(pausedFor), deliverystore.HeldPaused, "", nil
	}
	return s.restsNow(ctx, t, now)
}

// restsNow says until when the service of a delivery rests, or what it does there. When a
// rest is over exactly one is let through.
func (s *Deliveries) restsNow(ctx context.Context, t *turn, now time.Time) (until time.Time, held, operation string,
	err error,
) {
	id := *t.delivery.InterfaceID
	rests, err := t.interfaces.resting(ctx, id)
	key, _ := t.delivery.Action.Target()
	if until, yes := s.restsSince(t, key); yes {
		return until.Add(rand.N(time.Second)), heldRefused, key, err
	}
	for _, x := range rests {
		if x.RestsUntil == nil || x.Operation != "" && x.Operation != key || x.Operation == "" && t.through {
			continue
		}
		held, again := deliverystore.HeldResting, rest.First
		if x.Operation != "" {
			held, again = heldRefused, rest.FirstRefused
		}
		until := *x.RestsUntil
		if !until.After(now) {
			if through, err := deliverystore.TryDuringRest(ctx, s.Store, id, x.Operation, now, again); err != nil ||
				through {
				continue
			}
			until = now.Add(again)
		}
		// Not all at once when the rest is over.
		return until.Add(rand.N(time.Second)), held, x.Operation, nil
	}
	return now, "", "", err
}

// overBefore ends a delivery whose rule's stop condition holds, and skips one whose
// own condition does not. A condition that cannot be worked out waits for a person.
func (s *Deliveries) overBefore(t *turn) (over bool) {
	d := &t.delivery
	if d.Undoes != nil {
		return false
	}
	now := s.Clock.Now()
	stop, holds, problem := false, true, error(nil)
	if d.Code == string(finding.ConditionRefused) { // it could not be worked out before
		holds, problem = s.Expressions.Holds(t.rule.Condition, t.values)
	}
	if problem == nil && t.rule.Stop != "" {
		stop, problem = s.Expressions.Holds(t.rule.Stop, t.values)
	}
	if problem == nil && holds && !stop {
		holds, problem = s.Expressions.Holds(d.Action.If, t.values)
	}
	switch {
	case problem != nil:
		d.State, d.Code, d.LastError, d.FinishedAt, d.Held, d.NextAt = deliverystore.DeliveryWaiting,
			string(finding.ConditionRefused), problem.Error(), &now, "", nil
	case stop:
		t.stopped = true
		return true
	case !holds:
		d.State, d.Held, d.FinishedAt, d.NextAt = deliverystore.DeliverySkipped, "its condition did not hold", &now,
			nil
	default:
		return false
	}
	t.settled = true
	return true
}

// resting is a service, or an operation of it, that rests from now on.
type resting struct {
	interfaceID, operation string
	until                  time.Time
}

// health counts what failed and ends what worked, in the order in which the attempts
// ended, and gives what rests from now on.
func (s *Deliveries) health(ctx context.Context, tx *db.Tx, turns []*turn) (rested []resting, err error) {
	attempts := slices.DeleteFunc(slices.Clone(turns), func(t *turn) bool {
		return t.attempt == nil || t.delivery.InterfaceID == nil || t.attempt.Error == deliverystore.CutOff
	})
	slices.SortStableFunc(attempts, func(a, b *turn) int { return a.ended.Compare(b.ended) })
	worked := map[resting]bool{}
	for _, t := range attempts {
		id := *t.delivery.InterfaceID
		key, title := t.delivery.Action.Target()
		service, operation := resting{interfaceID: id}, resting{interfaceID: id, operation: key}
		p, isCall := call.As(t.failure)
		f := rest.Failure{Began: t.attempt.StartedAt, Ended: t.ended}
		switch {
		case t.failure == nil:
			for _, x := range []resting{service, operation} {
				if !worked[x] && s.hasFailed(t, x.operation) {
					if _, err := deliverystore.EndFailures(ctx, tx, id, x.operation); err != nil {
						return nil, err
					}
				}
				worked[x] = true
			}
			continue
		case isCall && p.Passing():
			// nothing is compared: its numbers may stay
			f.RetryAfter, f.Reason = p.RetryAfter, mask(t.failure.Error(), t.values["person"])
			if f.Many, err = t.interfaces.restAfter(ctx, id); err != nil {
				return nil, err
			}
			r, err := deliverystore.CountFailure(ctx, tx, id, "", "",
				func(r rest.Record) rest.Record { return r.Failed(f) })
			if err != nil {
				return nil, err
			}
			service.until, worked[resting{interfaceID: id}] = r.Until, false
			rested = append(rested, service)
		// one address is not another
		case isCall && !(t.delivery.Action.Kind == rule.Mail && p.Kind == call.Refused) || refusedThere(t.failure):
			// Whatever it says, the service answers.
			if _, err := deliverystore.EndFailures(ctx, tx, id, ""); err != nil {
				return nil, err
			}
			f.Reason = sameText(t)
			r, err := deliverystore.CountFailure(ctx, tx, id, key, title,
				func(r rest.Record) rest.Record { return r.Refused(f) })
			if err != nil {
				return nil, err
			}
			worked[operation], operation.until = false, r.Until
			rested = append(rested, operation)
		}
	}
	for _, r := range rested {
		if r.until.After(s.Clock.Now()) {
			return rested, tx.Announce(ctx, "interface", r.interfaceID)
		}
	}
	return rested, nil
}

// hasFailed reports whether a service, or an operation of it, may have failed before: most
// never do, and need not be asked about each time.
func (s *Deliveries) hasFailed(t *turn, operation string) bool {
	if x, ok := s.resting.Load(*t.delivery.InterfaceID + "/" + operation); ok &&
		x.(rested).since.After(t.interfaces.at) {
		return true
	}
	t.interfaces.mu.Lock()
	defer t.interfaces.mu.Unlock()
	rests, read := t.interfaces.rests[*t.delivery.InterfaceID]
	return !read || slices.ContainsFunc(rests, func(r deliverystore.Rest) bool { return r.Operation == operation })
}

// refusedThere reports whether a service refused something without an error of the
// protocol: what it was about is not there.
func refusedThere(err error) bool {
	r, ok := refusal.As(err)
	return ok && slices.Contains([]finding.Code{finding.GroupMissing, finding.NotSuccess, finding.OperationGone},
		r.Code)
}

// ownWords matches what tells one person's refusal from another's.
var ownWords = regexp.MustCompile(`[\p{L}\d.…_%+-]+(@|%40)[\p{L}\d.-]+|\d+`)

// sameText is the reason of a failure without what names the person it is about, so that
// the same refusal of two people reads the same.
func sameText(t *turn) string {
	return ownWords.ReplaceAllString(mask(t.failure.Error(), t.values["person"]), "…")
}

// rest remembers what has come to rest, so that what was read before is not begun.
func (s *Deliveries) rest(all []resting) {
	for _, r := range all {
		s.resting.Store(r.interfaceID+"/"+r.operation, rested{r.until, time.Now()})
	}
}

type rested struct{ until, since time.Time }

// restsSince gives until when something rests that has come to rest since a delivery was
// read.
func (s *Deliveries) restsSince(t *turn, operation string) (until time.Time, yes bool) {
	if t.delivery.InterfaceID == nil {
		return until, false
	}
	x, ok := s.resting.Load(*t.delivery.InterfaceID + "/" + operation)
	if !ok {
		return until, false
	}
	r := x.(rested)
	return r.until, r.since.After(t.interfaces.at) && r.until.After(s.Clock.Now())
}
