package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// linkCommands handle several sections as one.
func linkCommands() []*cli.Command {
	apply := &cli.BoolFlag{Name: "apply", Usage: "do it; without this it is only shown"}
	return []*cli.Command{
		{
			Name: "linkable", Usage: "What can be linked under a section, and why other sections cannot", ArgsUsage: "LEAD", Action: linkable,
			Flags:       []cli.Flag{&cli.StringFlag{Name: "find", Usage: "text in title, code or course"}},
			Description: "  kanban sections linkable PROP-A",
		},
		{
			Name: "link", Usage: "Handle sections of one course and term as one", ArgsUsage: "LEAD SECTION...", Action: linkSections,
			Flags: []cli.Flag{
				apply, &cli.StringFlag{Name: "name", Usage: "name of the set; the course's title when absent"},
				&cli.StringFlag{Name: "reason", Usage: "link although they are of another course or term; kept in the audit trail"},
			},
			Description: "Shows what becomes shared. With --apply a safety copy of rosters and results is kept first.\n\n  kanban sections link PROP-A PROP-B PROP-C\n  kanban sections link PROP-A PROP-B PROP-C --apply",
		},
		{
			Name: "proposals", Usage: "Sections that could be linked: same course, same term, same teacher", Action: linkProposals,
			Flags:       []cli.Flag{apply, &cli.BoolFlag{Name: "any-teacher", Usage: "same course and term, whoever teaches"}},
			Description: "  kanban sections proposals\n  kanban sections proposals --apply",
		},
		{Name: "sets", Usage: "List linked sets", Action: listSets},
		{
			Name: "unlink", Usage: "Handle the sections of a set one by one again", ArgsUsage: "SECTION", Action: unlinkSections,
			Flags: []cli.Flag{
				apply, &cli.StringFlag{Name: "target", Usage: "what becomes of its class: lead (it stays the lead section's, the others' people come out with its next run) or end (everybody stays, nothing keeps it in step)"},
			},
			Description: "  kanban sections unlink PROP-A\n  kanban sections unlink PROP-A --target lead --apply",
		},
		{
			Name: "copy", Usage: "Download the safety copy that was kept before linking", ArgsUsage: "SECTION", Action: downloadCopy,
			Flags:       []cli.Flag{&cli.StringFlag{Name: "file", Usage: "where to write the ZIP", Value: "before-linking.zip"}},
			Description: "  kanban sections copy PROP-A --file before-linking.zip",
		},
	}
}

func linkable(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	lead, err := findSection(ctx, c, args[0])
	if err != nil {
		return err
	}
	all, err := client.All[api.Linkable](ctx, c, "/sections/"+lead.ID+"/linkable?text="+url.QueryEscape(cmd.String("find")))
	if err != nil {
		return err
	}
	return tableOf(all, "No other section fits.", []string{"section", "code", "term", "learners", "can be linked"}, func(l api.Linkable) []string {
		can := "● yes"
		if len(l.Obstacles) > 0 {
			var why []string
			for _, o := range l.Obstacles {
				why = append(why, o.Detail)
			}
			can = "○ " + strings.Join(why, "; ")
			if l.Obstacles[0].Override {
				can += " (with a reason)"
			}
		}
		return []string{l.Title, l.Code, strings.Join(l.Terms, ", "), fmt.Sprint(l.Learners), can}
	}).print(cmd)
}

func linkSections(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() < 2 {
		return usage(cmd, "a lead section and at least one other are needed")
	}
	c := connect(cmd)
	in := api.NewSet{Name: cmd.String("name"), Reason: cmd.String("reason")}
	for i, name := range cmd.Args().Slice() {
		x, err := findPart(ctx, c, name)
		switch {
		case err != nil:
			return err
		case i == 0:
			in.LeadID = x.ID
		default:
			in.Sections = append(in.Sections, x.ID)
		}
	}
	if cmd.Bool("apply") {
		return makeSets(ctx, cmd, c, []api.NewSet{in})
	}
	out, err := client.Post[api.SetOutlook](ctx, c, "/linked-sets/outlook", in)
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return table{value: out}.print(cmd)
	}
	say(cmd, "%s would be one: %s.", out.Name, titles(out.Sections))
	say(cmd, "  %d people, %d of them in more than one of the sections", out.People, out.Several)
	for _, t := range out.Targets {
		say(cmd, "  %s, the lead's class, becomes the class of all, with a group for each section", t)
	}
	say(cmd, "  a safety copy of the rosters and %s is kept first", count(out.Results, "result"))
	for _, r := range out.Refused {
		hint := ""
		if r.Override {
			hint = " (give a --reason to link it all the same)"
		}
		say(cmd, "  ▲ %s cannot be linked: %s%s", r.Section.Title, r.Detail, hint)
	}
	if len(out.Refused) == 0 {
		say(cmd, "\nNothing was done. Do it with --apply.")
	}
	return nil
}

func titles(list []api.SectionRef) string {
	var out []string
	for _, s := range list {
		out = append(out, s.Title)
	}
	return strings.Join(out, ", ")
}

func makeSets(ctx context.Context, cmd *cli.Command, c *client.Client, wishes []api.NewSet) error {
	out, err := client.Post[api.LinkedMany](ctx, c, "/linked-sets", wishes)
	if err != nil {
		return err
	}
	for _, s := range out.Sets {
		say(cmd, "%s: %s are one now. Unlink them with: kanban sections unlink %s", s.Name, titles(s.Sections), s.Sections[0].Code)
	}
	for _, p := range out.Problems {
		say(cmd, "▲ %s", p)
	}
	if len(out.Problems) > 0 {
		return cli.Exit("", ExitNeedsPerson)
	}
	return nil
}

