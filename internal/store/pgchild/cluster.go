package pgchild

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"syscall"
	"time"

	"github.com/prometheus/procfs"
)

// prepare makes the cluster when there is none and returns the password of its one user,
// which is kept beside it. The password comes first and the cluster is made aside, then
// takes its place at once: wherever this is cut off, the next start begins anew.
func prepare(ctx context.Context, bin, folder string, as *syscall.Credential, fast bool) (string, error) {
	// Each try has a folder of its own: what makes the cluster may outlive a process that was
	// killed, and clears away what it made when it fails.
	keep, aside := folder+".password", folder+".new-"+rand.Text()
	given := folder + ".given" // readable by whoever makes the cluster
	defer removeTries(folder)
	defer os.Remove(given)
	_, err := os.Stat(filepath.Join(folder, "PG_VERSION"))
	if err == nil {
		password, err := os.ReadFile(keep)
		if err != nil || len(password) == 0 {
			return "", fmt.Errorf("the password of the private PostgreSQL in %s is missing (%w): put the file %s back from a backup", folder, err, keep)
		}
		return string(password), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("looking at the data folder: %w", err)
	}
	if there, err := os.ReadDir(folder); err == nil && len(there) > 0 {
		return "", fmt.Errorf("%s holds %s and is no PostgreSQL cluster: move it away, or choose another --data",
			folder, there[0].Name())
	}
	if err := os.MkdirAll(filepath.Dir(folder), 0o755); err != nil {
		return "", unwritable(folder, err)
	}
	password, err := keptPassword(keep)
	if err != nil {
		return "", unwritable(folder, err)
	}
	if err := os.Remove(given); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", unwritable(folder, err)
	}
	if err := os.WriteFile(given, []byte(password), 0o600); err != nil {
		return "", unwritable(folder, err)
	}
	if err := os.Mkdir(aside, 0o700); err != nil {
		return "", unwritable(folder, err)
	}
	for _, path := range []string{given, aside} {
		if as == nil {
			break
		}
		if err := os.Chown(path, int(as.Uid), int(as.Gid)); err != nil {
			return "", fmt.Errorf("giving the data folder to the user postgres: %w", err)
		}
	}
	if err := makeCluster(ctx, bin, aside, given, as, fast); err != nil {
		return "", fmt.Errorf("making the database cluster in %s: %w", folder, err)
	}
	_ = os.Remove(folder) // an empty one; a full one stays, and the next line says so
	if err := os.Rename(aside, folder); err != nil {
		return "", unwritable(folder, err)
	}
	return password, nil
}

// removeTries removes what earlier tries have left. One whose maker is at it still is left
// for a while.
func removeTries(folder string) {
	tries, _ := filepath.Glob(folder + ".new*")
	for _, path := range tries {
		for range 50 {
			if os.RemoveAll(path) == nil {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
}

func unwritable(folder string, err error) error {
	if errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.EROFS) {
		return fmt.Errorf("the data folder %s cannot be written (%w): make it writable for this user, or choose another --data", filepath.Dir(folder), err)
	}
	return fmt.Errorf("making the data folder: %w", err)
}

// keptPassword gives the password that an earlier start has made, or makes one.
func keptPassword(path string) (string, error) {
	if text, err := os.ReadFile(path); err == nil && len(text) > 0 {
		return string(text), nil
	}
	password, aside := rand.Text(), path+".new"
	if err := os.WriteFile(aside, []byte(password), 0o600); err != nil {
		return "", err
	}
	return password, os.Rename(aside, path)
}

// makeCluster runs initdb, which ends when this process does.
func makeCluster(ctx context.Context, bin, folder, given string, as *syscall.Credential, fast bool) error {
	args := []string{
		"-D", folder, "-U", "kanban", "--pwfile=" + given,
		"--auth=scram-sha-256", "--encoding=UTF8", "--locale=C.UTF-8", "--lc-collate=C",
	}
	if fast {
		args = append(args, "--no-sync")
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), args...)
	cmd.Dir = folder
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as, Pdeathsig: syscall.SIGKILL}
	done := make(chan error)
	go func() { // the death signal is tied to the thread that starts the child
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		out, err := cmd.CombinedOutput()
		if err != nil {
			err = fmt.Errorf("%w: %s", err, bytes.TrimSpace(out))
		}
		done <- err
	}()
	return <-done
}

// waitForOldServer waits until a server whose parent was killed has ended, and ends it
// when it does not by itself. Only a PostgreSQL that works in the folder is one: the file
// that names its process may be old, and the number somebody else's by now.
func waitForOldServer(ctx context.Context, folder string) error {
	for try := 0; try < 200; try++ {
		there, err := serversIn(folder)
		if err != nil {
			return nil //nolint:nilerr // it cannot be told here; the server itself looks
		}
		if len(there) == 0 {
			// PostgreSQL would take any living process of that number for its own.
			if err := os.Remove(filepath.Join(folder, "postmaster.pid")); err != nil &&
				!errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("removing the mark of a server that has ended: %w", err)
			}
			return nil
		}
		if try == 50 {
			for _, p := range there {
				if p.orphaned {
					p.end(folder)
				}
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return fmt.Errorf("another Kanban already uses the data folder %s: stop it first, or choose another --data",
		folder)
}

// process is a PostgreSQL that works in the folder.
type process struct {
	pid      int
	orphaned bool // it was left to the system's first process, or to its stand-in
}

// end asks a process to end, after looking once more that it is the one: the handle that
// is taken first never becomes somebody else's.
func (p process) end(folder string) {
	handle, err := os.FindProcess(p.pid)
	if err != nil {
		return
	}
	defer handle.Release() //nolint:errcheck // nothing follows from it
	if again, err := serversIn(folder); err == nil && slices.ContainsFunc(again,
		func(x process) bool { return x.pid == p.pid }) {
		_ = handle.Signal(syscall.SIGINT)
	}
}

// serversIn lists the PostgreSQL processes whose working folder is the cluster's.
func serversIn(folder string) (all []process, err error) {
	there, err := procfs.AllProcs()
	if err != nil {
		return nil, err
	}
	real, err := filepath.EvalSymlinks(folder)
	if err != nil {
		return nil, err
	}
	for _, p := range there {
		stat, err := p.Stat()
		if err != nil || stat.Comm != "postgres" || stat.State == "Z" { // a zombie does nothing any more
			continue
		}
		if at, err := p.Cwd(); err != nil || at != real {
			continue
		}
		all = append(all, process{p.PID, stat.PPID == 1 || isSystem(stat.PPID)})
	}
	return all, nil
}

// isSystem reports whether a process is one to which the processes of those are left that
// died.
func isSystem(pid int) bool {
	p, err := procfs.NewProc(pid)
	if err != nil {
		return false
	}
	name, err := p.Comm()
	return err == nil && (name == "systemd" || name == "init")
}
