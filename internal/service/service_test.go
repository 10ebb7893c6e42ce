package service_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
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

	"kanban/internal/app/access"
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

// address is where a service said that it is.
func (l *log) address(t *testing.T) string {
	t.Helper()
	l.mu.Lock()
	defer l.mu.Unlock()
	_, rest, found := strings.Cut(l.text.String(), "msg=ready address=")
	require.True(t, found)
	at, _, _ := strings.Cut(rest, " ")
	return at
}

func status(t *testing.T, address string) int {
	t.Helper()
	resp, err := http.Get(address)
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	return resp.StatusCode
}

// Whoever is at the machine lets themselves back in, beside a running service and without one: the link works once.
func TestRecoveryAtTheMachine(t *testing.T) {
	at, l := folder(t), &log{}
	o := options(at, l)
	stop := run(t, o, l)
	o.Public = l.address(t)
	let := func(r access.Recovered) (secret string) {
		in, err := service.Recover(t.Context(), o, r)
		require.NoError(t, err)
		_, secret, _ = strings.Cut(in.Link, o.Public+"/invitation?secret=")
		require.NotEmpty(t, secret, in.Link)
		return secret
	}
	_, err := service.Recover(t.Context(), o, access.Recovered{Email: "maud@fernmoor.example"})
	require.ErrorContains(t, err, "those who may say who may are nobody yet")
	choose := func(want int, secret, password string) {
		body := fmt.Sprintf(`{"secret": %q, "password": %q}`, secret, password)
		resp, err := http.Post(o.Public+"/api/v1/invitations", "application/json", strings.NewReader(body))
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		assert.Equal(t, want, resp.StatusCode)
	}
	maud := access.Recovered{Email: "maud@fernmoor.example", Name: "Maud", Administrator: true}
	first := let(maud)
	choose(200, first, "grow-more-plants")
	choose(403, first, "grow-more-plants")
	_, err = service.Recover(t.Context(), o, access.Recovered{Email: "otto@fernmoor.example"})
	require.ErrorContains(t, err, "maud@fernmoor.example")
	void := let(maud)
	require.NoError(t, stop())
	last := let(access.Recovered{Email: "MAUD@fernmoor.example"})
	again := &log{}
	o.Log, o.Address = slog.New(slog.NewTextHandler(again, nil)), strings.TrimPrefix(o.Public, "http://")
	stop = run(t, o, again)
	choose(403, void, "grow-more-plants")
	choose(200, last, "grow-even-more-plants")
	require.NoError(t, stop())
}

// A process that only works serves its health and nothing else, invites nobody, and a role that
// there is not is refused before anything is started.
func TestRoles(t *testing.T) {
	at, l := folder(t), &log{}
	o := options(at, l)
	o.Roles = []string{service.RoleWorker, "cook"}
	require.ErrorContains(t, service.Run(t.Context(), o), `"cook" is not a role`)
	require.NoDirExists(t, filepath.Join(at, "postgres"))

	o.Roles = []string{service.RoleWorker}
	stop := run(t, o, l)
	address := l.address(t)
	assert.Equal(t, http.StatusOK, status(t, address+"/livez"))
	assert.Equal(t, http.StatusOK, status(t, address+"/readyz"))
	assert.Equal(t, http.StatusUnauthorized, status(t, address+"/metrics"))
	for _, path := range []string{"/", "/api/v1/interfaces", "/setup", "/openapi.json"} {
		assert.Equal(t, http.StatusNotFound, status(t, address+path), path)
	}
	assert.False(t, l.says("setup_link"))
	require.NoError(t, stop())
	_, err := http.Get(address + "/livez")
	require.Error(t, err, "nothing is served any more")

	both := &log{}
	stop = run(t, options(at, both), both)
	assert.True(t, both.says("setup_link"), "there is no administrator yet")
	assert.Equal(t, http.StatusUnauthorized, status(t, both.address(t)+"/api/v1/interfaces"))
	require.NoError(t, stop())
}

// A stop ends within its time, whoever is listening still.
func TestStopDoesNotWaitForListeners(t *testing.T) {
	at, l := folder(t), &log{}
	o := options(at, l)
	o.Roles = []string{service.RoleAPI}
	stop := run(t, o, l)
	address := l.address(t)
	conn, err := net.Dial("tcp", strings.TrimPrefix(address, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	_, err = io.WriteString(conn, "GET /livez HTTP/1.1\r\nHost: kanban\r\n\r\n") // and stays connected
	require.NoError(t, err)
	first := make([]byte, 12)
	_, err = io.ReadFull(conn, first)
	require.NoError(t, err)
	assert.Equal(t, "HTTP/1.1 200", string(first))
	require.NoError(t, stop())
	rest, err := io.ReadAll(conn)
	require.NoError(t, err, "the connection is closed in order")
	assert.Contains(t, string(rest), "ok")
}

func kill(pid string) error {
	n, err := strconv.Atoi(pid)
	if err != nil {
		return err
	}
	return syscall.Kill(n, syscall.SIGKILL)
}
