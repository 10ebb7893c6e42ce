package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func teachingOf() *cli.Command {
	return &cli.Command{
		Name: "teaching", Usage: "The sections that you teach: who is missing, and whom to ask", Category: "rosters",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List the sections that you teach", Action: listTeaching,
				Description: "  kanban teaching list",
			},
			{
				Name: "show", Usage: "Who is missing in one of them and why, and whom to ask", ArgsUsage: "SECTION",
				Description: "  kanban teaching show PROP-A", Action: showTeaching,
			},
			{
				Name: "hand-on", Usage: "Hand to whoever can mend it that somebody is missing; the answer comes back",
				ArgsUsage:   "SECTION PERSON",
				Description: "  kanban teaching hand-on PROP-A stu-003 --note \"She starts on Monday.\"",
				Flags:       []cli.Flag{&cli.StringFlag{Name: "note", Usage: "what they should know"}},
				Action:      handOn,
			},
		},
	}
}

func listTeaching(ctx context.Context, cmd *cli.Command) error {
	page, err := client.Get[api.Page[api.TaughtSection]](ctx, connect(cmd), "/teaching")
	if err != nil {
		return err
	}
	return tableOf(page.Items, "You teach no section now, by the register.",
		[]string{"section", "code", "yours", "state", "learners", "missing", "waiting", "tasks"},
		func(x api.TaughtSection) []string {
			return []string{
				x.Title, x.Code, x.ShortName, words(string(x.State), 1), fmt.Sprint(x.Learners), fmt.Sprint(x.Missing),
				fmt.Sprint(x.Waiting), fmt.Sprint(x.Tasks),
			}
		}).print(cmd)
}

func showTeaching(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	x, err := findPart(ctx, c, args[0])
	if err != nil {
		return err
	}
	page, err := client.Get[api.TaughtSectionPage](ctx, c, "/teaching/"+x.ID)
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return printJSON(cmd, page)
	}
	say(cmd, "%s: %s, %d missing, %d waiting", page.Title, words(string(page.State), 1), page.Missing, page.Waiting)
	if err := tableOf(page.People, "Nobody is missing by the latest comparison.",
		[]string{"person", "why", "who can", "since", "handed on"}, func(p api.MissingPerson) []string {
			return []string{p.Name, p.Says, p.Ask, moment(p.Since), handedText(p.Task)}
		}).print(cmd); err != nil {
		return err
	}
	for _, e := range page.Elsewhere {
		who := strings.Join(e.Ask, ", ")
		if who == "" {
			who = "an administrator"
		}
		say(cmd, "%s Ask %s.", e.What, who)
	}
	return nil
}

// handedText says what became of what was handed on.
func handedText(t *api.Task) string {
	switch {
	case t == nil:
		return ""
	case t.DoneAt == nil:
		return "not answered yet"
	case t.Answer == "":
		return t.DoneBy + ": done"
	}
	return t.DoneBy + ": " + t.Answer
}

func handOn(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 2)
	if err != nil {
		return err
	}
	c := connect(cmd)
	x, err := findPart(ctx, c, args[0])
	if err != nil {
		return err
	}
	p, err := onePerson(ctx, c, args[1])
	if err != nil {
		return err
	}
	t, err := client.Send[api.Task](ctx, c, http.MethodPost, "/teaching/"+x.ID+"/handed",
		api.NewHanding{PersonID: p.ID, Note: cmd.String("note")})
	if err != nil {
		return err
	}
	say(cmd, "Handed on: %s. Whose it is: %s.", t.Title, t.Owner)
	return nil
}
