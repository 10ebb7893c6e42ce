package cli

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func tasksOf() *cli.Command {
	end := func(name, use, path, said string) *cli.Command {
		return &cli.Command{Name: name, Usage: use, ArgsUsage: "TASK", Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			if _, err := client.Post[client.Empty](ctx, connect(cmd), "/tasks/"+args[0]+path, nil); err != nil {
				return err
			}
			say(cmd, said)
			return nil
		}}
	}
	return &cli.Command{
		Name: "tasks", Usage: "What rules gave people to do", Category: "learning",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List open tasks, the most urgent first", Flags: []cli.Flag{&cli.BoolFlag{Name: "done", Usage: "those that are done"}},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					page, err := client.Get[api.Page[api.Task]](ctx, connect(cmd), fmt.Sprintf("/tasks?done=%t", cmd.Bool("done")))
					if err != nil {
						return err
					}
					return tableOf(page.Items, "Nothing to do.", []string{"task", "what", "about", "section", "owner", "due", "done"}, func(t api.Task) []string {
						done := ""
						if t.DoneAt != nil {
							done = when(t.DoneAt) + " by " + t.DoneBy
						}
						return []string{t.ID, t.Title, t.Person, t.Section, t.Owner, moment(t.DueAt), done}
					}).print(cmd)
				},
			},
			end("done", "Mark a task as done", "/done", "Done."),
			end("open", "Open a task again", "/open", "The task is open again."),
		},
	}
}

func sheetsOf() *cli.Command {
	return &cli.Command{
		Name: "sheets", Usage: "Sheets that rules fill", Category: "learning",
		Commands: []*cli.Command{
			{Name: "list", Usage: "List the sheets", Action: func(ctx context.Context, cmd *cli.Command) error {
				all, err := client.Get[[]sheetInfo](ctx, connect(cmd), "/sheets")
				if err != nil {
					return err
				}
				return tableOf(all, "No rule has filled a sheet yet.", []string{"sheet", "rows", "latest"}, func(s sheetInfo) []string {
					return []string{s.Name, fmt.Sprint(s.Rows), moment(&s.Last)}
				}).print(cmd)
			}},
			{
				Name: "save", Usage: "Save a sheet into a file, as CSV or XLSX by its ending", ArgsUsage: "SHEET FILE",
				Description: "  kanban sheets save Failed failed.xlsx",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					args, err := arguments(cmd, 2)
					if err != nil {
						return err
					}
					kind := "csv"
					if strings.HasSuffix(strings.ToLower(args[1]), ".xlsx") {
						kind = "xlsx"
					}
					body, err := connect(cmd).Download(ctx, "/sheets/"+url.PathEscape(args[0])+"."+kind)
					if err != nil {
						return err
					}
					if err := os.WriteFile(args[1], body, 0o600); err != nil {
						return err
					}
					say(cmd, "Saved %s.", args[1])
					return nil
				},
			},
		},
	}
}

type sheetInfo struct {
	Name string    `json:"name"`
	Rows int       `json:"rows"`
	Last time.Time `json:"last"`
}
