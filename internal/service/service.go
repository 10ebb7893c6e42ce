// Package service is one Kanban process: its database, its workers and its HTTP
// side, put together.
//
//	err := service.Run(ctx, service.Options{Address: "127.0.0.1:7700", Log: log})
package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/app/access"
	"kanban/internal/store/db"
	"kanban/internal/store/pgchild"
	"kanban/internal/web"
	"kanban/internal/wire/call"
	"kanban/internal/wiring"
	"kanban/internal/worker"
)

// The roles a process can have.
const (
	RoleAPI    = "api"
	RoleWorker = "worker"
)

// Options of a process.
type Options struct {
	// Address to listen on, host:port; port 0 takes a free one.
	Address string
	// Public is the address at which people and verifiers reach the service;
	// http:// and the listening address when empty. Credentials carry it for ever.
	Public string
	// DatabaseURL of a PostgreSQL to use; a private one in Data when empty.
	DatabaseURL string
	// Data is the folder for the private PostgreSQL and the secrets key.
	Data string
	// SecretsKey seals secrets; read from or made in Data when empty.
	SecretsKey string
	// Roles of this process: api, worker or both.
	Roles []string
	// ReadEvery is the pause between scheduled reads of registers; 0 is never.
	ReadEvery time.Duration
	// Zone is the institution's time zone, for schedules by the time of day; the
	// machine's own when nil.
	Zone *time.Location
	// TrustedProxies are those whose X-Forwarded-For is believed.
	TrustedProxies []netip.Prefix
	// CheckPrivate lets the check of badges fetch from private networks and this machine too.
	CheckPrivate bool
	// MemoryLimit is the memory, in bytes, at which the garbage collector works harder,
	// 192 MiB when zero; the variable GOMEMLIMIT comes before it.
	MemoryLimit int64
	// Lease is for how long a process keeps what it works on without being heard of, 45 s
	// when zero.
	Lease time.Duration
	// StopWithin is how long work under way may take to finish, 20 s when zero.
	StopWithin time.Duration
	// FastDatabase gives up durability of the private PostgreSQL, for tests.
	FastDatabase bool
	// Delays between attempts of deliveries; the usual ones when nil.
	Delays  []time.Duration
	Call    call.Options
	Version string
	Log     *slog.Logger
	Console fs.FS
}

// Run starts the process and ends it, in order, when ctx ends.
func Run(ctx context.Context, o Options) error {
	if os.Getenv("GOGC") == "" { // memory is cheaper than collecting it twice as often
		debug.SetGCPercent(300)
	}
	if os.Getenv("GOMEMLIMIT") == "" { // so that the peak is no multiple of what is in use
		debug.SetMemoryLimit(cmp.Or(o.MemoryLimit, 192<<20))
	}
	for _, r := range o.Roles {
		if r != RoleAPI && r != RoleWorker {
			return fmt.Errorf("%q is not a role; use api, worker or both with a comma", r)
		}
	}
	url := o.DatabaseURL
	var ended <-chan error // of the private PostgreSQL
	if url == "" {
		o.Log.Info("starting the private PostgreSQL", "folder", o.Data)
		server, err := pgchild.Start(ctx, pgchild.Options{
			Folder: filepath.Join(o.Data, "postgres"),
			Fast:   o.FastDatabase, Log: o.Log,
		})
		if err != nil {
			return err
		}
		defer server.Stop()
		url, ended = server.URL(), server.Failed()
		o.Log.Info("the private PostgreSQL is ready", "port", server.Port(), "user", "kanban", "password_file",
			server.PasswordFile(),
			"backup", fmt.Sprintf(`PGPASSWORD="$(cat %s)" pg_dump -h 127.0.0.1 -p %d -U kanban -Fc kanban > kanban.dump; keep %s with it`, server.PasswordFile(), server.Port(), keyFile(o)))
	}
	key, err := secretsKey(ctx, o, url)
	if err != nil {
		return err
	}
	db, err := db.Open(ctx, db.Options{URL: url, Keyset: key})
	if err != nil {
		return err
	}
	defer db.Close()
	defer adapter.CloseAllIdle()

	listener, err := net.Listen("tcp", o.Address)
	if err != nil {
		return fmt.Errorf("listening on %s: %w; choose another --listen", o.Address, err)
	}
	if o.Public == "" {
		o.Public = "http://" + listener.Addr().String()
	}
	o.Public = strings.TrimRight(o.Public, "/")
	return run(ctx, o, db, listener, ended)
}

