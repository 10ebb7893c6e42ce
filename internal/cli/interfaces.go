package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
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

func interfaces() *cli.Command {
	return &cli.Command{
		Name: "interfaces", Usage: "What speaks with outside systems: add, test, read", Category: "rosters",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List interfaces", Action: listInterfaces,
				Flags: []cli.Flag{&cli.BoolFlag{
					Name:  "removed",
					Usage: "those that were removed and can be restored",
				}},
			},
			meaningOf(),
			{
				Name: "kinds", Usage: "The kinds of interface: what can be heard and done, and the values each needs",
				ArgsUsage: "[KIND]", Action: listKinds,
				Description: "  kanban interfaces kinds\n  kanban interfaces kinds scim",
			},
			{
				Name: "add", Usage: "Add an interface to a connection and test it", ArgsUsage: "CONNECTION KIND",
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:  "label",
						Usage: "what tells it from the others of the connection; chosen when there are others",
					}, setFlag(),
				}, Action: addInterface,
				Description: "  kanban interfaces kinds\n  kanban interfaces add \"Chat workspace\" scim --set address=https://chat.example/scim/v2 --set token=?\n  kanban interfaces add \"Course platform\" scim --label places --set address=/scim/v2 --set token=?",
			},
			interfacesEdit(),
			{Name: "probe", Usage: "Test every capability", ArgsUsage: "NAME", Action: probeInterface},
			interfacesShow(),
			interfacesSignIn(),
			interfacesRead(),
			pause("pause", "Pause: what depends on it waits", true),
			pause("resume", "Resume a paused interface", false),
			interfacesRemove(),
			interfacesRestore(),
		},
	}
}

func interfacesEdit() *cli.Command {
	return &cli.Command{
		Name: "edit", Usage: "Change values; what is not given stays, secrets among them", ArgsUsage: "NAME",
		Flags: []cli.Flag{
			setFlag(), &cli.StringFlag{Name: "label", Usage: "another label; empty for none"}, &cli.BoolFlag{
				Name:  "untested",
				Usage: "save new values though a test with them fails",
			},
		}, Action: editInterface,
		Description: "  kanban interfaces edit \"Chat workspace\" --set token=@new-token.txt",
	}
}

func interfacesShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "What of an interface is done, and what is the next missing step",
		ArgsUsage: "NAME", Action: func(ctx context.Context, cmd *cli.Command) error {
			_, conn, err := oneInterface(ctx, cmd)
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

func interfacesRead() *cli.Command {
	return &cli.Command{
		Name: "read", Usage: "Read a register and wait for the end", ArgsUsage: "NAME", Action: readInterface,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "approve", Usage: "go on although the register lost most of its records"},
			&cli.BoolFlag{Name: "changes", Usage: "ask only for what changed since the last read"},
			&cli.StringFlag{
				Name:  "file",
				Usage: "for a register of files: the package to read, - for standard input",
			},
		}, Description: "  kanban interfaces read \"School register\"\n  kanban interfaces read \"Register files\" --file package.zip",
	}
}

func interfacesRemove() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "Remove an interface; it can be restored for 30 days", ArgsUsage: "NAME",
		Action: removeInterface,
		Flags: []cli.Flag{&cli.StringFlag{
			Name:  "confirm",
			Usage: "the interface's name once more, to remove it with what depends on it",
		}},
		Description: `Says what depends on the interface, and removes it when nothing does. What depends on it is
hidden with it and stops; nothing is deleted before 30 days have passed.

  kanban interfaces remove "Plant news"
  kanban interfaces remove "School register" --confirm "School register"
  kanban interfaces restore "School register"`,
	}
}

func interfacesRestore() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "Bring a removed interface back as it was", ArgsUsage: "NAME",
		Action: restoreInterface,
		Flags: []cli.Flag{&cli.StringFlag{
			Name:  "as",
			Usage: "another label, when its own is another one's by now",
		}},
		Description: "  kanban interfaces list --removed\n  kanban interfaces restore \"Plant news\"",
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

func oneInterface(ctx context.Context, cmd *cli.Command) (*client.Client, api.Interface, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.Interface{}, err
	}
	c := connect(cmd)
	conn, err := findInterface(ctx, c, args[0])
	return c, conn, err
}

func removeInterface(ctx context.Context, cmd *cli.Command) error {
	c, conn, err := oneInterface(ctx, cmd)
	if err != nil {
		return err
	}
	return removeConfirmed(ctx, cmd, c, "interfaces", conn.ID, conn.Name)
}

