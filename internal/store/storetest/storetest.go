// Package storetest gives every test a database of its own on a real, private
// PostgreSQL server.
//
//	func TestMain(m *testing.M) { storetest.Main(m) }
//	func TestX(t *testing.T)    { s := storetest.New(t) }
package storetest

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kanban/internal/store/db"
	"kanban/internal/store/pgchild"
)

var (
	once    sync.Once
	server  *pgchild.Server
	failed  error
	folder  string
	keyset  []byte
	pattern = "template_kanban"
)

// Main runs a package's tests and stops the server that they used.
func Main(m *testing.M) {
	code := m.Run()
	if server != nil {
		server.Stop()
	}
	if folder != "" {
		_ = os.RemoveAll(folder)
	}
	os.Exit(code)
}

func start() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if folder, failed = os.MkdirTemp("", "kanban-test-"); failed != nil {
		return
	}
	if failed = os.Chmod(folder, 0o755); failed != nil { // the user postgres passes through
		return
	}
	if server, failed = pgchild.Start(ctx, pgchild.Options{Folder: filepath.Join(folder, "postgres"), Fast: true}); failed != nil {
		return
	}
	if keyset, failed = db.NewKeyset(); failed != nil {
		return
	}
	if failed = admin(ctx, "CREATE DATABASE "+pattern); failed != nil {
		return
	}
	var s *db.Database
	if s, failed = db.Open(ctx, db.Options{URL: server.Database(pattern), Keyset: keyset}); failed == nil {
		s.Close()
	}
}

func admin(ctx context.Context, sql string) error {
	conn, err := pgx.Connect(ctx, server.Database("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, sql)
	return err
}

// Durable starts a server of the test's own that keeps what it has acknowledged, as an
// installation's does, and gives the address of a database in it and a keyset.
func Durable(t testing.TB) (url string, key []byte) {
	t.Helper()
	folder, err := os.MkdirTemp("", "kanban-test-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o755))
	own, err := pgchild.Start(context.Background(), pgchild.Options{Folder: filepath.Join(folder, "postgres")})
	require.NoError(t, err)
	t.Cleanup(func() {
		own.Stop()
		_ = os.RemoveAll(folder)
	})
	key, err = db.NewKeyset()
	require.NoError(t, err)
	return own.URL(), key
}

// URL makes a fresh, migrated database and returns its address and keyset.
func URL(t testing.TB) (url string, key []byte) {
	t.Helper()
	once.Do(start)
	require.NoError(t, failed, "starting PostgreSQL for the tests")
	name := "t_" + strings.ReplaceAll(uuid.NewString(), "-", "")
	require.NoError(t, admin(context.Background(), fmt.Sprintf("CREATE DATABASE %s TEMPLATE %s", name, pattern)))
	return server.Database(name), keyset
}

// New opens a fresh database and closes it when the test ends.
func New(t testing.TB) *db.Database {
	t.Helper()
	url, key := URL(t)
	s, err := db.Open(context.Background(), db.Options{URL: url, Keyset: key, MaxConnections: 20})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}
