package db

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// migrationLock is the advisory lock under which the schema is changed, so that
// replicas that start together do it one after the other.
const migrationLock = 0x6b616e62 // "kanb"

// ErrNewerSchema means that a newer program has used the database.
var ErrNewerSchema = errors.New("the database belongs to a newer version of Kanban")

func (s *Database) migrate(ctx context.Context) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, `SELECT pg_advisory_lock($1)`, migrationLock); err != nil {
		return err
	}
	defer func() { _, _ = conn.Exec(context.WithoutCancel(ctx), `SELECT pg_advisory_unlock($1)`, migrationLock) }()

	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	db := stdlib.OpenDBFromPool(s.Pool)
	defer db.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files)
	if err != nil {
		return err
	}
	sources := provider.ListSources()
	if version, err := provider.GetDBVersion(ctx); err != nil {
		return err
	} else if newest := sources[len(sources)-1].Version; version > newest {
		return fmt.Errorf("%w: its schema is version %d, this program knows up to %d; start the newer program, or restore a backup made before it", ErrNewerSchema, version, newest)
	}
	if _, err := provider.Up(ctx); err != nil {
		return err
	}
	queue, err := rivermigrate.New(riverpgxv5.New(s.Pool), nil)
	if err != nil {
		return err
	}
	if _, err := queue.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return err
	}
	return s.EnsurePartitions(ctx, time.Now())
}
