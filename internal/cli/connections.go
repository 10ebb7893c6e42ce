package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func connections() *cli.Command {
	details := []cli.Flag{
		&cli.StringFlag{Name: "owner", Usage: "who minds the system"},
		&cli.StringFlag{Name: "address", Usage: "where people open it; addresses of its interfaces may then be paths"},
		&cli.StringFlag{Name: "notes", Usage: "whatever others should know"},
		&cli.IntFlag{Name: "at-once", Usage: "calls at a time through all its interfaces, 0 for no limit of its own"},
		&cli.IntFlag{Name: "per-minute", Usage: "calls a minute through all its interfaces, 0 for no limit of its own"},
		&cli.IntFlag{Name: "rest-after", Usage: "failures in a row after which it is left alone, 0 for the usual number"},
	}
	return &cli.Command{
		Name: "connections", Usage: "Connect outside systems and see what works", Category: "rosters",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List outside systems with their interfaces", Action: listConnections,
				Flags: []cli.Flag{&cli.BoolFlag{
					Name:  "removed",
					Usage: "those that were removed and can be restored",
				}},
			},
			{Name: "show", Usage: "One outside system: what it is and what works", ArgsUsage: "NAME", Action: showConnection},
			{
				Name: "add", Usage: "Connect an outside system; then add its interfaces", ArgsUsage: "NAME",
				Flags: details, Action: addConnection,
				Description: "  kanban connections add \"Course platform\" --owner \"Learning team\" --address https://platform.example\n  kanban interfaces add \"Course platform\" xapi --label activity\n  kanban interfaces add \"Course platform\" scim --label places --set address=/scim/v2 --set token=?",
			},
			{
				Name: "edit", Usage: "Change what holds for a whole system; what is not given stays", ArgsUsage: "NAME",
				Flags:       append([]cli.Flag{&cli.StringFlag{Name: "name", Usage: "another name"}}, details...),
				Action:      editConnection,
				Description: "  kanban connections edit \"Course platform\" --owner \"Learning team\" --per-minute 600",
			},
			{Name: "probe", Usage: "Test every interface", ArgsUsage: "NAME", Action: probeConnection},
			pauseConnection("pause", "Pause all its interfaces: what depends on them waits", true),
			pauseConnection("resume", "Let its interfaces go on, except those that are paused by themselves", false),
			{
				Name: "remove", Usage: "Remove a system with its interfaces; it can be restored for 30 days", ArgsUsage: "NAME",
				Action: removeConnection,
				Flags: []cli.Flag{&cli.StringFlag{
					Name:  "confirm",
					Usage: "the connection's name once more, to remove it with what depends on it",
				}},
				Description: "  kanban connections remove \"Plant news\"\n  kanban connections remove \"Plant news\" --confirm \"Plant news\"",
			},
			{
				Name: "restore", Usage: "Bring a removed system back as it was", ArgsUsage: "NAME", Action: restoreConnection,
				Flags: []cli.Flag{&cli.StringFlag{
					Name:  "as",
					Usage: "another name, when its own is somebody else's by now",
				}},
				Description: "  kanban connections list --removed\n  kanban connections restore \"Plant news\"",
			},
		},
	}
}

func oneConnection(ctx context.Context, cmd *cli.Command) (*client.Client, api.Connection, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.Connection{}, err
	}
	c := connect(cmd)
	found, err := findConnection(ctx, c, args[0])
	return c, found, err
}

func listConnections(ctx context.Context, cmd *cli.Command) error {
	path, none := "/connections", "Nothing is connected yet: kanban connections add NAME"
	if cmd.Bool("removed") {
		path, none = "/connections?removed=true", "No connection was removed during the last 30 days."
	}
	page, err := client.Get[api.Page[api.Connection]](ctx, connect(cmd), path)
	if err != nil {
		return err
	}
	return tableOf(page.Items, none, []string{"name", "owner", "interfaces", "state"},
		func(c api.Connection) []string {
			var all []string
			for _, x := range c.Interfaces {
				all = append(all, cmp.Or(x.Label, x.Kind)+": "+working(x))
			}
			state := ""
			switch {
			case c.RemovedAt != nil:
				state = "removed " + when(c.RemovedAt)
			case c.Paused:
				state = "paused"
			}
			return []string{c.Name, c.Owner, strings.Join(all, ", "), state}
		}).print(cmd)
}

