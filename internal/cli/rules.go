package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/wire/api"
	"kanban/internal/wire/config"
)

func rules() *cli.Command {
	return &cli.Command{
		Name: "rules", Usage: "Let things happen when people join or finish", Category: "learning",
		Commands: append([]*cli.Command{
			{Name: "list", Usage: "List rules", Action: listRules},
			rulesAdd(),
			rulesReady(),
			switchRule("on", true), switchRule("off", false),
		}, ruleWork()...),
	}
}

func rulesAdd() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "Make a rule, which is off at first", ArgsUsage: "NAME", Action: addRule,
		Description: `Actions happen in the order award, enrol, unenrol, call-operation, send-event, mail, task, append-row. Anything
else, such as several of a kind or a delay in the middle, is written into a file: kanban rules show prints one,
kanban config apply takes it in.

  kanban rules add "Greet newcomers" --when section.joined --if 'event.role == "student"' \
      --send-event "Plant news" --field email=person.email --field 'label="learner"'
  kanban rules add "Cuttings badge" --when module.completed --module mod-cuttings --award "Cuttings" \
      --mail "School mail" --subject "Well done, {{.person.givenName}}" --text "Your badge: {{.award.address}}"
  kanban rules add "Nudge" --when person.inactive --days 7 --if '!progress.courseDone' \
      --mail "School mail" --subject "We miss you" --text "Dear {{.person.givenName}}, …" --quiet-hours 20:00-08:00
  kanban rules add "To repeat" --when assessment.failed --undone-by assessment.passed \
      --call-operation "Plant list/add-label" --field email=person.email --field 'label="to-repeat"'`,
		Flags: slices.Concat(conditionFlags(), actionFlags()),
	}
}

// conditionFlags say when a rule acts.
func conditionFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "when", Usage: "what happens: " + triggers()},
		&cli.StringFlag{Name: "if", Usage: "a condition in CEL"},
		&cli.StringFlag{Name: "course", Usage: "only in this course (code or title)"},
		&cli.StringFlag{Name: "section", Usage: "only in this section (code or title)"},
		&cli.StringFlag{
			Name:  "module",
			Usage: "only for this module (identifier; with --course, title too)",
		},
		&cli.StringFlag{Name: "activity", Usage: "only for this activity (the same)"},
		&cli.BoolFlag{Name: "every-time", Usage: "not only once per person"},
		&cli.StringFlag{Name: "stop", Usage: "a condition in CEL that ends what is still to come"},
		&cli.StringFlag{
			Name:  "counts",
			Usage: "for assessments passed or failed: which result counts, latest, best or first; the latest when one is undone by the other, and every one otherwise",
		},
		&cli.StringSliceFlag{
			Name:  "undone-by",
			Usage: "what reverts what the rule did, for the same person and place",
		},
		&cli.IntFlag{
			Name:  "days",
			Usage: "for person.inactive and person.not-begun: after how many days",
		},
		&cli.StringFlag{
			Name:  "quiet-hours",
			Usage: "hours in which it does nothing, such as 22:00-07:00",
		},
		&cli.StringFlag{Name: "most", Usage: "how many calls it may make, such as 100/hour or 500/day"},
		&cli.BoolFlag{Name: "in-order", Usage: "one after the other per person and interface"},
		&cli.StringFlag{Name: "after", Usage: "how long the first action waits, such as 90m, 2h or 3d"},
	}
}

// actionFlags say what it does.
func actionFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "enrol", Usage: "enrol through this interface"},
		&cli.StringFlag{Name: "unenrol", Usage: "take out through this interface"},
		&cli.StringFlag{
			Name:  "into",
			Usage: "for --enrol and --unenrol: the section; the event's own when absent",
		},
		&cli.StringFlag{Name: "call-operation", Usage: "call an operation: CONNECTION/OPERATION"},
		&cli.StringFlag{Name: "task", Usage: "open a task with this title, a template"},
		&cli.StringFlag{Name: "owner", Usage: "for --task: whose it is"},
		&cli.StringFlag{Name: "due", Usage: "for --task: in how long, such as 3d"},
		&cli.StringFlag{Name: "append-row", Usage: "append a row to this sheet"},
		&cli.StringFlag{Name: "award", Usage: "award this badge"},
		&cli.StringFlag{Name: "send-event", Usage: "send a signed event to this interface"},
		&cli.StringSliceFlag{
			Name:  "field",
			Usage: "for --send-event, --call-operation and --append-row: name=CEL expression",
		},
		&cli.StringFlag{Name: "mail", Usage: "mail through this interface"},
		&cli.StringFlag{Name: "to", Usage: "for --mail: a CEL expression; person.email when absent"},
		&cli.StringFlag{Name: "subject", Usage: "for --mail: a template"},
		&cli.StringFlag{Name: "text", Usage: "for --mail: a template"},
	}
}

