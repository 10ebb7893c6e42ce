// Package db opens the database: pools, the transaction that GORM, pgx and the job queue
// share, errors that callers can act on, announcements to every process, migrations, and
// secrets sealed at rest. The packages beside it each keep one kind of record; their
// functions take what they read from, a *Database or a *Tx.
//
//	d, err := db.Open(ctx, db.Options{URL: url, Keyset: keyset})
//	defer d.Close()
//	err = d.InTx(ctx, func(tx *db.Tx) error { … })
package db

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"reflect"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jackc/puddle/v2"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"golang.org/x/sync/semaphore"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// ErrNotFound means that there is no such record.
var ErrNotFound = errors.New("not found")

// ErrTaken means that a record with the same unique value is there already.
var ErrTaken = errors.New("already there")

// ErrStale means that the record was changed since it was read.
var ErrStale = errors.New("changed in the meantime")

// ErrUnstorable means that a value is one that the database cannot keep, such as the
// character NUL in a text.
var ErrUnstorable = errors.New("it cannot be kept")

// Options of a Store.
type Options struct {
	// URL of the database, as understood by pgx.
	URL string
	// Keyset is the Tink keyset that seals secrets, see NewKeyset.
	Keyset []byte
	// MaxConnections to the database, 30 when zero, beside a few for Quick.
	MaxConnections int
}

// Database is an open database. It is safe for concurrent use.
type Database struct {
	Pool *pgxpool.Pool
	// Quick is for what is asked hundreds of times a second, and for taking jobs and
	// ending them. Plans are kept instead of being made anew for every value. Should the
	// database's machine fail, the last moment of what was written may be lost: those
	// jobs are done once more, which all of them allow.
	Quick *pgxpool.Pool
	db    *gorm.DB // on Pool
	quick *gorm.DB // on Quick
	jobs  *river.Client[pgx.Tx]
	*vault

	// within is the transaction of a view of the database, see Within; nil for the database itself.
	within *Tx

	kept sync.Map // in memory, by type, see Kept
	// slots bounds transactions to half of the connections, so that what reads beside
	// one it holds always finds another.
	slots    *semaphore.Weighted
	oneByOne *semaphore.Weighted // bounds those who wait for their turn, see OneByOne
	gathered gathered
	signal   signal
}

// Open connects, brings the schema up to date under a lock, and checks that the
// keyset is the one with which the database's secrets were sealed.
func Open(ctx context.Context, o Options) (*Database, error) {
	config, err := pgxpool.ParseConfig(o.URL)
	if err != nil {
		return nil, fmt.Errorf("the database address cannot be used: %w", err)
	}
	config.MaxConns = int32(o.MaxConnections)
	if config.MaxConns == 0 {
		config.MaxConns = 30
	}
	// Compiling a query takes seconds, and these take milliseconds.
	config.ConnConfig.RuntimeParams["jit"] = "off"
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connecting to the database: %w", err)
	}
	forQuick := config.Copy()
	forQuick.MaxConns = quickInterfaces
	forQuick.ConnConfig.RuntimeParams["synchronous_commit"] = "off"
	forQuick.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_generic_plan"
	quick, err := pgxpool.NewWithConfig(ctx, forQuick)
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("connecting to the database: %w", err)
	}
	s := &Database{
		Pool: pool, Quick: quick, slots: semaphore.NewWeighted(int64(max(config.MaxConns/2, 1))),
		oneByOne: semaphore.NewWeighted(int64(max(config.MaxConns/6, 1))),
	}
	if err := s.prepare(ctx, o.Keyset); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// quickInterfaces is how many connections Quick has.
const quickInterfaces = 10

func (s *Database) prepare(ctx context.Context, keyset []byte) error {
	if err := s.migrate(ctx); err != nil {
		return fmt.Errorf("bringing the database up to date: %w", err)
	}
	var err error
	if s.db, err = records(s.Pool); err != nil {
		return err
	}
	if s.quick, err = records(s.Quick); err != nil {
		return err
	}
	s.jobs, err = river.NewClient(riverpgxv5.New(s.Pool), &river.Config{Logger: slog.New(slog.DiscardHandler)})
	if err != nil {
		return fmt.Errorf("preparing the job queue: %w", err)
	}
	if s.vault, err = openVault(keyset); err != nil {
		return err
	}
	return s.checkVault(ctx)
}

