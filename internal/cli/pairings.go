package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/roster"
	"kanban/internal/wire/api"
)

func pairings() *cli.Command {
	approve := &cli.BoolFlag{Name: "approve", Usage: "allow removals above the pairing's guard"}
	return &cli.Command{
		Name: "pairings", Usage: "Pair sections with outside classes and keep them in step", Category: "rosters",
		Commands: slices.Concat([]*cli.Command{
			{Name: "list", Usage: "List pairings", Action: listPairings},
			pairingsAdd(),
			{
				Name: "edit", Usage: "Change a pairing's policy; what is not given stays", ArgsUsage: "SECTION",
				Action: editPairing,
				Flags: policyFlags(&cli.StringFlag{
					Name:  "target",
					Usage: "another name for the class, here and at the service",
				}),
				Description: "  kanban pairings edit PROP-A --leavers deactivate --no-hold",
			},
			{
				Name: "show", Usage: "Policy, checklist and how fresh everything is", ArgsUsage: "SECTION",
				Action: showPairing,
			},
			pairingsCompare(),
			{
				Name: "preview", Usage: "Show what a run would do, person by person, without doing it",
				ArgsUsage: "SECTION", Action: previewPairing,
				Flags: []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "list people for whom nothing changes, too"}},
			},
			{
				Name: "run", Usage: "Bring a pairing in step and wait for the end", ArgsUsage: "SECTION",
				Action: runPairing, Flags: []cli.Flag{
					approve,
					&cli.StringSliceFlag{
						Name:  "only",
						Usage: "only this person (name as in the preview); can be given several times",
					},
				},
				Description: "Shows the preview, does exactly that, reads back. Exit code 3 when people have to be mended.\n\n  kanban pairings run PROP-A\n  kanban pairings run PROP-A --only \"Elsa Elder\"",
			},
			pairingsRemove(),
			pairingsOpen(),
			{
				Name: "hold", Usage: "Hold learners back again; who is in stays in", ArgsUsage: "SECTION",
				Action: holdClass,
			},
			{
				Name: "sync", Usage: "Bring many pairings in step now: a course, an interface, or all",
				Action: syncPairings,
				Flags: []cli.Flag{&cli.StringFlag{
					Name:  "course",
					Usage: "only those of this course (code or title)",
				}, &cli.StringFlag{
					Name:  "interface",
					Usage: "only those with this interface",
				}},
				Description: "Only pairings that have run once by hand are run. Removals above a guard wait for approval.\n\n  kanban pairings sync\n  kanban pairings sync --course PROP",
			},
			pausePairing("pause", true), pausePairing("resume", false),
		}, manyCommands()),
	}
}

func pairingsAdd() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "Pair a section with a new class at a service", ArgsUsage: "SECTION CONNECTION",
		Action:      addPairing,
		Description: "SECTION is a code or title. The first run makes the class.\n\n  kanban pairings add PROP-A \"Chat workspace\" --target \"Propagation, group A\"",
		Flags: policyFlags(
			&cli.StringFlag{Name: "target", Usage: "name of the new class; made by the template when absent"},
			&cli.StringFlag{
				Name:  "class",
				Usage: "id or name of a class that is at the service already, instead of a new one",
			},
			&cli.StringFlag{Name: "template", Usage: "how the pairing is made; the usual one when absent"},
			detailFlag(""),
		),
	}
}

func pairingsCompare() *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "Compare both sides now, side by side, changing nothing", ArgsUsage: "SECTION",
		Action: comparePairing,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "all", Usage: "list people who are in step, too"},
			&cli.StringFlag{Name: "outcome", Usage: "only one outcome, e.g. to-add"},
		},
		Description: "  kanban pairings compare PROP-A\n  kanban pairings compare PROP-A --all -o csv > comparison.csv",
	}
}

func pairingsRemove() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "End a pairing; the class and its members stay unless said otherwise",
		ArgsUsage: "SECTION", Flags: []cli.Flag{
			&cli.StringFlag{Name: "members", Value: "keep", Usage: "keep or remove whom Kanban put in"},
			&cli.BoolFlag{Name: "apply", Usage: "do it; without this it is only shown, person by person"},
		}, Description: "  kanban pairings remove PROP-A\n  kanban pairings remove PROP-A --apply\n  kanban pairings remove PROP-A --members remove --apply", Action: func(ctx context.Context, cmd *cli.Command) error {
			c, s, err := paired(ctx, cmd)
			if err != nil {
				return err
			}
			switch cmd.String("members") {
			case "keep":
			case "remove":
				return endPairing(ctx, cmd, c, s)
			default:
				return usage(cmd, "--members is keep or remove")
			}
			if !cmd.Bool("apply") {
				x, err := client.Get[api.ClassEffects](ctx, c, "/pairings/"+s.PairingID+"/effects")
				if err == nil {
					err = showEffects(cmd, []api.ClassEffects{x})
				}
				if err == nil && cmd.String("output") == "table" {
					say(cmd, "\nNothing was done. End the pairing with --apply; to take people out too: --members remove")
				}
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/pairings/"+s.PairingID,
				nil); err != nil {
				return err
			}
			say(cmd, "%s is no longer paired. %s keeps its members.", s.Title, s.Target)
			return nil
		},
	}
}