// working says in a few words what works of an interface: the first thing that does not, if any.
func working(x api.Interface) string {
	switch {
	case x.PausedAlone:
		return "paused"
	case len(x.Probe) == 0:
		return "not tested"
	}
	for _, r := range x.Probe {
		if r.State != "works" {
			return r.State
		}
	}
	return "works"
}

func showConnection(ctx context.Context, cmd *cli.Command) error {
	_, x, err := oneConnection(ctx, cmd)
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return printJSON(cmd, x)
	}
	for _, l := range []struct{ what, value string }{
		{"Name", x.Name},
		{"Owner", x.Owner},
		{"Address", x.Address},
		{"Notes", x.Notes},
		{"Calls at once", limit(x.AtOnce, "")},
		{"Calls a minute", limit(x.PerMinute, "")},
		{"Rests after", limit(x.RestAfter, " failures in a row")},
	} {
		if l.value != "" {
			say(cmd, "%-15s %s", l.what, l.value)
		}
	}
	if x.Paused {
		say(cmd, "Paused: what depends on it waits")
	}
	say(cmd, "")
	return tableOf(x.Interfaces, "It has no interface yet: kanban interfaces add "+fmt.Sprintf("%q", x.Name)+" KIND",
		[]string{"interface", "kind", "state", "tested", "address"}, func(i api.Interface) []string {
			at := i.Settings["address"]
			if at == "" {
				at = i.Settings["server"]
			}
			return []string{i.Name, i.Title, working(i), moment(i.ProbedAt), at}
		}).print(cmd)
}

// limit writes a limit; empty when there is none.
func limit(n int, of string) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n, of)
}

// ifGiven is the value of a flag, nil when it was not given.
func ifGiven(cmd *cli.Command, name string) *string {
	if !cmd.IsSet(name) {
		return nil
	}
	v := cmd.String(name)
	return &v
}

func numberIfGiven(cmd *cli.Command, name string) *int {
	if !cmd.IsSet(name) {
		return nil
	}
	v := cmd.Int(name)
	return &v
}

func addConnection(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	x, err := client.Post[api.Connection](ctx, connect(cmd), "/connections", api.NewConnection{
		Name: args[0], Owner: cmd.String("owner"), Address: cmd.String("address"), Notes: cmd.String("notes"),
		AtOnce: cmd.Int("at-once"), PerMinute: cmd.Int("per-minute"), RestAfter: cmd.Int("rest-after"),
	})
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return printJSON(cmd, x)
	}
	say(cmd, "Connected %s. Add what speaks with it: kanban interfaces add %q KIND (see kanban interfaces kinds)", x.Name, x.Name)
	return nil
}

func editConnection(ctx context.Context, cmd *cli.Command) error {
	c, x, err := oneConnection(ctx, cmd)
	if err != nil {
		return err
	}
	edit := api.EditConnection{
		Name: ifGiven(cmd, "name"), Owner: ifGiven(cmd, "owner"), Address: ifGiven(cmd, "address"),
		Notes: ifGiven(cmd, "notes"), AtOnce: numberIfGiven(cmd, "at-once"),
		PerMinute: numberIfGiven(cmd, "per-minute"), RestAfter: numberIfGiven(cmd, "rest-after"),
	}
	now, err := client.Edit[api.Connection](ctx, c, http.MethodPatch, "/connections/"+x.ID, x.Version, edit)
	if err != nil {
		return err
	}
	say(cmd, "Changed %s.", now.Name)
	return nil
}

