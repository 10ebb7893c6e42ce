// Package pgchild runs a private PostgreSQL server on loopback as a child
// process, out of the programs that Debian's package installs.
//
//	server, err := pgchild.Start(ctx, pgchild.Options{Folder: "data/postgres"})
//	defer server.Stop()
//	pool, err := pgxpool.New(ctx, server.URL())
package pgchild

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Options of a server.
type Options struct {
	// Folder holds the cluster; it is made when missing. Every folder above it
	// must be open to the user "postgres" when started by root.
	Folder string
	// Fast gives up durability for speed. For tests only.
	Fast bool
	// Log is told when the server has to be started again; nil tells nobody.
	Log *slog.Logger
}

// Server is a running server. When its process ends without having been asked to, it is
// started again at the same port; when that cannot be done, Failed says why.
type Server struct {
	options  Options
	bin      string
	folder   string
	as       *syscall.Credential
	port     int
	password string
	stop     context.CancelFunc
	stopped  chan struct{} // closed when nothing runs any more
	failed   chan error
}

// ErrNotInstalled means that PostgreSQL's programs were not found.
var ErrNotInstalled = errors.New("PostgreSQL is not installed: install Debian's package postgresql, or give --database-url")

// programs finds the folder of initdb and postgres: on the PATH, or the newest
// version where Debian puts them.
func programs() (string, error) {
	if p, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(p), nil
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) == 0 {
		return "", ErrNotInstalled
	}
	version := func(path string) int {
		n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
		return n
	}
	sort.Slice(found, func(i, j int) bool { return version(found[i]) > version(found[j]) })
	return filepath.Dir(found[0]), nil
}

// Start makes the cluster when there is none and starts its server. A server
// that an earlier, killed process left behind is waited for first.
func Start(ctx context.Context, o Options) (*Server, error) {
	s := &Server{options: o, stopped: make(chan struct{}), failed: make(chan error, 1)}
	var err error
	if s.bin, err = programs(); err != nil {
		return nil, err
	}
	if s.as, err = unprivileged(); err != nil {
		return nil, err
	}
	if s.folder, err = filepath.Abs(o.Folder); err != nil {
		return nil, err
	}
	if s.password, err = prepare(ctx, s.bin, s.folder, s.as, o.Fast); err != nil {
		return nil, err
	}
	if err := waitForOldServer(ctx, s.folder); err != nil {
		return nil, err
	}
	first, err := s.first(ctx)
	if err != nil {
		return nil, err
	}
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.stop = stop
	go s.supervise(running, first)
	return s, nil
}

// first starts the server at a port that is free; when somebody else took it meanwhile, at
// another one.
func (s *Server) first(ctx context.Context) (r *run, err error) {
	for range 3 {
		if s.port, err = freePort(); err != nil {
			return nil, err
		}
		if r, err = s.launch(ctx); err == nil || ctx.Err() != nil || isFree(s.port) == nil {
			return r, err
		}
	}
	return nil, err
}

// run is one life of the server's process.
type run struct {
	process *exec.Cmd
	log     bytes.Buffer
	ended   chan struct{}
	err     error
}

// launch starts the process and waits until it answers.
func (s *Server) launch(ctx context.Context) (*run, error) {
	args := []string{
		"-D", s.folder, "-p", strconv.Itoa(s.port), "-c", "listen_addresses=127.0.0.1", "-c",
		"unix_socket_directories=",
		"-c", "max_connections=200", "-c", "log_min_messages=fatal",
		// Nobody replicates it, so what fills a new table is written once, not twice.
		"-c", "wal_level=minimal", "-c", "max_wal_senders=0",
	}
	if s.options.Fast {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	r := &run{process: exec.Command(filepath.Join(s.bin, "postgres"), args...), ended: make(chan struct{})}
	r.process.Dir = s.folder
	// The server ends by itself when this process is killed.
	r.process.SysProcAttr = &syscall.SysProcAttr{Credential: s.as, Pdeathsig: syscall.SIGINT, Setpgid: true}
	r.process.Stderr = &r.log
	if err := r.start(); err != nil {
		return nil, fmt.Errorf("starting PostgreSQL: %w", err)
	}
	if err := s.ready(ctx, r); err != nil {
		r.stop()
		return nil, fmt.Errorf("starting PostgreSQL in %s: %w: %s", s.folder, err, strings.TrimSpace(r.log.String()))
	}
	return r, nil
}

// start starts the process on a thread of its own, because Linux ties the death signal to
// the thread that started the child.
func (r *run) start() error {
	started := make(chan error)
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		if err := r.process.Start(); err != nil {
			started <- err
			return
		}
		started <- nil
		r.err = r.process.Wait()
		close(r.ended)
	}()
	return <-started
}

