package reacting

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/store"
	"kanban/internal/wire/call"
)

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

// connectionsOf reads, and opens, each connection of a job's deliveries once.
type connectionsOf struct {
	s      *Service
	mu     sync.Mutex
	all    map[string]store.Connection
	opened map[string]adapter.Connection
}

// open gives a connection with its secrets.
func (c *connectionsOf) open(ctx context.Context, id string) (adapter.Connection, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if x, ok := c.opened[id]; ok {
		return x, nil
	}
	read, there := c.all[id]
	var x adapter.Connection
	var err error
	if there {
		x, err = c.s.Unlock(read)
	} else {
		x, err = c.s.Open(ctx, id)
	}
	if err == nil {
		if c.opened == nil {
			c.opened = map[string]adapter.Connection{}
		}
		c.opened[id] = x
	}
	return x, err
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
