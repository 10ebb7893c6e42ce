package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func scoresPreview() *cli.Command {
	return &cli.Command{
		Name: "preview", Usage: "Read both sides and show what a run would do, score by score, without doing it",
		ArgsUsage: "SCORE-LINK",
		Description: "  kanban scores preview Propagation\n  kanban scores preview Propagation --all -o csv > side-by-side.csv\n" +
			"  kanban scores preview Propagation --outcome conflict",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "all", Usage: "list scores that are equal, too, and those that only one side has"},
			&cli.StringFlag{Name: "outcome", Usage: "only one outcome, e.g. conflict"},
			&cli.StringFlag{Name: "assignment", Usage: "only this assignment (title or id)"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			p, err := client.Post[api.ScorePreview](ctx, c, "/score-links/"+l.ID+"/previews", nil)
			if err != nil {
				return err
			}
			return showScores(cmd, p)
		},
	}
}

// scoreLine is a score of a preview with where it belongs.
type scoreLine struct {
	Assignment string `json:"assignment"`
	Section    string `json:"section"`
	api.ScoreEntry
}

// scoreLines are the scores that are asked for.
func scoreLines(cmd *cli.Command, p api.ScorePreview) (lines []scoreLine) {
	quiet := map[string]bool{"unchanged": !cmd.Bool("all"), "book-only": !cmd.Bool("all")}
	only, assignment := cmd.String("outcome"), cmd.String("assignment")
	for _, item := range p.Items {
		if assignment != "" && item.ID != assignment && !strings.EqualFold(item.Title, assignment) {
			continue
		}
		for _, e := range item.Entries {
			if only == "" && quiet[e.Outcome] || only != "" && e.Outcome != only {
				continue
			}
			lines = append(lines, scoreLine{item.Title, item.Section, e})
		}
	}
	return lines
}

// showScores prints a preview.
func showScores(cmd *cli.Command, p api.ScorePreview) error {
	t := tableOf(scoreLines(cmd, p), "No score to show.",
		[]string{"assignment", "section", "person", "outcome", "was", "in the book", "at the source", "why"},
		func(x scoreLine) []string {
			return []string{
				x.Assignment, x.Section, x.Name, words(x.Outcome, 1), x.Was.Text, x.Theirs.Text,
				atSource(x.ScoreEntry),
				whyScore(p, x.ScoreEntry),
			}
		})
	if cmd.String("output") == "json" {
		t.value = p
	}
	if err := t.print(cmd); err != nil || cmd.String("output") != "table" {
		return err
	}
	sumUp(cmd, p)
	return nil
}

// atSource is what the source has and, where that is something else, what would be carried of it.
func atSource(x api.ScoreEntry) string {
	if x.Given.Text == x.Ours.Text || x.Ours.Text == "–" {
		return x.Given.Text
	}
	return x.Given.Text + " → " + x.Ours.Text
}

func whyScore(p api.ScorePreview, x api.ScoreEntry) string {
	why := p.Codes[x.Code].Title
	if x.Elsewhere != "" {
		why += ": " + x.Elsewhere
	}
	if len(x.Lost) > 0 {
		why += "; the book cannot hold: " + strings.Join(x.Lost, ", ")
	}
	if x.Again {
		why += "; handed in again since it was marked"
	}
	return why
}

// sumUp says what a preview comes to and, where there is nothing to carry, why.
func sumUp(cmd *cli.Command, p api.ScorePreview) {
	say(cmd, "\n%s.", scoreCounts(p.Counts))
	if p.Makes > 0 {
		say(cmd, "%s made in the book.", numbered(p.Makes, "assignment is", "assignments are"))
	}
	if len(p.Categories) > 0 {
		say(cmd, "Made first: the categories %s.", strings.Join(p.Categories, ", "))
	}
	if p.Changes == 0 && p.Makes == 0 {
		say(cmd, "Nothing new to carry.")
		for _, r := range p.Reasons {
			say(cmd, "  %s in %s: %s", count(r.Scores, "score"), count(r.Items, "assignment"), r.Title)
		}
	}
	if p.RosterHeld > 0 {
		say(cmd, "%s because of who is in which section. Run it with --roster-first to bring that in step in the same run.",
			numbered(p.RosterHeld, "score waits", "scores wait"))
	}
	if p.Losses > 0 {
		say(cmd, "%s of the book would be lost.", numbered(p.Losses, "value", "values"))
	}
	for _, u := range p.Unread {
		say(cmd, "%s of %s could not be understood; nothing is changed because of that:", count(u.Count, "record"),
			u.Gradebook)
		for _, x := range u.First {
			say(cmd, "  %s %d: %s", x.Collection, x.Position, x.Problem)
		}
	}
	say(cmd, "The source was read %s, the book %s.", when(p.SourceRead), when(p.BookRead))
}

