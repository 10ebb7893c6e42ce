// Package worker carries out queued work: reads, runs, reactions, deliveries.
// Any number of processes may work on one database.
//
//	w, err := worker.Start(ctx, db, uses, worker.Options{Log: log})
//	defer w.Stop(ctx)
package worker

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"kanban/internal/adapter"
	"kanban/internal/app/history"
	"kanban/internal/app/observing"
	"kanban/internal/app/offering"
	"kanban/internal/app/progressing"
	"kanban/internal/app/reacting"
	"kanban/internal/app/reading"
	"kanban/internal/app/syncing"
	"kanban/internal/store"
)

// Uses are the use cases that queued work calls.
type Uses struct {
	Reading     *reading.Service
	Syncing     *syncing.Service
	Observing   *observing.Service
	Reacting    *reacting.Service
	Progressing *progressing.Service
	Offering    *offering.Service
	History     *history.Service
}

// Options of a worker.
type Options struct {
	Log *slog.Logger
	// Runs is how many reads and runs are carried out at once, 8 when zero.
	Runs int
	// Reactions is how many reactions and deliveries are carried out at once,
	// 100 when zero.
	Reactions int
	// ReadEvery is the pause between scheduled reads of every register; zero or
	// less switches them off.
	ReadEvery time.Duration
}

// Worker is a running worker.
type Worker struct {
	client *river.Client[pgx.Tx]
	alive  *liveness
}

var jobsTotal = promauto.NewCounterVec(prometheus.CounterOpts{
	Name: "kanban_jobs_total", Help: "Queued work carried out, by kind and result.",
}, []string{"kind", "result"})

