package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/roster"
	"kanban/internal/wire/api"
)

// filterFlags narrow lists of sections.
func filterFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "find", Usage: "text in title, code, course or teacher"},
		&cli.StringFlag{Name: "organisation", Usage: "name of an organisation"},
		&cli.StringFlag{Name: "course", Usage: "title or code of a course"},
		&cli.StringFlag{Name: "term", Usage: "title of a term"},
		&cli.StringFlag{Name: "teacher", Usage: "name of a teacher"},
		&cli.StringFlag{Name: "role", Usage: "role of somebody in it, e.g. proctor"},
		&cli.StringFlag{Name: "state", Usage: "one of the states, e.g. needs-person"},
		&cli.StringFlag{Name: "service", Usage: "name of the interface with which it is paired"},
		&cli.IntFlag{Name: "at-least", Usage: "learners"},
		&cli.StringFlag{Name: "at-most", Usage: "learners"},
		&cli.StringFlag{Name: "hidden", Usage: "what the rule with this name hides, or * for everything"},
	}
}

func filterQuery(cmd *cli.Command) url.Values {
	q := url.Values{}
	for flag, name := range map[string]string{
		"find": "text", "organisation": "organisation", "course": "course", "term": "term", "teacher": "teacher",
		"role":  "role",
		"state": "state", "service": "service", "at-most": "atMost", "hidden": "hidden",
	} {
		q.Set(name, cmd.String(flag))
	}
	if n := cmd.Int("at-least"); n > 0 {
		q.Set("atLeast", fmt.Sprint(n))
	}
	return q
}

// batchFlags are those of every command that shows first and does then.
func batchFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "apply", Usage: "do exactly what was shown; without this it is only shown"},
		&cli.BoolFlag{Name: "approve", Usage: "allow removals above the guards"},
		&cli.BoolFlag{Name: "later", Usage: "leave the first run for later"},
	}
}

func manyCommands() []*cli.Command {
	return []*cli.Command{
		batchesMany(),
		batchesNextTerm(),
		{
			Name: "batches", Usage: "List what was done with many, or show what became of one", ArgsUsage: "[ID]",
			Action:      listBatches,
			Description: "  kanban pairings batches\n  kanban pairings batches 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11",
		},
		{
			Name: "candidates", Usage: "Classes that are at a service already, by how likely each is the counterpart",
			ArgsUsage: "SECTION CONNECTION", Action: listCandidates,
			Description: "  kanban pairings candidates SOIL-A \"Chat workspace\"",
		},
		batchesUnpaired(),
		batchesIgnore(),
		batchesTakeOver(),
		{
			Name: "renew", Usage: "Let the next run make a class anew that was deleted at the service",
			ArgsUsage: "SECTION", Action: renewClass,
		},
		batchesFullComparison(),
		templates(),
	}
}

func batchesMany() *cli.Command {
	return &cli.Command{
		Name: "many", Usage: "Do something with many at once: one preview for all, then exactly that",
		ArgsUsage: "ACT [SECTION...]", Action: doMany,
		Flags: slices.Concat(batchFlags(), filterFlags(), []cli.Flag{
			&cli.StringFlag{Name: "interface", Usage: "for pair: the service"},
			&cli.StringFlag{
				Name:  "template",
				Usage: "for pair and template: its name; the usual one when absent",
			},
			detailFlag("for pair: "),
			&cli.StringFlag{Name: "naming", Usage: "for pair: names the classes, e.g. \"{course} · {teacher}\""},
			&cli.StringSliceFlag{Name: "name", Usage: "for pair: what one class is called, `SECTION=NAME`"},
			&cli.TimestampFlag{
				Name: "at", Usage: "for open: when; now when absent",
				Config: cli.TimestampConfig{
					Timezone: time.Local,
					Layouts:  []string{"2006-01-02T15:04", time.RFC3339},
				},
			},
		}),
		Description: "ACT is pair, run, template, pause, resume, hold, open, next-term, end or take-out. Choose sections by name, or all that fit the filters.\n\n" +
			"  kanban pairings many pair PROP-A PROP-B PROP-C --interface \"Chat workspace\"\n  kanban pairings many pair --term \"First term\" --state not-paired --interface \"Chat workspace\" --naming \"{course} · {section}\" --apply\n  kanban pairings many pair PROP-A SOIL-A --interface \"Chat workspace\" --name \"SOIL-A=Soil, first years\"\n  kanban pairings many run --state out-of-step --apply",
	}
}

