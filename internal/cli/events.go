package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/url"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/wire/api"

	"github.com/urfave/cli/v3"
)

func events() *cli.Command {
	return &cli.Command{
		Name: "events", Usage: "See what happened and what followed", Category: "learning",
		Commands: []*cli.Command{{
			Name: "list", Usage: "List events, the newest first",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "type", Usage: "type of event, e.g. module.completed"},
				&cli.IntFlag{Name: "limit", Value: 30, Usage: "how many"},
			},
			Action: func(ctx context.Context, cmd *cli.Command) error {
				page, err := client.Get[api.Page[api.Event]](ctx, connect(cmd),
					fmt.Sprintf("/events?limit=%d&type=%s", cmd.Int("limit"), url.QueryEscape(cmd.String("type"))))
				if err != nil {
					return err
				}
				return tableOf(page.Items, "Nothing has happened yet.",
					[]string{
						"at", "event", "type", "person", "section", "about", "deliveries",
						"waiting",
					}, func(e api.Event) []string {
						return []string{
							moment(&e.RecordedAt), rule.Trigger(e.Type).Name(), e.Type, e.Person, e.Section, about(e),
							fmt.Sprint(e.Deliveries), fmt.Sprint(e.Waiting),
						}
					}).print(cmd)
			},
		}},
	}
}

// about names what an event is about beside person and section.
func about(e api.Event) string {
	for _, name := range []string{"stage", "badge"} {
		if text, ok := e.Data[name].(string); ok {
			return text
		}
	}
	return cmp.Or(e.Activity, e.ActivityID, e.Module, e.ModuleID)
}