func pairingsOpen() *cli.Command {
	return &cli.Command{
		Name: "open", Usage: "Let the learners of a held class in", ArgsUsage: "SECTION", Action: openClass,
		Flags: []cli.Flag{
			&cli.TimestampFlag{
				Name:  "at",
				Usage: "when, such as 2027-09-01T08:00:00, now when absent; given again it moves the opening",
				Config: cli.TimestampConfig{
					Timezone: time.Local,
					Layouts:  []string{"2006-01-02T15:04:05", "2006-01-02T15:04", time.RFC3339},
				},
			},
			&cli.BoolFlag{Name: "cancel", Usage: "cancel that it opens by itself; it stays held"},
		},
		Description: "Says first how many learners wait, and whether the service notifies them.\n\n  kanban pairings open PROP-A\n  kanban pairings open PROP-A --at 2027-09-01T08:00\n  kanban pairings open PROP-A --cancel",
	}
}

func pausePairing(name string, paused bool) *cli.Command {
	return &cli.Command{
		Name: name, Usage: strings.ToUpper(name[:1]) + name[1:] + " a pairing", ArgsUsage: "SECTION",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, s, err := paired(ctx, cmd)
			if err != nil {
				return err
			}
			if _, err := client.Send[api.Pairing](ctx, c, http.MethodPatch, "/pairings/"+s.PairingID,
				api.EditPairing{Paused: &paused}); err != nil {
				return err
			}
			say(cmd, "%s is %sd.", s.Title, name)
			return nil
		},
	}
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
		err = fmt.Errorf("%w: %s is not paired; pair it with: kanban pairings add %s CONNECTION", errUsage, s.Title,
			s.Code)
	}
	return c, s, err
}

func listPairings(ctx context.Context, cmd *cli.Command) error {
	all, err := client.All[api.Pairing](ctx, connect(cmd), "/pairings?limit=1000")
	if err != nil {
		return err
	}
	return tableOf(all, "No section is paired yet. Pair one: kanban pairings add SECTION CONNECTION",
		[]string{"state", "section", "target", "service", "people", "last run"}, func(p api.Pairing) []string {
			return []string{
				state(p.Section.State), p.Section.Title, p.Target, p.Section.Interface,
				counts(p.Section.Counts, roster.Outcomes), moment(p.Section.RanAt),
			}
		}).print(cmd)
}

// sectionAndService finds the section and the interface given as the two arguments.
func sectionAndService(ctx context.Context, cmd *cli.Command) (c *client.Client, s api.Section, conn api.Interface,
	err error,
) {
	args, err := arguments(cmd, 2)
	if err != nil {
		return nil, s, conn, err
	}
	c = connect(cmd)
	if s, err = findSection(ctx, c, args[0]); err == nil {
		conn, err = findInterface(ctx, c, args[1])
	}
	return c, s, conn, err
}

func addPairing(ctx context.Context, cmd *cli.Command) error {
	c, s, conn, err := sectionAndService(ctx, cmd)
	if err != nil {
		return err
	}
	in := api.NewPairing{
		SectionID: s.ID, InterfaceID: conn.ID, Target: cmd.String("target"),
		Template: cmd.String("template"),
	}
	if in.Details, err = detailsOf(cmd); err != nil {
		return err
	}
	list, err := client.Get[[]api.Template](ctx, c, "/templates")
	if err != nil {
		return err
	}
	for i, t := range list {
		if i == 0 && in.Template == "" || strings.EqualFold(t.Name, in.Template) {
			if err := changePolicy(cmd, &t.Policy); err != nil {
				return err
			}
			in.Policy = &t.Policy
		}
	}
	what := "the new class"
	if class := cmd.String("class"); class != "" {
		if in.TargetRef, err = findClass(ctx, c, s, conn, class); err != nil {
			return err
		}
		what = "the class"
	}
	p, err := client.Post[api.Pairing](ctx, c, "/pairings", in)
	if err != nil {
		return err
	}
	say(cmd, "Paired %s with %s %q at %s. Nothing has happened there yet.\nNext: kanban pairings preview %s",
		p.Section.Title, what, p.Target, conn.Name, s.Code)
	return nil
}

