package db

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/riverqueue/river"
	"gorm.io/gorm"
)

// Tx is one transaction seen in two ways: GORM for everyday records, pgx for
// bulk loads and for the job queue. What is written through either is committed
// or rolled back together.
type Tx struct {
	DB   *gorm.DB
	PGX  pgx.Tx
	jobs *river.Client[pgx.Tx]
	busy map[string]bool // topics to announce after the commit
	Due  bool            // whether deliveries were queued whose time may have come
	*vault
}

// InTx runs fn in a transaction; an error rolls everything back: records,
// events, jobs and announcements.
func (s *Database) InTx(ctx context.Context, fn func(*Tx) error) error {
	return s.inTx(ctx, pgx.TxOptions{}, fn)
}

// InShortTx does the same for what happens hundreds of times a second with a few rows
// each: plans are kept instead of being made anew for every value, which would take
// longer than carrying them out.
func (s *Database) InShortTx(ctx context.Context, fn func(*Tx) error) error {
	return s.inTx(ctx, pgx.TxOptions{BeginQuery: `BEGIN; SET LOCAL plan_cache_mode = force_generic_plan`}, fn)
}

// Within gives a view of the database from inside a transaction: use cases that are put together
// over it read what the transaction has written, and what they write in transactions of their own is
// committed or rolled back with it. It is for one goroutine at a time, and only while the transaction
// lasts. What such a use case would do after its commit, like closing connections, it must not do.
func (s *Database) Within(tx *Tx) *Database {
	return &Database{
		Pool: s.Pool, Quick: s.Quick, db: tx.DB, quick: tx.DB, jobs: s.jobs, vault: s.vault,
		slots: s.slots, oneByOne: s.oneByOne, within: tx,
	}
}

func (s *Database) inTx(ctx context.Context, options pgx.TxOptions, fn func(*Tx) error) error {
	if s.within != nil {
		return s.within.Nested(ctx, func() error { return fn(s.within) })
	}
	if err := s.slots.Acquire(ctx, 1); err != nil {
		return err
	}
	defer s.slots.Release(1)
	var topics map[string]bool
	var due bool
	err := s.db.WithContext(ctx).Connection(func(held *gorm.DB) error {
		conn, ok := held.Statement.ConnPool.(*sql.Conn)
		if !ok {
			return fmt.Errorf("the database handle holds no single connection but %T", held.Statement.ConnPool)
		}
		var raw *pgx.Conn
		// Raw locks the connection while its function runs, so the function
		// only fetches the pgx connection; the transaction happens outside.
		if err := conn.Raw(func(driver any) error {
			raw = driver.(*stdlib.Conn).Conn()
			return nil
		}); err != nil {
			return err
		}
		tx, err := raw.BeginTx(ctx, options)
		if err != nil {
			return err
		}
		// Both ends happen under that lock: a connection that broke, or whose context ended,
		// may be being closed by whoever found that out, and then there is nothing to end.
		end := func(do func(context.Context) error) (err error) {
			if gone := conn.Raw(func(any) error { err = do(ctx); return nil }); gone != nil {
				return gone
			}
			return err
		}
		defer func() { _ = end(tx.Rollback) }() // nothing is left of one that was committed
		handle := held.Session(&gorm.Session{NewDB: true, Context: ctx, SkipDefaultTransaction: true})
		t := &Tx{DB: handle, PGX: tx, jobs: s.jobs, vault: s.vault}
		defer func() { topics, due = t.busy, t.Due }()
		if err := fn(t); err != nil {
			return err
		}
		return end(tx.Commit)
	})
	if err == nil {
		s.AnnounceSoon(topics)
		if due {
			s.signal.queued(s)
		}
	}
	return err
}

// tries is how often a transaction is made when others stand in its way.
const tries = 5

// Again makes a transaction, and makes it anew when it was undone only because another
// one stood in its way; do must begin from the beginning each time.
func Again(do func() error) (err error) {
	for range tries {
		var pg *pgconn.PgError
		if err = do(); !errors.As(err, &pg) || pg.Code != "40P01" && pg.Code != "40001" {
			break
		}
	}
	return err
}