func run(ctx context.Context, o Options, db *db.Database, listener net.Listener, databaseEnded <-chan error) error {
	server := build(o, db)
	if err := server.Badges.NoteAddress(ctx); err != nil {
		return err
	}
	inner, stopListening := context.WithCancel(context.WithoutCancel(ctx))
	defer stopListening()
	grace := o.StopWithin
	if grace == 0 {
		grace = 20 * time.Second
	}
	if slices.Contains(o.Roles, RoleWorker) {
		w, err := worker.Start(ctx, db, server.UseCases,
			worker.Options{Log: o.Log, ReadEvery: o.ReadEvery, Lease: o.Lease})
		if err != nil {
			return err
		}
		defer func() {
			ending, cancel := context.WithTimeout(context.Background(), grace)
			defer cancel()
			w.Stop(ending)
		}()
	}
	handler := http.Handler(server.Handler(inner))
	if !slices.Contains(o.Roles, RoleAPI) {
		handler = server.HealthOnly()
	}
	h := &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10, BaseContext: func(net.Listener) context.Context { return inner },
	}
	failed := make(chan error, 1)
	go func() { failed <- h.Serve(listener) }()
	if err := invite(ctx, o, server.Access); err != nil {
		return err
	}
	o.Log.Info("ready", "address", o.Public, "roles", strings.Join(o.Roles, ","))
	var cause error
	select {
	case err := <-failed:
		return err
	case cause = <-databaseEnded:
		grace = min(grace, time.Second) // nothing can be finished without it
		o.Log.Error("stopping, because the database ended", "cause", cause.Error())
	case <-ctx.Done():
		o.Log.Info("stopping")
	}
	server.Drain()
	ending, cancel := context.WithTimeout(context.Background(), grace)
	defer cancel()
	stopListening()                            // live streams end, so that shutting down does not wait for them
	if err := h.Shutdown(ending); err != nil { // what takes longer is answered now, while it can be
		server.GiveUp()
		last, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		_ = h.Shutdown(last)
		_ = h.Close()
	}
	return cause
}

// invite prints the set-up link of an installation without administrator.
func invite(ctx context.Context, o Options, a *access.Service) error {
	if !slices.Contains(o.Roles, RoleAPI) {
		return nil
	}
	secret, err := a.SetupSecret(ctx)
	if err == nil && secret != "" {
		o.Log.Info("open this link once to make the first administrator", "setup_link",
			o.Public+"/setup?secret="+secret)
	}
	return err
}

// build puts the HTTP side over the use cases.
func build(o Options, db *db.Database) *web.Server {
	if o.Zone == nil {
		o.Zone = time.Local
	}
	return &web.Server{
		UseCases: wiring.New(db, wiring.Options{
			Public: o.Public, Zone: o.Zone, Call: o.Call, Delays: o.Delays,
			Remember: 5 * time.Second, CheckPrivate: o.CheckPrivate,
		}),
		Store: db, Public: o.Public, Version: o.Version, ReadEvery: o.ReadEvery, Log: o.Log, Console: o.Console,
		TrustedProxies: o.TrustedProxies,
	}
}

// keyFile is where the secrets key is kept when it is not given.
func keyFile(o Options) string { return filepath.Join(o.Data, "secrets.key") }

// secretsKey takes the key as given, or keeps one in the data folder. One that is lost is
// not replaced: what was sealed with it would be lost as well.
func secretsKey(ctx context.Context, o Options, url string) ([]byte, error) {
	if o.SecretsKey != "" {
		return []byte(o.SecretsKey), nil
	}
	path := keyFile(o)
	text, err := os.ReadFile(path)
	if !errors.Is(err, fs.ErrNotExist) {
		return text, err
	}
	sealed, err := db.Sealed(ctx, url)
	if err != nil {
		return nil, err
	}
	if sealed {
		return nil, fmt.Errorf("the secrets key %s is missing, and this database was sealed with one: put the file back from a backup, or give it as KANBAN_SECRETS_KEY", path)
	}
	if text, err = db.NewKeyset(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(o.Data, 0o755); err != nil {
		return nil, fmt.Errorf("making the data folder: %w", err)
	}
	if err := os.WriteFile(path+".new", text, 0o600); err != nil {
		return nil, fmt.Errorf("keeping the secrets key: %w; make the folder writable, or choose another --data", err)
	}
	return text, os.Rename(path+".new", path)
}
