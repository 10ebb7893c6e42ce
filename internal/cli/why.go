package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func why() *cli.Command {
	return &cli.Command{
		Name: "why", Usage: "Why something has happened to somebody, or has not", ArgsUsage: "PERSON [THING]",
		Category: "learning",
		Description: `A thing is a section, a badge, a stage, a rule, the assignment of a score, or an event such as a finished module. Each
step says what is needed and what is there, up to the one at which it ended, with who can mend it and when it is looked
at again. Without a thing, all that can be asked about is listed.

  kanban why stu-012 PROP-A
  kanban why "Cleo Clover" "Cuttings badge"
  kanban why cleo@school.example --kind rule Welcome
  kanban why stu-012 --kind event "module cuttings"
  kanban why stu-012`,
		Flags: []cli.Flag{&cli.StringFlag{Name: "kind", Usage: "`KIND`: section, badge, stage, rule, score or event"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args := cmd.Args().Slice()
			if len(args) == 0 || len(args) > 2 {
				return usage(cmd, "give a person, and a thing")
			}
			c := connect(cmd)
			p, err := onePerson(ctx, c, args[0])
			if err != nil {
				return err
			}
			text := ""
			if len(args) == 2 {
				text = args[1]
			}
			things, err := thingsOf(ctx, cmd, c, p.ID, text)
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return listed(cmd, things)
			}
			t, err := oneThing(cmd, things, text)
			if err != nil {
				return err
			}
			q := url.Values{"kind": {t.Kind}, "thing": {t.ID}}
			a, err := client.Get[api.Why](ctx, c, "/people/"+p.ID+"/why?"+q.Encode())
			if err != nil {
				return err
			}
			return sayWhy(cmd, a)
		},
	}
}

func thingsOf(ctx context.Context, cmd *cli.Command, c *client.Client, person, text string) ([]api.Thing, error) {
	page, err := client.Get[api.Page[api.Thing]](ctx, c, "/people/"+person+"/things?text="+url.QueryEscape(text))
	var fit []api.Thing
	for _, t := range page.Items {
		if kind := cmd.String("kind"); kind == "" || kind == t.Kind {
			fit = append(fit, t)
		}
	}
	if more := page.Total - len(page.Items); err == nil && more > 0 {
		fmt.Fprintf(os.Stderr, "%d more fit; give more of the name\n", more)
	}
	return fit, err
}

func listed(cmd *cli.Command, things []api.Thing) error {
	return tableOf(things, "Nothing can be asked about.", []string{"kind", "thing", "apart"},
		func(t api.Thing) []string { return []string{t.Kind, t.Title, t.Apart} }).print(cmd)
}

// oneThing is the thing that a text names: the one of exactly that title, or code, or the only one that fits.
func oneThing(cmd *cli.Command, things []api.Thing, text string) (api.Thing, error) {
	var exact []api.Thing
	for _, t := range things {
		code, _, _ := strings.Cut(t.Apart, " ")
		if strings.EqualFold(t.Title, text) || strings.EqualFold(code, text) {
			exact = append(exact, t)
		}
	}
	switch {
	case len(exact) == 1:
		return exact[0], nil
	case len(things) == 1:
		return things[0], nil
	case len(things) == 0:
		return api.Thing{}, fmt.Errorf("%w: nothing of theirs is called %q; see what there is: kanban why PERSON", errUsage, text)
	}
	if err := listed(cmd, things); err != nil {
		return api.Thing{}, err
	}
	// Which of them is meant is not guessed.
	return api.Thing{}, errors.New("several fit; name one whole, or say its --kind")
}

func sayWhy(cmd *cli.Command, a api.Why) error {
	if cmd.String("output") != "table" {
		return printJSON(cmd, a)
	}
	did := "no"
	if a.Happened {
		did = "yes"
	}
	say(cmd, "%s, %s %s: %s", a.Person, a.Thing.Kind, a.Thing.Title, did)
	for _, x := range a.Steps {
		mark := "●"
		if !x.Met {
			mark = "○"
		}
		line := fmt.Sprintf("  %s %s: %s", mark, x.Needed, x.Found)
		if x.At != nil {
			line += " (" + x.At.Local().Format("2006-01-02 15:04") + ")"
		}
		say(cmd, "%s", line)
		if x.Remedy != "" {
			say(cmd, "    what to do: %s", x.Remedy)
		}
		if x.Owner != "" {
			say(cmd, "    who can: %s", x.Owner)
		}
		if x.Code != "" {
			say(cmd, "    more about it: kanban explain %s", x.Code)
		}
	}
	if a.Again != "" {
		again := a.Again
		if a.AgainAt != nil {
			again += ", " + a.AgainAt.Local().Format("2006-01-02 15:04")
		}
		say(cmd, "Looked at again %s.", again)
	}
	return nil
}