// stop ends the process in order ("fast shutdown": sessions are cut, data is safe).
func (r *run) stop() {
	_ = r.process.Process.Signal(syscall.SIGINT)
	select {
	case <-r.ended:
	case <-time.After(20 * time.Second):
		_ = r.process.Process.Signal(syscall.SIGQUIT)
		<-r.ended
	}
}

// A server that ends by itself is started again, unless it does so too often.
const (
	mostRestarts   = 5
	restartsWithin = 10 * time.Minute
	startAgain     = 30 * time.Second
)

func (s *Server) supervise(ctx context.Context, r *run) {
	defer close(s.stopped)
	var restarts []time.Time
	for {
		select {
		case <-ctx.Done():
			r.stop()
			return
		case <-r.ended:
		}
		restarts = slices.DeleteFunc(append(restarts, time.Now()),
			func(at time.Time) bool { return time.Since(at) > restartsWithin })
		cause := fmt.Errorf("the private PostgreSQL ended by itself (%w): %s", errors.Join(r.err, errEnded),
			strings.TrimSpace(r.log.String()))
		if len(restarts) > mostRestarts {
			s.failed <- fmt.Errorf("%w; it did so %d times in %v", cause, len(restarts), restartsWithin)
			return
		}
		if s.options.Log != nil {
			s.options.Log.Error("the private PostgreSQL ended by itself and is started again", "cause", cause.Error())
		}
		again, cancel := context.WithTimeout(ctx, startAgain)
		next, err := s.again(again)
		cancel()
		if ctx.Err() != nil {
			if err == nil {
				next.stop()
			}
			return
		}
		if err != nil {
			s.failed <- fmt.Errorf("%w; it could not be started again: %w", cause, err)
			return
		}
		r = next
	}
}

var errEnded = errors.New("it was not asked to")

// again starts the server at the same port, as often as the time allows: what stands in the
// way may pass, such as somebody else's hold of the port.
func (s *Server) again(ctx context.Context) (r *run, err error) {
	for {
		if err := waitForOldServer(ctx, s.folder); err != nil {
			return nil, err
		}
		if r, err = s.launch(ctx); err == nil {
			return r, nil
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// Failed gives why the server ended for good without having been asked to.
func (s *Server) Failed() <-chan error { return s.failed }

// Port is where the server listens on loopback.
func (s *Server) Port() int { return s.port }

// PasswordFile holds the password of its one user, kanban.
func (s *Server) PasswordFile() string { return s.folder + ".password" }

// Stop ends the server in order.
func (s *Server) Stop() {
	s.stop()
	<-s.stopped
}

// URL is the address of the server's database "kanban".
func (s *Server) URL() string { return s.Database("kanban") }

// Database is the address of one database of the server.
func (s *Server) Database(name string) string {
	u := url.URL{
		Scheme: "postgres", User: url.UserPassword("kanban", s.password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port)), Path: "/" + name, RawQuery: "sslmode=disable",
	}
	return u.String()
}

// unprivileged is the user to run as: "postgres" for root, whom the server
// refuses; oneself (nil) otherwise.
func unprivileged() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root and there is no user postgres: %w", ErrNotInstalled)
	}
	uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, errors.Join(err1, err2)
}

// Ports below those that the system gives to outgoing connections: one of those could have
// the server's port when the server has to be started again.
const firstPort, lastPort = 15000, 30000

// freePort finds a port on loopback that nobody listens at.
func freePort() (int, error) {
	for range 100 {
		if port := firstPort + rand.IntN(lastPort-firstPort); isFree(port) == nil {
			return port, nil
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// isFree tries whether a port can be listened at.
func isFree(port int) error {
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return err
	}
	return l.Close()
}

// ready waits until the server answers and its database is there.
func (s *Server) ready(ctx context.Context, r *run) error {
	for {
		one, cancel := context.WithTimeout(ctx, 5*time.Second) // whoever has the port may not answer at all
		conn, err := pgx.Connect(one, s.Database("postgres"))
		cancel()
		if err == nil {
			defer conn.Close(ctx)
			var there bool
			if err := conn.QueryRow(ctx,
				`SELECT EXISTS (SELECT 1 FROM pg_database WHERE datname = 'kanban')`).Scan(&there); err != nil {
				return err
			}
			if !there {
				_, err = conn.Exec(ctx, `CREATE DATABASE kanban`)
			}
			return err
		}
		select {
		case <-r.ended:
			return fmt.Errorf("the server ended: %w", errors.Join(r.err, err))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
