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
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/wire/api"
)

// findRule finds a rule by name or id.
func findRule(ctx context.Context, c *client.Client, name string) (api.Rule, error) {
	page, err := client.Get[api.Page[api.Rule]](ctx, c, "/rules")
	if err != nil {
		return api.Rule{}, err
	}
	i := slices.IndexFunc(page.Items, func(r api.Rule) bool { return r.ID == name || strings.EqualFold(r.Name, name) })
	if i < 0 {
		return api.Rule{}, fmt.Errorf("%w: there is no rule %q; list them with: kanban rules list", errUsage, name)
	}
	return page.Items[i], nil
}

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
			Name: "edit", Usage: "Change a rule by the JSON in a file; what it did before keeps its version", ArgsUsage: "NAME",
			Description: "  kanban rules show \"Greet newcomers\" > rule.json\n  kanban rules edit \"Greet newcomers\" --file rule.json",
			Flags:       []cli.Flag{&cli.StringFlag{Name: "file", Required: true, Usage: "the rule as JSON"}},
			Action: func(ctx context.Context, cmd *cli.Command) error {
				c, r, err := ruleNamed(ctx, cmd)
				if err != nil {
					return err
				}
				n := r.NewRule
				if err := readJSON(cmd.String("file"), &n); err != nil {
					return err
				}
				changed, err := client.Send[api.Rule](ctx, c, http.MethodPut, "/rules/"+r.ID, n)
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
				return []string{fmt.Sprint(v.Version), when(&v.At), v.Who, v.Rule.Trigger, v.Rule.Condition, then(v.Rule.Actions)}
			}).print(cmd)
		}},
		{
			Name: "try", Usage: "Render and check what a rule would do, without reaching anybody", ArgsUsage: "NAME",
			Description: "It looks at the latest event that fits, at one of your choice, or at a made-up one. With --send\nmails and events go for real to the test recipient, marked as a test.\n\n  kanban rules try \"Cuttings badge\"\n  kanban rules try \"Cuttings badge\" --send",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "event", Usage: "id of a real event"},
				&cli.BoolFlag{Name: "made-up", Usage: "a made-up event"},
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
		{Name: "look-around", Usage: "Look now who stopped and whose access has ended, instead of at the next quarter of an hour", Action: func(ctx context.Context, cmd *cli.Command) error {
			_, err := client.Post[client.Empty](ctx, connect(cmd), "/look-around", nil)
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
	t, err := client.Post[api.Trial](ctx, c, "/rules/"+r.ID+"/trial", api.TrialRequest{EventID: cmd.String("event"), Made: cmd.Bool("made-up"), Send: cmd.Bool("send")})
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
	return tableOf(t.Steps, "", []string{"then", "through", "after", "if", "what", "there", "problem", "sent"}, func(x api.TrialStep) []string {
		sent := ""
		if x.Sent {
			sent = "to " + t.SentTo
		}
		return []string{x.Kind, x.Connection, x.After, x.If, shown(x.Shown), x.Checked, x.Problem, sent}
	}).print(cmd)
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
		return []string{when(&w.OccurredAt), w.Person, w.Section, w.EventID}
	}).print(cmd)
}

