package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func sections() *cli.Command {
	return &cli.Command{
		Name: "sections", Usage: "See sections and their state", Category: "rosters",
		Commands: []*cli.Command{{
			Name: "list", Usage: "List sections with course, term, teachers, size and state",
			Description: "  kanban sections list --state needs-person\n  kanban sections list --term \"First term\" --teacher \"Maud Marrow\" --output csv",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "find", Usage: "text in title, code, course or teacher"},
				&cli.StringFlag{Name: "term", Usage: "title of a term"},
				&cli.StringFlag{Name: "teacher", Usage: "name of a teacher"},
				&cli.StringFlag{Name: "state", Usage: "one of the states, e.g. needs-person"},
			},
			Action: func(ctx context.Context, cmd *cli.Command) error {
				q := url.Values{"text": {cmd.String("find")}, "term": {cmd.String("term")}, "teacher": {cmd.String("teacher")}, "state": {cmd.String("state")}}
				all, err := client.All[api.Section](ctx, connect(cmd), "/sections?"+q.Encode())
				if err != nil {
					return err
				}
				return tableOf(all, "No section fits. Connect a register and read it: kanban connections add oneroster …", []string{"state", "section", "code", "course", "term", "teachers", "learners", "target", "people"}, func(s api.Section) []string {
					return []string{state(s.State), s.Title, s.Code, s.Course, strings.Join(s.Terms, ", "), strings.Join(s.Teachers, ", "), fmt.Sprint(s.Learners), s.Target, counts(s.Counts)}
				}).print(cmd)
			},
		}, {
			Name: "roster", Usage: "Who was in a section on a day, or who came and went", ArgsUsage: "SECTION", Action: sectionRoster,
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "at", Usage: "a day such as 2026-10-01, or a time; now when absent"},
				&cli.BoolFlag{Name: "movements", Usage: "who joined and left since the section was first read, newest first"},
			},
			Description: "  kanban sections roster PROP-A --at 2026-10-01\n  kanban sections roster PROP-A --movements",
		}},
	}
}

func sectionRoster(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	s, err := findSection(ctx, c, args[0])
	if err != nil {
		return err
	}
	path := "/sections/" + s.ID + "/roster?at=" + url.QueryEscape(cmd.String("at"))
	if cmd.Bool("movements") {
		path = "/sections/" + s.ID + "/movements"
	}
	page, err := client.Get[api.Page[api.RosterLine]](ctx, c, path)
	if err != nil {
		return err
	}
	return tableOf(page.Items, "Nobody.", []string{"person", "role", "identifier", "joined", "left"}, func(l api.RosterLine) []string {
		return []string{l.Name, l.Role, l.Identifier, when(&l.JoinedAt), when(l.LeftAt)}
	}).print(cmd)
}

func findSection(ctx context.Context, c *client.Client, name string) (api.Section, error) {
	all, err := client.All[api.Section](ctx, c, "/sections?limit=1000")
	if err != nil {
		return api.Section{}, err
	}
	i := slices.IndexFunc(all, func(x api.Section) bool {
		return x.ID == name || strings.EqualFold(x.Code, name) || strings.EqualFold(x.Title, name)
	})
	if i < 0 {
		return api.Section{}, fmt.Errorf("%w: there is no section %q; list them with: kanban sections list", errUsage, name)
	}
	return all[i], nil
}
