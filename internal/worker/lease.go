package worker

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/leases"
	"kanban/internal/wire/call"
	"kanban/internal/wiring"
)

// Worker is a running worker. It works in shifts, one for each lease: when a lease cannot
// be renewed everything under way is cut off before it ends, and a new shift begins as
// soon as the database can be reached again.
type Worker struct {
	store   *db.Database
	uses    *wiring.UseCases
	options Options

	mu      sync.Mutex
	current *shift
	ended   chan struct{}
	cancel  context.CancelFunc
}

// Start begins to work and returns at once.
func Start(ctx context.Context, s *db.Database, uses *wiring.UseCases, o Options) (*Worker, error) {
	if o.Runs == 0 {
		o.Runs = 8
	}
	if o.Reactions == 0 {
		o.Reactions = 100
	}
	if o.Lease == 0 {
		o.Lease = 45 * time.Second
	}
	w := &Worker{store: s, uses: uses, options: o, ended: make(chan struct{})}
	first, err := w.begin(ctx)
	if err != nil {
		return nil, err
	}
	w.current = first
	ctx, w.cancel = context.WithCancel(context.WithoutCancel(ctx))
	go w.supervise(ctx)
	return w, nil
}

// supervise begins a new shift whenever one has lost its lease.
func (w *Worker) supervise(ctx context.Context) {
	defer close(w.ended)
	for {
		select {
		case <-ctx.Done():
			return
		case <-w.current.lost:
		}
		w.options.Log.Error("the database could not be reached for too long: work under way was cut off", "cause",
			context.Cause(w.current.holding))
		w.current.abandon()
		for {
			next, err := w.begin(ctx)
			if err == nil {
				w.mu.Lock()
				w.current = next
				w.mu.Unlock()
				w.options.Log.Info("working again")
				break
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(time.Second):
			}
		}
	}
}

// Stop lets work under way finish until ctx ends, and hands the rest back.
func (w *Worker) Stop(ctx context.Context) {
	w.cancel()
	<-w.ended
	w.mu.Lock()
	defer w.mu.Unlock()
	w.current.stop(ctx)
}

// shift is the work under one lease.
type shift struct {
	store   *db.Database
	uses    *wiring.UseCases
	options Options
	lease   leases.Lease

	holding context.Context // ends when the lease is lost, or everything is to be cut off
	cut     context.CancelCauseFunc
	lost    chan struct{}
	client  *river.Client[pgx.Tx]

	claiming     context.Context // ends when nothing new is to be begun
	stopClaiming context.CancelFunc
	delivering   sync.WaitGroup
	background   sync.WaitGroup // the lease and the sweeping
}

var errLost = errors.New("the lease could not be renewed")

func (w *Worker) begin(ctx context.Context) (*shift, error) {
	lease, err := leases.Register(ctx, w.store, w.options.Lease)
	if err != nil {
		return nil, fmt.Errorf("starting the worker: %w", err)
	}
	x := &shift{store: w.store, uses: w.uses, options: w.options, lease: lease, lost: make(chan struct{})}
	x.holding, x.cut = context.WithCancelCause(context.WithoutCancel(ctx))
	x.claiming, x.stopClaiming = context.WithCancel(x.holding)
	x.client, err = river.NewClient(riverpgxv5.New(w.store.Quick), &river.Config{
		ID: lease.Worker, Workers: x.jobs(), PeriodicJobs: schedules(),
		Logger:               slog.New(slog.DiscardHandler), // failures are logged below, without arguments
		FetchCooldown:        5 * time.Millisecond,
		FetchPollInterval:    500 * time.Millisecond,
		RescueStuckJobsAfter: 24 * time.Hour, // the lease tells who is at work
		Queues: map[string]river.QueueConfig{
			jobs.QueueRuns:      {MaxWorkers: w.options.Runs},
			jobs.QueueByHand:    {MaxWorkers: byHand},
			jobs.QueueReactions: {MaxWorkers: w.options.Reactions},
			river.QueueDefault:  {MaxWorkers: 4},
		},
		ErrorHandler: &failures{w.options.Log},
	})
	if err != nil {
		return nil, fmt.Errorf("preparing the worker: %w", err)
	}
	x.background.Go(x.renew)
	x.background.Go(x.sweep)
	if err := x.client.Start(context.WithoutCancel(ctx)); err != nil {
		x.cut(err)
		x.background.Wait()
		return nil, fmt.Errorf("starting the worker: %w", err)
	}
	x.delivering.Go(x.deliver)
	return x, nil
}