func scoresRun() *cli.Command {
	return &cli.Command{
		Name: "run", Usage: "Carry scores and wait for the end", ArgsUsage: "SCORE-LINK",
		Description: `Shows the preview, does exactly that, reads back. Exit code 3 when something needs a person.

  kanban scores run Propagation
  kanban scores run Propagation --roster-first
  kanban scores run Propagation --only "Report on cuttings"`,
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "only", Usage: "only this assignment (title or id); can be given several times"},
			&cli.BoolFlag{Name: "roster-first", Usage: "read the register and bring the paired classes in step first, in the same run"},
			&cli.BoolFlag{Name: "approve", Usage: "replace the values of the book that the preview lists"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			p, err := client.Post[api.ScorePreview](ctx, c, "/score-links/"+l.ID+"/previews", nil)
			if err != nil {
				return err
			}
			n := api.NewScoreRun{Approved: cmd.Bool("approve"), RosterFirst: cmd.Bool("roster-first")}
			for _, name := range cmd.StringSlice("only") {
				had := len(n.Only)
				for _, item := range p.Items {
					if item.ID == name || strings.EqualFold(item.Title, name) {
						n.Only = append(n.Only, item.ID)
					}
				}
				if len(n.Only) == had {
					return fmt.Errorf("%w: the preview has no assignment %q", errUsage, name)
				}
			}
			if cmd.String("output") == "table" {
				if err := showScores(cmd, p); err != nil {
					return err
				}
				say(cmd, "")
			}
			if p.Changes == 0 && p.Makes == 0 && !n.RosterFirst {
				if cmd.String("output") == "json" {
					return table{value: p}.print(cmd)
				}
				return nil
			}
			r, err := client.Post[api.Run](ctx, c, "/score-previews/"+p.ID+"/run", n)
			if err != nil {
				return err
			}
			return follow(ctx, cmd, c, r.ID)
		},
	}
}

func scoresReport() *cli.Command {
	return &cli.Command{
		Name: "report", Usage: "What a run did to the book, assignment by assignment", ArgsUsage: "RUN",
		Description: "  kanban scores report 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			r, err := client.Get[api.Run](ctx, c, "/runs/"+args[0])
			if err != nil {
				return err
			}
			return reportScores(ctx, cmd, c, r)
		},
	}
}

// scoreResults are what a run of scores counts, in the order in which it is shown.
var scoreResults = []string{"made", "scored", "updated", "replaced", "reverted", "refused", "not-arrived"}

// reportScores prints what a run did to the book.
func reportScores(ctx context.Context, cmd *cli.Command, c *client.Client, r api.Run) error {
	page, err := client.Get[api.Page[api.ScoreChange]](ctx, c, "/runs/"+r.ID+"/score-changes")
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return table{value: map[string]any{"run": r, "changes": page.Items}}.print(cmd)
	}
	say(cmd, "Run %s of %s: %s%s.", r.ID, r.About, ended(r.State), pace(r))
	for _, name := range scoreResults {
		if n := r.Counts[name]; n > 0 {
			say(cmd, "  %5d %s", n, words(name, n))
		}
	}
	for _, x := range page.Items {
		if x.What == "roster" && x.Answer != "" {
			say(cmd, "  Roster first: %s.", x.Answer)
		}
	}
	var held []string
	for _, o := range scoreOutcomes {
		if n := r.Counts["now-"+o]; n > 0 {
			held = append(held, fmt.Sprintf("%d %s", n, words(o, 1)))
		}
	}
	if len(held) > 0 {
		say(cmd, "  Now: %s.", strings.Join(held, ", "))
	}
	if r.Error != "" {
		say(cmd, "  %s\n  %s", r.Error, r.Remedy)
	}
	for _, n := range r.Findings {
		say(cmd, "  %s: %s", n.Subject, n.Detail)
	}
	if cmd.String("output") == "csv" {
		return changesTable(page.Items).print(cmd)
	}
	mend := slices.DeleteFunc(page.Items, func(x api.ScoreChange) bool {
		return x.State != "refused" && x.State != "not-arrived"
	})
	if len(mend) > 0 {
		say(cmd, "\nThese did not come about:")
		if err := changesTable(mend).print(cmd); err != nil {
			return err
		}
	}
	switch r.State {
	case "finished":
		return nil
	case "needs-person":
		return cli.Exit("", ExitNeedsPerson)
	}
	return cli.Exit("", ExitFailed)
}