// OneByOne does something while nobody else does so for the same thing, here or at another
// replica. It needs a connection beside those of what it does.
func (s *Database) OneByOne(ctx context.Context, thing string, do func()) error {
	if err := s.oneByOne.Acquire(ctx, 1); err != nil {
		return err
	}
	defer s.oneByOne.Release(1)
	tx, err := s.Pool.Begin(ctx)
	if err != nil {
		return Known(err, "waiting for one's turn")
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // gives the lock back
	if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtextextended('edit/' || $1, 0))`, thing); err != nil {
		return Known(err, "waiting for one's turn")
	}
	do()
	return nil
}

// WaitForDisk makes the transaction last once it is committed, whatever was said before.
func (tx *Tx) WaitForDisk(ctx context.Context) error {
	_, err := tx.PGX.Exec(ctx, `SET LOCAL synchronous_commit = on`)
	return Known(err, "writing deliveries")
}

// Enqueue adds jobs that become visible when the transaction commits.
func (tx *Tx) Enqueue(ctx context.Context, jobs ...river.JobArgs) error {
	return tx.EnqueueAt(ctx, time.Time{}, jobs...)
}

// soon is how near a time must be for a job to start at once.
const soon = 20 * time.Millisecond

// EnqueueAt does the same for jobs that start at a time.
func (tx *Tx) EnqueueAt(ctx context.Context, at time.Time, jobs ...river.JobArgs) error {
	if len(jobs) == 0 {
		return nil
	}
	params := make([]river.InsertManyParams, len(jobs))
	for i, j := range jobs {
		params[i] = river.InsertManyParams{Args: j}
		if at.After(time.Now().Add(soon)) {
			params[i].InsertOpts = &river.InsertOpts{ScheduledAt: at}
		}
	}
	if _, err := tx.jobs.InsertManyTx(ctx, tx.PGX, params); err != nil {
		return fmt.Errorf("queueing work: %w", err)
	}
	return nil
}

// Live is the news that something changed, for pages that show it.
type Live struct {
	Topic string `json:"topic" doc:"What changed: connection, section, pairing, run, event, delivery, rule, badge, stage plan, …"`
	ID    string `json:"id" doc:"Which one; empty when it is about many"`
}

// liveChannel carries Live messages to every replica.
const liveChannel = "kanban_live"

// busy are the topics of which there may be thousands a second. They are announced
// together, shortly after: announcing in a transaction makes all commits wait for each
// other.
var busy = map[string]bool{"event": true, "delivery": true, "stagePlan": true}

// soonAfter is how long announcements of busy topics are gathered.
const soonAfter = 200 * time.Millisecond

// gathered are busy topics to announce.
type gathered struct {
	mu     sync.Mutex
	topics map[string]bool
}

// AnnounceSoon announces busy topics that a committed transaction was about. Should the
// process end before, pages show the news a little later.
func (s *Database) AnnounceSoon(topics map[string]bool) {
	if len(topics) == 0 {
		return
	}
	s.gathered.mu.Lock()
	defer s.gathered.mu.Unlock()
	if len(s.gathered.topics) == 0 {
		s.gathered.topics = map[string]bool{}
		time.AfterFunc(soonAfter, func() {
			s.gathered.mu.Lock()
			topics := s.gathered.topics
			s.gathered.topics = nil
			s.gathered.mu.Unlock()
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			for topic := range topics {
				text, _ := json.Marshal(Live{Topic: topic})
				_, _ = s.Pool.Exec(ctx, `SELECT pg_notify($1, $2)`, liveChannel, string(text))
			}
		})
	}
	for topic := range topics {
		s.gathered.topics[topic] = true
	}
}

// Announce tells every open page, of every replica, when the transaction commits, or
// shortly after.
func (tx *Tx) Announce(ctx context.Context, topic, id string) error {
	if busy[topic] {
		if tx.busy == nil {
			tx.busy = map[string]bool{}
		}
		tx.busy[topic] = true
		return nil
	}
	text, err := json.Marshal(Live{topic, id})
	if err != nil {
		return err
	}
	if _, err := tx.PGX.Exec(ctx, `SELECT pg_notify($1, $2)`, liveChannel, string(text)); err != nil {
		return fmt.Errorf("announcing a change: %w", err)
	}
	return nil
}

// Listen calls news for every announcement until ctx ends or the connection
// breaks; the caller starts it again.
func (s *Database) Listen(ctx context.Context, news func(Live)) error {
	return s.listen(ctx, liveChannel, func(payload string) {
		var l Live
		if json.Unmarshal([]byte(payload), &l) == nil {
			news(l)
		}
	})
}

func (s *Database) listen(ctx context.Context, channel string, news func(payload string)) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("listening for changes: %w", err)
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
		return fmt.Errorf("listening for changes: %w", err)
	}
	defer func() { _, _ = conn.Exec(context.WithoutCancel(ctx), "UNLISTEN "+channel) }()
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return fmt.Errorf("listening for changes: %w", err)
		}
		news(n.Payload)
	}
}

// dueChannel tells every process that deliveries were queued.
const dueChannel = "kanban_due"

// otherProcesses is how long the news for other processes is gathered: it is told outside
// of the transactions, which would wait for each other.
const otherProcesses = 10 * time.Millisecond

// signal wakes whoever makes deliveries.
type signal struct {
	mu      sync.Mutex
	waiting map[chan struct{}]bool
	telling bool
}

func (g *signal) wake() {
	g.mu.Lock()
	defer g.mu.Unlock()
	for c := range g.waiting {
		select {
		case c <- struct{}{}:
		default: // it is awake
		}
	}
}

func (g *signal) queued(s *Database) {
	g.wake()
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.telling {
		return
	}
	g.telling = true
	time.AfterFunc(otherProcesses, func() {
		g.mu.Lock()
		g.telling = false
		g.mu.Unlock()
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		_, _ = s.Quick.Exec(ctx, `SELECT pg_notify($1, '')`, dueChannel)
	})
}

// Due gives a channel that is told when deliveries were queued, by this process or
// another. It is a hint: news can be missed while the database cannot be reached.
func (s *Database) Due(ctx context.Context) <-chan struct{} {
	c := make(chan struct{}, 1)
	s.signal.mu.Lock()
	if s.signal.waiting == nil {
		s.signal.waiting = map[chan struct{}]bool{}
	}
	s.signal.waiting[c] = true
	s.signal.mu.Unlock()
	go func() {
		for ctx.Err() == nil {
			_ = s.listen(ctx, dueChannel, func(string) { s.signal.wake() })
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
		s.signal.mu.Lock()
		delete(s.signal.waiting, c)
		s.signal.mu.Unlock()
	}()
	return c
}

// Records gives a GORM handle that reads and writes in the transaction.
func (tx *Tx) Records(ctx context.Context) *gorm.DB { return tx.DB.WithContext(ctx) }

func (tx *Tx) query(ctx context.Context, text string, args []any) (pgx.Rows, error) {
	return tx.PGX.Query(ctx, text, args...)
}

// Nested does something that can be undone without the rest of the transaction.
func (tx *Tx) Nested(ctx context.Context, do func() error) error {
	return pgx.BeginFunc(ctx, tx.PGX, func(pgx.Tx) error { return do() })
}
