// Package storetest gives every test a database of its own on a real, private
// PostgreSQL server: one that all packages share when storetest/shared runs them, else one
// of the package's own. At the end of a package it looks for goroutines that were left.
//
//	func TestMain(m *testing.M) { storetest.Main(m) }
//	func TestX(t *testing.T)    { s := storetest.New(t) }
package storetest

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"kanban/internal/adapter"
	"kanban/internal/store/db"
	"kanban/internal/store/pgchild"
)

// Server is where tests have their databases.
type Server struct {
	URL    string // of its database postgres
	Keyset []byte // with which the secrets of the template are sealed
	child  *pgchild.Server
	folder string
}

// shared tells the packages' tests where the server is that all of them use.
const sharedServer, sharedKeyset = "KANBAN_TEST_POSTGRES", "KANBAN_TEST_KEYSET"

// template is the migrated database that others are made of.
const template = "template_kanban"

// used are the databases that this package's tests have made.
var used struct {
	mu    sync.Mutex
	names []string
}

var (
	once   sync.Once
	server *Server
	failed error
)

// Main runs a package's tests, stops the server that they used, and fails when goroutines
// of theirs go on.
func Main(m *testing.M) {
	code := m.Run()
	if server != nil {
		if server.child == nil { // others use it on
			for _, name := range used.names { // together: each makes the server write out everything
				_ = server.admin(context.Background(), "DROP DATABASE IF EXISTS "+name+" WITH (FORCE)")
			}
		}
		server.Stop()
	}
	adapter.CloseAllIdle()
	if code == 0 {
		err := goleak.Find(stays...)
		for range patience { // on a busy machine what is ending takes its time
			if err == nil {
				break
			}
			time.Sleep(time.Second)
			err = goleak.Find(stays...)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			code = 1
		}
	}
	os.Exit(code)
}

// patience is for how many seconds goroutines may take to end.
const patience = 10

// stays are goroutines that go on by design, until the process ends.
var stays = []goleak.Option{
	// The session manager begins with a store in memory, which is replaced at once.
	goleak.IgnoreTopFunction("github.com/alexedwards/scs/v2/memstore.(*MemStore).startCleanup"),
}

// Start starts a server with the template.
func Start(ctx context.Context) (s *Server, err error) {
	s = &Server{}
	if s.folder, err = os.MkdirTemp("", "kanban-test-"); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			s.Stop()
		}
	}()
	if err = os.Chmod(s.folder, 0o755); err != nil { // the user postgres passes through
		return nil, err
	}
	if s.child, err = pgchild.Start(ctx, pgchild.Options{
		Folder: filepath.Join(s.folder, "postgres"),
		Fast:   true,
	}); err != nil {
		return nil, err
	}
	s.URL = s.child.Database("postgres")
	if s.Keyset, err = db.NewKeyset(); err != nil {
		return nil, err
	}
	if err = s.admin(ctx, "CREATE DATABASE "+template); err != nil {
		return nil, err
	}
	d, err := db.Open(ctx, db.Options{URL: s.database(template), Keyset: s.Keyset})
	if err != nil {
		return nil, err
	}
	d.Close()
	return s, nil
}

// Stop ends it, if it was started here.
func (s *Server) Stop() {
	if s.child != nil {
		s.child.Stop()
	}
	if s.folder != "" {
		_ = os.RemoveAll(s.folder)
	}
}

// Environment lets the tests of packages use this server.
func (s *Server) Environment() []string {
	return []string{sharedServer + "=" + s.URL, sharedKeyset + "=" + base64.StdEncoding.EncodeToString(s.Keyset)}
}

func (s *Server) database(name string) string {
	u, err := url.Parse(s.URL)
	if err != nil {
		return s.URL
	}
	u.Path = "/" + name
	return u.String()
}

func (s *Server) admin(ctx context.Context, sql string) error {
	conn, err := pgx.Connect(ctx, s.URL)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, sql)
	return err
}

func start() {
	if at := os.Getenv(sharedServer); at != "" {
		server = &Server{URL: at}
		server.Keyset, failed = base64.StdEncoding.DecodeString(os.Getenv(sharedKeyset))
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	server, failed = Start(ctx)
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
	return made(t, " TEMPLATE "+template), server.Keyset
}

// Empty makes a database without anything in it and returns its address.
func Empty(t testing.TB) (url string) {
	t.Helper()
	once.Do(start)
	require.NoError(t, failed, "starting PostgreSQL for the tests")
	return made(t, "")
}

// made makes a database; it is removed with the server, or when the package has ended.
func made(t testing.TB, how string) (url string) {
	name := "t_" + strings.ReplaceAll(uuid.NewString(), "-", "")
	require.NoError(t, server.admin(context.Background(), "CREATE DATABASE "+name+how))
	used.mu.Lock()
	defer used.mu.Unlock()
	used.names = append(used.names, name)
	return server.database(name)
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
