package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func scoresAssignments() *cli.Command {
	return &cli.Command{
		Name: "assignments", Usage: "List assignments, with every reason why one is not ready", ArgsUsage: "SCORE-LINK",
		Description: "  kanban scores assignments Propagation\n  kanban scores assignments Propagation --not-ready -o csv > mend.csv",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "not-ready", Usage: "only those that cannot be carried yet"},
			&cli.StringFlag{Name: "section", Usage: "only those of this section (code or title)"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			rows, err := assignmentsOf(ctx, c, l, cmd.String("section"))
			if err != nil {
				return err
			}
			if cmd.Bool("not-ready") {
				rows = slices.DeleteFunc(rows, func(a api.Assignment) bool {
					return a.Outcome == "made" ||
						a.Outcome == "linked"
				})
			}
			return tableOf(rows, "There are no assignments.", []string{
				"assignment", "section", "due", "points", "category", "period", "state", "final", "drafts", "partly",
				"to carry",
				"why not",
			}, func(a api.Assignment) []string {
				var why []string
				for _, r := range a.Reasons {
					why = append(why, r.Title)
				}
				if a.LeftOut != "" {
					why = []string{a.LeftOut}
				}
				return []string{
					a.Title, a.Section, day(a.Source.Due), strconv.FormatFloat(a.Source.Maximum, 'f', -1, 64),
					a.Category, a.Period,
					assignmentState(a), strconv.Itoa(a.Final), strconv.Itoa(a.Drafts), strconv.Itoa(a.Partly),
					strconv.Itoa(toCarry(a.Counts)), strings.Join(why, "; "),
				}
			}).print(cmd)
		},
	}
}

func day(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Format(time.DateOnly)
}

func assignmentState(a api.Assignment) string {
	switch {
	case a.ChangedSince:
		return "left out, changed since"
	case a.Outcome == "made":
		return "ready, is made"
	}
	return words(a.Outcome, 1)
}

// assignmentsOf lists those of a score link, of one section when it is named.
func assignmentsOf(ctx context.Context, c *client.Client, l api.ScoreLink, sectionName string) (
	[]api.Assignment, error,
) {
	page, err := client.Get[api.Page[api.Assignment]](ctx, c, "/score-links/"+l.ID+"/assignments")
	if err != nil || sectionName == "" {
		return page.Items, err
	}
	i := slices.IndexFunc(l.Sections, func(s api.ScoreLinkSection) bool {
		return s.ID == sectionName || strings.EqualFold(s.Title, sectionName) || strings.EqualFold(s.Code, sectionName)
	})
	if i < 0 {
		return nil, fmt.Errorf("%w: the score link has no section %q", errUsage, sectionName)
	}
	return slices.DeleteFunc(page.Items, func(a api.Assignment) bool { return a.SectionID != l.Sections[i].ID }), nil
}

// called are the assignments with a title or id, in all sections; none is an error.
func called(rows []api.Assignment, name string) (list []api.Assignment, err error) {
	for _, a := range rows {
		if a.ID == name || a.Source.ID == name || strings.EqualFold(a.Title, name) {
			list = append(list, a)
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%w: there is no assignment %q; see which there are: kanban scores assignments", errUsage, name)
	}
	return list, nil
}

func scoresSet() *cli.Command {
	return &cli.Command{
		Name: "set", Usage: "Change assignments, in all their sections at once", ArgsUsage: "SCORE-LINK ASSIGNMENT…",
		Description: `  kanban scores set Propagation "Care of tools" --basis assigned
  kanban scores set Propagation Herbarium --leave-out "belongs to next term"
  kanban scores set Propagation "Report on cuttings" --activity "Write the report"
  kanban scores set Propagation Herbarium --take-in`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "content", Usage: "scores, completions or nothing; empty for the score link's"},
			&cli.StringFlag{Name: "basis", Usage: "due or assigned; empty for the score link's"},
			&cli.StringFlag{Name: "category", Usage: "id of a category of the book; empty for the one that is matched"},
			&cli.StringFlag{Name: "period", Usage: "id of a period of the register; empty for the one by its date"},
			&cli.StringFlag{Name: "activity", Usage: "the activity of the course's outline that it is (title or id), so that a score and a statement about it are one event; empty for none"},
			&cli.StringFlag{Name: "leave-out", Usage: "leave it out, for this reason"},
			&cli.BoolFlag{Name: "take-in", Usage: "take in again what was left out"},
		},
		Action: setAssignments,
	}
}

func setAssignments(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() < 2 {
		return usage(cmd, "name the score link and at least one assignment")
	}
	c := connect(cmd)
	l, err := findScoreLink(ctx, c, cmd.Args().First())
	if err != nil {
		return err
	}
	rows, err := assignmentsOf(ctx, c, l, "")
	if err != nil {
		return err
	}
	var e api.EditAssignments
	for _, name := range cmd.Args().Tail() {
		some, err := called(rows, name)
		if err != nil {
			return err
		}
		for _, a := range some {
			e.IDs = append(e.IDs, a.ID)
		}
	}
	for flag, into := range map[string]**string{
		"content": &e.Content, "basis": &e.Basis, "category": &e.Category, "period": &e.Period,
		"leave-out": &e.LeftOut,
	} {
		if cmd.IsSet(flag) {
			text := cmd.String(flag)
			*into = &text
		}
	}
	if e.Activity, err = activityOf(ctx, cmd, c, l); err != nil {
		return err
	}
	if cmd.Bool("take-in") {
		e.LeftOut = new(string)
	}
	if _, err := client.Send[api.Page[api.Assignment]](ctx, c, http.MethodPatch,
		"/score-links/"+l.ID+"/assignments", e); err != nil {
		return err
	}
	say(cmd, "Changed %s.", count(len(e.IDs), "assignment"))
	return nil
}

