package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"github.com/jackc/pgx/v5"
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
	*vault
}

// InTx runs fn in a transaction; an error rolls everything back: records,
// events, jobs and announcements.
func (s *Store) InTx(ctx context.Context, fn func(*Tx) error) error {
	return s.db.WithContext(ctx).Connection(func(held *gorm.DB) error {
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
		return pgx.BeginFunc(ctx, raw, func(tx pgx.Tx) error {
			handle := held.Session(&gorm.Session{NewDB: true, Context: ctx, SkipDefaultTransaction: true})
			return fn(&Tx{DB: handle, PGX: tx, jobs: s.jobs, vault: s.vault})
		})
	})
}

// Enqueue adds jobs that become visible when the transaction commits.
func (tx *Tx) Enqueue(ctx context.Context, jobs ...river.JobArgs) error {
	if len(jobs) == 0 {
		return nil
	}
	params := make([]river.InsertManyParams, len(jobs))
	for i, j := range jobs {
		params[i] = river.InsertManyParams{Args: j}
	}
	if _, err := tx.jobs.InsertManyTx(ctx, tx.PGX, params); err != nil {
		return fmt.Errorf("queueing work: %w", err)
	}
	return nil
}

// Live is the news that something changed, for pages that show it.
type Live struct {
	Topic string `json:"topic" doc:"What changed: connection, section, pairing, run, event, delivery, rule or badge"`
	ID    string `json:"id" doc:"Which one; empty when it is about many"`
}

// liveChannel carries Live messages to every replica.
const liveChannel = "kanban_live"

// Announce tells every open page, of every replica, when the transaction commits.
func (tx *Tx) Announce(ctx context.Context, topic, id string) error {
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
func (s *Store) Listen(ctx context.Context, news func(Live)) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("listening for changes: %w", err)
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "LISTEN "+liveChannel); err != nil {
		return fmt.Errorf("listening for changes: %w", err)
	}
	defer func() { _, _ = conn.Exec(context.WithoutCancel(ctx), "UNLISTEN "+liveChannel) }()
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return fmt.Errorf("listening for changes: %w", err)
		}
		var l Live
		if json.Unmarshal([]byte(n.Payload), &l) == nil {
			news(l)
		}
	}
}