// renew keeps the lease. Work is cut off well before others may take it over.
func (x *shift) renew() {
	length := x.lease.Length
	renewed := time.Now()
	for {
		select {
		case <-x.holding.Done():
			return
		case <-time.After(length / 9):
		}
		asked := time.Now()
		ctx, cancel := context.WithTimeout(x.holding, length/9)
		err := leases.Renew(ctx, x.store, x.lease)
		cancel()
		if err == nil {
			renewed = asked
			continue
		}
		if errors.Is(err, db.ErrStale) || time.Since(renewed) > length*2/3 {
			x.cut(fmt.Errorf("%w: %w", errLost, err))
			close(x.lost)
			return
		}
	}
}

const sweepEvery = 2 * time.Second

// sweep gives back the jobs of workers that no longer live.
func (x *shift) sweep() {
	for {
		err := leases.EndDeadLeases(x.holding, x.store)
		var jobs int64
		if err == nil {
			jobs, err = leases.GiveBack(x.holding, x.store)
		}
		if err != nil && x.holding.Err() == nil {
			x.options.Log.Warn("looking for orphaned work failed", "cause", err.Error())
		}
		if jobs > 0 {
			x.options.Log.Info("went on with the work of a process that died", "jobs", jobs)
		}
		select {
		case <-x.holding.Done():
			return
		case <-time.After(sweepEvery):
		}
	}
}

// deliver makes deliveries.
func (x *shift) deliver() {
	x.uses.Deliveries.Dispatch(x.claiming, x.holding, x.lease, x.options.Log)
}

// stop lets what is under way finish until ctx ends.
func (x *shift) stop(ctx context.Context) {
	x.stopClaiming()
	late := context.AfterFunc(ctx, func() { x.cut(errors.New("the process was stopped")) })
	defer late()
	if err := x.client.Stop(ctx); err != nil {
		hard, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		_ = x.client.StopAndCancel(hard)
	}
	x.delivering.Wait() // the lease lasts as long as a delivery is under way
	x.cut(errors.New("the process has stopped"))
	x.background.Wait()
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	_ = leases.EndLease(last, x.store, x.lease)
}

// abandon ends a shift whose lease is lost: nothing can be written any more.
func (x *shift) abandon() {
	hard, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_ = x.client.StopAndCancel(hard)
	x.delivering.Wait()
	x.background.Wait()
}

// exclusively does work that nobody else does at the same time.
func (x *shift) exclusively(ctx context.Context, name string, do func() error) error {
	unlock, err := leases.Lock(ctx, x.store, x.lease.Worker, name)
	if errors.Is(err, leases.ErrHeld) {
		return river.JobSnooze(time.Second)
	}
	if err != nil {
		return err
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if err := unlock(ctx); err != nil {
			x.options.Log.Warn("a lock could not be given back", "lock", name, "cause", err.Error())
		}
	}()
	return do()
}

// failures logs what went wrong with a job, without its arguments.
type failures struct{ log *slog.Logger }

func (f *failures) HandleError(_ context.Context, j *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	f.log.Warn("work will be tried again", "kind", j.Kind, "job", j.ID, "attempt", j.Attempt, "cause", cause(err))
	return nil
}

func (f *failures) HandlePanic(_ context.Context, j *rivertype.JobRow, value any,
	trace string,
) *river.ErrorHandlerResult {
	f.log.Error("work panicked", "kind", j.Kind, "job", j.ID, "panic", value, "trace", trace)
	return nil
}

// cause tells what went wrong without repeating what a service said, which may
// name people.
func cause(err error) string {
	if p, ok := call.As(err); ok {
		return fmt.Sprintf("%s (%d)", p.Kind, p.Status)
	}
	return err.Error()
}
