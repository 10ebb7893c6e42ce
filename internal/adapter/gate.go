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

// defaultAtOnce is how many calls a service gets at a time unless its interface
// says otherwise; hooksAtOnce is the same for one that takes signed events.
const (
	defaultAtOnce = 4
	hooksAtOnce   = 8
)

// gates holds one gate per interface and limits, so that all runs of a process
// share it.
var gates sync.Map // gateKey → *gate

type gateKey struct {
	id, atOnce, perMinute string
}

type gate struct {
	slots *semaphore.Weighted // nil for any number
	rate  *rate.Limiter
}

// gateOf gives the gate of an interface or of a whole connection; 0 means no limit.
func gateOf(id string, atOnce, perMinute int) *gate {
	key := gateKey{id, strconv.Itoa(atOnce), strconv.Itoa(perMinute)}
	if found, ok := gates.Load(key); ok {
		return found.(*gate)
	}
	g := &gate{rate: rate.NewLimiter(rate.Inf, 1)}
	if atOnce > 0 {
		g.slots = semaphore.NewWeighted(int64(atOnce))
	}
	if perMinute > 0 {
		g.rate = rate.NewLimiter(rate.Limit(float64(perMinute)/60), max(perMinute/60, 1))
	}
	found, _ := gates.LoadOrStore(key, g)
	return found.(*gate)
}

// Limited adds what is open to an interface's service, and its limits, to the options of its calls:
// how many at once (setting atOnce) and how many a minute (setting perMinute, no limit when empty),
// and the same for all interfaces of its connection together. The limits hold for each process of
// the service.
func Limited(c Interface, o call.Options) call.Options {
	o.Bearer = c.Bearer
	perMinute, err := strconv.Atoi(c.Settings["perMinute"])
	if err != nil {
		perMinute = 0
	}
	own := gateOf(c.ID, AtOnce(c), perMinute)
	o.Enter, o.Transport = own.enter, transport(c)
	if c.System.AtOnce > 0 || c.System.PerMinute > 0 {
		whole := gateOf(c.System.ID, c.System.AtOnce, c.System.PerMinute)
		o.Enter = func(ctx context.Context) (leave func(), err error) { return enterBoth(ctx, own, whole) }
	}
	return o
}

// enterBoth enters one gate after the other: always in this order, so that nobody waits in a circle.
func enterBoth(ctx context.Context, first, second *gate) (leave func(), err error) {
	leaveFirst, err := first.enter(ctx)
	if err != nil {
		return nil, err
	}
	leaveSecond, err := second.enter(ctx)
	if err != nil {
		leaveFirst()
		return nil, err
	}
	return func() { leaveSecond(); leaveFirst() }, nil
}

// AtOnce is how many calls at a time an interface's service is given.
func AtOnce(c Interface) int {
	if n, err := strconv.Atoi(c.Settings["atOnce"]); err == nil && n > 0 {
		return n
	}
	if c.Kind == KindWebhook {
		return hooksAtOnce
	}
	return defaultAtOnce
}

// defaultLate is how long a service may take until it shows what it has carried out,
// unless its interface says otherwise.
const defaultLate = 10 * time.Second

// Late is how long a service may take until it shows what it has carried out (setting
// late, in seconds).
func Late(c Interface) time.Duration {
	if n, err := strconv.Atoi(c.Settings["late"]); err == nil && n >= 0 {
		return time.Duration(n) * time.Second
	}
	return defaultLate
}

func (g *gate) enter(ctx context.Context) (leave func(), err error) {
	leave = func() {}
	if g.slots != nil {
		if err := g.slots.Acquire(ctx, 1); err != nil {
			return nil, err
		}
		leave = func() { g.slots.Release(1) }
	}
	if err := g.rate.Wait(ctx); err != nil {
		leave()
		return nil, err
	}
	return leave, nil
}