func changesTable(all []api.ScoreChange) table {
	return tableOf(all, "", []string{"what", "title", "person", "before", "sent", "state", "why", "answer", "remedy"},
		func(x api.ScoreChange) []string {
			return []string{
				x.What, x.Title, x.Name, x.Before.Text, x.Sent.Text, words(x.State, 1), x.Why, x.Answer,
				x.Remedy,
			}
		})
}

func scoresRevert() *cli.Command {
	return &cli.Command{
		Name: "revert", Usage: "Show how a run's effect on the book would be undone; does it only with --apply",
		ArgsUsage: "RUN",
		Description: "What somebody has changed in the book since stays. Assignments that the run made stay too.\n\n" +
			"  kanban scores revert RUN\n  kanban scores revert RUN --apply",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "apply", Usage: "do it; the next run of the score link would carry the scores again"},
			&cli.BoolFlag{Name: "all", Usage: "list scores that are as before already, too"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			p, err := client.Post[api.ScorePreview](ctx, c, "/runs/"+args[0]+"/revert-scores", nil)
			if err != nil {
				return err
			}
			if !cmd.Bool("apply") {
				if err := showScores(cmd, p); err != nil {
					return err
				}
				say(cmd, "\nNothing was done. Do it with --apply.")
				return nil
			}
			r, err := client.Post[api.Run](ctx, c, "/score-previews/"+p.ID+"/run", api.NewScoreRun{})
			if err != nil {
				return err
			}
			return follow(ctx, cmd, c, r.ID)
		},
	}
}

// decidedAbout gives the assignments about whose scores is decided; none for all.
func decidedAbout(ctx context.Context, cmd *cli.Command, c *client.Client, l api.ScoreLink) (ids []string, err error) {
	names, period := cmd.StringSlice("assignment"), cmd.String("period")
	if len(names) == 0 && period == "" {
		return nil, nil
	}
	rows, err := assignmentsOf(ctx, c, l, "")
	if err != nil {
		return nil, err
	}
	if period != "" {
		rows = slices.DeleteFunc(rows, func(a api.Assignment) bool { return !strings.EqualFold(a.Period, period) })
		if len(rows) == 0 {
			return nil, fmt.Errorf("%w: no assignment is in a grading period %q; see: kanban scores periods", errUsage, period)
		}
	}
	if len(names) == 0 {
		for _, a := range rows {
			ids = append(ids, a.ID)
		}
	}
	for _, name := range names {
		some, err := called(rows, name)
		if err != nil {
			return nil, err
		}
		for _, a := range some {
			ids = append(ids, a.ID)
		}
	}
	return ids, nil
}

func scoresDecide() *cli.Command {
	return &cli.Command{
		Name: "decide", Usage: "Decide about scores that differ: theirs (the book's) or ours (the source's)",
		ArgsUsage: "SCORE-LINK theirs|ours",
		Description: `It holds until either side changes again. Nothing is written before the next run. About a score that was deleted
at the source is decided person by person: with "ours" it is deleted in the book.

  kanban scores decide Propagation theirs --assignment "Report on cuttings" --person stu-014
  kanban scores decide Propagation theirs --period "First term, first half"
  kanban scores decide Propagation ours`,
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "assignment", Usage: "only of this assignment (title or id)"},
			&cli.StringFlag{Name: "period", Usage: "only of assignments in this grading period (title)"},
			&cli.StringSliceFlag{Name: "person", Usage: "only of this person"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, rest, err := scoreLinkNamed(ctx, cmd, 2)
			if err != nil {
				return err
			}
			d := api.ScoreDecision{Take: rest[0]}
			if d.Assignments, err = decidedAbout(ctx, cmd, c, l); err != nil {
				return err
			}
			for _, name := range cmd.StringSlice("person") {
				p, err := onePerson(ctx, c, name)
				if err != nil {
					return err
				}
				d.People = append(d.People, p.ID)
			}
			got, err := client.Post[api.DecidedScores](ctx, c, "/score-links/"+l.ID+"/decisions", d)
			if err != nil {
				return err
			}
			say(cmd, "Decided about %s.", count(got.Scores, "score"))
			return nil
		},
	}
}

