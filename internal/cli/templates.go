package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/roster"
	"kanban/internal/wire/api"
)

func templates() *cli.Command {
	return &cli.Command{
		Name: "templates", Usage: "How pairings are made: names of classes and policy; the first is the institution's usual way", Action: editTemplates,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "set", Usage: "make or change the template with this `NAME`"},
			&cli.StringFlag{Name: "drop", Usage: "drop the template with this `NAME`"},
			&cli.BoolFlag{Name: "first", Usage: "with --set: make it the usual one"},
			&cli.StringFlag{Name: "target", Usage: "names the classes, e.g. \"{course} · {teacher}\""},
			&cli.StringFlag{Name: "leavers", Usage: "remove, deactivate or keep people who left"},
			&cli.BoolWithInverseFlag{Name: "hold", Usage: "keep learners back until the class is opened"},
			&cli.BoolWithInverseFlag{Name: "notify", Usage: "let the service tell newcomers about their account"},
			&cli.StringFlag{Name: "schedule", Usage: "by-hand, after-read, \"every 30\", \"daily 06:30\""},
			&cli.StringSliceFlag{Name: "role", Usage: "the roles that are carried"},
		},
		Description: "  kanban pairings templates\n  kanban pairings templates --set Held --target \"{course} · {section}\" --hold --schedule \"every 30\"\n  kanban pairings many template --template Held --course Propagation --apply",
	}
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
		if t, err = edited(cmd, t); err != nil {
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
	return tableOf(list, "", []string{"template", "classes are called", "leavers", "hold", "runs by itself"}, func(t api.Template) []string {
		hold := "no"
		if t.Policy.Hold {
			hold = "until opened"
		}
		return []string{t.Name, t.Target, string(t.Policy.Leavers), hold, t.Policy.Schedule.String()}
	}).print(cmd)
}

func edited(cmd *cli.Command, t api.Template) (api.Template, error) {
	if v := cmd.String("target"); v != "" {
		t.Target = v
	}
	if v := cmd.String("leavers"); v != "" {
		t.Policy.Leavers = roster.Leavers(v)
	}
	if cmd.IsSet("hold") {
		t.Policy.Hold = cmd.Bool("hold")
	}
	if cmd.IsSet("notify") {
		t.Policy.Notify = cmd.Bool("notify")
	}
	if v := cmd.StringSlice("role"); len(v) > 0 {
		t.Policy.Roles = nil
		for _, r := range v {
			t.Policy.Roles = append(t.Policy.Roles, roster.Role(r))
		}
	}
	if v := cmd.String("schedule"); v != "" {
		s, err := parseSchedule(v)
		if err != nil {
			return t, err
		}
		t.Policy.Schedule = s
	}
	return t, nil
}
