package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"kanban/internal/app/access"
	"kanban/internal/store/db"
	"kanban/internal/store/pgchild"
)

// Recover lets somebody back in who is at the machine: it gives the link by which they choose a password. It works
// beside a running service and without one.
func Recover(ctx context.Context, o Options, who access.Recovered) (access.Invitation, error) {
	url := o.DatabaseURL
	if url == "" {
		folder := filepath.Join(o.Data, "postgres")
		if _, err := os.Stat(filepath.Join(folder, "PG_VERSION")); err != nil {
			return access.Invitation{}, fmt.Errorf("no data of Kanban is in %s: give the service's folder with --data, or "+
				"its database with --database-url, as the service was started with", o.Data)
		}
		running, err := pgchild.URLOfRunning(folder)
		if errors.Is(err, pgchild.ErrNotRunning) {
			server, err := pgchild.Start(ctx, pgchild.Options{Folder: folder, Fast: o.FastDatabase, Log: o.Log})
			if err != nil {
				return access.Invitation{}, err
			}
			defer server.Stop()
			running = server.URL()
		} else if err != nil {
			return access.Invitation{}, err
		}
		url = running
	}
	key, err := secretsKey(ctx, o, url)
	if err != nil {
		return access.Invitation{}, err
	}
	store, err := db.Open(ctx, db.Options{URL: url, Keyset: key})
	if err != nil {
		return access.Invitation{}, err
	}
	defer store.Close()
	return (&access.Service{Store: store, Public: strings.TrimRight(o.Public, "/")}).Recover(ctx, who)
}
