package cli

import (
	"cmp"
	"context"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func scoresOfPerson() *cli.Command {
	return &cli.Command{
		Name: "person", Usage: "Scores of somebody, in the sections in which they are or were", ArgsUsage: "PERSON",
		Description: "  kanban scores person stu-012",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			p, err := onePerson(ctx, c, args[0])
			if err != nil {
				return err
			}
			page, err := client.Get[api.Page[api.PersonScore]](ctx, c, "/people/"+p.ID+"/scores")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "No score link has a score of theirs.",
				[]string{"assignment", "section", "at the source", "in the book", "state", "why", "now in"},
				func(x api.PersonScore) []string {
					return []string{
						x.Assignment, x.Section, x.Given.Text, x.InBook.Text, words(x.Outcome, 1), x.Reason.Title,
						cmp.Or(x.Elsewhere, "–"),
					}
				}).print(cmd)
		},
	}
}
