package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/adapter"
	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func setFlag() cli.Flag {
	return &cli.StringSliceFlag{
		Name:  "set",
		Usage: "a value as name=value; name=@file reads it from a file, name=? asks for it",
	}
}

func connections() *cli.Command {
	return &cli.Command{
		Name: "connections", Usage: "Connect outside systems and see what works", Category: "rosters",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List connections", Action: listConnections,
				Flags: []cli.Flag{&cli.BoolFlag{
					Name:  "removed",
					Usage: "those that were removed and can be restored",
				}},
			},
			meaningOf(),
			{Name: "kinds", Usage: "The kinds of connection and the values each needs", Action: listKinds},
			{
				Name: "add", Usage: "Connect an outside system and test it", ArgsUsage: "KIND NAME",
				Flags: []cli.Flag{setFlag()}, Action: addConnection,
				Description: "  kanban connections kinds\n  kanban connections add scim \"Chat workspace\" --set address=https://chat.example/scim/v2 --set token=?",
			},
			connectionsEdit(),
			{Name: "probe", Usage: "Test every capability", ArgsUsage: "NAME", Action: probeConnection},
			connectionsShow(),
			connectionsRead(),
			pause("pause", "Pause: what depends on it waits", true),
			pause("resume", "Resume a paused connection", false),
			connectionsRemove(),
			connectionsRestore(),
		},
	}
}

func connectionsEdit() *cli.Command {
	return &cli.Command{
		Name: "edit", Usage: "Change values; what is not given stays, secrets among them", ArgsUsage: "NAME",
		Flags: []cli.Flag{setFlag(), &cli.BoolFlag{
			Name:  "untested",
			Usage: "save new values though a test with them fails",
		}}, Action: editConnection,
		Description: "  kanban connections edit \"Chat workspace\" --set token=@new-token.txt",
	}
}

func connectionsShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "What of a connection is done, and what is the next missing step",
		ArgsUsage: "NAME", Action: func(ctx context.Context, cmd *cli.Command) error {
			_, conn, err := oneConnection(ctx, cmd)
			if err != nil {
				return err
			}
			for _, r := range conn.Rests {
				if r.Until != nil && r.Until.After(time.Now()) {
					say(cmd, "%s.", restsText(r))
				}
			}
			return printChecklist(cmd, conn.Checklist)
		},
	}
}

func connectionsRead() *cli.Command {
	return &cli.Command{
		Name: "read", Usage: "Read a register and wait for the end", ArgsUsage: "NAME", Action: readConnection,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "approve", Usage: "go on although the register lost most of its records"},
			&cli.BoolFlag{Name: "changes", Usage: "ask only for what changed since the last read"},
			&cli.StringFlag{
				Name:  "file",
				Usage: "for a register of files: the package to read, - for standard input",
			},
		}, Description: "  kanban connections read \"School register\"\n  kanban connections read \"Register files\" --file package.zip",
	}
}

func connectionsRemove() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "Remove a connection; it can be restored for 30 days", ArgsUsage: "NAME",
		Action: removeConnection,
		Flags: []cli.Flag{&cli.StringFlag{
			Name:  "confirm",
			Usage: "the connection's name once more, to remove it with what depends on it",
		}},
		Description: `Says what depends on the connection, and removes it when nothing does. What depends on it is
hidden with it and stops; nothing is deleted before 30 days have passed.

  kanban connections remove "Plant news"
  kanban connections remove "School register" --confirm "School register"
  kanban connections restore "School register"`,
	}
}

func connectionsRestore() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "Bring a removed connection back as it was", ArgsUsage: "NAME",
		Action: restoreConnection,
		Flags: []cli.Flag{&cli.StringFlag{
			Name:  "as",
			Usage: "another name, when its own is somebody else's by now",
		}},
		Description: "  kanban connections list --removed\n  kanban connections restore \"Plant news\"",
	}
}

// restsText says what rests, why and until when.
func restsText(r api.Rest) string {
	what := "The service"
	if r.Operation != "" {
		what = r.Operation
	}
	return fmt.Sprintf("%s rests until %s because of: %s (deliveries waiting: %d)", what, when(r.Until), r.Reason,
		r.Waiting)
}

func oneConnection(ctx context.Context, cmd *cli.Command) (*client.Client, api.Connection, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.Connection{}, err
	}
	c := connect(cmd)
	conn, err := findConnection(ctx, c, args[0])
	return c, conn, err
}