func linkProposals(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	all, err := client.Get[[]api.SetProposal](ctx, c, fmt.Sprintf("/linked-sets/proposals?sameTeacher=%t", !cmd.Bool("any-teacher")))
	if err != nil {
		return err
	}
	if cmd.Bool("apply") {
		var wishes []api.NewSet
		for _, p := range all {
			w := api.NewSet{LeadID: p.Sections[0].ID, Name: p.Name}
			for _, s := range p.Sections[1:] {
				w.Sections = append(w.Sections, s.ID)
			}
			wishes = append(wishes, w)
		}
		if len(wishes) == 0 {
			say(cmd, "Nothing to link.")
			return nil
		}
		return makeSets(ctx, cmd, c, wishes)
	}
	if err := tableOf(all, "No sections of one course and term share a teacher; see also --any-teacher.", []string{"name", "sections", "lead"}, func(p api.SetProposal) []string {
		return []string{p.Name, titles(p.Sections), p.Sections[0].Code}
	}).print(cmd); err != nil || len(all) == 0 || cmd.String("output") != "table" {
		return err
	}
	say(cmd, "\nLink %s with --apply, or one with: kanban sections link LEAD SECTION...", count(len(all), "set"))
	return nil
}

func listSets(ctx context.Context, cmd *cli.Command) error {
	all, err := client.Get[[]api.LinkedSet](ctx, connect(cmd), "/linked-sets")
	if err != nil {
		return err
	}
	return tableOf(all, "Nothing is linked. See what could be: kanban sections proposals", []string{"name", "sections", "linked by", "on", "reason"}, func(s api.LinkedSet) []string {
		return []string{s.Name, titles(s.Sections), s.MadeBy, moment(&s.CreatedAt), s.Reason}
	}).print(cmd)
}

// linkedSet finds the set that a section is in.
func linkedSet(ctx context.Context, cmd *cli.Command) (*client.Client, api.LinkedSet, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.LinkedSet{}, err
	}
	c := connect(cmd)
	s, err := findSection(ctx, c, args[0])
	if err == nil && s.Set == nil {
		err = fmt.Errorf("%w: %s is not linked; list what is: kanban sections sets", errUsage, s.Title)
	}
	if err != nil {
		return c, api.LinkedSet{}, err
	}
	set, err := client.Get[api.LinkedSet](ctx, c, "/linked-sets/"+s.Set.ID)
	return c, set, err
}

func unlinkSections(ctx context.Context, cmd *cli.Command) error {
	c, set, err := linkedSet(ctx, cmd)
	if err != nil {
		return err
	}
	if !cmd.Bool("apply") {
		say(cmd, "%s would be handled one by one again: %s.", set.Name, titles(set.Sections))
		for _, t := range set.Targets {
			say(cmd, "  %s: with --target lead it stays %s's, and %d people of the others come out with its next run", t.Target, set.Sections[0].Title, t.Others)
			say(cmd, "  %s  with --target end everybody stays, and nothing keeps it in step", strings.Repeat(" ", len([]rune(t.Target))))
		}
		say(cmd, "\nNothing was done. Do it with --apply.")
		return nil
	}
	if _, err := client.Post[api.LinkedSet](ctx, c, "/linked-sets/"+set.ID+"/unlink", api.Unlinking{Target: cmd.String("target")}); err != nil {
		return err
	}
	say(cmd, "%s are handled one by one again.", titles(set.Sections))
	return nil
}

func downloadCopy(ctx context.Context, cmd *cli.Command) error {
	c, set, err := linkedSet(ctx, cmd)
	if err != nil {
		return err
	}
	text, err := c.Download(ctx, "/linked-sets/"+set.ID+"/copy")
	if err != nil {
		return err
	}
	if err := os.WriteFile(cmd.String("file"), text, 0o600); err != nil {
		return err
	}
	say(cmd, "Written to %s: rosters of %d people and %s.", cmd.String("file"), set.Copy.People, count(set.Copy.Results, "result"))
	return nil
}

func fits(name string, id string, names ...string) bool {
	for _, n := range names {
		if strings.EqualFold(n, name) {
			return true
		}
	}
	return id == name
}

func maintenance() *cli.Command {
	return &cli.Command{
		Name: "maintenance", Usage: "Pause everything, or go on: reads, runs and deliveries wait", ArgsUsage: "[on|off]", Category: "service",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "note", Usage: "why, for whoever sees it"}},
		Description: "  kanban maintenance\n  kanban maintenance on --note \"The chat workspace is being moved\"\n  kanban maintenance off",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			m, err := client.Get[api.Maintenance](ctx, c, "/maintenance")
			if err != nil {
				return err
			}
			switch word := cmd.Args().First(); word {
			case "on", "off":
				if m, err = client.Send[api.Maintenance](ctx, c, http.MethodPut, "/maintenance", api.Maintenance{On: word == "on", Note: cmd.String("note")}); err != nil {
					return err
				}
			case "":
			default:
				return usage(cmd, fmt.Sprintf("%q is neither on nor off", word))
			}
			if !m.On {
				say(cmd, "● Nothing is paused as a whole.")
				return nil
			}
			say(cmd, "‖ Everything is paused since %s by %s. %s", when(m.Since), m.By, m.Note)
			say(cmd, "  What is due waits, and happens once when it is over: kanban maintenance off")
			return nil
		},
	}
}
