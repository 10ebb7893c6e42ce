package worker

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"

	"kanban/internal/store"
	"kanban/internal/wire/call"
)

// liveness tells living workers from dead ones. Each worker holds an advisory
// lock in the database for as long as its process lives: PostgreSQL drops it the
// moment the process dies, however it dies. Jobs whose worker's lock is free are
// therefore orphans and are given back at once. A time limit could not tell a
// long run from a dead one; the lock can.
type liveness struct {
	store  *store.Store
	id     string
	log    *slog.Logger
	conn   *pgxpool.Conn
	cancel context.CancelFunc
	ended  chan struct{}
}

func newLiveness(s *store.Store, id string, log *slog.Logger) *liveness {
	return &liveness{store: s, id: id, log: log, ended: make(chan struct{})}
}

const sweepEvery = 2 * time.Second

func (l *liveness) start(ctx context.Context) error {
	if err := l.hold(ctx); err != nil {
		return err
	}
	ctx, l.cancel = context.WithCancel(context.WithoutCancel(ctx))
	go func() {
		defer close(l.ended)
		for {
			if err := l.sweep(ctx); err != nil && ctx.Err() == nil {
				l.log.Warn("looking for orphaned work failed", "cause", err.Error())
				l.conn.Release()
				for l.hold(ctx) != nil && ctx.Err() == nil {
					time.Sleep(time.Second)
				}
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(sweepEvery):
			}
		}
	}()
	return nil
}

func (l *liveness) hold(ctx context.Context) error {
	conn, err := l.store.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	if _, err := conn.Exec(ctx, `SELECT pg_advisory_lock(hashtextextended($1, 0))`, l.id); err != nil {
		conn.Release()
		return err
	}
	l.conn = conn
	return nil
}

func (l *liveness) stop() {
	l.cancel()
	<-l.ended
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_, _ = l.conn.Exec(ctx, `SELECT pg_advisory_unlock_all()`)
	l.conn.Release()
}

// sweep gives back the jobs of workers that no longer live.
func (l *liveness) sweep(ctx context.Context) error {
	rows, err := l.conn.Query(ctx, `SELECT DISTINCT attempted_by[array_upper(attempted_by, 1)] FROM river_job WHERE state = 'running'`)
	if err != nil {
		return err
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, id := range ids {
		if id == l.id {
			continue
		}
		var dead bool
		if err := l.conn.QueryRow(ctx, `SELECT pg_try_advisory_lock(hashtextextended($1, 0))`, id).Scan(&dead); err != nil {
			return err
		}
		if !dead {
			continue
		}
		tag, err := l.conn.Exec(ctx, `UPDATE river_job SET state = 'available', scheduled_at = now(), max_attempts = greatest(max_attempts, attempt + 1)
			WHERE state = 'running' AND attempted_by[array_upper(attempted_by, 1)] = $1`, id)
		if err != nil {
			return err
		}
		if _, err := l.conn.Exec(ctx, `SELECT pg_advisory_unlock(hashtextextended($1, 0))`, id); err != nil {
			return err
		}
		if tag.RowsAffected() > 0 {
			l.log.Info("went on with the work of a process that died", "jobs", tag.RowsAffected())
		}
	}
	return nil
}

// failures logs what went wrong with a job, without its arguments.
type failures struct{ log *slog.Logger }

func (f *failures) HandleError(_ context.Context, j *rivertype.JobRow, err error) *river.ErrorHandlerResult {
	f.log.Warn("work will be tried again", "kind", j.Kind, "job", j.ID, "attempt", j.Attempt, "cause", cause(err))
	return nil
}

func (f *failures) HandlePanic(_ context.Context, j *rivertype.JobRow, value any, trace string) *river.ErrorHandlerResult {
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