// removeConnection says what depends on a connection before it is removed with that.
func removeConnection(ctx context.Context, cmd *cli.Command) error {
	c, conn, err := oneConnection(ctx, cmd)
	if err != nil {
		return err
	}
	what, err := client.Get[api.Removal](ctx, c, "/connections/"+conn.ID+"/removal")
	if err != nil {
		return err
	}
	path := "/connections/" + conn.ID
	if confirmed := cmd.String("confirm"); confirmed != "" {
		path += "?name=" + url.QueryEscape(confirmed)
	} else if len(what.Dependents) > 0 {
		say(cmd, "%s is in use: %s.", conn.Name, what.Summary)
		return usage(cmd, fmt.Sprintf("nothing was removed. To remove it with what depends on it: kanban connections remove %q --confirm %q", conn.Name, conn.Name))
	}
	if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, path, nil); err != nil {
		return err
	}
	say(cmd, "Removed %s. For 30 days it can be brought back: kanban connections restore %q", conn.Name, conn.Name)
	return nil
}

func restoreConnection(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	page, err := client.Get[api.Page[api.Connection]](ctx, c, "/connections?removed=true")
	if err != nil {
		return err
	}
	var fits []api.Connection
	for _, x := range page.Items {
		if x.ID == args[0] || strings.EqualFold(x.Name, args[0]) {
			fits = append(fits, x)
		}
	}
	if len(fits) == 0 {
		return fmt.Errorf("%w: no removed connection is called %q; list them with: kanban connections list --removed",
			errUsage, args[0])
	}
	if len(fits) > 1 {
		lines := make([]string, len(fits))
		for i, x := range fits {
			lines[i] = fmt.Sprintf("  %s  removed %s", x.ID, when(x.RemovedAt))
		}
		return fmt.Errorf("%w: %d removed connections are called %q; give the id of one:\n%s", errUsage, len(fits),
			args[0], strings.Join(lines, "\n"))
	}
	back, err := client.Post[api.Connection](ctx, c, "/connections/"+fits[0].ID+"/restore",
		api.Restored{Name: cmd.String("as")})
	if err != nil {
		return err
	}
	say(cmd, "%s is back as it was.", back.Name)
	return nil
}

func listConnections(ctx context.Context, cmd *cli.Command) error {
	path, none := "/connections", "Nothing is connected yet. See what can be: kanban connections kinds"
	if cmd.Bool("removed") {
		path, none = "/connections?removed=true", "No connection was removed during the last 30 days."
	}
	page, err := client.Get[api.Page[api.Connection]](ctx, connect(cmd), path)
	if err != nil {
		return err
	}
	return tableOf(page.Items, none, []string{"name", "kind", "capabilities", "tested"},
		func(c api.Connection) []string {
			var works []string
			for _, r := range c.Probe {
				works = append(works, r.Capability+": "+r.State)
			}
			if c.Paused {
				works = append(works, "paused")
			}
			for _, r := range c.Rests {
				if r.Until != nil && r.Until.After(time.Now()) {
					works = append(works, restsText(r))
				}
			}
			if c.RemovedAt != nil {
				works = append(works, "removed "+when(c.RemovedAt))
			}
			return []string{c.Name, c.Kind, strings.Join(works, ", "), moment(c.ProbedAt)}
		}).print(cmd)
}

func listKinds(_ context.Context, cmd *cli.Command) error {
	type line struct {
		Kind  string        `json:"kind"`
		Field adapter.Field `json:"field"`
	}
	var lines []line
	for _, k := range adapter.Kinds {
		for _, f := range k.Fields {
			lines = append(lines, line{k.Name, f})
		}
	}
	return tableOf(lines, "", []string{"kind", "value", "needed", "help"}, func(l line) []string {
		need := "optional"
		switch {
		case l.Field.Made:
			need = "made by Kanban"
		case l.Field.Required:
			need = "required"
		case l.Field.Default != "":
			need = "default " + l.Field.Default
		}
		if l.Field.Secret {
			need += ", secret"
		}
		return []string{l.Kind, l.Field.Name, need, l.Field.Help}
	}).print(cmd)
}

// values reads --set flags.
func values(cmd *cli.Command) (map[string]string, error) {
	out := map[string]string{}
	for _, s := range cmd.StringSlice("set") {
		name, value, ok := strings.Cut(s, "=")
		if !ok {
			return nil, usage(cmd, fmt.Sprintf("--set %q is not of the form name=value", s))
		}
		if path, isFile := strings.CutPrefix(value, "@"); isFile {
			text, err := os.ReadFile(path)
			if err != nil {
				return nil, fmt.Errorf("reading %s: %w", name, err)
			}
			value = strings.TrimSpace(string(text))
		} else if value == "?" {
			text, err := secretInput(name)
			if err != nil {
				return nil, err
			}
			value = text
		}
		out[name] = value
	}
	return out, nil
}

