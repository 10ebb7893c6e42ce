package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/naming"
	"kanban/internal/wire/api"
)

func templates() *cli.Command {
	return &cli.Command{
		Name: "templates", Usage: "How pairings are made: names of classes and policy; the first is the institution's usual way", Action: editTemplates,
		Flags: policyFlags(
			&cli.StringFlag{Name: "set", Usage: "make or change the template with this `NAME`"},
			&cli.StringFlag{Name: "drop", Usage: "drop the template with this `NAME`"},
			&cli.BoolFlag{Name: "first", Usage: "with --set: make it the usual one"},
			&cli.StringSliceFlag{
				Name:  "detail",
				Usage: "with --set: what services get to know of a class, `NAME=TEXT`, e.g. \"level=Year {level}\"; names are level, subject, starts, ends; without TEXT it is as the register has it",
			},
			&cli.StringFlag{
				Name:  "target",
				Usage: "names the classes, e.g. \"{course} · {teacher}\"; alone it shows what it would call yours",
			},
		),
		Description: "  kanban pairings templates\n  kanban pairings templates --target \"{course} · {teacher}\"\n  kanban pairings templates --set Held --target \"{course} · {section}\" --hold --schedule \"every 30\"\n  kanban pairings many template --template Held --course Propagation --apply",
	}
}

// changedDetails are the details of classes with those that a command gives; an empty one
// goes.
func changedDetails(cmd *cli.Command, before map[string]string) (map[string]string, error) {
	given, err := detailsOf(cmd)
	merged := maps.Clone(before)
	for name, text := range given {
		if merged == nil {
			merged = map[string]string{}
		}
		if merged[name] = text; text == "" {
			delete(merged, name)
		}
	}
	return merged, err
}

func editTemplates(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	list, err := client.Get[[]api.Template](ctx, c, "/templates")
	if err != nil {
		return err
	}
	named := func(name string) func(api.Template) bool {
		return func(t api.Template) bool { return strings.EqualFold(t.Name, name) }
	}
	changed := false
	if target := cmd.String("target"); target != "" && cmd.String("set") == "" {
		return tryName(ctx, cmd, c, target)
	}
	if name := cmd.String("drop"); name != "" {
		was := len(list)
		if list = slices.DeleteFunc(list, named(name)); len(list) == was {
			return fmt.Errorf("%w: there is no template %q", errUsage, name)
		}
		changed = true
	}
	if name := cmd.String("set"); name != "" {
		t := list[0]
		t.Name = name
		if i := slices.IndexFunc(list, named(name)); i >= 0 {
			t = list[i]
			list = slices.Delete(list, i, i+1)
		}
		t.Target = cmp.Or(cmd.String("target"), t.Target)
		if t.Details, err = changedDetails(cmd, t.Details); err != nil {
			return err
		}
		if err := changePolicy(cmd, &t.Policy); err != nil {
			return err
		}
		if changed = true; cmd.Bool("first") {
			list = slices.Insert(list, 0, t)
		} else {
			list = append(list, t)
		}
	}
	if changed {
		if list, err = client.Send[[]api.Template](ctx, c, http.MethodPut, "/templates", list); err != nil {
			return err
		}
	}
	return tableOf(list, "", []string{
		"template", "classes are called", "leavers", "hold", "runs by itself",
		"services get to know",
	}, func(t api.Template) []string {
		hold := "no"
		if t.Policy.Hold {
			hold = "until opened"
		}
		return []string{
			t.Name, t.Target, string(t.Policy.Leavers), hold, t.Policy.Schedule.String(),
			details(t.Details),
		}
	}).print(cmd)
}

// details are templates for what services are told of a class, in one line.
func details(all map[string]string) string {
	var said []string
	for _, name := range slices.Sorted(maps.Keys(all)) {
		said = append(said, name+"="+all[name])
	}
	return strings.Join(said, ", ")
}

// tryName shows what a template would call the classes of the sections that lists show.
func tryName(ctx context.Context, cmd *cli.Command, c *client.Client, target string) error {
	t, err := client.Get[naming.Naming](ctx, c, "/templates/names?target="+url.QueryEscape(target))
	if err != nil {
		return err
	}
	tab := tableOf(t.Examples, "No section is listed.", []string{"section", "its class would be called"},
		func(n naming.Named) []string { return []string{n.Section, n.Name} })
	tab.value = t
	if err := tab.print(cmd); err != nil {
		return err
	}
	for _, x := range t.Shared {
		say(cmd, "%d classes would be called %s: %s", len(x.Sections), x.Name, strings.Join(x.Sections, ", "))
	}
	for _, x := range t.Unfit {
		say(cmd, "%s: %s", x.Section, x.Problem)
	}
	return nil
}