// findClass finds a class that is at a service, by id or name.
func findClass(ctx context.Context, c *client.Client, s api.Section, conn api.Interface, name string) (string,
	error,
) {
	all, err := client.Get[[]api.SpaceCandidate](ctx, c, "/sections/"+s.ID+"/candidates?interface="+conn.ID)
	if err != nil {
		return "", err
	}
	var found []candidate
	for _, x := range all {
		if x.Ref == name {
			return x.Ref, nil
		}
		if strings.EqualFold(x.Name, name) {
			found = append(found, candidate{x.Ref, x.Name})
		}
	}
	switch len(found) {
	case 0:
		return "", fmt.Errorf("%w: no class of %s is called %q; see them with: kanban pairings candidates %s %q",
			errUsage, conn.Name, name, s.Code, conn.Name)
	case 1:
		return found[0].id, nil
	}
	return "", ambiguous("classes of "+conn.Name, name, found)
}

func showPreview(cmd *cli.Command, p api.Preview, all bool) error {
	entries := p.Entries
	if !all {
		entries = slices.DeleteFunc(slices.Clone(entries),
			func(e api.Decision) bool { return e.Outcome == roster.OutcomeInStep })
	}
	t := tableOf(entries, "Nothing to do: everybody is in step.",
		[]string{"outcome", "person", "role", "reason", "detail", "who can mend it"}, func(e api.Decision) []string {
			return []string{words(string(e.Outcome), 1), e.Name, string(e.Role), e.Title, e.Detail, e.Owner}
		})
	t.value = p
	if err := t.print(cmd); err != nil {
		return err
	}
	say(cmd, "\n%d people: %s.", len(p.Entries), counts(p.Counts, roster.Outcomes))
	if p.NewAccounts > 0 {
		say(cmd, "Accounts to be made: %d; %s.", p.NewAccounts, notices[p.Notice])
	}
	if p.TakeOver > 0 {
		say(cmd, "Taken over: %s in the class already and ours from the run on; %d stay somebody else's.",
			numbered(p.TakeOver, "person was", "people were"), p.Strangers)
	}
	if p.Guard > 0 {
		say(cmd, "Guard: %d removals are more than this pairing allows; a run needs --approve.", p.Guard)
	}
	return nil
}

// notices say whether a service tells newcomers.
var notices = map[string]string{
	"not-notified": "nobody is notified of it",
	"notified":     "the service notifies each of them",
	"unknown":      "whether the service notifies them is up to it, because the interface names no notice attribute",
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
	say(cmd, "Preview: %s.", counts(p.Counts, roster.Outcomes))
	only, err := keysOf(p, cmd.StringSlice("only"))
	if err != nil {
		return err
	}
	r, err := client.Post[api.Run](ctx, c, "/runs", api.NewRun{
		PreviewID: p.ID, Approved: cmd.Bool("approve"),
		Only: only,
	})
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
			if strings.EqualFold(e.Name, name) && (e.Outcome.Changes() || e.Again) {
				keys = append(keys, e.Key())
				found++
			}
		}
		if found != 1 {
			return nil, fmt.Errorf("%w: the preview would change %d people called %q, one is needed", errUsage, found,
				name)
		}
	}
	return keys, nil
}

func editPairing(ctx context.Context, cmd *cli.Command) error {
	c, s, err := paired(ctx, cmd)
	if err != nil {
		return err
	}
	p, err := client.Get[api.Pairing](ctx, c, "/pairings/"+s.PairingID)
	if err != nil {
		return err
	}
	if err := changePolicy(cmd, &p.Policy); err != nil {
		return err
	}
	change := api.EditPairing{Policy: &p.Policy}
	if name := cmd.String("target"); name != "" {
		change.Target = &name
	}
	if _, err := client.Edit[api.Pairing](ctx, c, http.MethodPatch, "/pairings/"+s.PairingID, p.Version,
		change); err != nil {
		return err
	}
	say(cmd, "Changed. See what it means: kanban pairings preview %s", s.Code)
	return nil
}

