// Package cli is the command line: it calls the service through its client and
// prints tables, JSON or CSV.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/finding"
)

// Exit codes that scripts can rely on.
const (
	ExitFailed      = 1
	ExitUsage       = 2 // something given is wrong
	ExitNeedsPerson = 3 // done, but people have to be mended
	ExitUnreachable = 4 // no service answers
)

// App is the whole command line. extra are commands that need more than the
// client: serve, demo.
func App(version string, extra ...*cli.Command) *cli.Command {
	app := &cli.Command{
		Name:                  "kanban",
		Usage:                 "Bring rosters in step, and let things happen when people join or finish",
		Version:               version,
		EnableShellCompletion: true,
		Suggest:               true,
		Description: `Start with:  kanban demo                 everything, with demo data
        or:  kanban serve                the service alone
      then:  kanban sign-in --email you@school.example
             kanban interfaces list
             kanban today`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "address", Usage: "address of the service", Sources: cli.EnvVars("KANBAN_ADDRESS")},
			&cli.StringFlag{
				Name: "token", Usage: "API token; sign-in keeps one for you",
				Sources: cli.EnvVars("KANBAN_TOKEN"),
			},
			&cli.StringFlag{
				Name: "output", Aliases: []string{"o"}, Value: "table", Usage: "table, json or csv",
				Sources: cli.EnvVars("KANBAN_OUTPUT"),
			},
			&cli.BoolFlag{
				Name:    "hide-names",
				Usage:   "show made-up names, user names and addresses of people, to show the screen to others; nothing can be changed with it",
				Sources: cli.EnvVars("KANBAN_HIDE_NAMES"),
			},
			&cli.BoolFlag{
				Name:  "ids",
				Usage: "begin each line of a list with the record's id, which can be given wherever a name can",
			},
		},
		Commands: append(extra,
			signIn(), signOut(), today(), findings(), explain(), connections(), interfaces(),
			sections(), peopleLists(), people(), teachingOf(),
			matching(), pairings(), runs(), scoresOf(), courses(), rules(), offersOf(), operationsOf(), configOf(),
			maintenance(),
			historyOf(), events(), deliveries(), tasksOf(), sheetsOf(), badges(), stagePlansOf(), reportsOf(),
			proofsOf(), platforms(), usersOf(), auditOf(), me(), why(), sessionsOf(), tokensOf(), codesOf(),
			providersOf(),
		),
		Before:         knownOutput,
		ExitErrHandler: func(context.Context, *cli.Command, error) {}, // Run tells
	}
	withExamples(app, app.Name)
	refuseUnknown(app)
	refuseWrongUse(app)
	for _, c := range app.Commands[len(extra):] {
		keepCommas(c)
	}
	return app
}

// keepCommas makes every value of a flag that can be given several times one value, with the
// commas that are in it: secrets, conditions and names have some.
func keepCommas(c *cli.Command) {
	c.DisableSliceFlagSeparator = true
	for _, sub := range c.Commands {
		keepCommas(sub)
	}
}

// knownOutput refuses a form of output that there is not, whether a flag asks for it or the
// environment.
func knownOutput(ctx context.Context, cmd *cli.Command) (context.Context, error) {
	if o := cmd.String("output"); o != "table" && o != "json" && o != "csv" {
		return ctx, fmt.Errorf("%w: output %q is not one of table, json, csv", errUsage, o)
	}
	return ctx, nil
}

// refuseWrongUse makes a flag that is not there, is missing or has a value that cannot be read
// wrong use, at every level, and leads to the command's help.
func refuseWrongUse(c *cli.Command) {
	for _, sub := range c.Commands {
		refuseWrongUse(sub)
	}
	c.OnUsageError = func(_ context.Context, cmd *cli.Command, err error, _ bool) error {
		return fmt.Errorf("%w: %w\n  help:  %s --help", errUsage, err, cmd.FullName())
	}
}