func batchesNextTerm() *cli.Command {
	return &cli.Command{
		Name: "next-term", Usage: "Move classes to the sections of the next term that follow",
		ArgsUsage: "[SECTION...]", Action: nextTerm,
		Flags: append(batchFlags(), &cli.IntFlag{
			Name: "days", Value: 60,
			Usage: "without sections: those whose term ends within so many days, or has ended",
		},
			&cli.StringSliceFlag{
				Name:  "to",
				Usage: "the section that follows, `OLD=NEW`, instead of the proposed one",
			},
			&cli.BoolFlag{
				Name:  "keep-names",
				Usage: "classes keep their names; otherwise one that a template named gets the name of its new section",
			}),
		Description: "Proposes the section of the same course, with the same teacher where there is one.\n\n  kanban pairings next-term\n  kanban pairings next-term ORCH-A --apply --approve\n  kanban pairings next-term ORCH-A --to ORCH-A=ORCH-B",
	}
}

func batchesUnpaired() *cli.Command {
	return &cli.Command{
		Name:      "unpaired",
		Usage:     "Classes at a service that belong to no pairing, with the sections that they probably copy",
		ArgsUsage: "CONNECTION", Action: listUnpaired,
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "ignored", Usage: "those that are ignored instead"}},
		Description: "Adopt one by pairing its section with it; leave it; or ignore it, so that it is not listed any more.\n\n  kanban pairings unpaired \"Chat workspace\"\n  kanban pairings unpaired \"Chat workspace\" --ignored",
	}
}

func batchesIgnore() *cli.Command {
	return &cli.Command{
		Name: "ignore", Usage: "Say of classes at a service that they are no business of Kanban's",
		ArgsUsage: "CONNECTION CLASS...", Action: ignoreClasses,
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "undo", Usage: "they are one after all"}},
		Description: "CLASS is a name or the service's id.\n\n  kanban pairings ignore \"Chat workspace\" \"Staff room\"\n  kanban pairings ignore \"Chat workspace\" \"Staff room\" --undo",
	}
}

func batchesTakeOver() *cli.Command {
	return &cli.Command{
		Name: "take-over", Usage: "Mind the places of the section's people who were in the class already",
		ArgsUsage: "SECTION", Action: takeOver,
		Flags: []cli.Flag{&cli.BoolFlag{
			Name:  "leave",
			Usage: "leave them to whoever put them in, and do not ask again",
		}},
		Description: "Whom Kanban has taken over leaves the class when they leave the section, like everybody else. A class that was there before it was paired is taken over by its first run; this is for classes that ran already.\n\n  kanban pairings take-over PROP-A\n  kanban pairings take-over PROP-A --leave",
	}
}

func batchesFullComparison() *cli.Command {
	return &cli.Command{
		Name: "full-comparison", Usage: "When all pairings are compared, whatever reads found",
		Action: fullComparison,
		Flags: []cli.Flag{&cli.StringFlag{
			Name:  "schedule",
			Usage: "by-hand, \"every 60\" (minutes), \"daily 03:30\", \"daily 03:30 sunday\"",
		}},
		Description: "  kanban pairings full-comparison\n  kanban pairings full-comparison --schedule \"daily 03:30\"",
	}
}

func doMany(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() == 0 {
		return usage(cmd, "say what to do: pair, run, template, pause, resume, hold, open, next-term, end or take-out")
	}
	if cmd.Args().First() == "link" {
		return usage(cmd, "sections are linked with: kanban sections link, or kanban sections proposals")
	}
	c := connect(cmd)
	o := api.Order{
		Act: cmd.Args().First(), Template: cmd.String("template"), Naming: cmd.String("naming"),
		WithoutRun: cmd.Bool("later"),
	}
	if cmd.IsSet("at") {
		at := cmd.Timestamp("at")
		o.At = &at
	}
	var err error
	if o.Details, err = detailsOf(cmd); err != nil {
		return err
	}
	if o.Act == "pair" {
		conn, err := findInterface(ctx, c, cmd.String("interface"))
		if err != nil {
			return err
		}
		o.InterfaceID = conn.ID
	}
	chosen, err := choose(ctx, cmd, c, cmd.Args().Tail())
	if err != nil {
		return err
	}
	for _, s := range chosen {
		switch {
		case o.Act == "pair" && (s.PairingID == "" || cmd.Args().Len() > 1):
			o.Sections = append(o.Sections, s.ID)
		case o.Act != "pair" && s.PairingID != "":
			o.Pairings = append(o.Pairings, s.PairingID)
		case o.Act != "pair" && cmd.Args().Len() > 1:
			return fmt.Errorf("%w: %s is not paired", errUsage, s.Title)
		}
	}
	if o.Names, err = namesOf(ctx, cmd, c); err != nil {
		return err
	}
	return doBatch(ctx, cmd, c, o)
}

