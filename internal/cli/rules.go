package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/wire/api"
)

func courses() *cli.Command {
	return &cli.Command{
		Name: "courses", Usage: "See courses and set their outlines", Category: "learning",
		Commands: []*cli.Command{
			{Name: "list", Usage: "List courses", Action: func(ctx context.Context, cmd *cli.Command) error {
				page, err := client.Get[api.Page[api.Course]](ctx, connect(cmd), "/courses")
				if err != nil {
					return err
				}
				return tableOf(page.Items, "No course has been read yet.", []string{"course", "code", "activities"}, func(c api.Course) []string {
					return []string{c.Title, c.Code, fmt.Sprint(c.Activities)}
				}).print(cmd)
			}},
			outlineCommand(),
			{
				Name: "across", Usage: "Show or say whether progress in a course counts across its sections", ArgsUsage: "[yes|no]",
				Description: "  kanban courses across\n  kanban courses across no",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					c := connect(cmd)
					switch word := cmd.Args().First(); word {
					case "":
					case "yes", "no":
						if _, err := client.Send[api.LearningSettings](ctx, c, http.MethodPut, "/learning-settings", api.LearningSettings{Across: word == "yes"}); err != nil {
							return err
						}
					default:
						return usage(cmd, fmt.Sprintf("%q is neither yes nor no", word))
					}
					s, err := client.Get[api.LearningSettings](ctx, c, "/learning-settings")
					if err != nil {
						return err
					}
					return tableOf([]api.LearningSettings{s}, "", []string{"progress counts across the sections of a course"}, func(s api.LearningSettings) []string {
						return []string{map[bool]string{true: "yes", false: "no"}[s.Across]}
					}).print(cmd)
				},
			},
			{Name: "show", Usage: "Show a course's outline as the table that outline reads", ArgsUsage: "COURSE", Action: func(ctx context.Context, cmd *cli.Command) error {
				args, err := arguments(cmd, 1)
				if err != nil {
					return err
				}
				c := connect(cmd)
				course, err := findCourse(ctx, c, args[0])
				if err != nil {
					return err
				}
				if cmd.String("output") == "json" {
					o, err := client.Get[api.Outline](ctx, c, "/courses/"+course.ID+"/outline")
					if err != nil {
						return err
					}
					return printJSON(cmd, o)
				}
				text, err := c.Download(ctx, "/courses/"+course.ID+"/outline.csv")
				if err == nil {
					_, err = out(cmd).Write(text)
				}
				return err
			}},
			{
				Name: "verbs", Usage: "What platforms' verbs mean; with --file the institution's own are set", Flags: []cli.Flag{&cli.StringFlag{Name: "file", Usage: `JSON such as [{"verb": "https://…/dug", "says": "completed"}]`}},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					c := connect(cmd)
					if path := cmd.String("file"); path != "" {
						var own api.OwnVerbs
						if err := readJSON(path, &own.Own); err != nil {
							return err
						}
						if _, err := client.Send[client.Empty](ctx, c, http.MethodPut, "/verbs", own); err != nil {
							return err
						}
					}
					v, err := client.Get[api.Verbs](ctx, c, "/verbs")
					if err != nil {
						return err
					}
					return tableOf(append(v.Own, v.Default...), "", []string{"verb", "about", "says"}, func(r learning.VerbRule) []string {
						return []string{r.Verb, r.Type, string(r.Says)}
					}).print(cmd)
				},
			},
		},
	}
}

