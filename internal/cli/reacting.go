package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/wire/api"
)

// ruleNamed finds the rule that the one argument names.
func ruleNamed(ctx context.Context, cmd *cli.Command) (*client.Client, api.Rule, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.Rule{}, err
	}
	c := connect(cmd)
	r, err := findRule(ctx, c, args[0])
	return c, r, err
}

// ruleWork are the commands for one rule beside making and switching it.
func ruleWork() []*cli.Command {
	days := &cli.IntFlag{Name: "days", Value: 30, Usage: "how many days to look back"}
	return []*cli.Command{
		{Name: "show", Usage: "Show a rule as the JSON that add and edit read", ArgsUsage: "NAME", Action: func(ctx context.Context, cmd *cli.Command) error {
			_, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			text, err := json.MarshalIndent(r.NewRule, "", "  ")
			fmt.Fprintln(out(cmd), string(text))
			return err
		}},
		{
			Name: "unsubscribed", Usage: "List who wants no more mails of a rule; with --again somebody gets them again", ArgsUsage: "NAME",
			Description: "  kanban rules unsubscribed \"Nudge\"\n  kanban rules unsubscribed \"Nudge\" --again ada.alder@fernmoor.example",
			Flags:       []cli.Flag{&cli.StringFlag{Name: "again", Usage: "the address that gets the mails again"}},
			Action: func(ctx context.Context, cmd *cli.Command) error {
				c, r, err := ruleNamed(ctx, cmd)
				if err != nil {
					return err
				}
				if address := cmd.String("again"); address != "" {
					if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/rules/"+r.ID+"/unsubscribed/"+url.PathEscape(address), nil); err != nil {
						return err
					}
					say(cmd, "%s gets the mails of %s again.", address, r.Name)
					return nil
				}
				page, err := client.Get[api.Page[api.Unsubscribed]](ctx, c, "/rules/"+r.ID+"/unsubscribed")
				if err != nil {
					return err
				}
				return tableOf(page.Items, "Everybody gets its mails.", []string{"address", "since"}, func(u api.Unsubscribed) []string {
					return []string{u.Address, moment(&u.At)}
				}).print(cmd)
			},
		},
		{
			Name: "edit", Usage: "Change a rule by the JSON in a file; what it did before keeps its version", ArgsUsage: "NAME",
			Description: "  kanban rules show \"Greet newcomers\" > rule.json\n  kanban rules edit \"Greet newcomers\" --file rule.json",
			Flags:       append(toComeFlags("when the actions change: "), &cli.StringFlag{Name: "file", Required: true, Usage: "the rule as JSON"}),
			Action: func(ctx context.Context, cmd *cli.Command) error {
				toCome, err := toComeFrom(cmd)
				if err != nil {
					return err
				}
				query := ""
				if toCome != "" {
					query = "?toCome=" + toCome
				}
				c, r, err := ruleNamed(ctx, cmd)
				if err != nil {
					return err
				}
				n := r.NewRule
				if err := readJSON(cmd.String("file"), &n); err != nil {
					return err
				}
				changed, err := client.Edit[api.Rule](ctx, c, http.MethodPut, "/rules/"+r.ID+query, r.Version, n)
				if err == nil {
					say(cmd, "%q is version %d now.", changed.Name, changed.Version)
				}
				return err
			},
		},
		{Name: "remove", Usage: "Remove a rule that is off and never did anything", ArgsUsage: "NAME", Action: func(ctx context.Context, cmd *cli.Command) error {
			c, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/rules/"+r.ID, nil); err != nil {
				return err
			}
			say(cmd, "Removed the rule %q.", r.Name)
			return nil
		}},
		{Name: "checklist", Usage: "What of a rule is done, and the next step", ArgsUsage: "NAME", Action: func(ctx context.Context, cmd *cli.Command) error {
			c, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			list, err := client.Get[api.Checklist](ctx, c, "/rules/"+r.ID+"/checklist")
			if err != nil {
				return err
			}
			return printChecklist(cmd, list)
		}},
		{Name: "versions", Usage: "What a rule was like, the newest first", ArgsUsage: "NAME", Action: func(ctx context.Context, cmd *cli.Command) error {
			c, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			all, err := client.Get[[]api.RuleVersion](ctx, c, "/rules/"+r.ID+"/versions")
			if err != nil {
				return err
			}
			return tableOf(all, "", []string{"version", "at", "who", "when", "if", "then"}, func(v api.RuleVersion) []string {
				return []string{fmt.Sprint(v.Version), moment(&v.At), v.Who, v.Rule.Trigger, v.Rule.Condition, then(v.Rule.Actions)}
			}).print(cmd)
		}},
		{
			Name: "try", Usage: "Render and check what a rule would do, without reaching anybody", ArgsUsage: "NAME",
			Description: "It looks at the latest event that fits, at one of your choice, or at a made-up one. With --send\nmails and events go for real to the test recipient, marked as a test.\n\n  kanban rules try \"Cuttings badge\"\n  kanban rules try \"Cuttings badge\" --send",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "event", Usage: "id of a real event"},
				&cli.BoolFlag{Name: "made-up", Usage: "a made-up event"},
				&cli.BoolFlag{Name: "anyway", Usage: "with --send: send even when the condition does not hold for the event"},
				&cli.BoolFlag{Name: "send", Usage: "send to the test recipient"},
			},
			Action: tryRule,
		},
		{
			Name: "look-back", Usage: "What a rule would have done in the last days", ArgsUsage: "NAME", Flags: []cli.Flag{days},
			Action: func(ctx context.Context, cmd *cli.Command) error {
				c, r, err := ruleNamed(ctx, cmd)
				if err != nil {
					return err
				}
				b, err := client.Get[api.LookBack](ctx, c, fmt.Sprintf("/rules/%s/look-back?days=%d", r.ID, cmd.Int("days")))
				if err != nil {
					return err
				}
				return printLookBack(cmd, b)
			},
		},
		{
			Name: "catch-up", Usage: "Let a rule that is on do what a look back shows", ArgsUsage: "NAME",
			Flags: []cli.Flag{days, &cli.BoolFlag{Name: "apply", Usage: "do it; without, it is only shown"}},
			Action: func(ctx context.Context, cmd *cli.Command) error {
				c, r, err := ruleNamed(ctx, cmd)
				if err != nil {
					return err
				}
				b, err := client.Get[api.LookBack](ctx, c, fmt.Sprintf("/rules/%s/look-back?days=%d", r.ID, cmd.Int("days")))
				if err != nil {
					return err
				}
				if !cmd.Bool("apply") {
					if err := printLookBack(cmd, b); err != nil {
						return err
					}
					say(cmd, "Nothing was done. Do it with --apply.")
					return nil
				}
				n, err := client.Post[api.CaughtUp](ctx, c, "/rules/"+r.ID+"/catch-up", api.CatchUp{Since: b.Since, Count: len(b.Would)})
				if err == nil {
					say(cmd, "%q catches up with %s.", r.Name, count(n.Events, "event"))
				}
				return err
			},
		},
		{Name: "test-recipient", Usage: "Show or set where test sends go", ArgsUsage: "[ADDRESS]", Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			if cmd.Args().Len() == 0 {
				now, err := client.Get[api.Recipient](ctx, c, "/test-recipient")
				if err == nil && now.Address == "" {
					now.Address = "nobody yet"
				}
				say(cmd, "Test sends go to %s.", now.Address)
				return err
			}
			set, err := client.Send[api.Recipient](ctx, c, http.MethodPut, "/test-recipient", api.Recipient{Address: cmd.Args().First()})
			if err == nil {
				say(cmd, "Test sends go to %s.", set.Address)
			}
			return err
		}},
		{Name: "check-now", Usage: "Look now who stopped, whose access has ended and whether what rules need at services is there, instead of at the next quarter of an hour", Action: func(ctx context.Context, cmd *cli.Command) error {
			_, err := client.Post[client.Empty](ctx, connect(cmd), "/check-now", nil)
			if err == nil {
				say(cmd, "Looked.")
			}
			return err
		}},
		{Name: "names", Usage: "What conditions and texts can refer to", ArgsUsage: "TRIGGER", Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			all, err := client.Get[[]rule.Attribute](ctx, connect(cmd), "/triggers/"+url.PathEscape(args[0]))
			if err != nil {
				return err
			}
			return tableOf(all, "", []string{"name", "is", "about", "for example"}, func(a rule.Attribute) []string {
				return []string{a.Path, a.Type, a.About, fmt.Sprint(a.Sample)}
			}).print(cmd)
		}},
	}
}

