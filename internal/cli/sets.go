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
	"strings"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/roster"
	"kanban/internal/wire/api"
)

func listSets(ctx context.Context, cmd *cli.Command) error {
	path, empty := "/linked-sets", "Nothing is linked. See what could be: kanban sections proposals"
	if cmd.Bool("unlinked") {
		path, empty = path+"?unlinked=true", "Nothing was unlinked."
	}
	all, err := client.Get[[]api.LinkedSet](ctx, connect(cmd), path)
	if err != nil {
		return err
	}
	return tableOf(all, empty, []string{"name", "sections", "linked by", "on", "unlinked on", "copies", "reason"}, func(s api.LinkedSet) []string {
		return []string{s.Name, titles(s.Sections), s.MadeBy, moment(&s.CreatedAt), moment(s.UnlinkedAt), fmt.Sprint(len(s.Copies)), s.Reason}
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
	if _, err := client.Post[api.LinkedSet](ctx, c, "/linked-sets/"+set.ID+"/unlink", api.Unlinking{Target: cmd.String("target")}); err != nil {
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
			say(cmd, "  %s: with --target lead it stays %s's, and %s of the others are removed with its next run", x.Target, set.Sections[0].Title, numbered(len(out), "person", "people"))
			say(cmd, "  %s  with --target end everybody stays, and nothing keeps it in step", strings.Repeat(" ", len([]rune(x.Target))))
		}
		say(cmd, "\nNothing was done. See who that is with --target, do it with --apply.")
		return nil
	}
	classes := []api.ClassEffects{}
	if target != "" {
		var err error
		if classes, err = client.Get[[]api.ClassEffects](ctx, c, "/linked-sets/"+set.ID+"/unlinking?target="+url.QueryEscape(target)); err != nil {
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
var effectWords = map[roster.Effect]string{roster.Removed: "is removed", roster.Added: "is added", roster.NotAdded: "is not added", roster.Stays: "stays"}

// manyEffects say the same of several.
var manyEffects = map[roster.Effect]string{roster.Removed: "are removed", roster.Added: "are added", roster.NotAdded: "are not added", roster.Stays: "stay"}

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
	t := tableOf(lines, "There is no class whose people it concerns.", []string{"class", "person", "role", "what becomes of them", "why"}, func(l line) []string {
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
	return tableOf(set.Copies, "No copy was kept.", []string{"copy", "kept", "people", "results"}, func(x api.CopyRef) []string {
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
			holds = fmt.Sprintf(": rosters of %d people and %s", set.Copies[0].People, count(set.Copies[0].Results, "result"))
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
	t := tableOf(x.Back, "Nothing of this copy is missing.", []string{"section", "person", "identifier", "activity"}, func(r api.BackResult) []string {
		return []string{r.Code, r.Person, r.Identifier, r.ActivityID}
	})
	t.value = x
	if err := t.print(cmd); err != nil || cmd.String("output") != "table" {
		return err
	}
	say(cmd, "\n%s missing; %d are there and stay as they are; %d are of people or sections that are gone.", numbered(len(x.Back), "result is", "results are"), x.There, x.Gone)
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
	if err := tableOf(all, "No group is left over.", []string{"group", "class", "was for", "people in it"}, func(g api.LeftGroup) []string {
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
	empty := slices.DeleteFunc(slices.Clone(all), func(g api.LeftGroup) bool { return g.Members > 0 || g.Problem != "" })
	if !cmd.Bool("remove") {
		if len(empty) > 0 && cmd.String("output") == "table" {
			say(cmd, "\nNobody is in %d of them: remove those with --remove.", len(empty))
		}
		return nil
	}
	for _, g := range empty {
		if _, err := client.Post[client.Empty](ctx, c, "/left-groups/remove", api.GroupToRemove{ConnectionID: g.ConnectionID, Ref: g.Ref}); err != nil {
			return err
		}
		say(cmd, "%s was removed.", cmp.Or(g.Name, g.Section))
	}
	return nil
}
