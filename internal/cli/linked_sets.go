package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/roster"
	"kanban/internal/wire/api"
)

func applyFlag() cli.Flag {
	return &cli.BoolFlag{Name: "apply", Usage: "do it; without this it is only shown"}
}

// linkCommands handle several sections as one.
func linkCommands() []*cli.Command {
	return []*cli.Command{
		{
			Name: "linkable", Usage: "What can be linked under a section, and why other sections cannot",
			ArgsUsage: "LEAD", Action: linkable,
			Flags:       []cli.Flag{&cli.StringFlag{Name: "find", Usage: "text in title, code or course"}},
			Description: "  kanban sections linkable PROP-A",
		},
		setsLink(),
		setsProposals(),
		{
			Name: "sets", Usage: "List linked sets", Action: listSets,
			Flags: []cli.Flag{&cli.BoolFlag{
				Name:  "unlinked",
				Usage: "those that were unlinked, with their safety copies",
			}},
			Description: "  kanban sections sets\n  kanban sections sets --unlinked",
		},
		setsChangeSet(),
		setsUnlink(),
		{
			Name: "copies", Usage: "List the safety copies of a set, those of unlinked ones too",
			ArgsUsage: "SECTION|SET", Action: listCopies,
			Description: "  kanban sections copies PROP-A\n  kanban sections copies 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11",
		},
		{
			Name: "copy", Usage: "Download a safety copy: the latest of a section's set, or one by its id",
			ArgsUsage: "SECTION|COPY", Action: downloadCopy,
			Flags: []cli.Flag{&cli.StringFlag{
				Name: "file", Usage: "where to write the ZIP",
				Value: "safety-copy.zip",
			}},
			Description: "  kanban sections copy PROP-A --file before-linking.zip",
		},
		{
			Name: "put-back", Usage: "Put results of a safety copy back that are no longer there", ArgsUsage: "COPY",
			Action: putBack, Flags: []cli.Flag{applyFlag()},
			Description: "Who is in a section comes from the register, and classes follow it; what can be lost are results.\n\n  kanban sections put-back 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11\n  kanban sections put-back 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11 --apply",
		},
		{
			Name: "groups", Usage: "Groups inside classes that are for no section any more", Action: leftGroups,
			Flags: []cli.Flag{&cli.BoolFlag{
				Name:  "remove",
				Usage: "remove those in which nobody is, at the service",
			}},
			Description: "After sections were taken out of a set, or a pairing ended, its groups are left over.\n\n  kanban sections groups\n  kanban sections groups --remove",
		},
	}
}

func setsLink() *cli.Command {
	return &cli.Command{
		Name: "link", Usage: "Handle sections of one course and term as one", ArgsUsage: "LEAD SECTION...",
		Action: linkSections,
		Flags: []cli.Flag{
			applyFlag(), &cli.StringFlag{Name: "name", Usage: "name of the set; the course's title when absent"},
			&cli.StringFlag{
				Name:  "reason",
				Usage: "link although they are of another course or term; kept in the audit trail",
			},
		},
		Description: "Shows what becomes shared. With --apply a safety copy of rosters and results is kept first.\n\n  kanban sections link PROP-A PROP-B PROP-C\n  kanban sections link PROP-A PROP-B PROP-C --apply",
	}
}

func setsProposals() *cli.Command {
	return &cli.Command{
		Name: "proposals", Usage: "Sections that could be linked: same course, same term, same teacher",
		Action: linkProposals,
		Flags: []cli.Flag{
			applyFlag(), &cli.BoolFlag{Name: "preview", Usage: "what becomes shared in each set; nothing is done"},
			&cli.BoolFlag{Name: "any-teacher", Usage: "same course and term, whoever teaches"},
			&cli.BoolFlag{Name: "everything", Usage: "those that lists hide too, such as sections of other terms"},
		},
		Description: "  kanban sections proposals\n  kanban sections proposals --preview\n  kanban sections proposals --apply",
	}
}