func readJSON(path string, into any) error {
	text, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(text, into)
	}
	if err != nil {
		return fmt.Errorf("reading %s: %w", path, err)
	}
	return nil
}

func then(actions []rule.Action) string {
	parts := make([]string, len(actions))
	for i, a := range actions {
		parts[i] = strings.ReplaceAll(a.Kind, "-", " ")
		if a.After != "" {
			parts[i] = "after " + a.After + " " + parts[i]
		}
	}
	return strings.Join(parts, ", ")
}

func tryRule(ctx context.Context, cmd *cli.Command) error {
	c, r, err := ruleNamed(ctx, cmd)
	if err != nil {
		return err
	}
	t, err := client.Post[api.Trial](ctx, c, "/rules/"+r.ID+"/trial", api.TrialRequest{EventID: cmd.String("event"), Made: cmd.Bool("made-up"), Send: cmd.Bool("send"), Anyway: cmd.Bool("anyway")})
	if err != nil {
		return err
	}
	if cmd.String("output") == "table" {
		on := "a made-up event"
		if t.EventID != "" {
			on = "the event " + t.EventID
		}
		if t.Person != "" {
			on += ", about " + t.Person
		}
		fmt.Fprintf(out(cmd), "Tried on %s. The condition %s.\n", on, t.Condition)
	}
	err = tableOf(t.Steps, "", []string{"then", "through", "after", "if", "what", "there", "problem", "sent"}, func(x api.TrialStep) []string {
		sent := ""
		if x.Sent {
			sent = "to " + t.SentTo
		}
		return []string{x.Kind, x.Connection, x.After, x.If, shown(x.Shown), x.Checked, x.Problem, sent}
	}).print(cmd)
	if err != nil || t.Passed {
		return err
	}
	if cmd.Bool("send") && t.SentTo == "" {
		say(cmd, "\nNothing was sent, because the condition does not hold for this event; --anyway sends all the same.")
	}
	say(cmd, "\nThe trial was not passed.")
	return cli.Exit("", ExitNeedsPerson)
}

