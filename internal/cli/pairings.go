package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/roster"
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
		}},
	}
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

func pairings() *cli.Command {
	approve := &cli.BoolFlag{Name: "approve", Usage: "allow removals above the pairing's guard"}
	return &cli.Command{
		Name: "pairings", Usage: "Pair sections with outside classes and keep them in step", Category: "rosters",
		Commands: []*cli.Command{
			{Name: "list", Usage: "List pairings", Action: listPairings},
			{
				Name: "add", Usage: "Pair a section with a new class at a service", ArgsUsage: "SECTION CONNECTION", Action: addPairing,
				Description: "SECTION is a code or title. The first run makes the class.\n\n  kanban pairings add PROP-A \"Chat workspace\" --target \"Propagation, group A\"",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "target", Usage: "name of the new class; the section's title when absent"},
					&cli.StringFlag{Name: "leavers", Value: "remove", Usage: "remove, deactivate or keep people who left"},
					&cli.BoolFlag{Name: "hold", Usage: "keep learners back until the class is opened"},
				},
			},
			{
				Name: "preview", Usage: "Show what a run would do, person by person, without doing it", ArgsUsage: "SECTION", Action: previewPairing,
				Flags: []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "list people for whom nothing changes, too"}},
			},
			{
				Name: "run", Usage: "Bring a pairing in step and wait for the end", ArgsUsage: "SECTION", Action: runPairing, Flags: []cli.Flag{approve, &cli.StringSliceFlag{Name: "only", Usage: "only this person (name as in the preview); can be given several times"}},
				Description: "Shows the preview, does exactly that, reads back. Exit code 3 when people have to be mended.\n\n  kanban pairings run PROP-A\n  kanban pairings run PROP-A --only \"Elsa Elder\"",
			},
			{Name: "remove", Usage: "End a pairing; the class and its members stay", ArgsUsage: "SECTION", Action: func(ctx context.Context, cmd *cli.Command) error {
				c, s, err := paired(ctx, cmd)
				if err != nil {
					return err
				}
				if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/pairings/"+s.PairingID, nil); err != nil {
					return err
				}
				say(cmd, "%s is no longer paired. %s keeps its members.", s.Title, s.Target)
				return nil
			}},
			pausePairing("pause", true), pausePairing("resume", false),
		},
	}
}

func pausePairing(name string, paused bool) *cli.Command {
	return &cli.Command{Name: name, Usage: strings.ToUpper(name[:1]) + name[1:] + " a pairing", ArgsUsage: "SECTION", Action: func(ctx context.Context, cmd *cli.Command) error {
		c, s, err := paired(ctx, cmd)
		if err != nil {
			return err
		}
		if _, err := client.Send[api.Pairing](ctx, c, http.MethodPatch, "/pairings/"+s.PairingID, api.EditPairing{Paused: &paused}); err != nil {
			return err
		}
		say(cmd, "%s is %sd.", s.Title, name)
		return nil
	}}
}

// paired finds the pairing of the section given as the one argument.
func paired(ctx context.Context, cmd *cli.Command) (*client.Client, api.Section, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.Section{}, err
	}
	c := connect(cmd)
	s, err := findSection(ctx, c, args[0])
	if err == nil && s.PairingID == "" {
		err = fmt.Errorf("%w: %s is not paired; pair it with: kanban pairings add %s CONNECTION", errUsage, s.Title, s.Code)
	}
	return c, s, err
}

func listPairings(ctx context.Context, cmd *cli.Command) error {
	all, err := client.All[api.Pairing](ctx, connect(cmd), "/pairings?limit=1000")
	if err != nil {
		return err
	}
	return tableOf(all, "No section is paired yet. Pair one: kanban pairings add SECTION CONNECTION", []string{"state", "section", "target", "service", "people", "last run"}, func(p api.Pairing) []string {
		return []string{state(p.Section.State), p.Section.Title, p.Target, p.Section.Connection, counts(p.Section.Counts), when(p.Section.RanAt)}
	}).print(cmd)
}

