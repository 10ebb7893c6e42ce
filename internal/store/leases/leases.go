// Package leases gives processes the right to work on what they have claimed, until they
// end or are no longer heard of, and locks that hang on it.
package leases

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/prometheus/procfs"

	"kanban/internal/store/db"
)

// Lease is the right of a process to work on what it has claimed. It lasts until it is
// renewed no more; nobody takes anything over before, unless the process is known to
// have ended.
type Lease struct {
	Worker string
	Length time.Duration
}

// Alive is a condition: the worker named by the expression holds its lease.
func Alive(worker string) string {
	return `EXISTS (SELECT 1 FROM workers alive WHERE alive.id = ` + worker + ` AND alive.until > now())`
}

// Renew makes a lease last for its whole length from now on. It fails with ErrStale when
// the lease was over and others may have taken over what it held.
func Renew(ctx context.Context, from db.From, l Lease) error {
	changed, err := db.Exec(ctx, from, `UPDATE workers SET until = now() + $2 * interval '1 second'
		WHERE id = $1 AND until > now()`, l.Worker, l.Length.Seconds())
	if err == nil && changed == 0 {
		return fmt.Errorf("renewing the lease: %w", db.ErrStale)
	}
	return db.Known(err, "renewing the lease")
}

// Register begins a lease under a new worker id.
func Register(ctx context.Context, from db.From, length time.Duration) (Lease, error) {
	l := Lease{"kanban-" + uuid.NewString(), length}
	started, _ := startOf(os.Getpid())
	_, err := db.Exec(ctx, from, `INSERT INTO workers (id, machine, pid, started, until)
		VALUES ($1, $2, $3, $4, now() + $5 * interval '1 second')`, l.Worker, machine(), os.Getpid(), started, length.Seconds())
	return l, db.Known(err, "beginning a lease")
}

// EndLease ends a lease, so that others go on at once with what it held.
func EndLease(ctx context.Context, from db.From, l Lease) error {
	_, err := db.Exec(ctx, from, `DELETE FROM workers WHERE id = $1`, l.Worker)
	return db.Known(err, "ending the lease")
}

// EndDeadLeases ends the leases of processes of this machine that exist no more, and removes
// those that have been over for a day.
func EndDeadLeases(ctx context.Context, from db.From) error {
	type process struct {
		ID        string
		ProcessID int
		Started   int64
	}
	all, err := db.Rows[process](ctx, from, "looking for processes that died", `SELECT id, pid AS process_id, started
		FROM workers WHERE machine = $1 AND machine <> ''`, machine())
	if err != nil {
		return err
	}
	dead := []string{}
	for _, p := range all {
		started, there := startOf(p.ProcessID)
		if !there || started != p.Started {
			dead = append(dead, p.ID)
		}
	}
	_, err = db.Exec(ctx, from, `DELETE FROM workers WHERE id = ANY ($1) OR until < now() - interval '1 day'`, dead)
	return db.Known(err, "looking for processes that died")
}

// GiveBack queues the jobs anew that were taken by workers without a lease, and gives how
// many there were.
func GiveBack(ctx context.Context, from db.From) (int64, error) {
	changed, err := db.Exec(ctx, from, `UPDATE river_job SET state = 'available', scheduled_at = now(),
		max_attempts = greatest(max_attempts, attempt + 1)
		WHERE state = 'running' AND NOT `+Alive(`attempted_by[array_upper(attempted_by, 1)]`))
	return changed, db.Known(err, "giving orphaned work back")
}

// ErrHeld means that somebody else does it.
var ErrHeld = errors.New("somebody else is at it")

// Lock takes what only one may do at a time, for a worker that holds its lease; ErrHeld
// means that somebody has it. Neither a broken connection nor a database that was started
// again gives it to somebody else: only unlock does, or the end of the worker's lease.
func Lock(ctx context.Context, from db.From, worker, name string) (unlock func(context.Context) error, err error) {
	token := uuid.NewString()
	changed, err := db.Exec(ctx, from, `INSERT INTO locks AS held (name, worker, token) VALUES ($1, $2, $3)
		ON CONFLICT (name) DO UPDATE SET worker = excluded.worker, token = excluded.token WHERE NOT `+Alive("held.worker"), name, worker, token)
	if err != nil {
		return nil, db.Known(err, "taking a lock")
	}
	if changed == 0 {
		return nil, ErrHeld
	}
	return func(ctx context.Context) error {
		_, err := db.Exec(ctx, from, `DELETE FROM locks WHERE name = $1 AND token = $2`, name, token)
		return db.Known(err, "giving a lock back")
	}, nil
}

// machine names this machine since it was started, with the space in which its process
// numbers hold; empty where that cannot be told.
func machine() string {
	boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	space, spaceErr := os.Readlink("/proc/self/ns/pid")
	if err != nil || spaceErr != nil {
		return ""
	}
	return strings.TrimSpace(string(boot)) + " " + space
}

// startOf is when a process was started, in ticks since the machine was; there is false
// when no such process exists any more.
func startOf(pid int) (ticks int64, there bool) {
	p, err := procfs.NewProc(pid)
	if err != nil {
		return 0, !errors.Is(err, os.ErrNotExist)
	}
	stat, err := p.Stat()
	if err != nil {
		return 0, !errors.Is(err, os.ErrNotExist)
	}
	return int64(stat.Starttime), stat.State != "Z" // a zombie does nothing any more
}
