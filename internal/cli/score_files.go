package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func scoresUpload() *cli.Command {
	return &cli.Command{
		Name: "upload", Usage: "Read a OneRoster CSV package of a gradebook of files", ArgsUsage: "INTERFACE FILE",
		Description: "  kanban scores upload \"Exam office: gradebook files\" package.zip",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2)
			if err != nil {
				return err
			}
			c := connect(cmd)
			x, err := findInterface(ctx, c, args[0])
			if err != nil {
				return err
			}
			file, err := os.Open(args[1])
			if err != nil {
				return err
			}
			defer file.Close()
			r, err := c.UploadGradebook(ctx, x.ID, file)
			if err != nil {
				return err
			}
			if cmd.String("output") == "json" {
				return table{value: r}.print(cmd)
			}
			say(cmd, "Read. %s could not be understood.", count(r.Unread, "record"))
			for _, u := range r.First {
				say(cmd, "  %s line %d: %s", u.Collection, u.Position, u.Problem)
			}
			return nil
		},
	}
}

func scoresPackage() *cli.Command {
	return &cli.Command{
		Name: "package", Usage: "Write what waits to be put into a gradebook of files as a OneRoster CSV package",
		ArgsUsage: "INTERFACE FILE",
		Description: "It waits until a package of the gradebook shows that it arrived: kanban scores upload.\n\n" +
			"  kanban scores package \"Exam office: gradebook files\" for-the-book.zip",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2)
			if err != nil {
				return err
			}
			c := connect(cmd)
			x, err := findInterface(ctx, c, args[0])
			if err != nil {
				return err
			}
			text, err := c.Download(ctx, "/interfaces/"+x.ID+"/gradebook.zip")
			if err != nil {
				return err
			}
			if err := os.WriteFile(args[1], text, 0o600); err != nil {
				return err
			}
			say(cmd, "Wrote %s. Put it into the gradebook, then upload a package of the gradebook.", args[1])
			return nil
		},
	}
}

func scoresUnfinished() *cli.Command {
	return &cli.Command{
		Name: "unfinished", Usage: "List missing work and scores that are not final", ArgsUsage: "SCORE-LINK",
		Description: "  kanban scores unfinished Propagation\n  kanban scores unfinished Propagation --section PROP-A -o csv\n" +
			"  kanban scores unfinished Propagation --person stu-014",
		Flags: []cli.Flag{
			ofSection(),
			&cli.StringFlag{Name: "teacher", Usage: "in sections of this teacher (a part of the name)"},
			&cli.StringFlag{Name: "person", Usage: "of this learner"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			page, err := client.Get[api.Page[api.UnfinishedWork]](ctx, c, "/score-links/"+l.ID+"/unfinished")
			if err != nil {
				return err
			}
			rows, err := narrowedWork(ctx, cmd, c, l, page.Items)
			if err != nil {
				return err
			}
			empty := "Nothing is missing, and every score is final."
			if l.ComparedAt == nil {
				empty = "Not known yet: both sides were not compared. See: kanban scores preview --help"
			}
			return tableOf(rows, empty,
				[]string{"section", "teachers", "assignment", "due", "person", "state", "score", "since"},
				func(u api.UnfinishedWork) []string {
					return []string{
						u.Section, strings.Join(u.Teachers, ", "), u.Assignment, day(u.Due), u.Person,
						words(u.State, 1), u.Score,
						moment(u.Since),
					}
				}).print(cmd)
		},
	}
}

// narrowedWork keeps what is asked for.
func narrowedWork(ctx context.Context, cmd *cli.Command, c *client.Client, l api.ScoreLink, all []api.UnfinishedWork) (
	[]api.UnfinishedWork, error,
) {
	title, person := "", ""
	if name := cmd.String("section"); name != "" {
		for _, s := range l.Sections {
			if s.ID == name || strings.EqualFold(s.Title, name) || strings.EqualFold(s.Code, name) {
				title = s.Title
			}
		}
		if title == "" {
			return nil, fmt.Errorf("%w: the score link has no section %q", errUsage, name)
		}
	}
	if name := cmd.String("person"); name != "" {
		p, err := onePerson(ctx, c, name)
		if err != nil {
			return nil, err
		}
		person = p.ID
	}
	teacher := strings.ToLower(cmd.String("teacher"))
	return slices.DeleteFunc(all, func(u api.UnfinishedWork) bool {
		return title != "" && u.Section != title || person != "" && u.PersonID != person ||
			!strings.Contains(strings.ToLower(strings.Join(u.Teachers, ", ")), teacher)
	}), nil
}
