package cli

import (
	"context"
	"fmt"
	"net/http"

	"kanban/internal/client"
	"kanban/internal/wire/api"

	"github.com/urfave/cli/v3"
)

func maintenance() *cli.Command {
	return &cli.Command{
		Name: "maintenance", Usage: "Pause everything, or go on: reads, runs and deliveries wait",
		ArgsUsage: "[on|off]", Category: "service",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "note", Usage: "why, for whoever sees it"}},
		Description: "  kanban maintenance\n  kanban maintenance on --note \"The chat workspace is being moved\"\n  kanban maintenance off",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			m, err := client.Get[api.Maintenance](ctx, c, "/maintenance")
			if err != nil {
				return err
			}
			switch word := cmd.Args().First(); word {
			case "on", "off":
				if m, err = client.Send[api.Maintenance](ctx, c, http.MethodPut, "/maintenance",
					api.Maintenance{On: word == "on", Note: cmd.String("note")}); err != nil {
					return err
				}
			case "":
			default:
				return usage(cmd, fmt.Sprintf("%q is neither on nor off", word))
			}
			if !m.On {
				say(cmd, "● Nothing is paused as a whole.")
				return nil
			}
			say(cmd, "‖ Everything is paused since %s by %s. %s", when(m.Since), m.By, m.Note)
			say(cmd, "  What is due waits, and happens once when it is over: kanban maintenance off")
			return nil
		},
	}
}

func fullComparison(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	k, err := client.Get[api.FullComparison](ctx, c, "/full-comparison")
	if err != nil {
		return err
	}
	if text := cmd.String("schedule"); text != "" {
		s, err := parseSchedule(text)
		if err != nil {
			return err
		}
		if k, err = client.Send[api.FullComparison](ctx, c, http.MethodPut, "/full-comparison",
			api.FullComparison{Schedule: s}); err != nil {
			return err
		}
	}
	say(cmd, "All pairings are compared %s; next %s.", k.Schedule, when(k.NextAt))
	return nil
}
