// Package worker carries out queued work: reads, runs, reactions, deliveries.
// Any number of processes may work on one database.
//
//	w, err := worker.Start(ctx, db, uses, worker.Options{Log: log})
//	defer w.Stop(ctx)
package worker

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
	"github.com/riverqueue/river"

	"kanban/internal/adapter"
	"kanban/internal/app/registers"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/settingstore"
)

// Options of a worker.
type Options struct {
	Log *slog.Logger
	// Runs is how many reads and runs are carried out at once, 8 when zero.
	Runs int
	// Reactions is how many reactions are carried out at once,
	// 100 when zero.
	Reactions int
	// Lease is for how long a process keeps what it has claimed without being heard of,
	// 45 s when zero: longer than any call takes.
	Lease time.Duration
	// ReadEvery is the pause between scheduled reads of every register; zero or
	// less switches them off.
	ReadEvery time.Duration
}

var jobsTotal = promauto.NewCounterVec(prometheus.CounterOpts{
	Name: "kanban_jobs_total", Help: "Queued work carried out, by kind and result.",
}, []string{"kind", "result"})

// jobs are the kinds of queued work that one shift carries out.
func (x *shift) jobs() *river.Workers {
	workers := river.NewWorkers()
	x.rosterJobs(workers)
	x.eventJobs(workers)
	x.periodicJobs(workers)
	return workers
}

// rosterJobs read registers and bring classes in step.
func (x *shift) rosterJobs(workers *river.Workers) {
	s, uses := x.store, x.uses
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.ReadRegister]) error {
		if err := pausedNow(ctx, s); err != nil {
			return err
		}
		return asked(uses.Registers.Work(ctx, j.Args.RunID, last(j)))
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.ApplyRun]) error {
		if err := pausedNow(ctx, s); err != nil {
			return err
		}
		return x.exclusively(ctx, "run/"+j.Args.RunID,
			func() error { return asked(uses.Runs.Work(ctx, j.Args.RunID, last(j))) })
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.CarryScores]) error {
		if err := pausedNow(ctx, s); err != nil {
			return err
		}
		return x.exclusively(ctx, "run/"+j.Args.RunID,
			func() error { return asked(uses.Scores.Work(ctx, j.Args.RunID, last(j))) })
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.LookForScores]) error {
		if err := pausedNow(ctx, s); err != nil {
			return err
		}
		return uses.Scores.Look(ctx, j.Args.LinkIDs)
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.WorkAsked]) error {
		if err := pausedNow(ctx, s); err != nil {
			return err
		}
		return x.exclusively(ctx, "asked/"+j.Args.InterfaceID,
			func() error { return uses.Runs.WorkAsked(ctx, j.Args.InterfaceID) })
	})
	add(x, workers, func(ctx context.Context, job *river.Job[jobs.RunPairing]) error {
		return uses.Runs.Auto(ctx, job.Args.PairingID, job.Args.Who)
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.Propose]) error {
		if err := matchstore.LookForProposals(ctx, s, j.Args.InterfaceID); err != nil {
			return err
		}
		return x.exclusively(ctx, "same-people", func() error { return uses.Persons.LookFor(ctx, j.Args.InterfaceID) })
	})
	add(x, workers, func(ctx context.Context, _ *river.Job[jobs.MovePeople]) error {
		return uses.Persons.MoveRest(ctx)
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.CarryOutBatch]) error {
		return x.exclusively(ctx, "batch/"+j.Args.BatchID,
			func() error { return uses.Batches.CarryOut(ctx, j.Args.BatchID) })
	})
}

// eventJobs work out what follows from statements and events.
func (x *shift) eventJobs(workers *river.Workers) {
	uses := x.uses
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.React]) error {
		return uses.Deliveries.React(ctx, j.Args.EventIDs, j.Args.RuleID)
	})
	add(x, workers, func(ctx context.Context, _ *river.Job[jobs.ResolveStatements]) error {
		return uses.Facts.Resolve(ctx)
	})
	add(x, workers, func(ctx context.Context, _ *river.Job[jobs.TakeWaiting]) error {
		return uses.Config.TakeWaiting(ctx)
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.RecountCourse]) error {
		return uses.Facts.Recount(ctx, j.Args)
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.SendLinks]) error {
		return uses.Holders.SendLinks(ctx, j.Args.Address)
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.SendReport]) error {
		return uses.Reports.Send(ctx, j.Args)
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.WorkProof]) error {
		var again time.Duration
		err := x.exclusively(ctx, "proof/"+j.Args.ProofID, func() (err error) {
			again, err = uses.Proofs.Work(ctx, j.Args.ProofID, j.Args.Anyway)
			return err
		})
		if err == nil && again > 0 {
			err = river.JobSnooze(again)
		}
		return err
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.CheckProgress]) error {
		return x.exclusively(ctx, "check-progress", func() error { return uses.Reports.WorkCheck(ctx, j.Args.Mend) })
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.WorkOutStages]) error {
		if j.Args.StagePlanID != "" {
			return uses.Stages.WorkOut(ctx, j.Args.StagePlanID)
		}
		return uses.Stages.Touched(ctx, j.Args.People, j.Args.Courses, j.Args.Badges)
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.SettleAccess]) error {
		return x.exclusively(ctx, "access", func() error {
			if j.Args.OfferID == "" {
				return uses.Purchases.Tick(ctx)
			}
			return uses.Purchases.Settle(ctx, j.Args.OfferID)
		})
	})
	add(x, workers, func(ctx context.Context, j *river.Job[jobs.AskNeeds]) error {
		return x.exclusively(ctx, "ask-needs/"+j.Args.RuleID,
			func() error { return uses.Rules.AskNeeds(ctx, j.Args.RuleID) })
	})
}

