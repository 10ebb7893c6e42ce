package cli

import (
	"context"
	"fmt"
	"net/http"
	"strconv"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func historyOf() *cli.Command {
	return &cli.Command{
		Name: "history", Usage: "For how long events, deliveries and their attempts are kept", Category: "service",
		Action: showHistory,
		Commands: []*cli.Command{
			{Name: "show", Usage: "Show for how long, and what there is of each month", Action: showHistory},
			{
				Name: "keep", Usage: "Change for how many whole months it is kept", ArgsUsage: "MONTHS|all",
				Flags: []cli.Flag{&cli.IntFlag{
					Name:  "gone",
					Usage: "how many months go at once by this; needed when any do, because they cannot be had back",
				}},
				Description: "  kanban history keep 24\n  kanban history keep 12 --gone 3\n  kanban history keep all\n\nWhat people have had once, they do not get again, however short history is kept.",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					args, err := arguments(cmd, 1)
					if err != nil {
						return err
					}
					in := api.HistoryEdit{Gone: cmd.Int("gone")}
					if args[0] != "all" {
						if in.Months, err = strconv.Atoi(args[0]); err != nil || in.Months < 1 {
							return usage(cmd, fmt.Sprintf("%q is neither a number of months nor all", args[0]))
						}
					}
					h, err := client.Send[api.History](ctx, connect(cmd), http.MethodPut, "/history", in)
					if err != nil {
						return err
					}
					say(cmd, "%s", keptFor(h))
					return nil
				},
			},
		},
	}
}

func keptFor(h api.History) string {
	if h.Months == 0 {
		return "History is kept for ever."
	}
	return fmt.Sprintf("History is kept for %d whole months; what is older goes within minutes.", h.Months)
}

func showHistory(ctx context.Context, cmd *cli.Command) error {
	h, err := client.Get[api.History](ctx, connect(cmd), "/history")
	if err != nil {
		return err
	}
	if err := tableOf(h.Kept, "Nothing has happened yet.", []string{"month", "events", "size", "goes"},
		func(m api.HistoryMonth) []string {
			goes := "never"
			if m.GoesAt != nil {
				goes = m.GoesAt.Format("2006-01-02")
			}
			return []string{m.Month, fmt.Sprint(m.Events), fmt.Sprintf("%.1f MB", float64(m.Bytes)/1e6), goes}
		}).print(cmd); err != nil {
		return err
	}
	say(cmd, "%s", keptFor(h))
	return nil
}