func addPairing(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 2)
	if err != nil {
		return err
	}
	c := connect(cmd)
	s, err := findSection(ctx, c, args[0])
	if err != nil {
		return err
	}
	conn, err := findConnection(ctx, c, args[1])
	if err != nil {
		return err
	}
	policy := roster.DefaultPolicy()
	policy.Leavers, policy.Hold = roster.Leavers(cmd.String("leavers")), cmd.Bool("hold")
	p, err := client.Post[api.Pairing](ctx, c, "/pairings", api.NewPairing{SectionID: s.ID, ConnectionID: conn.ID, Target: cmd.String("target"), Policy: &policy})
	if err != nil {
		return err
	}
	say(cmd, "Paired %s with the new class %q at %s. Nothing has happened there yet.\nNext: kanban pairings preview %s", s.Title, p.Target, conn.Name, s.Code)
	return nil
}

func showPreview(cmd *cli.Command, p api.Preview, all bool) error {
	entries := p.Entries
	if !all {
		entries = slices.DeleteFunc(slices.Clone(entries), func(e api.Decision) bool { return e.Outcome == roster.OutcomeInStep })
	}
	t := tableOf(entries, "Nothing to do: everybody is in step.", []string{"outcome", "person", "role", "reason", "detail", "who can mend it"}, func(e api.Decision) []string {
		return []string{words(string(e.Outcome), 1), e.Name, string(e.Role), e.Title, e.Detail, e.Owner}
	})
	t.value = p
	if err := t.print(cmd); err != nil {
		return err
	}
	say(cmd, "\n%d people: %s.", len(p.Entries), counts(p.Counts))
	if p.NewAccounts > 0 {
		say(cmd, "%d accounts would be made; %s.", p.NewAccounts, notices[p.Notice])
	}
	if p.Guard > 0 {
		say(cmd, "Guard: %d removals are more than this pairing allows; a run needs --approve.", p.Guard)
	}
	return nil
}

// notices say whether a service tells newcomers.
var notices = map[string]string{
	"quiet":   "nobody is told about it",
	"told":    "the service tells each of them",
	"unknown": "whether the service tells them is up to it, because the connection names no notice attribute",
}

func previewPairing(ctx context.Context, cmd *cli.Command) error {
	c, s, err := paired(ctx, cmd)
	if err != nil {
		return err
	}
	p, err := client.Post[api.Preview](ctx, c, "/pairings/"+s.PairingID+"/previews", nil)
	if err != nil {
		return err
	}
	return showPreview(cmd, p, cmd.Bool("all"))
}

func runPairing(ctx context.Context, cmd *cli.Command) error {
	c, s, err := paired(ctx, cmd)
	if err != nil {
		return err
	}
	p, err := client.Post[api.Preview](ctx, c, "/pairings/"+s.PairingID+"/previews", nil)
	if err != nil {
		return err
	}
	say(cmd, "Preview: %s.", counts(p.Counts))
	only, err := keysOf(p, cmd.StringSlice("only"))
	if err != nil {
		return err
	}
	r, err := client.Post[api.Run](ctx, c, "/runs", api.NewRun{PreviewID: p.ID, Approved: cmd.Bool("approve"), Only: only})
	if err != nil {
		return err
	}
	return follow(ctx, cmd, c, r.ID)
}

// keysOf finds people of a preview by name.
func keysOf(p api.Preview, names []string) ([]string, error) {
	var keys []string
	for _, name := range names {
		found := 0
		for _, e := range p.Entries {
			if strings.EqualFold(e.Name, name) && e.Outcome.Changes() {
				keys = append(keys, e.Key())
				found++
			}
		}
		if found != 1 {
			return nil, fmt.Errorf("%w: the preview would change %d people called %q, one is needed", errUsage, found, name)
		}
	}
	return keys, nil
}

