package pipeline

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/rest"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/leases"
	"kanban/internal/store/settingstore"
)

// Dispatch makes deliveries, as the holder of a lease, until ctx ends. Each service has
// calls of its own: however slow it is, or however much waits for it, the others'
// deliveries are made beside it. patience ends later than ctx: calls under way may take
// until then.
//
// Deliveries are their own queue: a lane reads a few whose time has come, begins as many
// as its service takes at once, and writes each one's end before it begins another in its
// place. Whatever happens, at most as many calls as a lane has slots are without an end on
// record.
func (s *Deliveries) Dispatch(ctx, patience context.Context, lease leases.Lease, log *slog.Logger) {
	x := &dispatcher{
		Deliveries: s, maker: s.maker(lease.Worker), patience: patience, log: log,
		lanes: map[string]*lane{},
	}
	defer func() {
		x.working.Wait()
		x.maker.close()
	}()
	due := s.Store.Due(ctx)
	for {
		wait := lookAgain
		if err := x.look(ctx); err != nil && ctx.Err() == nil { // the lanes at work go on meanwhile
			log.Warn("looking for deliveries failed", "cause", err.Error())
			wait = writeAgain
		}
		select {
		case <-ctx.Done():
			return
		case <-due:
		case <-time.After(wait):
		}
	}
}

// lookAgain is how often it is looked, without anybody saying so, what is due by now.
const lookAgain = 500 * time.Millisecond

// dispatcher makes the deliveries of a process.
type dispatcher struct {
	*Deliveries
	maker    *maker
	patience context.Context
	log      *slog.Logger

	mu      sync.Mutex
	lanes   map[string]*lane // those that are at work, by interface
	working sync.WaitGroup
}