// shown puts named values on one line.
func shown(values map[string]any) string {
	names := make([]string, 0, len(values))
	for name := range values {
		names = append(names, name)
	}
	slices.Sort(names)
	parts := make([]string, len(names))
	for i, name := range names {
		text := fmt.Sprint(values[name])
		if nested, ok := values[name].(map[string]any); ok {
			text = "(" + shown(nested) + ")"
		}
		parts[i] = name + ": " + strings.Join(strings.Fields(text), " ")
	}
	return strings.Join(parts, ", ")
}

func printLookBack(cmd *cli.Command, b api.LookBack) error {
	if cmd.String("output") == "table" {
		fmt.Fprintf(out(cmd), "Since %s: %s, the condition held for %d, done already for %d, %d to do.\n", when(&b.Since), count(b.Events, "event"), b.Held, b.Already, len(b.Would))
		if b.Unclear > 0 {
			fmt.Fprintf(out(cmd), "For %d the condition cannot be worked out.\n", b.Unclear)
		}
		if b.More {
			fmt.Fprintln(out(cmd), "There were more events than can be looked at in one go; look at fewer days.")
		}
	}
	return tableOf(b.Would, "It would have done nothing.", []string{"at", "person", "section", "event"}, func(w api.WouldFire) []string {
		return []string{moment(&w.OccurredAt), w.Person, w.Section, w.EventID}
	}).print(cmd)
}