func showPairing(ctx context.Context, cmd *cli.Command) error {
	c, s, err := paired(ctx, cmd)
	if err != nil {
		return err
	}
	p, err := client.Get[api.Pairing](ctx, c, "/pairings/"+s.PairingID)
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return table{value: p}.print(cmd)
	}
	say(cmd, "%s  %s ↔ %s at %s", state(s.State), s.Title, p.Target, s.Interface)
	if p.NextRun != nil {
		say(cmd, "  runs next by itself %s", when(p.NextRun))
	}
	if p.OpensAt != nil {
		say(cmd, "  opens %s", when(p.OpensAt))
	}
	if p.Guarded > 0 {
		say(cmd, "  %d removals wait for approval: kanban pairings run %s --approve", p.Guarded, s.Code)
	}
	if p.Unminded > 0 {
		say(cmd, "  %s put into the class by somebody else and will stay in it after leaving the section: kanban pairings take-over %s", numbered(p.Unminded, "person of the section was", "people of the section were"), s.Code)
	}
	f := p.Freshness
	say(cmd, "  register read %s, compared %s, run %s, next read %s", when(f.ReadAt), when(f.ComparedAt),
		when(f.RanAt), when(f.NextRead))
	if f.StoppedBy != "" {
		say(cmd, "  stopped by: %s", f.StoppedBy)
	}
	say(cmd, "")
	return printChecklist(cmd, p.Checklist)
}

func printChecklist(cmd *cli.Command, list api.Checklist) error {
	return tableOf(list.Steps, "", []string{"done", "step", "next"}, func(s api.Step) []string {
		done := "●"
		if !s.Done {
			done = "○"
		}
		return []string{done, s.Title, s.Next}
	}).print(cmd)
}

func comparePairing(ctx context.Context, cmd *cli.Command) error {
	c, s, err := paired(ctx, cmd)
	if err != nil {
		return err
	}
	page, err := client.Get[api.Page[api.Line]](ctx, c, "/pairings/"+s.PairingID+"/comparison")
	if err != nil {
		return err
	}
	lines := slices.DeleteFunc(page.Items, func(l api.Line) bool {
		if o := cmd.String("outcome"); o != "" {
			return string(l.Outcome) != o
		}
		return l.Outcome == roster.OutcomeInStep && !cmd.Bool("all")
	})
	if cmd.String("output") == "csv" {
		return tableOf(lines, "", api.LineColumns, api.Line.Cells).print(cmd)
	}
	return tableOf(lines, "Both sides are the same.", []string{
		"outcome", "in the register", "address",
		"at the service", "address there", "reason",
	}, func(l api.Line) []string {
		row := []string{words(string(l.Outcome), 1), "–", "", "–", "", l.Title}
		if r := l.Register; r != nil {
			row[1], row[2] = r.Name, r.Email
		}
		if x := l.Service; x != nil {
			row[3], row[4] = x.Name, x.Email
		}
		return row
	}).print(cmd)
}

// detailFlag is what the register does not say about new classes.
func detailFlag(when string) cli.Flag {
	return &cli.StringSliceFlag{
		Name:  "detail",
		Usage: when + "what a service wants to know of a class and the register does not say, `NAME=VALUE`; names are level, subject, starts, ends",
	}
}

func detailsOf(cmd *cli.Command) (map[string]string, error) {
	details := map[string]string{}
	for _, text := range cmd.StringSlice("detail") {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return nil, usage(cmd, fmt.Sprintf("--detail %q is not of the form NAME=VALUE", text))
		}
		details[strings.TrimSpace(name)] = strings.TrimSpace(value)
	}
	return details, nil
}

func listCandidates(ctx context.Context, cmd *cli.Command) error {
	c, s, conn, err := sectionAndService(ctx, cmd)
	if err != nil {
		return err
	}
	all, err := client.Get[[]api.SpaceCandidate](ctx, c, "/sections/"+s.ID+"/candidates?interface="+conn.ID)
	if err != nil {
		return err
	}
	if err := tableOf(all, conn.Name+" has no class yet.",
		[]string{
			"score", "class", "id", "in common", "missing", "others", "teachers",
			"what to know",
		}, func(x api.SpaceCandidate) []string {
			var notes []string
			for _, r := range x.Remarks {
				sign := "◐ "
				if r.Blocks {
					sign = "▲ "
				}
				notes = append(notes, sign+r.Detail)
			}
			return []string{
				fmt.Sprint(x.Score), x.Name, x.Ref, fmt.Sprint(x.Shared), fmt.Sprint(x.Missing),
				fmt.Sprint(x.Others), fmt.Sprint(x.Teachers), strings.Join(notes, "; "),
			}
		}).print(cmd); err != nil || len(all) == 0 || cmd.String("output") != "table" {
		return err
	}
	if !slices.ContainsFunc(all[0].Remarks, func(r api.Obstacle) bool { return r.Blocks }) { // those come last
		say(cmd, "\nPair with one: kanban pairings add %s %q --class %s", s.Code, conn.Name, all[0].Ref)
	}
	return nil
}