func operationsOf() *cli.Command {
	named := func(ctx context.Context, cmd *cli.Command) (*client.Client, string, string, error) {
		args, err := arguments(cmd, 2)
		if err != nil {
			return nil, "", "", err
		}
		c := connect(cmd)
		conn, err := findConnection(ctx, c, args[0])
		return c, "/connections/" + conn.ID + "/operations/" + url.PathEscape(args[1]), args[1], err
	}
	return &cli.Command{
		Name: "operations", Usage: "Define the calls of a service's own API", Category: "learning",
		Commands: []*cli.Command{
			{Name: "list", Usage: "List the operations of a connection", ArgsUsage: "CONNECTION", Action: func(ctx context.Context, cmd *cli.Command) error {
				args, err := arguments(cmd, 1)
				if err != nil {
					return err
				}
				c := connect(cmd)
				conn, err := findConnection(ctx, c, args[0])
				if err != nil {
					return err
				}
				all, err := client.Get[[]api.Operation](ctx, c, "/connections/"+conn.ID+"/operations")
				if err != nil {
					return err
				}
				return tableOf(all, "No operation yet. Define one: kanban operations define --help", []string{"operation", "call", "values", "works when", "taken back by"}, func(o api.Operation) []string {
					var fields []string
					for _, f := range o.Fields {
						fields = append(fields, f.Name)
					}
					return []string{o.Name, o.Method + " " + o.Path, strings.Join(fields, ", "), o.Success, o.Undo}
				}).print(cmd)
			}},
			{
				Name: "define", Usage: "Define an operation, or define it anew", ArgsUsage: "CONNECTION NAME",
				Description: `  kanban operations define "Plant list" add-label --call "POST /contacts/{email}/labels" --value email --value label \
      --works-when answer.body.ok --taken-back-by remove-label --values-of "label=/labels answer.body"`,
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "call", Required: true, Usage: "method and path; {name} stands for a value"},
					&cli.StringSliceFlag{Name: "value", Usage: "a value that is needed"},
					&cli.StringSliceFlag{Name: "may", Usage: "a value that may be given"},
					&cli.StringSliceFlag{Name: "values-of", Usage: "what a value may be: value=PATH EXPRESSION, over answer.body"},
					&cli.StringFlag{Name: "works-when", Usage: "condition over answer.status and answer.body; every 2xx when absent"},
					&cli.StringFlag{Name: "taken-back-by", Usage: "the operation that takes this one back"},
					&cli.StringFlag{Name: "title", Usage: "what it does, for people"},
				},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					c, path, name, err := named(ctx, cmd)
					if err != nil {
						return err
					}
					o, err := operationFromFlags(cmd)
					if err != nil {
						return err
					}
					if _, err := client.Send[api.Operation](ctx, c, http.MethodPut, path, o); err != nil {
						return err
					}
					say(cmd, "Defined %s. Try it: kanban operations try %q %s", name, cmd.Args().First(), name)
					return nil
				},
			},
			{
				Name: "try", Usage: "Call an operation now, for real", ArgsUsage: "CONNECTION NAME",
				Description: "  kanban operations try \"Plant list\" add-label --with email=maud@fernmoor.example --with label=learner",
				Flags:       []cli.Flag{&cli.StringSliceFlag{Name: "with", Usage: "name=text"}},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					c, path, _, err := named(ctx, cmd)
					if err != nil {
						return err
					}
					values := map[string]any{}
					for _, w := range cmd.StringSlice("with") {
						name, text, ok := strings.Cut(w, "=")
						if !ok {
							return usage(cmd, fmt.Sprintf("--with %q is not of the form name=text", w))
						}
						values[name] = text
					}
					t, err := client.Post[api.OperationTried](ctx, c, path+"/try", api.OperationTry{Values: values})
					if err != nil {
						return err
					}
					if !t.Worked {
						return fmt.Errorf("it did not work: %s", t.Problem)
					}
					say(cmd, "It worked: %d %s", t.Status, t.Answer)
					return nil
				},
			},
			{Name: "remove", Usage: "Remove an operation", ArgsUsage: "CONNECTION NAME", Action: func(ctx context.Context, cmd *cli.Command) error {
				c, path, name, err := named(ctx, cmd)
				if err != nil {
					return err
				}
				if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, path, nil); err != nil {
					return err
				}
				say(cmd, "Removed %s.", name)
				return nil
			}},
		},
	}
}

func operationFromFlags(cmd *cli.Command) (o api.Operation, err error) {
	method, path, ok := strings.Cut(cmd.String("call"), " ")
	if !ok {
		return o, usage(cmd, `--call is a method and a path, such as "POST /contacts"`)
	}
	o = api.Operation{Method: strings.ToUpper(method), Path: strings.TrimSpace(path), Title: cmd.String("title"), Success: cmd.String("works-when"), Undo: cmd.String("taken-back-by")}
	for _, v := range cmd.StringSlice("value") {
		o.Fields = append(o.Fields, rule.OperationField{Name: v, Required: true})
	}
	for _, v := range cmd.StringSlice("may") {
		o.Fields = append(o.Fields, rule.OperationField{Name: v})
	}
	for _, text := range cmd.StringSlice("values-of") {
		name, rest, _ := strings.Cut(text, "=")
		list, expression, ok := strings.Cut(rest, " ")
		i := slices.IndexFunc(o.Fields, func(f rule.OperationField) bool { return f.Name == name })
		if !ok || i < 0 {
			return o, usage(cmd, fmt.Sprintf("--values-of %q is not of the form value=PATH EXPRESSION with one of the values", text))
		}
		o.Fields[i].ListPath, o.Fields[i].List = list, strings.TrimSpace(expression)
	}
	return o, nil
}

