package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func listUnpaired(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	conn, err := findInterface(ctx, c, args[0])
	if err != nil {
		return err
	}
	all, err := unpairedAt(ctx, c, conn, cmd.Bool("ignored"))
	if err != nil {
		return err
	}
	empty := "Every class of " + conn.Name + " is paired or ignored."
	if cmd.Bool("ignored") {
		empty = "No class of " + conn.Name + " is ignored."
	}
	if err := tableOf(all, empty, []string{"class", "id", "people", "probably", "why", "ignored by"},
		func(u api.UnpairedClass) []string {
			probably, why := "", ""
			if len(u.Guesses) > 0 {
				g := u.Guesses[0]
				probably, why = label(g.Section), fmt.Sprintf("%d of its %d people, %d of 100", g.Shared, u.Members,
					g.Score)
				if g.Paired != "" {
					why += "; but that is paired with " + g.Paired
				}
			}
			if u.Tied {
				first, second := u.Guesses[0].Section, u.Guesses[1].Section
				if label(first) == label(second) { // they look alike
					probably = fmt.Sprintf("%s [%s] or %s [%s]", label(first), first.ID, label(second), second.ID)
				} else {
					probably += " or " + label(second)
				}
			}
			return []string{u.Name, u.Ref, fmt.Sprint(u.Members), probably, why, u.IgnoredBy}
		}).print(cmd); err != nil || cmd.String("output") != "table" || len(all) == 0 || cmd.Bool("ignored") {
		return err
	}
	for _, u := range all {
		if len(u.Guesses) > 0 && !u.Tied && u.Guesses[0].Paired == "" {
			say(cmd, "\nAdopt one: kanban pairings add %s %q --class %s", u.Guesses[0].Section.Code, conn.Name, u.Ref)
			break
		}
	}
	say(cmd, "Ignore one: kanban pairings ignore %q CLASS", conn.Name)
	return nil
}

func label(s api.SectionRef) string { return s.Title + " (" + s.Code + ")" }

func unpairedAt(ctx context.Context, c *client.Client, conn api.Interface, ignored bool) ([]api.UnpairedClass,
	error,
) {
	return client.Get[[]api.UnpairedClass](ctx, c, fmt.Sprintf("/interfaces/%s/unpaired?ignored=%t", conn.ID,
		ignored))
}

func ignoreClasses(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() < 2 {
		return usage(cmd, "an interface and at least one class are needed")
	}
	c := connect(cmd)
	conn, err := findInterface(ctx, c, cmd.Args().First())
	if err != nil {
		return err
	}
	all, err := unpairedAt(ctx, c, conn, cmd.Bool("undo"))
	if err != nil {
		return err
	}
	in := api.Ignoring{Ignore: !cmd.Bool("undo")}
	for _, name := range cmd.Args().Tail() {
		fit := slices.DeleteFunc(slices.Clone(all), func(u api.UnpairedClass) bool {
			return u.Ref != name &&
				!strings.EqualFold(u.Name, name)
		})
		switch len(fit) {
		case 0:
			return fmt.Errorf("%w: no class like that of %s is called %q; see them with: kanban pairings unpaired %q",
				errUsage, conn.Name, name, conn.Name)
		case 1:
			in.Refs = append(in.Refs, fit[0].Ref)
		default:
			var list []candidate
			for _, u := range fit {
				list = append(list, candidate{u.Ref, fmt.Sprintf("%s, %d people", u.Name, u.Members)})
			}
			return ambiguous("classes of "+conn.Name, name, list)
		}
	}
	if _, err := client.Post[client.Empty](ctx, c, "/interfaces/"+conn.ID+"/unpaired/ignore", in); err != nil {
		return err
	}
	if in.Ignore {
		say(cmd, "%s ignored. See what is: kanban pairings unpaired %q --ignored",
			numbered(len(in.Refs), "class is", "classes are"), conn.Name)
		return nil
	}
	say(cmd, "%s no longer ignored.", numbered(len(in.Refs), "class is", "classes are"))
	return nil
}