// Start begins to work and returns at once.
func Start(ctx context.Context, s *store.Store, uses Uses, o Options) (*Worker, error) {
	if o.Runs == 0 {
		o.Runs = 8
	}
	if o.Reactions == 0 {
		o.Reactions = 100
	}
	workers := river.NewWorkers()
	add(workers, -1, func(ctx context.Context, j *river.Job[store.ReadRegister]) error {
		if err := pausedNow(ctx, s); err != nil {
			return err
		}
		return uses.Reading.Work(ctx, j.Args.RunID, last(j))
	})
	add(workers, -1, func(ctx context.Context, j *river.Job[store.ApplyRun]) error {
		if err := pausedNow(ctx, s); err != nil {
			return err
		}
		return exclusively(ctx, s, "run/"+j.Args.RunID, func() error { return uses.Syncing.Work(ctx, j.Args.RunID, last(j)) })
	})
	add(workers, -1, func(ctx context.Context, j *river.Job[store.WorkAsked]) error {
		if err := pausedNow(ctx, s); err != nil {
			return err
		}
		return exclusively(ctx, s, "asked/"+j.Args.ConnectionID, func() error { return uses.Syncing.WorkAsked(ctx, j.Args.ConnectionID) })
	})
	add(workers, time.Minute, func(ctx context.Context, j *river.Job[store.React]) error {
		return uses.Reacting.React(ctx, j.Args.EventIDs, j.Args.RuleID)
	})
	add(workers, time.Minute, func(ctx context.Context, j *river.Job[store.Deliver]) error {
		if err := pausedNow(ctx, s); err != nil {
			return err
		}
		ids := j.Args.DeliveryIDs
		if j.Args.DeliveryID != "" {
			ids = append(ids, j.Args.DeliveryID)
		}
		again, err := uses.Reacting.DeliverAll(ctx, ids)
		if err == nil && again > 0 {
			return river.JobSnooze(again)
		}
		return err
	})
	add(workers, 10*time.Minute, func(ctx context.Context, job *river.Job[store.RunPairing]) error {
		return uses.Syncing.Auto(ctx, job.Args.PairingID, job.Args.Who)
	})
	add(workers, -1, func(ctx context.Context, _ *river.Job[store.ResolveStatements]) error {
		return uses.Observing.Resolve(ctx)
	})
	add(workers, -1, func(ctx context.Context, j *river.Job[store.RecountCourse]) error {
		return uses.Observing.RecountCourse(ctx, j.Args.CourseID)
	})
	add(workers, -1, func(ctx context.Context, j *river.Job[store.WorkOutStages]) error {
		if j.Args.ProgressionID != "" {
			return uses.Progressing.WorkOut(ctx, j.Args.ProgressionID)
		}
		return uses.Progressing.Touched(ctx, j.Args.People, j.Args.Courses, j.Args.Badges)
	})
	add(workers, 10*time.Minute, func(ctx context.Context, j *river.Job[store.SettleAccess]) error {
		return exclusively(ctx, s, "access", func() error {
			if j.Args.OfferID == "" {
				return uses.Offering.Tick(ctx)
			}
			return uses.Offering.Settle(ctx, j.Args.OfferID)
		})
	})
	add(workers, 10*time.Minute, func(ctx context.Context, _ *river.Job[store.PassTime]) error {
		return errors.Join(uses.Reacting.Inactive(ctx), uses.Offering.Tick(ctx))
	})
	add(workers, time.Hour, func(ctx context.Context, _ *river.Job[store.TendHistory]) error {
		return exclusively(ctx, s, "history", func() error { return uses.History.Tend(ctx) })
	})
	add(workers, time.Minute, func(ctx context.Context, _ *river.Job[store.Tick]) error {
		return uses.Syncing.Tick(ctx, time.Now())
	})
	add(workers, time.Minute, func(ctx context.Context, _ *river.Job[store.ReadAll]) error {
		return readAll(ctx, s, uses.Reading, o.Log)
	})

	schedules := []*river.PeriodicJob{river.NewPeriodicJob(river.PeriodicInterval(tick),
		func() (river.JobArgs, *river.InsertOpts) { return store.Tick{}, nil }, &river.PeriodicJobOpts{ID: "tick", RunOnStart: true})}
	schedules = append(schedules, river.NewPeriodicJob(river.PeriodicInterval(lookAround),
		func() (river.JobArgs, *river.InsertOpts) { return store.PassTime{}, nil }, &river.PeriodicJobOpts{ID: "pass-time", RunOnStart: true}))
	schedules = append(schedules, river.NewPeriodicJob(river.PeriodicInterval(lookAround),
		func() (river.JobArgs, *river.InsertOpts) { return store.TendHistory{}, nil }, &river.PeriodicJobOpts{ID: "tend-history", RunOnStart: true}))
	if o.ReadEvery > 0 {
		schedules = append(schedules, river.NewPeriodicJob(river.PeriodicInterval(o.ReadEvery),
			func() (river.JobArgs, *river.InsertOpts) { return store.ReadAll{}, nil }, &river.PeriodicJobOpts{ID: "read-all"}))
	}
	id := "kanban-" + uuid.NewString()
	client, err := river.NewClient(riverpgxv5.New(s.Quick), &river.Config{
		ID: id, Workers: workers, PeriodicJobs: schedules,
		Logger:               slog.New(slog.DiscardHandler), // failures are logged below, without arguments
		FetchCooldown:        5 * time.Millisecond,
		FetchPollInterval:    500 * time.Millisecond,
		RescueStuckJobsAfter: 24 * time.Hour, // dead workers are noticed at once, see liveness
		Queues: map[string]river.QueueConfig{
			store.QueueRuns:      {MaxWorkers: o.Runs},
			store.QueueByHand:    {MaxWorkers: byHand},
			store.QueueReactions: {MaxWorkers: o.Reactions},
			river.QueueDefault:   {MaxWorkers: 4},
		},
		ErrorHandler: &failures{o.Log},
	})
	if err != nil {
		return nil, fmt.Errorf("preparing the worker: %w", err)
	}
	w := &Worker{client: client, alive: newLiveness(s, id, o.Log)}
	if err := w.alive.start(ctx); err != nil {
		return nil, err
	}
	if err := client.Start(context.WithoutCancel(ctx)); err != nil {
		w.alive.stop()
		return nil, fmt.Errorf("starting the worker: %w", err)
	}
	return w, nil
}

