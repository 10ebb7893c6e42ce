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
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
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
}

// Server is a running server.
type Server struct {
	port     int
	password string
	process  *exec.Cmd
	ended    chan struct{}
	err      error
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
	bin, err := programs()
	if err != nil {
		return nil, err
	}
	as, err := unprivileged()
	if err != nil {
		return nil, err
	}
	folder, err := filepath.Abs(o.Folder)
	if err != nil {
		return nil, err
	}
	s := &Server{ended: make(chan struct{})}
	if s.password, err = prepare(ctx, bin, folder, as); err != nil {
		return nil, err
	}
	if err := waitForOldServer(ctx, folder); err != nil {
		return nil, err
	}
	if s.port, err = freePort(); err != nil {
		return nil, err
	}
	args := []string{
		"-D", folder, "-p", strconv.Itoa(s.port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "max_connections=200", "-c", "log_min_messages=fatal",
		// Nobody replicates it, so what fills a new table is written once, not twice.
		"-c", "wal_level=minimal", "-c", "max_wal_senders=0",
	}
	if o.Fast {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	s.process = exec.Command(filepath.Join(bin, "postgres"), args...)
	s.process.Dir = folder
	// The server ends by itself when this process is killed.
	s.process.SysProcAttr = &syscall.SysProcAttr{Credential: as, Pdeathsig: syscall.SIGINT, Setpgid: true}
	var log bytes.Buffer
	s.process.Stderr = &log
	if err := s.launch(); err != nil {
		return nil, fmt.Errorf("starting PostgreSQL: %w", err)
	}
	if err := s.ready(ctx); err != nil {
		s.Stop()
		return nil, fmt.Errorf("starting PostgreSQL in %s: %w: %s", folder, err, strings.TrimSpace(log.String()))
	}
	return s, nil
}

// launch starts the process on a thread of its own, because Linux ties the
// death signal to the thread that started the child.
func (s *Server) launch() error {
	started := make(chan error)
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		if err := s.process.Start(); err != nil {
			started <- err
			return
		}
		started <- nil
		s.err = s.process.Wait()
		close(s.ended)
	}()
	return <-started
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

// Stop ends the server in order ("fast shutdown": sessions are cut, data is safe).
func (s *Server) Stop() {
	_ = s.process.Process.Signal(syscall.SIGINT)
	select {
	case <-s.ended:
	case <-time.After(20 * time.Second):
		_ = s.process.Process.Signal(syscall.SIGQUIT)
		<-s.ended
	}
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

// prepare makes the cluster when there is none and returns the password of its
// one user, which is kept beside it.
func prepare(ctx context.Context, bin, folder string, as *syscall.Credential) (string, error) {
	keep := folder + ".password"
	if _, err := os.Stat(filepath.Join(folder, "PG_VERSION")); err == nil {
		password, err := os.ReadFile(keep)
		if err != nil {
			return "", fmt.Errorf("reading the password of the private PostgreSQL: %w", err)
		}
		return string(password), nil
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", fmt.Errorf("making the data folder: %w", err)
	}
	if as != nil {
		if err := os.Chown(folder, int(as.Uid), int(as.Gid)); err != nil {
			return "", fmt.Errorf("giving the data folder to the user postgres: %w", err)
		}
	}
	password := rand.Text()
	given, err := os.CreateTemp("", "kanban-pw-")
	if err != nil {
		return "", err
	}
	defer os.Remove(given.Name())
	_, err = given.WriteString(password)
	if err = errors.Join(err, given.Close()); err == nil && as != nil {
		err = os.Chown(given.Name(), int(as.Uid), int(as.Gid))
	}
	if err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", folder, "-U", "kanban", "--pwfile="+given.Name(),
		"--auth=scram-sha-256", "--encoding=UTF8", "--locale=C.UTF-8", "--lc-collate=C", "--no-sync")
	cmd.Dir = folder
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("making the database cluster in %s: %w: %s", folder, err, bytes.TrimSpace(out))
	}
	return password, os.WriteFile(keep, []byte(password), 0o600)
}

// waitForOldServer waits until a server whose parent was killed has ended, and
// ends it when it does not by itself.
func waitForOldServer(ctx context.Context, folder string) error {
	for try := 0; try < 200; try++ {
		text, err := os.ReadFile(filepath.Join(folder, "postmaster.pid"))
		if err != nil {
			return nil
		}
		first, _, _ := strings.Cut(string(text), "\n")
		pid, err := strconv.Atoi(strings.TrimSpace(first))
		if err != nil || syscall.Kill(pid, 0) != nil {
			return nil // a stale file; the server itself removes it
		}
		if try == 50 && orphaned(pid) {
			_ = syscall.Kill(pid, syscall.SIGINT)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return fmt.Errorf("another Kanban already uses the data folder %s: stop it first, or choose another --data", folder)
}

// orphaned reports whether a process was left to the system's first process.
func orphaned(pid int) bool {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return false
	}
	fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
	return len(fields) > 1 && fields[1] == "1"
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// ready waits until the server answers and its database is there.
func (s *Server) ready(ctx context.Context) error {
	for {
		conn, err := pgx.Connect(ctx, s.Database("postgres"))
		if err == nil {
			defer conn.Close(ctx)
			var there bool
			if err := conn.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM pg_database WHERE datname = 'kanban')`).Scan(&there); err != nil {
				return err
			}
			if !there {
				_, err = conn.Exec(ctx, `CREATE DATABASE kanban`)
			}
			return err
		}
		select {
		case <-s.ended:
			return fmt.Errorf("the server ended: %w", errors.Join(s.err, err))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
