package service_test

import (
	"context"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/service"
)

// log keeps what a service says.
type log struct {
	mu   sync.Mutex
	text strings.Builder
}

func (l *log) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *log) says(what string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return strings.Contains(l.text.String(), what)
}

func folder(t *testing.T) string {
	t.Helper()
	at, err := os.MkdirTemp("", "kanban-service-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(at, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(at) })
	return at
}

func options(at string, out io.Writer) service.Options {
	return service.Options{
		Address: "127.0.0.1:0", Data: at, Roles: []string{
			service.RoleAPI,
			service.RoleWorker,
		}, FastDatabase: true, StopWithin: 5 * time.Second, Lease: 9 * time.Second,
		Log: slog.New(slog.NewTextHandler(out, nil)), Console: fstest.MapFS{},
	}
}

// run starts a service and waits until it says that it is ready; stop ends it.
func run(t *testing.T, o service.Options, l *log) (stop func() error) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- service.Run(ctx, o) }()
	require.Eventually(t, func() bool { return l.says("msg=ready") }, time.Minute, 20*time.Millisecond)
	return func() error { cancel(); return <-ended }
}

// What keeps a service from starting is said with what to do about it, and nothing is lost.
func TestWhatKeepsItFromStarting(t *testing.T) {
	at, first := folder(t), &log{}
	require.NoError(t, run(t, options(at, first), first)())
	assert.True(t, first.says("pg_dump"), "how to back it up is said")
	key := filepath.Join(at, "secrets.key")
	kept, err := os.ReadFile(key)
	require.NoError(t, err)

	require.NoError(t, os.Remove(key))
	err = service.Run(t.Context(), options(at, io.Discard))
	require.ErrorContains(t, err, "put the file back")
	require.NoFileExists(t, key, "a lost key is not replaced")
	require.NoError(t, os.WriteFile(key, kept, 0o600))

	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	o := options(at, io.Discard)
	o.Address = taken.Addr().String()
	require.ErrorContains(t, service.Run(t.Context(), o), "choose another --listen")

	again := &log{}
	require.NoError(t, run(t, options(at, again), again)(), "and then all is well")
}

// A folder that cannot be written says so.
func TestReadOnlyFolder(t *testing.T) {
	at := folder(t)
	if os.Geteuid() == 0 { // whom no mode keeps from writing
		require.NoError(t, os.WriteFile(filepath.Join(at, "file"), nil, 0o600))
		at = filepath.Join(at, "file")
		assert.ErrorContains(t, service.Run(t.Context(), options(at, io.Discard)), "data folder")
		return
	}
	require.NoError(t, os.Chmod(at, 0o555))
	assert.ErrorContains(t, service.Run(t.Context(), options(filepath.Join(at, "data"), io.Discard)),
		"cannot be written")
}

// A private database that is killed is started again, and a service that is stopped in that
// moment ends well.
func TestDatabaseThatIsKilled(t *testing.T) {
	at, l := folder(t), &log{}
	stop := run(t, options(at, l), l)
	text, err := os.ReadFile(filepath.Join(at, "postgres", "postmaster.pid"))
	require.NoError(t, err)
	pid, _, _ := strings.Cut(string(text), "\n")
	require.NoError(t, kill(pid))
	require.Eventually(t, func() bool { return l.says("is started again") }, time.Minute, 20*time.Millisecond)
	require.NoError(t, stop(), "stopped while it starts again")
}

func kill(pid string) error {
	n, err := strconv.Atoi(pid)
	if err != nil {
		return err
	}
	return syscall.Kill(n, syscall.SIGKILL)
}