func rules() *cli.Command {
	return &cli.Command{
		Name: "rules", Usage: "Let things happen when people join or finish", Category: "learning",
		Commands: append([]*cli.Command{
			{Name: "list", Usage: "List rules", Action: listRules},
			{
				Name: "add", Usage: "Make a rule, which is off at first", ArgsUsage: "NAME", Action: addRule,
				Description: `Actions happen in the order award, enrol, unenrol, operate, send, mail, task, row. Anything else, such as
several of a kind or a delay in the middle, is written into a file: see kanban rules show.

  kanban rules add "Greet newcomers" --when section.joined --if 'event.role == "student"' \
      --send "Plant news" --field email=person.email --field 'label="learner"'
  kanban rules add "Cuttings badge" --when module.completed --module mod-cuttings --award "Cuttings" \
      --mail "School mail" --subject "Well done, {{.person.givenName}}" --text "Your badge: {{.award.address}}"
  kanban rules add "Nudge" --when person.inactive --days 7 --if '!progress.courseDone' \
      --mail "School mail" --subject "We miss you" --text "Dear {{.person.givenName}}, …" --quiet 20:00-08:00
  kanban rules add "To repeat" --when assessment.failed --undone-by assessment.passed \
      --operate "Plant list/add-label" --field email=person.email --field 'label="to-repeat"'
  kanban rules add "From a file" --file rule.json`,
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "file", Usage: "read the whole rule from a JSON file"},
					&cli.StringFlag{Name: "when", Usage: "what happens: " + triggers()},
					&cli.StringFlag{Name: "if", Usage: "a condition in CEL"},
					&cli.StringFlag{Name: "course", Usage: "only in this course (code or title)"},
					&cli.StringFlag{Name: "section", Usage: "only in this section (code or title)"},
					&cli.StringFlag{Name: "module", Usage: "only for this module (identifier; with --course, title too)"},
					&cli.StringFlag{Name: "activity", Usage: "only for this activity (the same)"},
					&cli.BoolFlag{Name: "every-time", Usage: "not only once per person"},
					&cli.StringFlag{Name: "stop", Usage: "a condition in CEL that ends what is still to come"},
					&cli.StringFlag{Name: "counts", Usage: "for assessments passed or failed: which result counts, latest, best or first; the latest when one is undone by the other, and every one otherwise"},
					&cli.StringSliceFlag{Name: "undone-by", Usage: "what reverts what the rule did, for the same person and place"},
					&cli.IntFlag{Name: "days", Usage: "for person.inactive and person.not-begun: after how many days"},
					&cli.StringFlag{Name: "quiet", Usage: "hours in which it does nothing, such as 22:00-07:00"},
					&cli.StringFlag{Name: "most", Usage: "how many calls it may make, such as 100/hour or 500/day"},
					&cli.BoolFlag{Name: "in-order", Usage: "one after the other per person and connection"},
					&cli.StringFlag{Name: "after", Usage: "how long the first action waits, such as 90m, 2h or 3d"},
					&cli.StringFlag{Name: "enrol", Usage: "enrol through this connection"},
					&cli.StringFlag{Name: "unenrol", Usage: "take out through this connection"},
					&cli.StringFlag{Name: "into", Usage: "for --enrol and --unenrol: the section; the event's own when absent"},
					&cli.StringFlag{Name: "operate", Usage: "call an operation: CONNECTION/OPERATION"},
					&cli.StringFlag{Name: "task", Usage: "open a task with this title, a template"},
					&cli.StringFlag{Name: "owner", Usage: "for --task: whose it is"},
					&cli.StringFlag{Name: "due", Usage: "for --task: in how long, such as 3d"},
					&cli.StringFlag{Name: "row", Usage: "append a row to this sheet"},
					&cli.StringFlag{Name: "award", Usage: "award this badge"},
					&cli.StringFlag{Name: "send", Usage: "send a signed event to this connection"},
					&cli.StringSliceFlag{Name: "field", Usage: "for --send, --operate and --row: name=CEL expression"},
					&cli.StringFlag{Name: "mail", Usage: "mail through this connection"},
					&cli.StringFlag{Name: "to", Usage: "for --mail: a CEL expression; person.email when absent"},
					&cli.StringFlag{Name: "subject", Usage: "for --mail: a template"},
					&cli.StringFlag{Name: "text", Usage: "for --mail: a template"},
				},
			},
			switchRule("on", true), switchRule("off", false),
		}, ruleWork()...),
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
	find := func(id *string, what string, is func(m learning.Module) (ids [][2]string)) error {
		if *id == "" {
			return nil
		}
		for _, m := range o.Modules {
			for _, x := range is(m) {
				if fits(*id, x[0], x[1]) {
					*id = x[0]
					return nil
				}
			}
		}
		return fmt.Errorf("%w: the outline of %s has no %s %q; see it with: kanban courses show %s", errUsage, course.Title, what, *id, course.Code)
	}
	err = find(&s.Module, "module", func(m learning.Module) [][2]string { return [][2]string{{m.ID, m.Title}} })
	if err == nil {
		err = find(&s.Activity, "activity", func(m learning.Module) (list [][2]string) {
			for _, a := range m.All() {
				list = append(list, [2]string{a.ID, a.Title})
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
	return tableOf(page.Items, "There is no rule yet. Make one: kanban rules add --help", []string{"rule", "state", "when", "where", "if", "then", "fired", "delivered", "waiting"}, func(r api.Rule) []string {
		return []string{r.Name, r.State, r.Trigger, r.Where, r.Condition, then(r.Actions), fmt.Sprint(r.Fired), fmt.Sprint(r.Delivered), fmt.Sprint(r.Waiting)}
	}).print(cmd)
}

func addRule(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	var r api.NewRule
	if path := cmd.String("file"); path != "" {
		text, err := os.ReadFile(path)
		if err == nil {
			err = json.Unmarshal(text, &r)
		}
		if err != nil {
			return fmt.Errorf("reading the rule from %s: %w", path, err)
		}
	} else if r, err = ruleFromFlags(ctx, cmd, c); err != nil {
		return err
	}
	if r.Trigger == "" {
		return usage(cmd, "say when it happens, such as --when section.joined, or give a rule in a file: --file rule.json")
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
		Trigger: cmd.String("when"), Condition: cmd.String("if"), Once: &once, Scope: rule.Scope{Module: cmd.String("module"), Activity: cmd.String("activity")},
		Stop: cmd.String("stop"), UndoneBy: cmd.StringSlice("undone-by"), Counts: cmd.String("counts"), Days: cmd.Int("days"), InOrder: cmd.Bool("in-order"),
	}
	if text := cmd.String("quiet"); text != "" {
		r.Quiet.From, r.Quiet.To, _ = strings.Cut(text, "-")
	}
	if text := cmd.String("most"); text != "" {
		if _, err := fmt.Sscanf(strings.Replace(text, "/", " ", 1), "%d %s", &r.Limit.Most, &r.Limit.Per); err != nil {
			return r, usage(cmd, fmt.Sprintf("--most %q is not of the form 100/hour or 500/day", text))
		}
	}
	if name := cmd.String("course"); name != "" {
		course, err := findCourse(ctx, c, name)
		if err != nil {
			return r, err
		}
		r.Scope.Course = course.ID
		if r.Scope, err = within(ctx, c, course, r.Scope); err != nil {
			return r, err
		}
	}
	if name := cmd.String("section"); name != "" {
		x, err := findPart(ctx, c, name)
		if err != nil {
			return r, err
		}
		r.Scope.Section = x.ID
	}
	if name := cmd.String("award"); name != "" {
		b, err := findBadge(ctx, c, name)
		if err != nil {
			return r, err
		}
		r.Actions = append(r.Actions, api.Action{Kind: "award", BadgeID: b.ID})
	}
	fields := map[string]string{}
	for _, f := range cmd.StringSlice("field") {
		key, expression, ok := strings.Cut(f, "=")
		if !ok {
			return r, usage(cmd, fmt.Sprintf("--field %q is not of the form name=expression", f))
		}
		fields[key] = expression
	}
	if err := membership(ctx, cmd, c, &r); err != nil {
		return r, err
	}
	if text := cmd.String("operate"); text != "" {
		name, operation, _ := strings.Cut(text, "/")
		conn, err := findConnection(ctx, c, name)
		if err != nil {
			return r, err
		}
		r.Actions = append(r.Actions, api.Action{Kind: rule.Operate, ConnectionID: conn.ID, Operation: operation, Fields: fields})
	}
	if name := cmd.String("send"); name != "" {
		conn, err := findConnection(ctx, c, name)
		if err != nil {
			return r, err
		}
		r.Actions = append(r.Actions, api.Action{Kind: "send", ConnectionID: conn.ID, Fields: fields})
	}
	if name := cmd.String("mail"); name != "" {
		conn, err := findConnection(ctx, c, name)
		if err != nil {
			return r, err
		}
		r.Actions = append(r.Actions, api.Action{Kind: "mail", ConnectionID: conn.ID, To: cmd.String("to"), Subject: cmd.String("subject"), Text: cmd.String("text")})
	}
	if title := cmd.String("task"); title != "" {
		r.Actions = append(r.Actions, api.Action{Kind: rule.OpenTask, Subject: title, Owner: cmd.String("owner"), DueIn: cmd.String("due")})
	}
	if name := cmd.String("row"); name != "" {
		r.Actions = append(r.Actions, api.Action{Kind: rule.AppendSheet, Sheet: name, Fields: fields})
	}
	if len(r.Actions) > 0 {
		r.Actions[0].After = cmd.String("after")
	}
	return r, nil
}

// membership adds the actions that put people into sections or take them out.
func membership(ctx context.Context, cmd *cli.Command, c *client.Client, r *api.NewRule) error {
	for _, kind := range []string{rule.Enrol, rule.Unenrol} {
		name := cmd.String(kind)
		if name == "" {
			continue
		}
		conn, err := findConnection(ctx, c, name)
		if err != nil {
			return err
		}
		a := api.Action{Kind: kind, ConnectionID: conn.ID}
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
	flags := []cli.Flag{&cli.BoolFlag{Name: "untried", Usage: "switch it on though no trial of it as it is now was passed"}, &cli.BoolFlag{Name: "circle", Usage: "switch it on though what it does would set itself off again"}}
	if !on {
		flags = toComeFlags("")
	}
	return &cli.Command{Name: name, Usage: "Switch a rule " + name, ArgsUsage: "NAME", Flags: flags, Action: func(ctx context.Context, cmd *cli.Command) error {
		toCome, err := toComeFrom(cmd)
		if err != nil {
			return err
		}
		c, r, err := ruleNamed(ctx, cmd)
		if err != nil {
			return err
		}
		if _, err := client.Post[api.Rule](ctx, c, "/rules/"+r.ID+"/switch", api.Switch{On: on, ToCome: toCome, Untried: cmd.Bool("untried"), Circle: cmd.Bool("circle")}); err != nil {
			return err
		}
		say(cmd, "%q is %s.", r.Name, name)
		return nil
	}}
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

func events() *cli.Command {
	return &cli.Command{
		Name: "events", Usage: "See what happened and what followed", Category: "learning",
		Commands: []*cli.Command{{
			Name: "list", Usage: "List events, the newest first",
			Flags: []cli.Flag{&cli.StringFlag{Name: "type", Usage: "type of event, e.g. module.completed"}, &cli.IntFlag{Name: "limit", Value: 30, Usage: "how many"}},
			Action: func(ctx context.Context, cmd *cli.Command) error {
				page, err := client.Get[api.Page[api.Event]](ctx, connect(cmd), fmt.Sprintf("/events?limit=%d&type=%s", cmd.Int("limit"), url.QueryEscape(cmd.String("type"))))
				if err != nil {
					return err
				}
				return tableOf(page.Items, "Nothing has happened yet.", []string{"at", "event", "person", "section", "about", "deliveries", "waiting"}, func(e api.Event) []string {
					return []string{moment(&e.RecordedAt), e.Type, e.Person, e.Section, about(e), fmt.Sprint(e.Deliveries), fmt.Sprint(e.Waiting)}
				}).print(cmd)
			},
		}},
	}
}

// about names what an event is about beside person and section.
func about(e api.Event) string {
	for _, name := range []string{"stage", "badge"} {
		if text, ok := e.Data[name].(string); ok {
			return text
		}
	}
	return cmp.Or(e.Activity, e.ActivityID, e.Module, e.ModuleID)
}

func deliveries() *cli.Command {
	return &cli.Command{
		Name: "deliveries", Usage: "Follow what rules did, try again", Category: "learning",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List deliveries, the newest first",
				Description: "  kanban deliveries list --state waiting\n  kanban deliveries list --rule \"Greet newcomers\" --since 3d\n  kanban deliveries list --person stu-060",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "state", Usage: "planned, queued, retrying, delivered, waiting, skipped or stopped"},
					&cli.StringFlag{Name: "rule", Usage: "of this rule"},
					&cli.StringFlag{Name: "to", Usage: "to this connection"},
					&cli.StringFlag{Name: "person", Usage: "about this person (name, address or identifier)"},
					&cli.StringFlag{Name: "section", Usage: "in this section (code or title)"},
					&cli.StringFlag{Name: "since", Usage: "made in the last 90m, 2h or 3d"},
					&cli.IntFlag{Name: "limit", Value: 30, Usage: "how many"},
				},
				Action: listDeliveries,
			},
			retryMany(), giveUp(),
			{Name: "attempts", Usage: "Every try of a delivery", ArgsUsage: "DELIVERY", Action: func(ctx context.Context, cmd *cli.Command) error {
				args, err := arguments(cmd, 1)
				if err != nil {
					return err
				}
				all, err := client.Get[[]api.Attempt](ctx, connect(cmd), "/deliveries/"+args[0]+"/attempts")
				if err != nil {
					return err
				}
				return tableOf(all, "It has not been tried yet.", []string{"try", "at", "ms", "status", "answer", "error"}, func(a api.Attempt) []string {
					return []string{fmt.Sprint(a.Number), moment(&a.StartedAt), fmt.Sprint(a.Millis), fmt.Sprint(a.Status), a.Answer, a.Error}
				}).print(cmd)
			}},
			{Name: "retry", Usage: "Try a delivery again now", ArgsUsage: "DELIVERY", Action: func(ctx context.Context, cmd *cli.Command) error {
				args, err := arguments(cmd, 1)
				if err != nil {
					return err
				}
				_, err = client.Post[client.Empty](ctx, connect(cmd), "/deliveries/"+args[0]+"/retry", nil)
				return err
			}},
		},
	}
}
