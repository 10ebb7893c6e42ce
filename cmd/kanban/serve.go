package main

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"
	_ "time/tzdata" // a machine may have none

	"github.com/urfave/cli/v3"

	"kanban/console"
	"kanban/internal/service"
)

func serve() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "Run the service", Category: "service",
		Description: `Works without any flag: it listens on 127.0.0.1:7700 and runs a private PostgreSQL
in its data folder. Replicas share a database and a secrets key:

  kanban serve
  kanban serve --listen 0.0.0.0:7700 --public https://kanban.school.example
  KANBAN_SECRETS_KEY="$(cat secrets.key)" kanban serve --database-url postgres://… --roles worker`,
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name: "listen", Value: "127.0.0.1:7700",
				Usage: "address to listen on; port 0 takes a free one", Sources: cli.EnvVars("KANBAN_LISTEN"),
			},
			&cli.StringFlag{
				Name:  "public",
				Usage: "address at which people and badge verifiers reach the service; http and the listening address when absent", Sources: cli.EnvVars("KANBAN_PUBLIC"),
			},
			databaseURL(), data(), secretsKey(),
			&cli.StringFlag{
				Name: "roles", Value: "api,worker", Usage: "what this process does: api, worker or both",
				Sources: cli.EnvVars("KANBAN_ROLES"),
			},
			&cli.DurationFlag{
				Name: "read-every", Value: 30 * time.Minute,
				Usage:   "pause between scheduled reads of every register; 0 switches them off",
				Sources: cli.EnvVars("KANBAN_READ_EVERY"),
			},
			&cli.StringFlag{
				Name:  "time-zone",
				Usage: "the institution's time zone, such as Europe/Berlin, for runs at a time of day and for the days on which enrolments begin and end; the machine's own when absent", Sources: cli.EnvVars("KANBAN_TIME_ZONE"),
			},
			&cli.DurationFlag{
				Name: "stop-within", Value: 20 * time.Second,
				Usage:   "how long work under way may take to finish when stopping",
				Sources: cli.EnvVars("KANBAN_STOP_WITHIN"),
			},
			&cli.StringSliceFlag{
				Name:  "trusted-proxies",
				Usage: "networks of proxies whose X-Forwarded-For is believed, such as 10.0.0.0/8; sign-in tries are counted by address", Sources: cli.EnvVars("KANBAN_TRUSTED_PROXIES"),
			},
			&cli.BoolFlag{
				Name:    "check-private",
				Usage:   "when badges of other issuers are checked, also ask addresses in private networks and on this machine",
				Sources: cli.EnvVars("KANBAN_CHECK_PRIVATE"),
			},
			&cli.IntFlag{
				Name: "memory-limit", Value: 192,
				Usage:   "MiB of memory from which on it is given back sooner; reads and runs go on beyond it",
				Sources: cli.EnvVars("KANBAN_MEMORY_LIMIT"),
			},
			&cli.DurationFlag{
				Name: "lease", Value: 45 * time.Second,
				Usage: "how long a process on another machine keeps its work when it is not heard of any more; longer than any call takes", Sources: cli.EnvVars("KANBAN_LEASE"),
			},
			&cli.StringFlag{Name: "log", Value: "text", Usage: "text or json", Sources: cli.EnvVars("KANBAN_LOG")},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			log, err := logger(cmd.String("log"))
			if err != nil {
				return err
			}
			zone, err := time.LoadLocation(cmp.Or(cmd.String("time-zone"), "Local"))
			if err != nil {
				return fmt.Errorf("--time-zone: %w; give one such as Europe/Berlin", err)
			}
			proxies, err := networks(cmd.StringSlice("trusted-proxies"))
			if err != nil {
				return err
			}
			slog.SetDefault(log)
			return service.Run(ctx, service.Options{
				Address: cmd.String("listen"), Public: cmd.String("public"), DatabaseURL: cmd.String("database-url"),
				Data:       cmd.String("data"),
				SecretsKey: cmd.String("secrets-key"), Roles: strings.Split(cmd.String("roles"),
					","), ReadEvery: cmd.Duration("read-every"),
				CheckPrivate:   cmd.Bool("check-private"),
				TrustedProxies: proxies, MemoryLimit: int64(cmd.Int("memory-limit")) << 20,
				Lease:      cmd.Duration("lease"),
				StopWithin: cmd.Duration("stop-within"), Zone: zone, Version: version, Log: log,
				Console: console.Files(),
				// For tests, which throw the database away.
				FastDatabase: os.Getenv("KANBAN_FAST_DATABASE") == "yes",
			})
		},
	}
}

// databaseURL, data and secretsKey say where the service keeps what it knows.
func databaseURL() cli.Flag {
	return &cli.StringFlag{
		Name: "database-url", Usage: "PostgreSQL to use instead of the private one",
		Sources: cli.EnvVars("KANBAN_DATABASE_URL"),
	}
}

func data() cli.Flag {
	return &cli.StringFlag{
		Name: "data", Value: defaultData(), Usage: "folder for the private PostgreSQL and the secrets key",
		Sources: cli.EnvVars("KANBAN_DATA"),
	}
}

func secretsKey() cli.Flag {
	return &cli.StringFlag{
		Name: "secrets-key", Usage: "Tink keyset that seals secrets; kept in the data folder when absent",
		Sources: cli.EnvVars("KANBAN_SECRETS_KEY"),
	}
}

// networks reads networks, or single addresses.
func networks(all []string) (out []netip.Prefix, err error) {
	for _, text := range all {
		p, err := netip.ParsePrefix(text)
		if a, single := netip.ParseAddr(text); single == nil {
			p, err = a.Prefix(a.BitLen())
		}
		if err != nil {
			return nil, fmt.Errorf("--trusted-proxies: %q is not a network such as 10.0.0.0/8", text)
		}
		out = append(out, p)
	}
	return out, nil
}

func logger(form string) (*slog.Logger, error) {
	switch form {
	case "text":
		return slog.New(slog.NewTextHandler(os.Stderr, nil)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(os.Stderr, nil)), nil
	}
	return nil, fmt.Errorf("--log %q is not one of text, json", form)
}

// defaultData is where data goes without --data. For root it is a folder into
// which the unprivileged user of the private PostgreSQL can reach.
func defaultData() string {
	if os.Geteuid() == 0 {
		return "/var/lib/kanban"
	}
	if folder := os.Getenv("XDG_DATA_HOME"); folder != "" {
		return filepath.Join(folder, "kanban")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "kanban-data"
	}
	return filepath.Join(home, ".local", "share", "kanban")
}