func addConnection(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 2)
	if err != nil {
		return err
	}
	v, err := values(cmd)
	if err != nil {
		return err
	}
	c := connect(cmd)
	conn, err := client.Post[api.Connection](ctx, c, "/connections",
		api.NewConnection{Kind: args[0], Name: args[1], Values: v})
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" { // the made values are shown only now
		reports, err := client.Post[[]api.Report](ctx, c, "/connections/"+conn.ID+"/probe", nil)
		if conn.Probe = reports; err != nil {
			conn.Probe = []api.Report{}
		}
		return errors.Join(printJSON(cmd, conn), err)
	}
	say(cmd, "Connected %s.", conn.Name)
	if cmd.String("output") == "csv" { // the table that follows is about something else
		for _, f := range slices.Sorted(maps.Keys(conn.Made)) {
			fmt.Fprintf(os.Stderr, "%s: %s\n", f, conn.Made[f])
		}
	}
	if len(conn.Made) > 0 {
		say(cmd, "Enter these at the other side; the secret is not shown again:")
		for _, f := range []string{"endpoint", "key", "secret"} {
			if conn.Made[f] != "" {
				say(cmd, "  %-8s  %s", f, conn.Made[f])
			}
		}
	}
	return probe(ctx, cmd, c, conn)
}

func editConnection(ctx context.Context, cmd *cli.Command) error {
	c, conn, err := oneConnection(ctx, cmd)
	if err != nil {
		return err
	}
	v, err := values(cmd)
	if err != nil {
		return err
	}
	if _, err := client.Edit[api.Connection](ctx, c, http.MethodPatch, "/connections/"+conn.ID, conn.Version,
		api.EditConnection{Values: v, Untested: cmd.Bool("untested")}); err != nil {
		return err
	}
	return probe(ctx, cmd, c, conn)
}

func probe(ctx context.Context, cmd *cli.Command, c *client.Client, conn api.Connection) error {
	reports, err := client.Post[[]api.Report](ctx, c, "/connections/"+conn.ID+"/probe", nil)
	if err != nil {
		return err
	}
	err = tableOf(reports, "", []string{"capability", "answer", "detail", "who can mend it", "remedy"},
		func(r api.Report) []string {
			return []string{r.Capability, r.State, r.Detail, r.Owner, r.Remedy}
		}).print(cmd)
	for _, r := range reports {
		if err == nil && r.Code != "" {
			return cli.Exit("", ExitNeedsPerson)
		}
	}
	return err
}

func probeConnection(ctx context.Context, cmd *cli.Command) error {
	c, conn, err := oneConnection(ctx, cmd)
	if err != nil {
		return err
	}
	return probe(ctx, cmd, c, conn)
}

func readConnection(ctx context.Context, cmd *cli.Command) error {
	c, conn, err := oneConnection(ctx, cmd)
	if err != nil {
		return err
	}
	r, err := startRead(ctx, cmd, c, conn)
	if err != nil {
		return err
	}
	return follow(ctx, cmd, c, r.ID)
}

func startRead(ctx context.Context, cmd *cli.Command, c *client.Client, conn api.Connection) (api.Run, error) {
	switch path := cmd.String("file"); path {
	case "":
		return client.Post[api.Run](ctx, c, "/connections/"+conn.ID+"/read",
			api.ReadRequest{Approved: cmd.Bool("approve"), Changes: cmd.Bool("changes")})
	case "-":
		return c.Upload(ctx, conn.ID, cmd.Bool("approve"), os.Stdin)
	default:
		file, err := os.Open(path)
		if err != nil {
			return api.Run{}, err
		}
		defer file.Close()
		return c.Upload(ctx, conn.ID, cmd.Bool("approve"), file)
	}
}

func pause(name, about string, paused bool) *cli.Command {
	return &cli.Command{
		Name: name, Usage: about, ArgsUsage: "NAME",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, conn, err := oneConnection(ctx, cmd)
			if err != nil {
				return err
			}
			if _, err := client.Edit[api.Connection](ctx, c, http.MethodPatch, "/connections/"+conn.ID, conn.Version,
				api.EditConnection{Paused: &paused}); err != nil {
				return err
			}
			say(cmd, "%s is %sd.", conn.Name, name)
			return nil
		},
	}
}
