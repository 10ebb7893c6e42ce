package pgchild_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/store/pgchild"
)

// folder is a place for a cluster that the user postgres can reach.
func folder(t *testing.T) string {
	t.Helper()
	base, err := os.MkdirTemp("", "kanban-pgchild-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(base, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(base) })
	return filepath.Join(base, "postgres")
}

func start(t *testing.T, at string) *pgchild.Server {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	s, err := pgchild.Start(ctx, pgchild.Options{Folder: at, Fast: true})
	require.NoError(t, err)
	return s
}

// ask keeps on asking until the server answers.
func ask(t *testing.T, s *pgchild.Server, sql string) (out string) {
	t.Helper()
	require.Eventually(t, func() bool {
		conn, err := pgx.Connect(t.Context(), s.URL())
		if err != nil {
			return false
		}
		defer conn.Close(t.Context())
		return conn.QueryRow(t.Context(), sql).Scan(&out) == nil
	}, time.Minute, 20*time.Millisecond)
	return out
}

func leftovers(t *testing.T, at string) (names []string) {
	t.Helper()
	entries, err := os.ReadDir(filepath.Dir(at))
	require.NoError(t, err)
	for _, e := range entries {
		if e.Name() != "postgres" && e.Name() != "postgres.password" {
			names = append(names, e.Name())
		}
	}
	return names
}

// A file that names somebody else's process never makes Kanban signal it, nor keeps it
// from starting: the file was left behind, and the number is another process's by now.
func TestStaleFileNamesSomebodyElse(t *testing.T) {
	at := folder(t)
	start(t, at).Stop()
	other := exec.Command("sleep", "600")
	if os.Geteuid() == 0 { // of the same user as the server: PostgreSQL would take it for its own
		other = exec.Command("runuser", "-u", "postgres", "--", "sleep", "600")
	}
	require.NoError(t, other.Start())
	ended := make(chan error, 1)
	go func() { ended <- other.Wait() }()
	t.Cleanup(func() { _ = other.Process.Kill() })
	for _, pid := range []int{other.Process.Pid, os.Getpid(), 1} {
		stale := fmt.Sprintf("%d\n%s\n%d\n5432\n\n127.0.0.1\n", pid, at, time.Now().Unix())
		require.NoError(t, os.WriteFile(filepath.Join(at, "postmaster.pid"), []byte(stale), 0o600))
		s := start(t, at)
		assert.Equal(t, "1", ask(t, s, `SELECT '1'`))
		s.Stop()
	}
	select {
	case err := <-ended:
		t.Fatalf("somebody else's process was ended: %v", err)
	default:
	}
}

// helper marks a process of this test that makes a cluster and is killed.
const helper = "KANBAN_PGCHILD_FOLDER"

func TestMain(m *testing.M) {
	if at := os.Getenv(helper); at != "" {
		s, err := pgchild.Start(context.Background(), pgchild.Options{Folder: at, Fast: true})
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		fmt.Println("started")
		_, _ = os.Stdin.Read(make([]byte, 1)) // until the test lets go
		s.Stop()
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// A first start that was cut off anywhere can be started again, and leaves nothing behind.
func TestFirstStartCutOffAnywhere(t *testing.T) {
	at := folder(t)
	for n := range 10 {
		c := exec.Command(os.Args[0])
		c.Env = append(os.Environ(), helper+"="+at)
		require.NoError(t, c.Start())
		cut := time.After(time.Duration(20+n*90) * time.Millisecond)
		<-cut
		require.NoError(t, c.Process.Signal(syscall.SIGKILL))
		_ = c.Wait()
		if _, err := os.Stat(filepath.Join(at, "PG_VERSION")); err == nil && n > 6 {
			break // it was made by then
		}
	}
	s := start(t, at)
	assert.Equal(t, "1", ask(t, s, `SELECT '1'`))
	s.Stop()
	assert.Empty(t, leftovers(t, at))
}

// What stands in the way of a cluster is said, and nothing of it is touched.
func TestFoldersThatCannotBeUsed(t *testing.T) {
	at := folder(t)
	require.NoError(t, os.MkdirAll(at, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(at, "thesis.txt"), []byte("x"), 0o600))
	_, err := pgchild.Start(t.Context(), pgchild.Options{Folder: at, Fast: true})
	require.ErrorContains(t, err, "thesis.txt")
	require.FileExists(t, filepath.Join(at, "thesis.txt"))

	at = folder(t)
	start(t, at).Stop()
	require.NoError(t, os.Remove(at+".password"))
	_, err = pgchild.Start(t.Context(), pgchild.Options{Folder: at, Fast: true})
	assert.ErrorContains(t, err, "put the file "+at+".password back")
}

// hold has a port until the server's new start has met it.
func hold(t *testing.T, port int) {
	t.Helper()
	var l net.Listener
	require.Eventually(t, func() (free bool) {
		var err error
		l, err = net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
		return err == nil
	}, time.Minute, time.Millisecond)
	require.NoError(t, l.(*net.TCPListener).SetDeadline(time.Now().Add(time.Minute)))
	c, err := l.Accept()
	require.NoError(t, err)
	require.NoError(t, c.Close())
	require.NoError(t, l.Close())
}

// A server that ends without having been asked to is started again at the same address;
// stopping it in that moment is no trouble.
func TestServerThatEndsIsStartedAgain(t *testing.T) {
	at := folder(t)
	s := start(t, at)
	defer s.Stop()
	ask(t, s, `SELECT '1'`)
	before := s.URL()
	for range 2 {
		was := ask(t, s, `SELECT pg_postmaster_start_time()::text`)
		busy, err := pgx.Connect(t.Context(), s.URL()) // at work when it happens, and for a while after
		require.NoError(t, err)
		asked := make(chan struct{})
		go func() {
			defer close(asked)
			_, _ = busy.Exec(t.Context(), `SELECT count(*) FROM generate_series(1, 8000000)`)
		}()
		require.Eventually(t, func() bool {
			return ask(t, s, `SELECT count(*)::text FROM pg_stat_activity
				WHERE state = 'active' AND query LIKE '%generate_series%'`) == "2"
		}, time.Minute, 20*time.Millisecond)
		text, err := os.ReadFile(filepath.Join(at, "postmaster.pid"))
		require.NoError(t, err)
		pid, err := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
		require.NoError(t, err)
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
		hold(t, s.Port())
		assert.NotEqual(t, was, ask(t, s, `SELECT pg_postmaster_start_time()::text`))
		<-asked
	}
	assert.Equal(t, before, s.URL())
	text, err := os.ReadFile(filepath.Join(at, "postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	s.Stop() // while it is down
	select {
	case err := <-s.Failed():
		t.Fatalf("it was asked to stop: %v", err)
	default:
	}
}