// within finds the module and the activity of a scope in the course's outline, by
// identifier or title.
func within(ctx context.Context, c *client.Client, course api.Course, s rule.Scope) (rule.Scope, error) {
	if s.Module+s.Activity == "" {
		return s, nil
	}
	o, err := client.Get[learning.Outline](ctx, c, "/courses/"+course.ID+"/outline")
	if err != nil {
		return s, err
	}
	type named struct{ id, title string }
	find := func(id *string, what string, in func(m learning.Module) []named) error {
		if *id == "" {
			return nil
		}
		for _, m := range o.Modules {
			for _, x := range in(m) {
				if fits(*id, x.id, x.title) {
					*id = x.id
					return nil
				}
			}
		}
		return fmt.Errorf("%w: the outline of %s has no %s %q; see it with: kanban courses show %s", errUsage,
			course.Title, what, *id, course.Code)
	}
	err = find(&s.Module, "module", func(m learning.Module) []named { return []named{{m.ID, m.Title}} })
	if err == nil {
		err = find(&s.Activity, "activity", func(m learning.Module) (list []named) {
			for _, a := range m.All() {
				list = append(list, named{a.ID, a.Title})
			}
			return list
		})
	}
	return s, err
}

func triggers() string {
	parts := make([]string, len(rule.Triggers))
	for i, t := range rule.Triggers {
		parts[i] = string(t)
	}
	return strings.Join(parts, ", ")
}

func listRules(ctx context.Context, cmd *cli.Command) error {
	page, err := client.Get[api.Page[api.Rule]](ctx, connect(cmd), "/rules")
	if err != nil {
		return err
	}
	return tableOf(page.Items, "There is no rule yet. Make one: kanban rules add --help",
		[]string{
			"rule", "state", "when", "where", "if", "then", "fired", "delivered",
			"waiting",
		}, func(r api.Rule) []string {
			return []string{
				r.Name, r.State, r.Trigger, r.Where, r.Condition, then(r.Actions), fmt.Sprint(r.Fired),
				fmt.Sprint(r.Delivered), fmt.Sprint(r.Waiting),
			}
		}).print(cmd)
}

func addRule(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	r, err := ruleFromFlags(ctx, cmd, c)
	if err != nil {
		return err
	}
	if r.Trigger == "" {
		return usage(cmd, "say when it happens, such as --when section.joined, or write the rule into a file for: kanban config apply")
	}
	r.Name = args[0]
	made, err := client.Post[api.Rule](ctx, c, "/rules", r)
	if err != nil {
		return err
	}
	say(cmd, "Made the rule %q. It is off; switch it on with: kanban rules on %q", made.Name, made.Name)
	return nil
}

func ruleFromFlags(ctx context.Context, cmd *cli.Command, c *client.Client) (api.NewRule, error) {
	once := !cmd.Bool("every-time")
	r := api.NewRule{
		Trigger: cmd.String("when"), Condition: cmd.String("if"), OncePerPerson: &once,
		Scope: rule.Scope{Module: cmd.String("module"), Activity: cmd.String("activity")},
		Stop:  cmd.String("stop"), UndoneBy: cmd.StringSlice("undone-by"), Counts: cmd.String("counts"),
		Days: cmd.Int("days"), InOrder: cmd.Bool("in-order"),
	}
	if text := cmd.String("quiet-hours"); text != "" {
		r.QuietHours.From, r.QuietHours.To, _ = strings.Cut(text, "-")
	}
	if text := cmd.String("most"); text != "" {
		if _, err := fmt.Sscanf(strings.Replace(text, "/", " ", 1), "%d %s", &r.Limit.Most,
			&r.Limit.Per); err != nil {
			return r, usage(cmd, fmt.Sprintf("--most %q is not of the form 100/hour or 500/day", text))
		}
	}
	if err := scopeFromFlags(ctx, cmd, c, &r); err != nil {
		return r, err
	}
	return r, actionsFromFlags(ctx, cmd, c, &r)
}