// records opens a GORM handle on the connections of a pool.
func records(pool *pgxpool.Pool) (*gorm.DB, error) {
	handle, err := gorm.Open(postgres.New(postgres.Config{Conn: stdlib.OpenDBFromPool(pool)}), &gorm.Config{
		SkipDefaultTransaction: true, Logger: logger.Discard,
		NowFunc: func() time.Time { return time.Now().UTC() },
	})
	if err != nil {
		return nil, fmt.Errorf("preparing the database: %w", err)
	}
	return handle, nil
}

// Close ends every connection.
func (s *Database) Close() {
	for _, handle := range []*gorm.DB{s.db, s.quick} {
		if handle == nil { // it never opened
			continue
		}
		if views, err := handle.DB(); err == nil {
			_ = views.Close()
		}
	}
	s.Quick.Close()
	s.Pool.Close()
}

// Ready reports whether the database answers.
func (s *Database) Ready(ctx context.Context) error { return s.Pool.Ping(ctx) }

// NewID makes a time-ordered id (UUID version 7, RFC 9562 5.7).
func NewID() string { return uuid.Must(uuid.NewV7()).String() }

// Kept gives the one T that this process keeps in memory about a database.
func Kept[T any](s *Database) *T {
	v, _ := s.kept.LoadOrStore(reflect.TypeFor[T](), new(T))
	return v.(*T)
}

// Records gives a GORM handle that reads outside of any transaction.
func (s *Database) Records(ctx context.Context) *gorm.DB { return s.db.WithContext(ctx) }

func (s *Database) query(ctx context.Context, text string, args []any) (pgx.Rows, error) {
	if s.within != nil {
		return s.within.query(ctx, text, args)
	}
	return s.Pool.Query(ctx, text, args...)
}

// Quickly gives the connections of Quick as something to read from.
func (s *Database) Quickly() From {
	if s.within != nil {
		return s.within
	}
	return quickly{s.quick, s.Quick}
}

type quickly struct {
	records *gorm.DB
	pool    *pgxpool.Pool
}

// Records gives a GORM handle on the connections of Quick.
func (q quickly) Records(ctx context.Context) *gorm.DB { return q.records.WithContext(ctx) }

func (q quickly) query(ctx context.Context, text string, args []any) (pgx.Rows, error) {
	return q.pool.Query(ctx, text, args...)
}

// Refused reports whether the database answered, and would answer the same again: it was
// not out of reach, and nobody stood in the way.
func Refused(err error) bool {
	var pg *pgconn.PgError
	if errors.Is(err, ErrTaken) || errors.Is(err, ErrNotFound) || errors.Is(err, ErrUnstorable) {
		return true
	}
	if !errors.As(err, &pg) {
		return false
	}
	class := pg.Code[:2]
	return class == "22" || class == "23" || class == "42"
}

// Unreachable reports whether the database could not be asked: it is starting, stopping or
// gone, or the connection broke. What was asked may be asked again later.
func Unreachable(err error) bool {
	var pg *pgconn.PgError
	var network net.Error
	var connect *pgconn.ConnectError
	switch {
	case err == nil:
		return false
	case errors.As(err, &pg):
		return strings.HasPrefix(pg.Code, "08") || strings.HasPrefix(pg.Code, "57P") || pg.Code == "53300"
	case errors.As(err, &connect), errors.As(err, &network), errors.Is(err, puddle.ErrClosedPool), errors.Is(err,
		io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, sql.ErrConnDone), errors.Is(err, net.ErrClosed),
		errors.Is(err, pgconn.ErrConnClosed):
		return true
	}
	return false
}

// Known says what was being done, once, and turns database errors into the ones callers can act on.
func Known(err error, doing string) error {
	var pg *pgconn.PgError
	var said *failure
	switch {
	case err == nil:
		return nil
	case errors.As(err, &said) && said.doing == doing:
		return err
	case errors.Is(err, gorm.ErrRecordNotFound), errors.Is(err, pgx.ErrNoRows):
		err = ErrNotFound
	case errors.As(err, &pg) && pg.Code == "23505":
		err = ErrTaken
	case errors.As(err, &pg) && pg.Code == "22P02": // an id that is no UUID
		err = ErrNotFound
	case errors.As(err, &pg) && (pg.Code == "22021" || pg.Code == "22P05" || pg.Code == "22003"):
		err = fmt.Errorf("%w: %s", ErrUnstorable, pg.Message)
	}
	return &failure{doing, err}
}

// failure is an error with what was being done.
type failure struct {
	doing string
	err   error
}

func (f *failure) Error() string { return f.doing + ": " + f.err.Error() }
func (f *failure) Unwrap() error { return f.err }