func probeConnection(ctx context.Context, cmd *cli.Command) error {
	c, x, err := oneConnection(ctx, cmd)
	if err != nil {
		return err
	}
	type line struct {
		Interface string `json:"interface"`
		api.Report
	}
	var lines []line
	var failed error
	for _, i := range x.Interfaces {
		reports, err := client.Post[[]api.Report](ctx, c, "/interfaces/"+i.ID+"/probe", nil)
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("testing %s: %w", i.Name, err))
		}
		for _, r := range reports {
			lines = append(lines, line{i.Name, r})
		}
	}
	err = tableOf(lines, "It has no interface yet: kanban interfaces add "+fmt.Sprintf("%q", x.Name)+" KIND",
		[]string{"interface", "capability", "answer", "detail", "who can mend it", "remedy"}, func(l line) []string {
			return []string{l.Interface, l.Capability, l.State, l.Detail, l.Owner, l.Remedy}
		}).print(cmd)
	if err := errors.Join(err, failed); err != nil {
		return err
	}
	for _, l := range lines {
		if l.Code != "" {
			return cli.Exit("", ExitNeedsPerson)
		}
	}
	return nil
}

func pauseConnection(name, about string, paused bool) *cli.Command {
	return &cli.Command{
		Name: name, Usage: about, ArgsUsage: "NAME",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, x, err := oneConnection(ctx, cmd)
			if err != nil {
				return err
			}
			if _, err := client.Edit[api.Connection](ctx, c, http.MethodPatch, "/connections/"+x.ID, x.Version,
				api.EditConnection{Paused: &paused}); err != nil {
				return err
			}
			say(cmd, "%s is %sd.", x.Name, name)
			return nil
		},
	}
}

func removeConnection(ctx context.Context, cmd *cli.Command) error {
	c, x, err := oneConnection(ctx, cmd)
	if err != nil {
		return err
	}
	return removeConfirmed(ctx, cmd, c, "connections", x.ID, x.Name)
}

// removeConfirmed says what depends on a connection or an interface before it is removed with that.
func removeConfirmed(ctx context.Context, cmd *cli.Command, c *client.Client, noun, id, name string) error {
	path := "/" + noun + "/" + id
	what, err := client.Get[api.Removal](ctx, c, path+"/removal")
	if err != nil {
		return err
	}
	if confirmed := cmd.String("confirm"); confirmed != "" {
		path += "?name=" + url.QueryEscape(confirmed)
	} else if len(what.Dependents) > 0 {
		say(cmd, "%s is in use: %s.", name, what.Summary)
		return usage(cmd, fmt.Sprintf("nothing was removed. To remove it with what depends on it: kanban %s remove %q --confirm %q", noun, name, name))
	}
	if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, path, nil); err != nil {
		return err
	}
	say(cmd, "Removed %s. For 30 days it can be brought back: kanban %s restore %q", name, noun, name)
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
	var fits []removed
	for _, x := range page.Items {
		fits = append(fits, removed{x.ID, x.Name, when(x.RemovedAt)})
	}
	one, err := oneRemoved(fits, "connections", args[0])
	if err != nil {
		return err
	}
	back, err := client.Post[api.Connection](ctx, c, "/connections/"+one.id+"/restore",
		api.Restored{Name: cmd.String("as")})
	if err != nil {
		return err
	}
	say(cmd, "%s is back as it was.", back.Name)
	return nil
}

// removed is a connection or an interface that was removed.
type removed struct{ id, name, when string }

// oneRemoved finds the one that was meant.
func oneRemoved(all []removed, noun, name string) (removed, error) {
	var fits []removed
	for _, x := range all {
		if x.id == name || strings.EqualFold(x.name, name) {
			fits = append(fits, x)
		}
	}
	switch len(fits) {
	case 0:
		return removed{}, fmt.Errorf("%w: no removed %s is called %q; see which there are: kanban %s list --removed",
			errUsage, strings.TrimSuffix(noun, "s"), name, noun)
	case 1:
		return fits[0], nil
	}
	lines := make([]string, len(fits))
	for i, x := range fits {
		lines[i] = fmt.Sprintf("  %s  removed %s", x.id, x.when)
	}
	return removed{}, fmt.Errorf("%w: %d removed %s are called %q; give the id of one:\n%s", errUsage, len(fits), noun,
		name, strings.Join(lines, "\n"))
}