// scopeFromFlags says where a rule holds.
func scopeFromFlags(ctx context.Context, cmd *cli.Command, c *client.Client, r *api.NewRule) error {
	if name := cmd.String("course"); name != "" {
		course, err := findCourse(ctx, c, name)
		if err != nil {
			return err
		}
		r.Scope.Course = course.ID
		if r.Scope, err = within(ctx, c, course, r.Scope); err != nil {
			return err
		}
	}
	if name := cmd.String("section"); name != "" {
		x, err := findPart(ctx, c, name)
		if err != nil {
			return err
		}
		r.Scope.Section = x.ID
	}
	return nil
}

// fieldsFromFlags are the expressions of an action's values, by name.
func fieldsFromFlags(cmd *cli.Command) (map[string]string, error) {
	fields := map[string]string{}
	for _, f := range cmd.StringSlice("field") {
		key, expression, ok := strings.Cut(f, "=")
		if !ok {
			return nil, usage(cmd, fmt.Sprintf("--field %q is not of the form name=expression", f))
		}
		fields[key] = expression
	}
	return fields, nil
}

// actionsFromFlags says what a rule does.
func actionsFromFlags(ctx context.Context, cmd *cli.Command, c *client.Client, r *api.NewRule) error {
	if name := cmd.String("award"); name != "" {
		b, err := findBadge(ctx, c, name)
		if err != nil {
			return err
		}
		r.Actions = append(r.Actions, api.Action{Kind: "award", BadgeID: b.ID})
	}
	fields, err := fieldsFromFlags(cmd)
	if err != nil {
		return err
	}
	if err := membership(ctx, cmd, c, r); err != nil {
		return err
	}
	if text := cmd.String("call-operation"); text != "" {
		name, operation, _ := strings.Cut(text, "/")
		conn, err := findInterface(ctx, c, name)
		if err != nil {
			return err
		}
		r.Actions = append(r.Actions, api.Action{
			Kind: rule.CallOperation, InterfaceID: conn.ID,
			Operation: operation, Fields: fields,
		})
	}
	if name := cmd.String("send-event"); name != "" {
		conn, err := findInterface(ctx, c, name)
		if err != nil {
			return err
		}
		r.Actions = append(r.Actions, api.Action{Kind: "send-event", InterfaceID: conn.ID, Fields: fields})
	}
	if name := cmd.String("mail"); name != "" {
		conn, err := findInterface(ctx, c, name)
		if err != nil {
			return err
		}
		r.Actions = append(r.Actions, api.Action{
			Kind: "mail", InterfaceID: conn.ID, To: cmd.String("to"),
			Subject: cmd.String("subject"), Text: cmd.String("text"),
		})
	}
	if title := cmd.String("task"); title != "" {
		r.Actions = append(r.Actions, api.Action{
			Kind: rule.OpenTask, Subject: title, Owner: cmd.String("owner"),
			DueIn: cmd.String("due"),
		})
	}
	if name := cmd.String("append-row"); name != "" {
		r.Actions = append(r.Actions, api.Action{Kind: rule.AppendRow, Sheet: name, Fields: fields})
	}
	if len(r.Actions) > 0 {
		r.Actions[0].After = cmd.String("after")
	}
	return nil
}

// membership adds the actions that put people into sections or take them out.
func membership(ctx context.Context, cmd *cli.Command, c *client.Client, r *api.NewRule) error {
	for _, kind := range []string{rule.Enrol, rule.Unenrol} {
		name := cmd.String(kind)
		if name == "" {
			continue
		}
		conn, err := findInterface(ctx, c, name)
		if err != nil {
			return err
		}
		a := api.Action{Kind: kind, InterfaceID: conn.ID}
		if into := cmd.String("into"); into != "" {
			x, err := findPart(ctx, c, into)
			if err != nil {
				return err
			}
			a.SectionID = x.ID
		}
		r.Actions = append(r.Actions, a)
	}
	return nil
}

func switchRule(name string, on bool) *cli.Command {
	flags := []cli.Flag{&cli.BoolFlag{
		Name:  "untried",
		Usage: "switch it on though no trial of it as it is now was passed",
	}, &cli.BoolFlag{
		Name:  "circle",
		Usage: "switch it on though what it does would set itself off again",
	}}
	if !on {
		flags = toComeFlags("")
	}
	return &cli.Command{
		Name: name, Usage: "Switch a rule " + name, ArgsUsage: "NAME", Flags: flags,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			toCome, err := toComeFrom(cmd)
			if err != nil {
				return err
			}
			c, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			if _, err := client.Post[api.Rule](ctx, c, "/rules/"+r.ID+"/switch",
				api.Switch{
					On: on, ToCome: toCome, Untried: cmd.Bool("untried"),
					Circle: cmd.Bool("circle"),
				}); err != nil {
				return err
			}
			say(cmd, "%q is %s.", r.Name, name)
			return nil
		},
	}
}

