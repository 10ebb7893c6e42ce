package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func rulesReady() *cli.Command {
	return &cli.Command{
		Name: "ready", Usage: "List ready rules by purpose, or make one, which is off at first", ArgsUsage: "[RULE]",
		Description: `What a rule needs is taken by itself when there is only one of it.

  kanban rules ready
  kanban rules ready welcome
  kanban rules ready module-badge --use badge=Cuttings --use "module=PROP: Cuttings" --name "Cuttings badge"`,
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "use", Usage: "what it needs, as `NEED=VALUE`"},
			&cli.StringFlag{Name: "name", Usage: "what the rule is to be called"},
		},
		Action: readyRules,
	}
}

func readyRules(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	all, err := client.Get[[]api.ReadyRule](ctx, c, "/ready-rules")
	if err != nil {
		return err
	}
	key := cmd.Args().First()
	if key == "" {
		return tableOf(all, "", []string{"rule", "what it does", "needs"}, func(r api.ReadyRule) []string {
			var needs []string
			for _, n := range r.Needs {
				needs = append(needs, fmt.Sprintf("%s (%s)", n.Name, n.About))
			}
			return []string{r.Key, r.About, strings.Join(needs, ", ")}
		}).print(cmd)
	}
	if !slices.ContainsFunc(all, func(r api.ReadyRule) bool { return r.Key == key }) {
		return usage(cmd, fmt.Sprintf("there is no ready rule %q; see which there are: kanban rules ready", key))
	}
	needs := map[string]string{}
	for _, text := range cmd.StringSlice("use") {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return usage(cmd, fmt.Sprintf("--use %q is not of the form NEED=VALUE", text))
		}
		needs[name] = value
	}
	made, err := client.Post[api.Rule](ctx, c, "/ready-rules/"+key,
		api.NewReadyRule{Name: cmd.String("name"), Needs: needs})
	if err != nil {
		return err
	}
	say(cmd, "Made the rule %q. It is off: try it with kanban rules try %q, switch it on with kanban rules on %q",
		made.Name, made.Name, made.Name)
	return nil
}
