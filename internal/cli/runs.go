package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/roster"
	"kanban/internal/wire/api"
)

// follow waits for a run and prints its report.
func follow(ctx context.Context, cmd *cli.Command, c *client.Client, runID string) error {
	r, err := c.Wait(ctx, runID, bar())
	if err != nil {
		return err
	}
	return printRun(ctx, cmd, c, r, nil)
}

// printRun prints what a run did and, with those, whose records a read changed.
func printRun(ctx context.Context, cmd *cli.Command, c *client.Client, r api.Run, d *api.Differences) error {
	if r.Kind == "scores" {
		return reportScores(ctx, cmd, c, r)
	}
	changes, err := client.Get[api.Page[api.Change]](ctx, c, "/runs/"+r.ID+"/changes")
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		out := map[string]any{"run": r, "changes": changes.Items}
		if d != nil {
			out["differences"] = d
		}
		return table{value: out}.print(cmd)
	}
	say(cmd, "Run %s of %s: %s%s.", r.ID, r.About, ended(r.State), pace(r))
	if r.ApprovedBy != "" {
		say(cmd, "  removals approved by %s", r.ApprovedBy)
	}
	for _, line := range countLines(r) {
		say(cmd, "  %s", line)
	}
	if r.Error != "" {
		say(cmd, "  %s\n  %s", r.Error, r.Remedy)
	}
	if len(r.Findings) > 0 {
		say(cmd, "")
		if err := tableOf(r.Findings, "", []string{"finding", "about", "detail"},
			func(n api.Noticed) []string { return []string{n.Title, n.Subject, n.Detail} }).print(cmd); err != nil {
			return err
		}
	}
	mend := slices.DeleteFunc(changes.Items, func(x api.Change) bool {
		return x.Code == "" &&
			x.Entry.Outcome != roster.OutcomeNeedsPerson
	})
	if len(mend) > 0 {
		say(cmd, "\nThese need a person:")
		if err := tableOf(mend, "", []string{"person", "cause", "detail", "who can mend it", "remedy"},
			func(x api.Change) []string {
				detail := x.Entry.Detail
				if x.Answer != "" {
					detail = x.Answer
				}
				return []string{x.Entry.Name, x.Entry.Title, detail, x.Entry.Owner, x.Entry.Remedy}
			}).print(cmd); err != nil {
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

// pace says how long a run took and how fast it was.
func pace(r api.Run) string {
	if r.FinishedAt == nil || r.StartedAt == nil {
		return ""
	}
	text := ", in " + time.Duration(r.Seconds*float64(time.Second)).Round(10*time.Millisecond).String()
	if r.Done > 0 && r.Rate >= 1 {
		text += fmt.Sprintf(" (%.0f a second)", r.Rate)
	}
	return text
}

// ended says how a run ended.
func ended(state string) string {
	if state == "needs-person" {
		return "finished, with people to mend"
	}
	return strings.ReplaceAll(state, "-", " ")
}

// countLines tells what was done, then how everybody else stands.
func countLines(r api.Run) []string {
	order := []string{
		"added", "updated", "changed", "removed", "gone", "refused", "not-arrived", roster.LeftForLater,
		"joined", "left", "in-step", "waiting", "needs-person", "left-out", "orgs", "terms", "courses", "sections",
		"people", "enrolments", "sections-changed", "pairings-compared",
	}
	var lines []string
	for _, name := range order {
		if n, ok := r.Counts[name]; ok && (n > 0 || name == "added") {
			lines = append(lines, fmt.Sprintf("%5d %s", n, words(name, n)))
		}
	}
	return lines
}

func runs() *cli.Command {
	return &cli.Command{
		Name: "runs", Usage: "Look at reads and runs", Category: "rosters",
		Commands: []*cli.Command{
			runsList(),
			runsShow(),
			runsCancel(),
			{
				Name: "revert", Usage: "Show how a run's effect would be undone; does it only with --apply",
				ArgsUsage: "RUN", Action: revert,
				Flags: []cli.Flag{&cli.BoolFlag{
					Name:  "apply",
					Usage: "do it; the pairing is paused afterwards, or the next run would do it all again",
				}},
				Description: "  kanban runs revert RUN\n  kanban runs revert RUN --apply",
			},
			runsResume(),
		},
	}
}

func runsList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "List runs, the newest first",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			page, err := client.Get[api.Page[api.Run]](ctx, connect(cmd), "/runs?limit=50")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "Nothing has run yet.",
				[]string{"run", "kind", "about", "state", "started by", "at"}, func(r api.Run) []string {
					return []string{r.ID, r.Kind, r.About, r.State, r.RequestedBy, moment(&r.CreatedAt)}
				}).print(cmd)
		},
	}
}

func runsShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "Show a run's report", ArgsUsage: "RUN",
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
			if r.Kind != "read" {
				return printRun(ctx, cmd, c, r, nil)
			}
			d, err := client.Get[api.Differences](ctx, c, "/runs/"+r.ID+"/differences")
			if err != nil {
				return err
			}
			if err := printRun(ctx, cmd, c, r, &d); err != nil || len(d.Items) == 0 || cmd.String("output") == "json" {
				return err
			}
			say(cmd, "")
			if err := tableOf(d.Items, "", []string{"changed", "who or what", "field", "before", "after"},
				func(x api.Difference) []string {
					return []string{x.Table, x.Who, x.Field, x.Before, x.After}
				}).print(cmd); err != nil {
				return err
			}
			if d.More {
				say(cmd, "There were more; the first 500 of each kind are kept.")
			}
			return nil
		},
	}
}

func runsCancel() *cli.Command {
	return &cli.Command{
		Name: "cancel", Usage: "Stop a run; what it has done is kept", ArgsUsage: "RUN",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			if _, err := client.Post[api.Run](ctx, c, "/runs/"+args[0]+"/cancel", nil); err != nil {
				return err
			}
			return follow(ctx, cmd, c, args[0])
		},
	}
}

func runsResume() *cli.Command {
	return &cli.Command{
		Name: "resume", Usage: "Go on with a run that failed or was stopped half-way",
		ArgsUsage: "RUN", Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			if _, err := client.Post[api.Run](ctx, c, "/runs/"+args[0]+"/resume", nil); err != nil {
				return err
			}
			return follow(ctx, cmd, c, args[0])
		},
	}
}

func revert(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	p, err := client.Post[api.Preview](ctx, c, "/runs/"+args[0]+"/revert", nil)
	if err != nil {
		return err
	}
	if !cmd.Bool("apply") {
		if err := showPreview(cmd, p, true); err != nil {
			return err
		}
		say(cmd, "\nNothing was done. Do it with --apply; the pairing is paused afterwards.")
		return nil
	}
	r, err := client.Post[api.Run](ctx, c, "/runs", api.NewRun{PreviewID: p.ID})
	if err != nil {
		return err
	}
	return follow(ctx, cmd, c, r.ID)
}