func restoreInterface(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	page, err := client.Get[api.Page[api.Interface]](ctx, c, "/interfaces?removed=true")
	if err != nil {
		return err
	}
	var fits []removed
	for _, x := range page.Items {
		fits = append(fits, removed{x.ID, x.Name, when(x.RemovedAt)})
	}
	one, err := oneRemoved(fits, "interfaces", args[0])
	if err != nil {
		return err
	}
	back, err := client.Post[api.Interface](ctx, c, "/interfaces/"+one.id+"/restore",
		api.Restored{Name: cmd.String("as")})
	if err != nil {
		return err
	}
	say(cmd, "%s is back as it was.", back.Name)
	return nil
}

func listInterfaces(ctx context.Context, cmd *cli.Command) error {
	path, none := "/interfaces", "Nothing is connected yet. See what can be: kanban interfaces kinds"
	if cmd.Bool("removed") {
		path, none = "/interfaces?removed=true", "No interface was removed during the last 30 days."
	}
	page, err := client.Get[api.Page[api.Interface]](ctx, connect(cmd), path)
	if err != nil {
		return err
	}
	return tableOf(page.Items, none, []string{"name", "kind", "capabilities", "tested"},
		func(c api.Interface) []string {
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
	kinds := adapter.Kinds
	if name := cmd.Args().First(); name != "" {
		k, ok := adapter.Lookup(name)
		if !ok {
			return usage(cmd, fmt.Sprintf("%q is no kind of interface; see which there are: kanban interfaces kinds", name))
		}
		kinds = []adapter.Kind{k}
		say(cmd, "%s. %s", k.Title, k.About)
		for _, x := range []struct {
			what string
			list []string
		}{
			{"Heard from it", k.Hears},
			{"Done there", k.Does},
			{"Values", []string{k.Given}},
			{"Rights", []string{k.Rights}},
		} {
			if len(x.list) > 0 {
				say(cmd, "%-14s %s", x.what+":", strings.Join(x.list, "; "))
			}
		}
	}
	var lines []line
	for _, k := range kinds {
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

func addInterface(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 2)
	if err != nil {
		return err
	}
	v, err := values(cmd)
	if err != nil {
		return err
	}
	c := connect(cmd)
	of, err := findConnection(ctx, c, args[0])
	if err != nil {
		return err
	}
	conn, err := client.Post[api.Interface](ctx, c, "/connections/"+of.ID+"/interfaces",
		api.NewInterface{Kind: args[1], Label: cmd.String("label"), Values: v})
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" { // the made values are shown only now
		reports, err := client.Post[[]api.Report](ctx, c, "/interfaces/"+conn.ID+"/probe", nil)
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

func editInterface(ctx context.Context, cmd *cli.Command) error {
	c, conn, err := oneInterface(ctx, cmd)
	if err != nil {
		return err
	}
	v, err := values(cmd)
	if err != nil {
		return err
	}
	if _, err := client.Edit[api.Interface](ctx, c, http.MethodPatch, "/interfaces/"+conn.ID, conn.Version,
		api.EditInterface{Label: ifGiven(cmd, "label"), Values: v, Untested: cmd.Bool("untested")}); err != nil {
		return err
	}
	return probe(ctx, cmd, c, conn)
}

func probe(ctx context.Context, cmd *cli.Command, c *client.Client, conn api.Interface) error {
	reports, err := client.Post[[]api.Report](ctx, c, "/interfaces/"+conn.ID+"/probe", nil)
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

func probeInterface(ctx context.Context, cmd *cli.Command) error {
	c, conn, err := oneInterface(ctx, cmd)
	if err != nil {
		return err
	}
	return probe(ctx, cmd, c, conn)
}

func readInterface(ctx context.Context, cmd *cli.Command) error {
	c, conn, err := oneInterface(ctx, cmd)
	if err != nil {
		return err
	}
	r, err := startRead(ctx, cmd, c, conn)
	if err != nil {
		return err
	}
	return follow(ctx, cmd, c, r.ID)
}

func startRead(ctx context.Context, cmd *cli.Command, c *client.Client, conn api.Interface) (api.Run, error) {
	switch path := cmd.String("file"); path {
	case "":
		return client.Post[api.Run](ctx, c, "/interfaces/"+conn.ID+"/read",
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
			c, conn, err := oneInterface(ctx, cmd)
			if err != nil {
				return err
			}
			now, err := client.Edit[api.Interface](ctx, c, http.MethodPatch, "/interfaces/"+conn.ID, conn.Version,
				api.EditInterface{Paused: &paused})
			if err != nil {
				return err
			}
			if now.Paused && !paused {
				return fmt.Errorf("%s is paused still, with its whole connection: kanban connections resume %q", now.Name,
					now.Connection)
			}
			say(cmd, "%s is %sd.", conn.Name, name)
			return nil
		},
	}
}