func takeOver(ctx context.Context, cmd *cli.Command) error {
	c, s, err := paired(ctx, cmd)
	if err != nil {
		return err
	}
	leave := cmd.Bool("leave")
	if _, err := client.Post[api.Pairing](ctx, c, "/pairings/"+s.PairingID+"/take-over",
		api.TakeOver{Leave: leave}); err != nil {
		return err
	}
	if leave {
		say(cmd, "The people in %s stay to whoever put them in.", s.Target)
		return nil
	}
	say(cmd, "The next run takes over the people of the section who are in %s: kanban pairings preview %s", s.Target,
		s.Code)
	return nil
}

func renewClass(ctx context.Context, cmd *cli.Command) error {
	c, s, err := paired(ctx, cmd)
	if err != nil {
		return err
	}
	if _, err := client.Post[api.Pairing](ctx, c, "/pairings/"+s.PairingID+"/renew", nil); err != nil {
		return err
	}
	say(cmd, "%s is made anew by its next run: kanban pairings run %s", s.Target, s.Code)
	return nil
}

func openClass(ctx context.Context, cmd *cli.Command) error {
	c, s, err := paired(ctx, cmd)
	if err != nil {
		return err
	}
	var in api.Opening
	if cmd.IsSet("at") {
		at := cmd.Timestamp("at")
		in.At = &at
	}
	path := "/pairings/" + s.PairingID
	if cmd.Bool("cancel") {
		if _, err := client.Send[api.Pairing](ctx, c, http.MethodDelete, path+"/opening", nil); err != nil {
			return err
		}
		say(cmd, "%s stays held until somebody opens it.", s.Title)
		return nil
	}
	outlook, err := client.Get[api.OpeningOutlook](ctx, c, path+"/opening")
	if err != nil {
		return err
	}
	told := ""
	if outlook.NewAccounts > 0 {
		told = fmt.Sprintf("; %s made; %s", numbered(outlook.NewAccounts, "account is", "accounts are"),
			notices[outlook.Notice])
	}
	say(cmd, "By now %s%s.", numbered(outlook.Learners, "learner waits", "learners wait"), told)
	p, err := client.Post[api.Pairing](ctx, c, path+"/open", in)
	if err != nil {
		return err
	}
	if p.OpensAt != nil {
		say(cmd, "%s opens %s.", s.Title, when(p.OpensAt))
		return nil
	}
	say(cmd, "%s is open; its learners go in now.", s.Title)
	return nil
}

func holdClass(ctx context.Context, cmd *cli.Command) error {
	c, s, err := paired(ctx, cmd)
	if err != nil {
		return err
	}
	if _, err := client.Post[api.Pairing](ctx, c, "/pairings/"+s.PairingID+"/hold", nil); err != nil {
		return err
	}
	say(cmd, "%s is held back. Learners who are in stay in; all others wait until it is opened.", s.Title)
	return nil
}

func syncPairings(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	var in api.SyncNow
	if name := cmd.String("course"); name != "" {
		course, err := findCourse(ctx, c, name)
		if err != nil {
			return err
		}
		in.CourseID = course.ID
	}
	if name := cmd.String("interface"); name != "" {
		conn, err := findInterface(ctx, c, name)
		if err != nil {
			return err
		}
		in.InterfaceID = conn.ID
	}
	q, err := client.Post[api.Queued](ctx, c, "/pairings/sync", in)
	if err != nil {
		return err
	}
	say(cmd, "Runs for %d pairings are under way where something has to be done. Follow them: kanban runs list",
		q.Pairings)
	return nil
}

// endPairing takes everybody out whom Kanban put in and ends the pairing.
func endPairing(ctx context.Context, cmd *cli.Command, c *client.Client, s api.Section) error {
	p, err := client.Post[api.Preview](ctx, c, "/pairings/"+s.PairingID+"/ending", nil)
	if err != nil {
		return err
	}
	if !cmd.Bool("apply") {
		if err := showPreview(cmd, p, true); err != nil {
			return err
		}
		say(cmd, "\nNothing was done. Do it with --apply; the pairing ends when everybody is out.")
		return nil
	}
	r, err := client.Post[api.Run](ctx, c, "/runs", api.NewRun{PreviewID: p.ID})
	if err != nil {
		return err
	}
	return follow(ctx, cmd, c, r.ID)
}