// look sets those lanes to work that have something to do.
func (x *dispatcher) look(ctx context.Context) error {
	if m, err := settingstore.FindMaintenance(ctx, x.Store); err != nil || m.Since != nil {
		return err
	}
	ready, err := deliverystore.ReadyLanes(ctx, x.Store, x.Clock.Now())
	if err != nil {
		return err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, l := range ready {
		name := text(l.InterfaceID)
		at, busy := x.lanes[name]
		if !busy {
			at = &lane{
				Lane: l, x: x, wake: make(chan struct{}, 1), done: make(chan []*turn), read: make(chan batch),
				inHand: map[string]bool{},
			}
			x.lanes[name] = at
			x.working.Go(func() { at.work(ctx) })
		}
		select {
		case at.wake <- struct{}{}:
		default:
		}
	}
	return nil
}

// leastRead and mostRead bound how many deliveries a lane reads at a time: more where they
// are begun quickly.
const (
	leastRead = 16
	mostRead  = 128
	quickly   = 250 * time.Millisecond
)

// internalSlots is how many deliveries that reach no service are made at a time.
const internalSlots = 8

// lane makes the deliveries of one service. One goroutine, in work, has its fields.
type lane struct {
	deliverystore.Lane
	x    *dispatcher
	wake chan struct{} // something may be ready
	done chan []*turn  // a chain has been made
	read chan batch

	slots    int // how many are made at a time
	underWay int
	trying   bool // the service has failed: one call finds out whether it works again
	dry      bool // nothing is ready until it is woken
	reading  bool
	most     int // how many are read the next time
	queue    [][]*turn
	inHand   map[string]bool          // those in the queue or under way
	after    deliverystore.ReadyAfter // where the last look ended
	restart  time.Time                // when to look from the beginning again, for what came before that
	begun    int                      // deliveries, since the pace was looked at
	since    time.Time
}

// batch is what a lane has read.
type batch struct {
	turns []*turn
	after deliverystore.ReadyAfter // its last one; the beginning, when there was no more
	whole bool                     // it was looked from the beginning
	err   error
}

// work makes deliveries until none is ready and none is under way.
func (l *lane) work(ctx context.Context) {
	l.dry, l.most = true, leastRead
	stopping := ctx.Done()
	for {
		l.launch(ctx)
		if !l.dry && !l.reading && len(l.queue) < max(l.slots, l.most/2) && ctx.Err() == nil {
			l.look(ctx)
		}
		if l.underWay == 0 && !l.reading && len(l.queue) == 0 && (l.dry || ctx.Err() != nil) && l.leave(ctx) {
			return
		}
		select {
		case chain := <-l.done:
			l.underWay--
			for _, t := range chain {
				delete(l.inHand, t.delivery.ID)
			}
		case b := <-l.read:
			if l.take(b); ctx.Err() != nil {
				l.back() // it came when everything had gone back already
			}
		case <-l.wake:
			l.refresh(ctx)
		case <-stopping:
			stopping = nil
			l.back()
		}
	}
}

// leave ends the lane, unless it has been woken meanwhile.
func (l *lane) leave(ctx context.Context) bool {
	l.x.mu.Lock()
	defer l.x.mu.Unlock()
	if len(l.wake) > 0 && ctx.Err() == nil {
		return false
	}
	delete(l.x.lanes, text(l.InterfaceID))
	return true
}

// refresh looks how many calls the service gets at a time. One that has failed is asked
// once before it gets many again.
func (l *lane) refresh(ctx context.Context) {
	if l.InterfaceID == nil {
		l.slots, l.dry = internalSlots, false
		return
	}
	slots, trying, err := l.x.slots(ctx, *l.InterfaceID)
	if err != nil {
		l.x.log.Warn("deliveries will be made later", "interface", *l.InterfaceID, "cause", err.Error())
		slots = 0
	}
	l.slots, l.trying, l.dry = slots, trying, slots == 0
}

func (x *dispatcher) slots(ctx context.Context, interfaceID string) (n int, trying bool, err error) {
	c, err := connectionstore.FindInterface(ctx, x.Store, interfaceID)
	if err != nil || c.Paused() {
		return 0, false, err
	}
	rests, err := deliverystore.Rests(ctx, x.Store, interfaceID)
	for _, r := range rests {
		if r.Operation != "" || r.RestsUntil == nil {
			continue
		}
		through, err := deliverystore.TryDuringRest(ctx, x.Store, interfaceID, "", x.Clock.Now(), rest.First)
		if err != nil || !through {
			return 0, false, err
		}
		return 1, true, nil
	}
	return adapter.AtOnce(adapter.Interface{Kind: c.Kind, Settings: c.Settings}), false, err
}

// launch begins as much of the queue as there are slots for. When the service has come to
// rest, the queue goes back.
func (l *lane) launch(ctx context.Context) {
	for len(l.queue) > 0 && l.underWay < l.slots && ctx.Err() == nil {
		chain := l.queue[0]
		if _, rests := l.x.restsSince(chain[0], ""); rests {
			l.back()
			return
		}
		l.queue = l.queue[1:]
		l.underWay++
		l.x.working.Go(func() {
			l.x.makeAll(ctx, chain)
			l.done <- chain
		})
		if l.begun++; l.begun >= leastRead { // what is read must not grow old in the queue
			l.most = leastRead
			if time.Since(l.since) < quickly {
				l.most = mostRead
			}
			l.begun, l.since = 0, time.Now()
		}
	}
}

// look reads some, while others are being made.
func (l *lane) look(ctx context.Context) {
	l.reading = true
	most, trying := l.most, l.trying
	if trying {
		most, l.dry = 1, true // whether it works again is known when that one has ended
	}
	if time.Now().After(l.restart) {
		l.after, l.restart = deliverystore.ReadyAfter{}, time.Now().Add(lookAgain)
	}
	except, after := slices.Collect(maps.Keys(l.inHand)), l.after
	l.x.working.Go(func() {
		list, err := deliverystore.ReadyDeliveries(ctx, l.x.Store, l.Lane, l.x.Clock.Now(), most, except, after)
		b := batch{whole: after == deliverystore.ReadyAfter{}, err: err}
		if len(list) == most {
			b.after = deliverystore.After(list[most-1])
		}
		if err == nil {
			b.turns, b.err = l.x.maker.turns(ctx, list)
			for _, t := range b.turns {
				t.through = trying
			}
		}
		l.read <- b
	})
}

func (l *lane) take(b batch) {
	l.reading = false
	if b.err != nil {
		l.x.log.Warn("deliveries will be made later", "interface", text(l.InterfaceID), "cause", b.err.Error())
	}
	l.after = b.after
	if len(b.turns) == 0 {
		l.dry = b.err != nil || b.whole
		return
	}
	for _, t := range b.turns {
		l.inHand[t.delivery.ID] = true
	}
	l.queue = append(l.queue, chains(b.turns)...)
}

// back drops what is not begun; it is read again when its time has come.
func (l *lane) back() {
	for _, chain := range l.queue {
		for _, t := range chain {
			delete(l.inHand, t.delivery.ID)
		}
	}
	l.queue, l.dry = nil, true
}

// chains puts deliveries of one person that must come one after the other into one chain
// each; all others stand alone.
func chains(turns []*turn) (all [][]*turn) {
	place := map[string]int{}
	for _, t := range turns {
		if !t.rule.InOrder || t.delivery.PersonID == nil {
			all = append(all, []*turn{t})
			continue
		}
		if at, ok := place[*t.delivery.PersonID]; ok {
			all[at] = append(all[at], t)
			continue
		}
		place[*t.delivery.PersonID] = len(all)
		all = append(all, []*turn{t})
	}
	return all
}

// makeAll makes deliveries one after the other.
func (x *dispatcher) makeAll(ctx context.Context, chain []*turn) {
	for i, t := range chain {
		if ctx.Err() != nil && i > 0 {
			return
		}
		if err := x.maker.take(x.patience, t); err != nil {
			x.log.Warn("a delivery could not be made", "delivery", t.delivery.ID, "cause", err.Error())
			x.giveBack(t.delivery.ID)
		}
	}
}

// giveBack lets others make a delivery that may be claimed, sooner or later: while the
// lease lasts nobody else would.
func (x *dispatcher) giveBack(id string) {
	x.working.Go(func() {
		for {
			ctx, cancel := context.WithTimeout(context.WithoutCancel(x.patience), 5*time.Second)
			err := deliverystore.Unclaim(ctx, x.Store, x.maker.worker, id)
			cancel()
			if err == nil || x.patience.Err() != nil {
				return
			}
			select {
			case <-x.patience.Done():
			case <-time.After(writeAgain):
			}
		}
	})
}