func scoresGive() *cli.Command {
	return &cli.Command{
		Name: "give", Usage: "Say whose scores they are, or let a mover's go on in their new section",
		ArgsUsage: "SCORE-LINK STUDENT [PERSON]",
		Description: `STUDENT is what the source calls them. Without PERSON what was said is taken back.

  kanban scores give Propagation x-17 stu-014
  kanban scores give Propagation stu-012 stu-012 --section PROP-B
  kanban scores give Propagation x-17`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "assignment", Usage: "only of this assignment of the source (its id there)"},
			&cli.StringFlag{Name: "section", Usage: "go on in this section (code or title)"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if n := cmd.Args().Len(); n != 2 && n != 3 {
				return usage(cmd, fmt.Sprintf("%d arguments given, 2 or 3 needed", n))
			}
			c := connect(cmd)
			l, err := findScoreLink(ctx, c, cmd.Args().First())
			if err != nil {
				return err
			}
			o := api.ScoreOwner{Student: cmd.Args().Get(1), SourceItem: cmd.String("assignment")}
			if cmd.Args().Len() == 3 {
				p, err := onePerson(ctx, c, cmd.Args().Get(2))
				if err != nil {
					return err
				}
				o.PersonID = p.ID
			}
			if name := cmd.String("section"); name != "" {
				part, err := findPart(ctx, c, name)
				if err != nil {
					return err
				}
				o.SectionID = part.ID
			}
			if _, err := client.Post[client.Empty](ctx, c, "/score-links/"+l.ID+"/owners", o); err != nil {
				return err
			}
			say(cmd, "Noted. See what that means: kanban scores preview %q", cmd.Args().First())
			return nil
		},
	}
}

func scoresPeriods() *cli.Command {
	return &cli.Command{
		Name: "periods", Usage: "List grading periods; declare one final, or open it again", ArgsUsage: "SCORE-LINK",
		Description: `Nothing is carried into a period that is final.

  kanban scores periods Propagation
  kanban scores periods Propagation --final term-1-p1
  kanban scores periods Propagation --open term-1-p1`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "final", Usage: "declare this period final (title or id)"},
			&cli.StringFlag{Name: "open", Usage: "open this period again (title or id)"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			path := "/score-links/" + l.ID + "/periods"
			page, err := client.Get[api.Page[api.ScorePeriod]](ctx, c, path)
			if err != nil {
				return err
			}
			for flag, final := range map[string]bool{"final": true, "open": false} {
				name := cmd.String(flag)
				if name == "" {
					continue
				}
				p, err := periodNamed(page.Items, name)
				if err != nil {
					return err
				}
				if _, err := client.Send[client.Empty](ctx, c, http.MethodPut, path+"/"+url.PathEscape(p.ID),
					api.FinalPeriod{Final: final}); err != nil {
					return err
				}
				if page, err = client.Get[api.Page[api.ScorePeriod]](ctx, c, path); err != nil {
					return err
				}
			}
			return tableOf(page.Items, "The register has no period of the kind that counts for this score link.",
				[]string{"period", "id", "from", "to", "final", "by"}, func(p api.ScorePeriod) []string {
					return []string{
						p.Title, p.ID, p.Begins, p.Ends, map[bool]string{true: "yes", false: "no"}[p.Final], p.FinalBy,
					}
				}).print(cmd)
		},
	}
}

// periodNamed finds a period by id or title; of several with one title none is taken.
func periodNamed(all []api.ScorePeriod, name string) (api.ScorePeriod, error) {
	var found []api.ScorePeriod
	for _, p := range all {
		if p.ID == name {
			return p, nil
		}
		if strings.EqualFold(p.Title, name) {
			found = append(found, p)
		}
	}
	switch len(found) {
	case 0:
		return api.ScorePeriod{}, fmt.Errorf("%w: there is no period %q", errUsage, name)
	case 1:
		return found[0], nil
	}
	return found[0], fmt.Errorf("%w: %d periods are called %q; name one by its id", errUsage, len(found), name)
}