func setsChangeSet() *cli.Command {
	return &cli.Command{
		Name: "change-set", Usage: "Add sections to a linked set, take some out, or change its lead",
		ArgsUsage: "SECTION", Action: changeSet,
		Flags: []cli.Flag{
			applyFlag(), &cli.StringSliceFlag{
				Name:  "add",
				Usage: "a section that comes in; can be given several times",
			},
			&cli.StringSliceFlag{Name: "drop", Usage: "a section that goes out; can be given several times"},
			&cli.StringFlag{Name: "lead", Usage: "the section that leads from then on"},
			&cli.StringFlag{
				Name:  "reason",
				Usage: "add although it is of another course or term; kept in the audit trail",
			},
		},
		Description: "SECTION is any section of the set. Shows what becomes of everybody. With --apply a safety copy is kept first.\n\n  kanban sections change-set PROP-A --add PROP-C\n  kanban sections change-set PROP-A --drop PROP-B --apply\n  kanban sections change-set PROP-A --lead PROP-B --apply",
	}
}

func setsUnlink() *cli.Command {
	return &cli.Command{
		Name: "unlink", Usage: "Handle the sections of a set one by one again", ArgsUsage: "SECTION",
		Action: unlinkSections,
		Flags: []cli.Flag{
			applyFlag(), &cli.StringFlag{
				Name:  "target",
				Usage: "what becomes of its class: lead (it stays the lead section's, the others' people are removed with its next run) or end (everybody stays, nothing keeps it in step)",
			},
		},
		Description: "  kanban sections unlink PROP-A\n  kanban sections unlink PROP-A --target lead --apply",
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
	all, err := client.All[api.Linkable](ctx, c,
		"/sections/"+lead.ID+"/linkable?text="+url.QueryEscape(cmd.String("find")))
	if err != nil {
		return err
	}
	return tableOf(all, "No other section fits.", []string{"section", "code", "term", "learners", "can be linked"},
		func(l api.Linkable) []string {
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
		say(cmd, "%s: %s are one now. Unlink them with: kanban sections unlink %s", set.Name, titles(set.Sections),
			set.Sections[0].Code)
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
	err = tableOf(all.Items, "No sections of one course and term share a teacher; see also --any-teacher.",
		[]string{
			"name", "school", "sections", "taught by", "lead",
			"who teaches several",
		}, func(p api.SetProposal) []string {
			return []string{
				p.Name, p.Sections[0].School, titles(p.Sections), taught(p.Sections), p.Sections[0].Code,
				shared(p.SharedTeachers),
			}
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

func listSets(ctx context.Context, cmd *cli.Command) error {
	path, empty := "/linked-sets", "Nothing is linked. See what could be: kanban sections proposals"
	if cmd.Bool("unlinked") {
		path, empty = path+"?unlinked=true", "Nothing was unlinked."
	}
	all, err := client.Get[[]api.LinkedSet](ctx, connect(cmd), path)
	if err != nil {
		return err
	}
	return tableOf(all, empty, []string{"name", "sections", "linked by", "on", "unlinked on", "copies", "reason"},
		func(s api.LinkedSet) []string {
			return []string{
				s.Name, titles(s.Sections), s.MadeBy, moment(&s.CreatedAt), moment(s.UnlinkedAt),
				fmt.Sprint(len(s.Copies)), s.Reason,
			}
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
		return showUnlinking(ctx, cmd, c, set)
	}
	if _, err := client.Post[api.LinkedSet](ctx, c, "/linked-sets/"+set.ID+"/unlink",
		api.Unlinking{Target: cmd.String("target")}); err != nil {
		return err
	}
	say(cmd, "%s are handled one by one again.", titles(set.Sections))
	return nil
}

// showUnlinking says what becomes of everybody, with what was chosen for its classes, or
// with either.
func showUnlinking(ctx context.Context, cmd *cli.Command, c *client.Client, set api.LinkedSet) error {
	target := cmd.String("target")
	if target == "" && len(set.Targets) > 0 {
		say(cmd, "%s would be handled one by one again: %s.", set.Name, titles(set.Sections))
		classes, err := client.Get[[]api.ClassEffects](ctx, c, "/linked-sets/"+set.ID+"/unlinking?target=lead")
		if err != nil {
			return err
		}
		for _, x := range classes {
			out := slices.DeleteFunc(x.People, func(p api.Affected) bool { return p.Effect != roster.Removed })
			say(cmd, "  %s: with --target lead it stays %s's, and %s of the others are removed with its next run",
				x.Target, set.Sections[0].Title, numbered(len(out), "person", "people"))
			say(cmd, "  %s  with --target end everybody stays, and nothing keeps it in step",
				strings.Repeat(" ", len([]rune(x.Target))))
		}
		say(cmd, "\nNothing was done. See who that is with --target, do it with --apply.")
		return nil
	}
	classes := []api.ClassEffects{}
	if target != "" {
		var err error
		if classes, err = client.Get[[]api.ClassEffects](ctx, c,
			"/linked-sets/"+set.ID+"/unlinking?target="+url.QueryEscape(target)); err != nil {
			return err
		}
	}
	if err := showEffects(cmd, classes); err != nil || cmd.String("output") != "table" {
		return err
	}
	say(cmd, "%s would be handled one by one again: %s.", set.Name, titles(set.Sections))
	say(cmd, "\nNothing was done. Do it with --apply.")
	return nil
}

// effectWords say what becomes of somebody at the other side.
var effectWords = map[roster.Effect]string{
	roster.Removed: "is removed", roster.Added: "is added",
	roster.NotAdded: "is not added", roster.Stays: "stays",
}

// manyEffects say the same of several.
var manyEffects = map[roster.Effect]string{
	roster.Removed: "are removed", roster.Added: "are added",
	roster.NotAdded: "are not added", roster.Stays: "stay",
}

// showEffects lists everybody with what becomes of them in each class.
func showEffects(cmd *cli.Command, classes []api.ClassEffects) error {
	type line struct {
		Target string `json:"target"`
		api.Affected
	}
	var lines []line
	n := map[roster.Effect]int{}
	for _, x := range classes {
		for _, p := range x.People {
			lines = append(lines, line{x.Target, p})
			n[p.Effect]++
		}
	}
	t := tableOf(lines, "There is no class whose people it concerns.",
		[]string{"class", "person", "role", "what becomes of them", "why"}, func(l line) []string {
			return []string{l.Target, l.Name, string(l.Role), effectWords[l.Effect], l.Why}
		})
	t.value = classes
	if err := t.print(cmd); err != nil || cmd.String("output") != "table" || len(lines) == 0 {
		return err
	}
	var said []string
	for _, f := range roster.Effects {
		if n[f] > 0 {
			word := effectWords[f]
			if n[f] > 1 {
				word = manyEffects[f]
			}
			said = append(said, fmt.Sprintf("%d %s", n[f], word))
		}
	}
	say(cmd, "\n%s: %s.", numbered(len(lines), "person", "people"), strings.Join(said, ", "))
	return nil
}

func changeSet(ctx context.Context, cmd *cli.Command) error {
	c, set, err := linkedSet(ctx, cmd)
	if err != nil {
		return err
	}
	in := api.EditSet{Reason: cmd.String("reason")}
	for flag, into := range map[string]*[]string{"add": &in.Add, "drop": &in.Drop} {
		for _, name := range cmd.StringSlice(flag) {
			x, err := findPart(ctx, c, name)
			if err != nil {
				return err
			}
			*into = append(*into, x.ID)
		}
	}
	if name := cmd.String("lead"); name != "" {
		x, err := findPart(ctx, c, name)
		if err != nil {
			return err
		}
		in.LeadID = x.ID
	}
	if cmd.Bool("apply") {
		after, err := client.Edit[api.LinkedSet](ctx, c, http.MethodPatch, "/linked-sets/"+set.ID, set.Version, in)
		if err != nil {
			return err
		}
		say(cmd, "%s is now: %s. The lead is %s.", after.Name, titles(after.Sections), after.Sections[0].Title)
		return nil
	}
	x, err := client.Post[api.SetEdited](ctx, c, "/linked-sets/"+set.ID+"/outlook", in)
	if err != nil {
		return err
	}
	if cmd.String("output") != "table" {
		return showEffects(cmd, x.Classes)
	}
	if len(x.Refused) == 0 {
		if err := showEffects(cmd, x.Classes); err != nil {
			return err
		}
	}
	say(cmd, "%s would be: %s. The lead would be %s.", set.Name, titles(x.Sections), x.Sections[0].Title)
	sayRefused(cmd, x.Refused)
	if len(x.Refused) > 0 {
		return nil
	}
	say(cmd, "\nNothing was done. Do it with --apply; its classes' next runs do what is shown.")
	return nil
}

// copiesOf finds the safety copies of a section's set, or of a set by its id.
func copiesOf(ctx context.Context, cmd *cli.Command) (*client.Client, api.LinkedSet, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.LinkedSet{}, err
	}
	c := connect(cmd)
	if _, err := uuid.Parse(args[0]); err == nil {
		if set, err := client.Get[api.LinkedSet](ctx, c, "/linked-sets/"+args[0]); err == nil {
			return c, set, nil
		}
	}
	c, set, err := linkedSet(ctx, cmd)
	if errors.Is(err, errUsage) {
		return c, set, fmt.Errorf("%w; sets that were unlinked: kanban sections sets --unlinked --ids", err)
	}
	return c, set, err
}

func listCopies(ctx context.Context, cmd *cli.Command) error {
	_, set, err := copiesOf(ctx, cmd)
	if err != nil {
		return err
	}
	return tableOf(set.Copies, "No copy was kept.", []string{"copy", "kept", "people", "results"},
		func(x api.CopyRef) []string {
			return []string{x.ID, moment(&x.CreatedAt), fmt.Sprint(x.People), fmt.Sprint(x.Results)}
		}).print(cmd)
}

func downloadCopy(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	var text []byte
	var holds string
	_, parseErr := uuid.Parse(args[0])
	if parseErr == nil {
		text, parseErr = c.Download(ctx, "/safety-copies/"+args[0])
	}
	if parseErr != nil { // no copy by that id: a section's set
		_, set, err := copiesOf(ctx, cmd)
		if err == nil && len(set.Copies) == 0 {
			err = fmt.Errorf("%s has no safety copy", set.Name)
		}
		if err == nil {
			holds = fmt.Sprintf(": rosters of %d people and %s", set.Copies[0].People,
				count(set.Copies[0].Results, "result"))
			text, err = c.Download(ctx, "/safety-copies/"+set.Copies[0].ID)
		}
		if err != nil {
			return err
		}
	}
	if err := os.WriteFile(cmd.String("file"), text, 0o600); err != nil {
		return err
	}
	say(cmd, "Written to %s%s.", cmd.String("file"), holds)
	return nil
}

func putBack(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	var x api.PutBack
	if cmd.Bool("apply") {
		x, err = client.Post[api.PutBack](ctx, c, "/safety-copies/"+args[0]+"/put-back", nil)
	} else {
		x, err = client.Get[api.PutBack](ctx, c, "/safety-copies/"+args[0]+"/outlook")
	}
	if err != nil {
		return err
	}
	t := tableOf(x.Back, "Nothing of this copy is missing.", []string{"section", "person", "identifier", "activity"},
		func(r api.BackResult) []string {
			return []string{r.Code, r.Person, r.Identifier, r.ActivityID}
		})
	t.value = x
	if err := t.print(cmd); err != nil || cmd.String("output") != "table" {
		return err
	}
	say(cmd, "\n%s missing; %d are there and stay as they are; %d are of people or sections that are gone.",
		numbered(len(x.Back), "result is", "results are"), x.There, x.Gone)
	switch {
	case cmd.Bool("apply"):
		say(cmd, "They were put back; progress is being worked out from them.")
	case len(x.Back) > 0:
		say(cmd, "Nothing was done. Put them back with --apply.")
	}
	return nil
}

func leftGroups(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	all, err := client.Get[[]api.LeftGroup](ctx, c, "/left-groups")
	if err != nil {
		return err
	}
	if err := tableOf(all, "No group is left over.", []string{"group", "class", "was for", "people in it"},
		func(g api.LeftGroup) []string {
			people := fmt.Sprint(g.Members)
			switch {
			case g.Problem != "":
				people = "not known: " + g.Problem
			case g.Gone:
				people = "it is gone there"
			}
			return []string{cmp.Or(g.Name, g.Section), g.Class, g.Section, people}
		}).print(cmd); err != nil {
		return err
	}
	empty := slices.DeleteFunc(slices.Clone(all), func(g api.LeftGroup) bool {
		return g.Members > 0 ||
			g.Problem != ""
	})
	if !cmd.Bool("remove") {
		if len(empty) > 0 && cmd.String("output") == "table" {
			say(cmd, "\nNobody is in %d of them: remove those with --remove.", len(empty))
		}
		return nil
	}
	for _, g := range empty {
		if _, err := client.Post[client.Empty](ctx, c, "/left-groups/remove",
			api.GroupToRemove{InterfaceID: g.InterfaceID, Ref: g.Ref}); err != nil {
			return err
		}
		say(cmd, "%s was removed.", cmp.Or(g.Name, g.Section))
	}
	return nil
}