// toComeFlags say what becomes of what a rule has still to come.
func toComeFlags(when string) []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "stop", Usage: when + "stop what it has still to come"},
		&cli.BoolFlag{Name: "finish", Usage: when + "let what it has still to come finish"},
	}
}

// toComeFrom reads them; "" when neither is given.
func toComeFrom(cmd *cli.Command) (string, error) {
	switch {
	case cmd.Bool("stop") && cmd.Bool("finish"):
		return "", usage(cmd, "--stop and --finish exclude each other")
	case cmd.Bool("stop"):
		return "stop", nil
	case cmd.Bool("finish"):
		return "finish", nil
	}
	return "", nil
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

func daysBack() cli.Flag {
	return &cli.IntFlag{Name: "days", Value: 30, Usage: "how many days to look back"}
}

// ruleWork are the commands for one rule beside making and switching it.
func ruleWork() []*cli.Command {
	return []*cli.Command{
		ruleShow(),
		ruleUnsubscribed(),
		ruleRemove(),
		ruleChecklist(),
		ruleVersions(),
		ruleTry(),
		ruleLookBack(),
		ruleCatchUp(),
		ruleTestRecipient(),
		ruleCheckNow(),
		ruleNames(),
	}
}

func ruleShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "Show a rule as the YAML that config apply takes in", ArgsUsage: "NAME",
		Description: "  kanban rules show \"Greet newcomers\" > rule.yaml\n  kanban config apply rule.yaml",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			return showAsFile(ctx, cmd, c, config.Rules, r.Name, r)
		},
	}
}

func ruleUnsubscribed() *cli.Command {
	return &cli.Command{
		Name: "unsubscribed", Usage: "List who wants no more mails of a rule; with --again somebody gets them again",
		ArgsUsage:   "NAME",
		Description: "  kanban rules unsubscribed \"Nudge\"\n  kanban rules unsubscribed \"Nudge\" --again ada.alder@fernmoor.example",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "again", Usage: "the address that gets the mails again"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			if address := cmd.String("again"); address != "" {
				if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete,
					"/rules/"+r.ID+"/unsubscribed/"+url.PathEscape(address), nil); err != nil {
					return err
				}
				say(cmd, "%s gets the mails of %s again.", address, r.Name)
				return nil
			}
			page, err := client.Get[api.Page[api.Unsubscribed]](ctx, c, "/rules/"+r.ID+"/unsubscribed")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "Everybody gets its mails.", []string{"address", "since"},
				func(u api.Unsubscribed) []string {
					return []string{u.Address, moment(&u.At)}
				}).print(cmd)
		},
	}
}

func ruleRemove() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "Remove a rule that is off and never did anything", ArgsUsage: "NAME",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/rules/"+r.ID, nil); err != nil {
				return err
			}
			say(cmd, "Removed the rule %q.", r.Name)
			return nil
		},
	}
}

func ruleChecklist() *cli.Command {
	return &cli.Command{
		Name: "checklist", Usage: "What of a rule is done, and the next step", ArgsUsage: "NAME",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			list, err := client.Get[api.Checklist](ctx, c, "/rules/"+r.ID+"/checklist")
			if err != nil {
				return err
			}
			return printChecklist(cmd, list)
		},
	}
}

func ruleVersions() *cli.Command {
	return &cli.Command{
		Name: "versions", Usage: "What a rule was like, the newest first", ArgsUsage: "NAME",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			all, err := client.Get[[]api.RuleVersion](ctx, c, "/rules/"+r.ID+"/versions")
			if err != nil {
				return err
			}
			return tableOf(all, "", []string{"version", "at", "who", "when", "if", "then"},
				func(v api.RuleVersion) []string {
					return []string{
						fmt.Sprint(v.Version), moment(&v.At), v.Who, v.Rule.Trigger, v.Rule.Condition,
						then(v.Rule.Actions),
					}
				}).print(cmd)
		},
	}
}

func ruleTry() *cli.Command {
	return &cli.Command{
		Name: "try", Usage: "Render and check what a rule would do, without reaching anybody", ArgsUsage: "NAME",
		Description: "It looks at the latest event that fits, at one of your choice, or at a made-up one. With --send\nmails and events go for real to the test recipient, marked as a test.\n\n  kanban rules try \"Cuttings badge\"\n  kanban rules try \"Cuttings badge\" --send",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "event", Usage: "id of a real event"},
			&cli.BoolFlag{Name: "made-up", Usage: "a made-up event"},
			&cli.BoolFlag{
				Name:  "anyway",
				Usage: "with --send: send even when the condition does not hold for the event",
			},
			&cli.BoolFlag{Name: "send", Usage: "send to the test recipient"},
		},
		Action: tryRule,
	}
}