// periodicJobs are for what comes with time.
func (x *shift) periodicJobs(workers *river.Workers) {
	s, uses := x.store, x.uses
	add(x, workers, func(ctx context.Context, _ *river.Job[jobs.PassTime]) error {
		return errors.Join(uses.Deliveries.Inactive(ctx), uses.Purchases.Tick(ctx))
	})
	add(x, workers, func(ctx context.Context, _ *river.Job[jobs.TendHistory]) error {
		return x.exclusively(ctx, "history", func() error {
			return errors.Join(uses.History.Tend(ctx), uses.Persons.MoveRest(ctx))
		})
	})
	add(x, workers, func(ctx context.Context, _ *river.Job[jobs.Tick]) error {
		return errors.Join(x.queueDue(ctx), uses.Registers.Turn(ctx), uses.Runs.Tick(ctx, time.Now()),
			uses.Scores.Tick(ctx, time.Now()), uses.Reports.Tick(ctx, time.Now()))
	})
	add(x, workers, func(ctx context.Context, _ *river.Job[jobs.ReadAll]) error {
		return readAll(ctx, s, uses.Registers, x.options.Log)
	})
}

// schedules are what the leader does by itself. Everything else that happens at intervals
// hangs on the tick, which looks in the database when it was last due.
func schedules() []*river.PeriodicJob {
	return []*river.PeriodicJob{river.NewPeriodicJob(river.PeriodicInterval(tick),
		func() (river.JobArgs, *river.InsertOpts) { return jobs.Tick{}, nil }, &river.PeriodicJobOpts{
			ID:         "tick",
			RunOnStart: true,
		})}
}

// queueDue queues what is due at intervals.
func (x *shift) queueDue(ctx context.Context) error {
	errs := []error{
		jobs.QueueEvery(ctx, x.store, "pass-time", checkEvery, true, jobs.PassTime{}),
		// What was reached before progress went with people who move.
		jobs.QueueEvery(ctx, x.store, "carry-progress", 100*365*24*time.Hour, true,
			jobs.RecountCourse{Everybody: true}),
		jobs.QueueEvery(ctx, x.store, "tend-history", checkEvery, true, jobs.TendHistory{}),
		jobs.QueueEvery(ctx, x.store, "ask-needs", 24*time.Hour, true, jobs.AskNeeds{}),
	}
	if every := x.options.ReadEvery; every > 0 {
		errs = append(errs, jobs.QueueEvery(ctx, x.store, "read-all", every, false, jobs.ReadAll{}))
	}
	return errors.Join(errs...)
}

// asked lets work wait for as long as a service asks for; that is no try of it.
func asked(err error) error {
	if wait, yes := adapter.Asked(err); yes {
		return river.JobSnooze(wait)
	}
	return err
}

func last[T river.JobArgs](j *river.Job[T]) bool { return j.Attempt >= tries }

// tries is how often a read or run is tried before it ends as failed. With the
// pauses of NextRetry, and those within each call, that is about a minute.
const tries = 6

// work is a worker made of a function. Nothing bounds how long it takes: what it calls
// has limits of its own, and one that is at work is told from one that died by its lease.
type work[T river.JobArgs] struct {
	river.WorkerDefaults[T]
	shift *shift
	do    func(ctx context.Context, j *river.Job[T]) error
}

func add[T river.JobArgs](x *shift, to *river.Workers, do func(context.Context, *river.Job[T]) error) {
	river.AddWorker(to, &work[T]{shift: x, do: do})
}

// Work does it, and stops when the lease is lost: somebody else may be at it then.
func (w *work[T]) Work(ctx context.Context, j *river.Job[T]) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer context.AfterFunc(w.shift.holding, func() { cancel(context.Cause(w.shift.holding)) })()
	err := w.do(ctx, j)
	result := "done"
	if err != nil {
		result = "again"
	}
	jobsTotal.WithLabelValues(j.Kind, result).Inc()
	return err
}

func (w *work[T]) Timeout(*river.Job[T]) time.Duration { return -1 }

// NextRetry doubles the pause from 1 s up to a minute.
func (w *work[T]) NextRetry(j *river.Job[T]) time.Time {
	pause := time.Second << min(max(j.Attempt-1, 0), 6)
	return time.Now().Add(min(pause, time.Minute))
}

// byHand is how many runs for which somebody waits are carried out at once, beside
// all others.
const byHand = 4

// pausedFor is how long work waits before it looks again whether everything is paused.
const pausedFor = 5 * time.Second

// pausedNow hands work back while everything is paused.
func pausedNow(ctx context.Context, s *db.Database) error {
	m, err := settingstore.FindMaintenance(ctx, s)
	if err == nil && m.Since != nil {
		return river.JobSnooze(pausedFor)
	}
	return err
}

// tick is how often the clock is looked at for pairings that are due.
const tick = 15 * time.Second

// checkEvery is how often it is looked who stopped, whose access has ended, and what of
// history goes.
const checkEvery = 15 * time.Minute

// readAll starts a read of every register that is neither paused nor being read.
func readAll(ctx context.Context, s *db.Database, r *registers.Service, log *slog.Logger) error {
	if m, err := settingstore.FindMaintenance(ctx, s); err != nil || m.Since != nil {
		return err
	}
	all, err := connectionstore.Interfaces(ctx, s)
	if err != nil {
		return err
	}
	for _, c := range all {
		if !adapter.IsRegister(c.Kind) || c.Paused() || c.Kind == adapter.KindCSV &&
			c.Settings["folder"] == "" {
			continue
		}
		if _, err := r.Scheduled(ctx, c.ID); err != nil {
			log.Info("scheduled read not started", "interface", c.ID, "cause", err.Error())
		}
	}
	return nil
}