// refuseUnknown makes a command that is not there wrong use, at every level.
func refuseUnknown(c *cli.Command) {
	for _, sub := range c.Commands {
		refuseUnknown(sub)
	}
	if len(c.Commands) == 0 || c.Action != nil {
		return
	}
	c.Action = func(_ context.Context, cmd *cli.Command) error {
		if name := cmd.Args().First(); name != "" {
			return fmt.Errorf("%w: %s has no command %q; see them with: %s --help", errUsage, cmd.FullName(), name,
				cmd.FullName())
		}
		if cmd.Root() == cmd {
			return cli.ShowRootCommandHelp(cmd)
		}
		return cli.ShowSubcommandHelp(cmd)
	}
}

// Run runs the command line and returns the exit code. What went wrong is written to the
// error output of app.
func Run(ctx context.Context, app *cli.Command, args []string) int {
	err := app.Run(ctx, args)
	complaints := cmp.Or[io.Writer](app.ErrWriter, os.Stderr)
	if err == nil {
		return 0
	}
	var exit cli.ExitCoder
	if errors.As(err, &exit) {
		if strings.HasPrefix(exit.Error(), "No help topic for ") { // the library's own, of exit code 3
			fmt.Fprintf(complaints, "kanban: %v: there is no command %s\n", errUsage,
				strings.TrimPrefix(exit.Error(), "No help topic for "))
			return ExitUsage
		}
		if exit.Error() != "" {
			fmt.Fprintln(complaints, "kanban:", exit.Error())
		}
		return exit.ExitCode()
	}
	fmt.Fprintln(complaints, "kanban:", err)
	var p *client.Problem
	switch {
	case errors.Is(err, client.ErrUnreachable):
		return ExitUnreachable
	case errors.As(err, &p) && p.Code() != "":
		if e, known := finding.Lookup(finding.Code(p.Code())); known && e.Remedy != "" {
			fmt.Fprintf(complaints, "  what to do: %s\n", e.Remedy)
		}
		fmt.Fprintf(complaints, "  more about it: kanban explain %s\n", p.Code())
		return ExitFailed
	case errors.As(err, &p) && (p.Status == 422 || p.Status == 404 || p.Status == 400):
		return ExitUsage
	case errors.As(err, &p):
		return ExitFailed
	case errors.Is(err, errUsage):
		return ExitUsage
	}
	return ExitFailed
}

var errUsage = errors.New("wrong use")

// usage refuses the arguments and shows an example.
func usage(cmd *cli.Command, what string) error {
	return fmt.Errorf("%w: %s\n  usage: %s %s\n  help:  %s --help", errUsage, what, cmd.FullName(), cmd.ArgsUsage,
		cmd.FullName())
}

// arguments returns exactly n arguments.
func arguments(cmd *cli.Command, n int) ([]string, error) {
	if cmd.Args().Len() != n {
		return nil, usage(cmd, fmt.Sprintf("%d arguments given, %d needed", cmd.Args().Len(), n))
	}
	return cmd.Args().Slice(), nil
}

// kept is what sign-in keeps.
type kept struct {
	Address string `json:"address"`
	Token   string `json:"token"`
}

func keptPath() (string, error) {
	folder, err := os.UserConfigDir()
	return filepath.Join(folder, "kanban", "sign-in.json"), err
}

func readKept() (k kept) {
	path, err := keptPath()
	if err != nil {
		return k
	}
	text, err := os.ReadFile(path)
	if err == nil {
		_ = json.Unmarshal(text, &k)
	}
	return k
}

// DefaultAddress of a service on this machine.
const DefaultAddress = "http://127.0.0.1:7700"

func address(cmd *cli.Command) string {
	if a := cmd.String("address"); a != "" {
		return a
	}
	if k := readKept(); k.Address != "" {
		return k.Address
	}
	return DefaultAddress
}

// connect makes a client out of flags, environment and what sign-in kept.
func connect(cmd *cli.Command) *client.Client {
	token := cmd.String("token")
	if k := readKept(); token == "" && (cmd.String("address") == "" || cmd.String("address") == k.Address) {
		token = k.Token
	}
	c := client.New(address(cmd), token).KeepToRead()
	if cmd.Bool("hide-names") {
		c.HideNames()
	}
	return c
}
