package cli

import (
	"context"
	"fmt"
	"net/url"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func people() *cli.Command {
	return &cli.Command{
		Name: "people", Usage: "Find people and see everything known about one", Category: "rosters",
		Commands: []*cli.Command{
			{Name: "find", Usage: "Find people by name, address, user name or identifier", ArgsUsage: "TEXT", Action: func(ctx context.Context, cmd *cli.Command) error {
				args, err := arguments(cmd, 1)
				if err != nil {
					return err
				}
				page, err := findPeople(ctx, connect(cmd), args[0])
				if err != nil {
					return err
				}
				return tableOf(page, "Nobody fits.", []string{"name", "address", "user name", "identifier"}, func(p api.Person) []string {
					return []string{p.Name, p.Email, p.UserName, p.Identifier}
				}).print(cmd)
			}},
			{
				Name: "show", Usage: "Sections, accounts, progress, badges and what was sent about a person", ArgsUsage: "TEXT", Action: showPerson,
				Description: "TEXT must fit one person, e.g. an identifier or a whole name.\n\n  kanban people show \"Tamsin Trial\"",
			},
		},
	}
}

func findPeople(ctx context.Context, c *client.Client, text string) ([]api.Person, error) {
	page, err := client.Get[api.Page[api.Person]](ctx, c, "/people?text="+url.QueryEscape(text))
	return page.Items, err
}

func showPerson(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	found, err := findPeople(ctx, c, args[0])
	if err != nil {
		return err
	}
	if len(found) != 1 {
		return fmt.Errorf("%w: %d people fit %q, one is needed; see them with: kanban people find %q", errUsage, len(found), args[0], args[0])
	}
	p, err := client.Get[api.PersonPage](ctx, c, "/people/"+found[0].ID)
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return table{value: p}.print(cmd)
	}
	say(cmd, "%s  %s  %s\n", p.Name, p.Email, p.Identifier)
	if err := tableOf(p.Sections, "In no section.", []string{"section", "course", "role", "joined", "left", "class", "progress"}, func(w api.Whereabouts) []string {
		progress := ""
		if w.Percent != nil {
			progress = fmt.Sprintf("%d %%", *w.Percent)
		}
		return []string{w.Section, w.Course, w.Role, when(&w.JoinedAt), when(w.LeftAt), w.Target, progress}
	}).print(cmd); err != nil {
		return err
	}
	for _, a := range p.Accounts {
		say(cmd, "\nAccount at %s: %s", a.Connection, a.RemoteID)
	}
	for _, a := range p.Awards {
		say(cmd, "Badge %s, %s: %s", a.Badge, when(&a.AwardedAt), a.Address)
	}
	say(cmd, "")
	return tableOf(p.Deliveries, "Nothing was sent about this person.", []string{"at", "rule", "action", "to", "state"}, func(d api.Delivery) []string {
		return []string{when(&d.CreatedAt), d.Rule, d.Action, d.Connection, d.State}
	}).print(cmd)
}
