package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func tasksOf() *cli.Command {
	end := func(name, use, path, said string) *cli.Command {
		return &cli.Command{
			Name: name, Usage: use, ArgsUsage: "TASK",
			Action: func(ctx context.Context, cmd *cli.Command) error {
				args, err := arguments(cmd, 1)
				if err != nil {
					return err
				}
				var body any
				if answer := cmd.String("answer"); answer != "" {
					body = api.TaskAnswer{Answer: answer}
				}
				if _, err := client.Post[client.Empty](ctx, connect(cmd), "/tasks/"+args[0]+path, body); err != nil {
					return err
				}
				say(cmd, said)
				return nil
			},
		}
	}
	done := end("done", "Mark a task as done", "/done", "Done.")
	done.Flags = []cli.Flag{&cli.StringFlag{Name: "answer", Usage: "what a teacher who handed it on is told"}}
	return &cli.Command{
		Name: "tasks", Usage: "What rules and teachers gave people to do", Category: "learning",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List open tasks, the most urgent first",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "done", Usage: "those that are done"}},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					page, err := client.Get[api.Page[api.Task]](ctx, connect(cmd),
						fmt.Sprintf("/tasks?done=%t", cmd.Bool("done")))
					if err != nil {
						return err
					}
					return tableOf(page.Items, "Nothing to do.",
						[]string{
							"task", "what", "about", "section", "owner", "due",
							"done",
						}, func(t api.Task) []string {
							done := ""
							if t.DoneAt != nil {
								done = when(t.DoneAt) + " by " + t.DoneBy
							}
							return []string{t.ID, t.Title, t.Person, t.Section, t.Owner, moment(t.DueAt), done}
						}).print(cmd)
				},
			},
			done,
			end("open", "Open a task again", "/open", "The task is open again."),
		},
	}
}