// choose gives the named sections, or all that fit the filters.
func choose(ctx context.Context, cmd *cli.Command, c *client.Client, names []string) ([]api.Section, error) {
	if len(names) == 0 {
		q := filterQuery(cmd)
		q.Set("limit", "1000")
		return client.All[api.Section](ctx, c, "/sections?"+q.Encode())
	}
	var list []api.Section
	for _, name := range names {
		s, err := findSection(ctx, c, name)
		if err != nil {
			return nil, err
		}
		list = append(list, s)
	}
	return list, nil
}

// followedByNone says what can be done with a class whose section nothing follows.
func followedByNone(x api.Succession) string {
	if len(x.Choices) > 0 {
		return "if one should, name it, such as: --to SECTION=" + x.Choices[0].Code
	}
	return "end its pairing, or take its people out: kanban pairings many end SECTION, or take-out"
}

// namesOf reads what single classes are to be called, by id of the section.
func namesOf(ctx context.Context, cmd *cli.Command, c *client.Client) (map[string]string, error) {
	names := map[string]string{}
	for _, text := range cmd.StringSlice("name") {
		section, name, _ := strings.Cut(text, "=")
		if strings.TrimSpace(name) == "" {
			return nil, usage(cmd, "say what the class is called: --name SECTION=NAME")
		}
		s, err := findSection(ctx, c, section)
		if err != nil {
			return nil, err
		}
		names[s.ID] = name
	}
	return names, nil
}

func nextTerm(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	o := api.Order{
		Act: "next-term", WithoutRun: cmd.Bool("later"), KeepNames: cmd.Bool("keep-names"),
		To: map[string]string{},
	}
	for _, text := range cmd.StringSlice("to") {
		from, to, _ := strings.Cut(text, "=")
		old, err := findSection(ctx, c, from)
		if err != nil {
			return err
		}
		next, err := findSection(ctx, c, to)
		if err != nil {
			return err
		}
		o.To[old.PairingID] = next.ID
	}
	for _, name := range cmd.Args().Slice() {
		s, err := findSection(ctx, c, name)
		if err == nil && s.PairingID == "" {
			err = fmt.Errorf("%w: %s is not paired, so it has no class to move", errUsage, s.Title)
		}
		if err != nil {
			return err
		}
		o.Pairings = append(o.Pairings, s.PairingID)
	}
	if len(o.Pairings) == 0 {
		all, err := client.Get[[]api.Succession](ctx, c, fmt.Sprintf("/next-term?days=%d", cmd.Int("days")))
		if err != nil {
			return err
		}
		alone := []api.Succession{}
		for _, x := range all {
			if x.ToID != "" || o.To[x.PairingID] != "" {
				o.Pairings = append(o.Pairings, x.PairingID)
				continue
			}
			alone = append(alone, x)
		}
		if len(o.Pairings) == 0 {
			return tableOf(alone, fmt.Sprintf("No class has a term that ends within %d days.", cmd.Int("days")),
				[]string{
					"section that nothing follows", "its term ends",
					"what to do",
				}, func(x api.Succession) []string {
					return []string{x.From, x.Ends.Format(time.DateOnly), followedByNone(x)}
				}).print(cmd)
		}
		for _, x := range alone {
			say(cmd, "No section of its course follows %s; %s", x.From, followedByNone(x))
		}
	}
	return doBatch(ctx, cmd, c, o)
}

