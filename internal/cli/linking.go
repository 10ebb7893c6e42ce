package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
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
			Flags: []cli.Flag{
				apply, &cli.BoolFlag{Name: "preview", Usage: "what becomes shared in each set; nothing is done"},
				&cli.BoolFlag{Name: "any-teacher", Usage: "same course and term, whoever teaches"},
				&cli.BoolFlag{Name: "everything", Usage: "those that lists hide too, such as sections of other terms"},
			},
			Description: "  kanban sections proposals\n  kanban sections proposals --preview\n  kanban sections proposals --apply",
		},
		{
			Name: "sets", Usage: "List linked sets", Action: listSets,
			Flags:       []cli.Flag{&cli.BoolFlag{Name: "unlinked", Usage: "those that were unlinked, with their safety copies"}},
			Description: "  kanban sections sets\n  kanban sections sets --unlinked",
		},
		{
			Name: "change-set", Usage: "Add sections to a linked set, take some out, or change its lead", ArgsUsage: "SECTION", Action: changeSet,
			Flags: []cli.Flag{
				apply, &cli.StringSliceFlag{Name: "add", Usage: "a section that comes in; can be given several times"},
				&cli.StringSliceFlag{Name: "drop", Usage: "a section that goes out; can be given several times"},
				&cli.StringFlag{Name: "lead", Usage: "the section that leads from then on"},
				&cli.StringFlag{Name: "reason", Usage: "add although it is of another course or term; kept in the audit trail"},
			},
			Description: "SECTION is any section of the set. Shows what becomes of everybody. With --apply a safety copy is kept first.\n\n  kanban sections change-set PROP-A --add PROP-C\n  kanban sections change-set PROP-A --drop PROP-B --apply\n  kanban sections change-set PROP-A --lead PROP-B --apply",
		},
		{
			Name: "unlink", Usage: "Handle the sections of a set one by one again", ArgsUsage: "SECTION", Action: unlinkSections,
			Flags: []cli.Flag{
				apply, &cli.StringFlag{Name: "target", Usage: "what becomes of its class: lead (it stays the lead section's, the others' people are removed with its next run) or end (everybody stays, nothing keeps it in step)"},
			},
			Description: "  kanban sections unlink PROP-A\n  kanban sections unlink PROP-A --target lead --apply",
		},
		{
			Name: "copies", Usage: "List the safety copies of a set, those of unlinked ones too", ArgsUsage: "SECTION|SET", Action: listCopies,
			Description: "  kanban sections copies PROP-A\n  kanban sections copies 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11",
		},
		{
			Name: "copy", Usage: "Download a safety copy: the latest of a section's set, or one by its id", ArgsUsage: "SECTION|COPY", Action: downloadCopy,
			Flags:       []cli.Flag{&cli.StringFlag{Name: "file", Usage: "where to write the ZIP", Value: "safety-copy.zip"}},
			Description: "  kanban sections copy PROP-A --file before-linking.zip",
		},
		{
			Name: "put-back", Usage: "Put results of a safety copy back that are no longer there", ArgsUsage: "COPY", Action: putBack, Flags: []cli.Flag{apply},
			Description: "Who is in a section comes from the register, and classes follow it; what can be lost are results.\n\n  kanban sections put-back 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11\n  kanban sections put-back 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11 --apply",
		},
		{
			Name: "groups", Usage: "Groups inside classes that are for no section any more", Action: leftGroups,
			Flags:       []cli.Flag{&cli.BoolFlag{Name: "remove", Usage: "remove those in which nobody is, at the service"}},
			Description: "After sections were taken out of a set, or a pairing ended, its groups are left over.\n\n  kanban sections groups\n  kanban sections groups --remove",
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
		set, err := client.Post[api.LinkedSet](ctx, c, "/linked-sets", in)
		if err != nil {
			return err
		}
		say(cmd, "%s: %s are one now. Unlink them with: kanban sections unlink %s", set.Name, titles(set.Sections), set.Sections[0].Code)
		return nil
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
	sayRefused(cmd, out.Refused)
	if len(out.Refused) == 0 {
		say(cmd, "\nNothing was done. Do it with --apply.")
	}
	return nil
}

// sayRefused says why sections cannot be linked.
func sayRefused(cmd *cli.Command, list []api.Refused) {
	for _, r := range list {
		hint := ""
		if r.Override {
			hint = " (give a --reason to link it all the same)"
		}
		say(cmd, "  ▲ %s cannot be linked: %s%s", r.Section.Title, r.Detail, hint)
	}
}

func titles(list []api.SectionRef) string {
	var out []string
	for _, s := range list {
		out = append(out, s.Title)
	}
	return strings.Join(out, ", ")
}

func linkProposals(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	q := url.Values{"sameTeacher": {strconv.FormatBool(!cmd.Bool("any-teacher"))}}
	if cmd.Bool("everything") {
		q.Set("hidden", "*")
	}
	all, err := client.Get[api.SetProposals](ctx, c, "/linked-sets/proposals?"+q.Encode())
	if err != nil {
		return err
	}
	if cmd.Bool("apply") || cmd.Bool("preview") {
		o := api.Order{Act: "link"}
		for _, p := range all.Items {
			w := api.NewSet{LeadID: p.Sections[0].ID, Name: p.Name}
			for _, s := range p.Sections[1:] {
				w.Sections = append(w.Sections, s.ID)
			}
			o.Sets = append(o.Sets, w)
		}
		if len(o.Sets) > 0 {
			return doBatch(ctx, cmd, c, o)
		}
	}
	err = tableOf(all.Items, "No sections of one course and term share a teacher; see also --any-teacher.", []string{"name", "school", "sections", "taught by", "lead", "who teaches several"}, func(p api.SetProposal) []string {
		return []string{p.Name, p.Sections[0].School, titles(p.Sections), taught(p.Sections), p.Sections[0].Code, shared(p.SharedTeachers)}
	}).print(cmd)
	if err != nil || cmd.String("output") != "table" {
		return err
	}
	if all.Hidden > 0 {
		say(cmd, "%s more could be linked and are hidden in lists: --everything", count(all.Hidden, "section"))
	}
	if len(all.Items) > 0 {
		say(cmd, "\nSee what becomes shared with --preview, link %s with --apply, or one with: kanban sections link LEAD SECTION...", count(len(all.Items), "set"))
	}
	return nil
}

// taught names the teachers of sections, each once.
func taught(sections []api.SectionRef) string {
	var names []string
	for _, s := range sections {
		for _, t := range s.Teachers {
			if !slices.Contains(names, t) {
				names = append(names, t)
			}
		}
	}
	return strings.Join(names, ", ")
}

// shared says who teaches several of sections that no one person teaches all of.
func shared(list []api.SharedTeacher) string {
	var said []string
	for _, t := range list {
		said = append(said, t.Teacher+" ("+strings.Join(t.Sections, ", ")+")")
	}
	return strings.Join(said, "; ")
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
