package pgchild

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// ErrNotRunning means that no server works in a folder.
var ErrNotRunning = errors.New("no PostgreSQL works in the folder")

// URLOfRunning is the address of the database of a server that another process runs in a folder. PostgreSQL writes its
// port into the fourth line of postmaster.pid (PostgreSQL documentation, "Database File Layout").
func URLOfRunning(folder string) (string, error) {
	there, err := serversIn(folder)
	if err != nil {
		return "", fmt.Errorf("looking for the private PostgreSQL: %w", err)
	}
	if len(there) == 0 {
		return "", ErrNotRunning
	}
	text, err := os.ReadFile(filepath.Join(folder, "postmaster.pid"))
	if errors.Is(err, fs.ErrNotExist) {
		return "", ErrNotRunning
	}
	if err != nil {
		return "", fmt.Errorf("reading where the private PostgreSQL listens: %w", err)
	}
	lines := strings.Split(string(text), "\n")
	if len(lines) < 4 {
		return "", ErrNotRunning // it has only just begun
	}
	port, err := strconv.Atoi(strings.TrimSpace(lines[3]))
	if err != nil {
		return "", fmt.Errorf("reading where the private PostgreSQL listens: %w", err)
	}
	password, err := os.ReadFile(folder + ".password")
	if err != nil {
		return "", fmt.Errorf("reading the password of the private PostgreSQL: %w", err)
	}
	s := &Server{folder: folder, port: port, password: string(password)}
	return s.URL(), nil
}