func tasksOf() *cli.Command {
	end := func(name, use, path, said string) *cli.Command {
		return &cli.Command{Name: name, Usage: use, ArgsUsage: "TASK", Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			if _, err := client.Post[client.Empty](ctx, connect(cmd), "/tasks/"+args[0]+path, nil); err != nil {
				return err
			}
			say(cmd, said)
			return nil
		}}
	}
	return &cli.Command{
		Name: "tasks", Usage: "What rules gave people to do", Category: "learning",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List open tasks, the most urgent first", Flags: []cli.Flag{&cli.BoolFlag{Name: "done", Usage: "those that are done"}},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					page, err := client.Get[api.Page[api.Task]](ctx, connect(cmd), fmt.Sprintf("/tasks?done=%t", cmd.Bool("done")))
					if err != nil {
						return err
					}
					return tableOf(page.Items, "Nothing to do.", []string{"task", "what", "about", "section", "owner", "due", "done"}, func(t api.Task) []string {
						done := ""
						if t.DoneAt != nil {
							done = when(t.DoneAt) + " by " + t.DoneBy
						}
						return []string{t.ID, t.Title, t.Person, t.Section, t.Owner, when(t.DueAt), done}
					}).print(cmd)
				},
			},
			end("done", "Mark a task as done", "/done", "Done."),
			end("open", "Open a task again", "/open", "The task is open again."),
		},
	}
}

func sheetsOf() *cli.Command {
	return &cli.Command{
		Name: "sheets", Usage: "Sheets that rules fill", Category: "learning",
		Commands: []*cli.Command{
			{Name: "list", Usage: "List the sheets", Action: func(ctx context.Context, cmd *cli.Command) error {
				all, err := client.Get[[]sheetInfo](ctx, connect(cmd), "/sheets")
				if err != nil {
					return err
				}
				return tableOf(all, "No rule has filled a sheet yet.", []string{"sheet", "rows", "latest"}, func(s sheetInfo) []string {
					return []string{s.Name, fmt.Sprint(s.Rows), when(&s.Last)}
				}).print(cmd)
			}},
			{
				Name: "save", Usage: "Save a sheet into a file, as CSV or XLSX by its ending", ArgsUsage: "SHEET FILE",
				Description: "  kanban sheets save Failed failed.xlsx",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					args, err := arguments(cmd, 2)
					if err != nil {
						return err
					}
					kind := "csv"
					if strings.HasSuffix(strings.ToLower(args[1]), ".xlsx") {
						kind = "xlsx"
					}
					body, err := connect(cmd).Download(ctx, "/sheets/"+url.PathEscape(args[0])+"."+kind)
					if err != nil {
						return err
					}
					if err := os.WriteFile(args[1], body, 0o600); err != nil {
						return err
					}
					say(cmd, "Saved %s.", args[1])
					return nil
				},
			},
		},
	}
}

type sheetInfo struct {
	Name string    `json:"name"`
	Rows int       `json:"rows"`
	Last time.Time `json:"last"`
}

// retryMany tries the deliveries of a rule, of a connection, or everything since a
// time again.
func retryMany() *cli.Command {
	return &cli.Command{
		Name: "retry-all", Usage: "Try many deliveries again now: those of a rule, of a connection, or everything since a time",
		Description: "Only what waits for a person, or would be tried later. Each keeps its id.\n\n  kanban deliveries retry-all --to \"Plant news\"\n  kanban deliveries retry-all --since 2h",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "rule", Usage: "of this rule"},
			&cli.StringFlag{Name: "to", Usage: "to this connection"},
			&cli.StringFlag{Name: "since", Usage: "made in the last 90m, 2h or 3d"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			var in api.RetryRequest
			if name := cmd.String("rule"); name != "" {
				r, err := findRule(ctx, c, name)
				if err != nil {
					return err
				}
				in.RuleID = r.ID
			}
			if name := cmd.String("to"); name != "" {
				conn, err := findConnection(ctx, c, name)
				if err != nil {
					return err
				}
				in.ConnectionID = conn.ID
			}
			if text := cmd.String("since"); text != "" {
				span, err := rule.Span(text)
				if err != nil {
					return usage(cmd, err.Error())
				}
				since := time.Now().Add(-span)
				in.Since = &since
			}
			n, err := client.Post[api.Retried](ctx, c, "/deliveries/retry", in)
			if err == nil {
				say(cmd, "Trying %d again.", n.Deliveries)
			}
			return err
		},
	}
}