// follow waits for a run and prints its report.
func follow(ctx context.Context, cmd *cli.Command, c *client.Client, runID string) error {
	r, err := c.Wait(ctx, runID, bar())
	if err != nil {
		return err
	}
	return report(ctx, cmd, c, r)
}

func report(ctx context.Context, cmd *cli.Command, c *client.Client, r api.Run) error {
	changes, err := client.Get[api.Page[api.Change]](ctx, c, "/runs/"+r.ID+"/changes")
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return table{value: map[string]any{"run": r, "changes": changes.Items}}.print(cmd)
	}
	say(cmd, "Run %s of %s: %s%s.", r.ID, r.About, ended(r.State), pace(r))
	for _, line := range countLines(r) {
		say(cmd, "  %s", line)
	}
	if r.Error != "" {
		say(cmd, "  %s\n  %s", r.Error, r.Remedy)
	}
	if len(r.Findings) > 0 {
		say(cmd, "")
		if err := tableOf(r.Findings, "", []string{"finding", "about", "detail"}, func(n api.Noticed) []string { return []string{n.Title, n.Subject, n.Detail} }).print(cmd); err != nil {
			return err
		}
	}
	mend := slices.DeleteFunc(changes.Items, func(x api.Change) bool { return x.Code == "" && x.Entry.Outcome != roster.OutcomeNeedsPerson })
	if len(mend) > 0 {
		say(cmd, "\nThese need a person:")
		if err := tableOf(mend, "", []string{"person", "cause", "detail", "who can mend it", "remedy"}, func(x api.Change) []string {
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

// countLines tells what changed, then how everybody stands.
func countLines(r api.Run) []string {
	order := []string{"added", "updated", "changed", "removed", "gone", "refused", "not-arrived", "joined", "left", "in-step", "waiting", "needs-person", "left-out", "orgs", "terms", "courses", "sections", "people", "enrolments", "sections-changed", "pairings-compared"}
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
			{Name: "list", Usage: "List runs, the newest first", Action: func(ctx context.Context, cmd *cli.Command) error {
				page, err := client.Get[api.Page[api.Run]](ctx, connect(cmd), "/runs?limit=50")
				if err != nil {
					return err
				}
				return tableOf(page.Items, "Nothing has run yet.", []string{"run", "kind", "about", "state", "started by", "at"}, func(r api.Run) []string {
					return []string{r.ID, r.Kind, r.About, r.State, r.RequestedBy, when(&r.CreatedAt)}
				}).print(cmd)
			}},
			{Name: "show", Usage: "Show a run's report", ArgsUsage: "RUN", Action: func(ctx context.Context, cmd *cli.Command) error {
				args, err := arguments(cmd, 1)
				if err != nil {
					return err
				}
				c := connect(cmd)
				r, err := client.Get[api.Run](ctx, c, "/runs/"+args[0])
				if err != nil {
					return err
				}
				return report(ctx, cmd, c, r)
			}},
			{Name: "cancel", Usage: "Stop a run; what it has done is kept", ArgsUsage: "RUN", Action: func(ctx context.Context, cmd *cli.Command) error {
				args, err := arguments(cmd, 1)
				if err != nil {
					return err
				}
				c := connect(cmd)
				if _, err := client.Post[api.Run](ctx, c, "/runs/"+args[0]+"/cancel", nil); err != nil {
					return err
				}
				return follow(ctx, cmd, c, args[0])
			}},
			{Name: "resume", Usage: "Go on with a run that failed or was stopped half-way", ArgsUsage: "RUN", Action: func(ctx context.Context, cmd *cli.Command) error {
				args, err := arguments(cmd, 1)
				if err != nil {
					return err
				}
				c := connect(cmd)
				if _, err := client.Post[api.Run](ctx, c, "/runs/"+args[0]+"/resume", nil); err != nil {
					return err
				}
				return follow(ctx, cmd, c, args[0])
			}},
		},
	}
}