// Stop lets work under way finish until ctx ends, and hands the rest back.
func (w *Worker) Stop(ctx context.Context) {
	if err := w.client.Stop(ctx); err != nil {
		hard, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		_ = w.client.StopAndCancel(hard)
	}
	w.alive.stop()
}

func last[T river.JobArgs](j *river.Job[T]) bool { return j.Attempt >= tries }

// tries is how often a read or run is tried before it ends as failed. With the
// pauses of NextRetry, and those within each call, that is about a minute.
const tries = 6

// work is a worker made of a function.
type work[T river.JobArgs] struct {
	river.WorkerDefaults[T]
	timeout time.Duration
	do      func(ctx context.Context, j *river.Job[T]) error
}

func add[T river.JobArgs](to *river.Workers, timeout time.Duration, do func(context.Context, *river.Job[T]) error) {
	river.AddWorker(to, &work[T]{timeout: timeout, do: do})
}

func (w *work[T]) Work(ctx context.Context, j *river.Job[T]) error {
	err := w.do(ctx, j)
	result := "done"
	if err != nil {
		result = "again"
	}
	jobsTotal.WithLabelValues(j.Kind, result).Inc()
	return err
}

func (w *work[T]) Timeout(*river.Job[T]) time.Duration { return w.timeout }

// NextRetry doubles the pause from 1 s up to a minute.
func (w *work[T]) NextRetry(j *river.Job[T]) time.Time {
	pause := time.Second << min(max(j.Attempt-1, 0), 6)
	return time.Now().Add(min(pause, time.Minute))
}

// exclusively does work while holding a lock that no other process holds.
func exclusively(ctx context.Context, s *store.Store, name string, do func() error) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	var held bool
	if err := conn.QueryRow(ctx, `SELECT pg_try_advisory_lock(hashtextextended($1, 0))`, name).Scan(&held); err != nil {
		return err
	}
	if !held {
		return river.JobSnooze(time.Second)
	}
	defer func() {
		_, _ = conn.Exec(context.WithoutCancel(ctx), `SELECT pg_advisory_unlock(hashtextextended($1, 0))`, name)
	}()
	return do()
}

// byHand is how many runs for which somebody waits are carried out at once, beside
// all others.
const byHand = 4

// pausedFor is how long work waits before it looks again whether everything is paused.
const pausedFor = 5 * time.Second

// pausedNow hands work back while everything is paused.
func pausedNow(ctx context.Context, s *store.Store) error {
	m, err := s.Maintenance(ctx)
	if err == nil && m.Since != nil {
		return river.JobSnooze(pausedFor)
	}
	return err
}

// tick is how often the clock is looked at for pairings that are due.
const tick = 15 * time.Second

// lookAround is how often it is looked who stopped, whose access has ended, and what of
// history goes.
const lookAround = 15 * time.Minute

// readAll starts a read of every register that is neither paused nor being read.
func readAll(ctx context.Context, s *store.Store, r *reading.Service, log *slog.Logger) error {
	if m, err := s.Maintenance(ctx); err != nil || m.Since != nil {
		return err
	}
	all, err := s.Connections(ctx)
	if err != nil {
		return err
	}
	for _, c := range all {
		if !adapter.IsRegister(c.Kind) || c.PausedAt != nil || c.Kind == adapter.KindCSV && c.Settings["folder"] == "" {
			continue
		}
		if _, err := r.Scheduled(ctx, c.ID); err != nil {
			log.Info("scheduled read not started", "connection", c.ID, "cause", err.Error())
		}
	}
	return nil
}