// doBatch shows what would happen to many, and with --apply does it and waits.
func doBatch(ctx context.Context, cmd *cli.Command, c *client.Client, o api.Order) error {
	b, err := client.Post[api.Batch](ctx, c, "/batches", o)
	if err != nil {
		return err
	}
	if !cmd.Bool("apply") {
		if err := showBatch(cmd, b); err != nil || cmd.String("output") != "table" {
			return err
		}
		say(cmd, "\nNothing was done. Do exactly this with --apply.")
		return nil
	}
	if b, err = client.Post[api.Batch](ctx, c, "/batches/"+b.ID+"/do",
		api.Doing{Approved: cmd.Bool("approve")}); err != nil {
		return err
	}
	progress := bar()
	for !b.Done {
		progress(stepOf(b))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
		if b, err = client.GetAgain[api.Batch](ctx, c, "/batches/"+b.ID); err != nil {
			return err
		}
	}
	if err := showBatch(cmd, b); err != nil {
		return err
	}
	if slices.ContainsFunc(b.Items, func(i api.BatchItem) bool {
		return i.Problem != "" || i.RunState == "failed" ||
			i.RunState == "moved"
	}) {
		return cli.Exit("", ExitNeedsPerson)
	}
	return nil
}

// stepOf says how far a batch is: its items first, then its runs.
func stepOf(b api.Batch) api.Run {
	if b.Tried < len(b.Items) {
		return api.Run{Step: "doing", Done: b.Tried, Total: len(b.Items)}
	}
	runs := 0
	for _, n := range b.Runs {
		runs += n
	}
	return api.Run{Step: "running", Done: runs - b.Runs["queued"] - b.Runs["running"], Total: runs}
}

func showBatch(cmd *cli.Command, b api.Batch) error {
	if err := tableOf(b.Items, "Nothing was chosen.", []string{"", "section", "class", "people", "what to know"},
		func(i api.BatchItem) []string {
			sign, notes := "●", []string{}
			for _, r := range i.Remarks {
				sign = "◐"
				notes = append(notes, r.Detail)
			}
			if i.Guard > 0 && !i.Done {
				sign = "◐"
				notes = append(notes, fmt.Sprintf("%d removals need approval (--approve)", i.Guard))
			}
			if i.Blocked || i.Problem != "" {
				sign = "▲"
			}
			if i.Problem != "" {
				notes = append(notes, i.Problem)
			}
			if i.Says != "" {
				notes = append(notes, i.Says)
			}
			if i.RunState != "" {
				notes = append(notes, "run "+ended(i.RunState))
			}
			people := counts(i.Counts, roster.Outcomes)
			if len(i.Did) > 0 {
				people = counts(i.Did, roster.Results)
			}
			return []string{sign, i.Title, i.Target, people, strings.Join(notes, "; ")}
		}).print(cmd); err != nil || cmd.String("output") != "table" {
		return err
	}
	switch sets := count(len(b.Items)-b.Blocked, "set"); {
	case b.Order.Act == "link" && b.Done:
		linked := 0
		for _, i := range b.Items {
			if i.Done {
				linked++
			}
		}
		say(cmd, "\n%d of %s linked. See it again: kanban pairings batches %s", linked, count(len(b.Items), "set"),
			b.ID)
		return nil
	case b.Order.Act == "link":
		say(cmd, "\n%s would be linked, %d cannot be.", sets, b.Blocked)
		return nil
	}
	if b.Done {
		say(cmd, "\n%d in all; what was done: %s. See it again: kanban pairings batches %s", len(b.Items),
			cmp.Or(counts(b.Did, roster.Results), "nobody was changed"), b.ID)
		return nil
	}
	say(cmd, "\n%d in all, %d cannot be done. %s; %d accounts to be made; %d need their removals approved.",
		len(b.Items), b.Blocked, cmp.Or(counts(b.Counts, roster.Outcomes),
			"Nobody would change"), b.NewAccounts, b.Guarded)
	return nil
}

func listBatches(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	if id := cmd.Args().First(); id != "" {
		b, err := client.Get[api.Batch](ctx, c, "/batches/"+id)
		if err != nil {
			return err
		}
		return showBatch(cmd, b)
	}
	all, err := client.All[api.ListedBatch](ctx, c, "/batches")
	if err != nil {
		return err
	}
	return tableOf(all, "Nothing was done with many yet.",
		[]string{
			"batch", "what", "by", "at", "items", "to do", "not done", "runs", "under way",
			"failed",
		}, func(b api.ListedBatch) []string {
			return []string{
				b.ID, b.Act, b.MadeBy, moment(&b.AppliedAt), fmt.Sprint(b.Items), fmt.Sprint(b.Left),
				fmt.Sprint(b.Problems), fmt.Sprint(b.Runs), fmt.Sprint(b.Active), fmt.Sprint(b.Failed),
			}
		}).print(cmd)
}