func ruleLookBack() *cli.Command {
	return &cli.Command{
		Name: "look-back", Usage: "What a rule would have done in the last days", ArgsUsage: "NAME",
		Flags: []cli.Flag{daysBack()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			b, err := client.Get[api.LookBack](ctx, c,
				fmt.Sprintf("/rules/%s/look-back?days=%d", r.ID, cmd.Int("days")))
			if err != nil {
				return err
			}
			return printLookBack(cmd, b)
		},
	}
}

func ruleCatchUp() *cli.Command {
	return &cli.Command{
		Name: "catch-up", Usage: "Let a rule that is on do what a look back shows", ArgsUsage: "NAME",
		Flags: []cli.Flag{daysBack(), &cli.BoolFlag{Name: "apply", Usage: "do it; without, it is only shown"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, r, err := ruleNamed(ctx, cmd)
			if err != nil {
				return err
			}
			b, err := client.Get[api.LookBack](ctx, c,
				fmt.Sprintf("/rules/%s/look-back?days=%d", r.ID, cmd.Int("days")))
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
			n, err := client.Post[api.CaughtUp](ctx, c, "/rules/"+r.ID+"/catch-up",
				api.CatchUp{Since: b.Since, Count: len(b.Would)})
			if err == nil {
				say(cmd, "%q catches up with %s.", r.Name, count(n.Events, "event"))
			}
			return err
		},
	}
}

func ruleTestRecipient() *cli.Command {
	return &cli.Command{
		Name: "test-recipient", Usage: "Show or set where test sends go", ArgsUsage: "[ADDRESS]",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			if cmd.Args().Len() == 0 {
				now, err := client.Get[api.Recipient](ctx, c, "/test-recipient")
				if err == nil && now.Address == "" {
					now.Address = "nobody yet"
				}
				say(cmd, "Test sends go to %s.", now.Address)
				return err
			}
			set, err := client.Send[api.Recipient](ctx, c, http.MethodPut, "/test-recipient",
				api.Recipient{Address: cmd.Args().First()})
			if err == nil {
				say(cmd, "Test sends go to %s.", set.Address)
			}
			return err
		},
	}
}

func ruleCheckNow() *cli.Command {
	return &cli.Command{
		Name:  "check-now",
		Usage: "Look now who stopped, whose access has ended and whether what rules need at services is there, instead of at the next quarter of an hour", Action: func(ctx context.Context, cmd *cli.Command) error {
			_, err := client.Post[client.Empty](ctx, connect(cmd), "/check-now", nil)
			if err == nil {
				say(cmd, "Looked.")
			}
			return err
		},
	}
}

func ruleNames() *cli.Command {
	return &cli.Command{
		Name: "names", Usage: "What conditions and texts can refer to", ArgsUsage: "TRIGGER",
		Action: func(ctx context.Context, cmd *cli.Command) error {
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
		},
	}
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
	t, err := client.Post[api.Trial](ctx, c, "/rules/"+r.ID+"/trial",
		api.TrialRequest{
			EventID: cmd.String("event"), Made: cmd.Bool("made-up"), Send: cmd.Bool("send"),
			Anyway: cmd.Bool("anyway"),
		})
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
	err = tableOf(t.Steps, "", []string{"then", "through", "after", "if", "what", "there", "problem", "sent"},
		func(x api.TrialStep) []string {
			sent := ""
			if x.Sent {
				sent = "to " + t.SentTo
			}
			return []string{x.Kind, x.Interface, x.After, x.If, shown(x.Shown), x.Checked, x.Problem, sent}
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
		fmt.Fprintf(out(cmd), "Since %s: %s, the condition held for %d, done already for %d, %d to do.\n",
			when(&b.Since), count(b.Events, "event"), b.Held, b.Already, len(b.Would))
		if b.Unclear > 0 {
			fmt.Fprintf(out(cmd), "For %d the condition cannot be worked out.\n", b.Unclear)
		}
		if b.More {
			fmt.Fprintln(out(cmd), "There were more events than can be looked at in one go; look at fewer days.")
		}
	}
	return tableOf(b.Would, "It would have done nothing.", []string{"at", "person", "section", "event"},
		func(w api.WouldFire) []string {
			return []string{moment(&w.OccurredAt), w.Person, w.Section, w.EventID}
		}).print(cmd)
}
