package jobs

import (
	"context"
	"time"

	"github.com/riverqueue/river"

	"kanban/internal/store/db"
)

// QueueEvery queues a job when an interval is over since it was last due, however often
// processes were started and whoever leads. The first time it is due after one interval
// or, if first says so, at once. Missed intervals are due once.
func QueueEvery(ctx context.Context, from *db.Database, name string, every time.Duration, first bool,
	job river.JobArgs,
) error {
	return from.InTx(ctx, func(tx *db.Tx) error {
		due, err := db.Values[bool](ctx, tx, "looking at an interval", `INSERT INTO intervals AS i (name, last_at)
			VALUES ($1, now()) ON CONFLICT (name) DO UPDATE
			SET last_at = i.last_at + floor(extract(epoch FROM now() - i.last_at) / $2::float8) * $2::float8 *
				interval '1 second'
			WHERE i.last_at + $2::float8 * interval '1 second' <= now() RETURNING xmax = 0`, name, every.Seconds()) // whether it is the first time
		if err != nil || len(due) == 0 || due[0] && !first {
			return err
		}
		return tx.Enqueue(ctx, job)
	})
}