// activityOf is the activity of the outline that was named, nil when none was.
func activityOf(ctx context.Context, cmd *cli.Command, c *client.Client, l api.ScoreLink) (*string, error) {
	if !cmd.IsSet("activity") || cmd.String("activity") == "" {
		if cmd.IsSet("activity") {
			return new(string), nil
		}
		return nil, nil //nolint:nilnil // nothing was said
	}
	found, err := named[api.ScoreActivity]{
		"/score-links/" + l.ID + "/activities", "activity", "activities", "courses show COURSE",
		func(a api.ScoreActivity) string { return a.ID },
		func(a api.ScoreActivity) []string { return []string{a.Title} },
		func(a api.ScoreActivity) string { return apart(a.Title, a.Module) },
	}.find(ctx, c, cmd.String("activity"))
	return &found.ID, err
}

// oneAssignment gives the one assignment of a section with a name.
func oneAssignment(ctx context.Context, cmd *cli.Command, n int) (*client.Client, api.ScoreLink, api.Assignment,
	[]string, error,
) {
	c, l, rest, err := scoreLinkNamed(ctx, cmd, n)
	if err != nil {
		return c, l, api.Assignment{}, rest, err
	}
	rows, err := assignmentsOf(ctx, c, l, cmd.String("section"))
	if err != nil {
		return c, l, api.Assignment{}, rest, err
	}
	list, err := called(rows, rest[0])
	if err == nil && len(list) > 1 {
		candidates := make([]candidate, len(list))
		for i, a := range list {
			candidates[i] = candidate{a.ID, apart(a.Title, a.Section)}
		}
		err = ambiguous("assignments", rest[0], candidates)
	}
	if err != nil {
		return c, l, api.Assignment{}, rest, err
	}
	return c, l, list[0], rest[1:], nil
}

func ofSection() cli.Flag {
	return &cli.StringFlag{Name: "section", Usage: "in this section of the score link (code or title)"}
}

func scoresCounterparts() *cli.Command {
	return &cli.Command{
		Name: "counterparts", Usage: "Rank the book's assignments that may be the same as one",
		ArgsUsage: "SCORE-LINK ASSIGNMENT", Flags: []cli.Flag{ofSection()},
		Description: "  kanban scores counterparts Propagation \"Report on cuttings\" --section PROP-A",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, a, _, err := oneAssignment(ctx, cmd, 2)
			if err != nil {
				return err
			}
			page, err := client.Get[api.Page[api.ScoreCounterpart]](ctx, c,
				"/score-links/"+l.ID+"/assignments/"+a.ID+"/counterparts")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "The book has no assignment that could be the same.",
				[]string{"in the book", "id", "score", "due", "points", "values that agree", "that differ", "remark"},
				func(x api.ScoreCounterpart) []string {
					return []string{
						x.Item.Title, x.Item.ID, strconv.Itoa(x.Score), day(x.Item.Due),
						strconv.FormatFloat(x.Item.Maximum, 'f', -1, 64), strconv.Itoa(x.Equal),
						strconv.Itoa(x.Different),
						map[bool]string{true: "linked already"}[x.Linked],
					}
				}).print(cmd)
		},
	}
}

func scoresLink() *cli.Command {
	return &cli.Command{
		Name: "link", Usage: "Link an assignment to one that the book has", ArgsUsage: "SCORE-LINK ASSIGNMENT BOOK-ID",
		Flags:       []cli.Flag{ofSection()},
		Description: "  kanban scores link Propagation \"Report on cuttings\" li-204 --section PROP-A",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, a, rest, err := oneAssignment(ctx, cmd, 3)
			if err != nil {
				return err
			}
			if err := linkAssignment(ctx, c, l, a, rest[0]); err != nil {
				return err
			}
			say(cmd, "%q of %s is linked to %s. What differs is shown as a conflict, and nothing is overwritten.", a.Title,
				a.Section, rest[0])
			return nil
		},
	}
}

func linkAssignment(ctx context.Context, c *client.Client, l api.ScoreLink, a api.Assignment, bookItem string) error {
	_, err := client.Send[client.Empty](ctx, c, http.MethodPut, "/score-links/"+l.ID+"/assignments/"+a.ID+"/link",
		api.AssignmentLink{BookItem: bookItem})
	return err
}

func scoresUnlink() *cli.Command {
	return &cli.Command{
		Name: "unlink", Usage: "Unlink an assignment; what is in the book stays there",
		ArgsUsage: "SCORE-LINK ASSIGNMENT", Flags: []cli.Flag{ofSection()},
		Description: "  kanban scores unlink Propagation \"Report on cuttings\" --section PROP-A",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, a, _, err := oneAssignment(ctx, cmd, 2)
			if err != nil {
				return err
			}
			if err := linkAssignment(ctx, c, l, a, ""); err != nil {
				return err
			}
			say(cmd, "%q of %s is linked to nothing now.", a.Title, a.Section)
			return nil
		},
	}
}
