package adapter

import (
	"context"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"

	"kanban/internal/wire/call"
)

// defaultAtOnce is how many calls a service gets at a time unless its connection
// says otherwise; hooksAtOnce is the same for one that takes signed events.
const (
	defaultAtOnce = 4
	hooksAtOnce   = 8
)

// gates holds one gate per connection and limits, so that all runs of a process
// share it.
var gates sync.Map // gateKey → *gate

type gateKey struct {
	connection, atOnce, perMinute string
}

type gate struct {
	slots *semaphore.Weighted
	rate  *rate.Limiter
}

// Limited adds what is open to a connection's service, and its limits, to the options of its calls: how many at
// once (setting atOnce) and how many a minute (setting perMinute, no limit when
// empty). The limits hold for each process of the service.
func Limited(c Connection, o call.Options) call.Options {
	key := gateKey{c.ID, c.Settings["atOnce"], c.Settings["perMinute"]}
	found, ok := gates.Load(key)
	if !ok {
		g := &gate{slots: semaphore.NewWeighted(int64(AtOnce(c))), rate: rate.NewLimiter(rate.Inf, 1)}
		if n, err := strconv.Atoi(key.perMinute); err == nil && n > 0 {
			g.rate = rate.NewLimiter(rate.Limit(float64(n)/60), max(n/60, 1))
		}
		found, _ = gates.LoadOrStore(key, g)
	}
	o.Enter, o.Transport = found.(*gate).enter, transport(c)
	return o
}

// AtOnce is how many calls at a time a connection's service is given.
func AtOnce(c Connection) int {
	if n, err := strconv.Atoi(c.Settings["atOnce"]); err == nil && n > 0 {
		return n
	}
	if c.Kind == KindWebhook {
		return hooksAtOnce
	}
	return defaultAtOnce
}

// defaultLate is how long a service may take until it shows what it has carried out,
// unless its connection says otherwise.
const defaultLate = 10 * time.Second

// Late is how long a service may take until it shows what it has carried out (setting
// late, in seconds).
func Late(c Connection) time.Duration {
	if n, err := strconv.Atoi(c.Settings["late"]); err == nil && n >= 0 {
		return time.Duration(n) * time.Second
	}
	return defaultLate
}

func (g *gate) enter(ctx context.Context) (leave func(), err error) {
	if err := g.slots.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	leave = func() { g.slots.Release(1) }
	if err := g.rate.Wait(ctx); err != nil {
		leave()
		return nil, err
	}
	return leave, nil
}
