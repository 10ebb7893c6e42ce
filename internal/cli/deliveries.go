package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/wire/api"
)

func listDeliveries(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	q := url.Values{"limit": {fmt.Sprint(cmd.Int("limit"))}}
	if state := cmd.String("state"); state != "" {
		q.Set("state", state)
	}
	for flag, find := range map[string]func(string) (string, error){
		"rule":    func(name string) (string, error) { r, err := findRule(ctx, c, name); return r.ID, err },
		"to":      func(name string) (string, error) { x, err := findInterface(ctx, c, name); return x.ID, err },
		"section": func(name string) (string, error) { x, err := findPart(ctx, c, name); return x.ID, err },
		"person":  func(name string) (string, error) { p, err := onePerson(ctx, c, name); return p.ID, err },
	} {
		name := cmd.String(flag)
		if name == "" {
			continue
		}
		id, err := find(name)
		if err != nil {
			return err
		}
		key := flag
		if key == "to" {
			key = "interface"
		}
		q.Set(key, id)
	}
	since, err := sinceOf(cmd)
	if err != nil {
		return err
	}
	if since != nil {
		q.Set("since", since.Format(time.RFC3339))
	}
	page, err := client.Get[api.Page[api.Delivery]](ctx, c, "/deliveries?"+q.Encode())
	if err != nil {
		return err
	}
	return tableOf(page.Items, "No delivery fits.", []string{
		"delivery", "state", "rule", "action", "to", "person",
		"tries", "next", "why",
	}, func(d api.Delivery) []string {
		next := d.NextAt
		if next == nil && d.State == "planned" {
			next = d.DueAt
		}
		if d.FinishedAt != nil {
			next = nil
		}
		return []string{
			d.ID, deliveryState(d), d.Rule, words(d.Action, 1), d.Interface, d.Person,
			fmt.Sprint(d.Attempts), moment(next), cmp.Or(d.Error, d.Held),
		}
	}).print(cmd)
}

// sinceOf gives the time that --since goes back to, such as 2h or 3d; nil when it is not given.
func sinceOf(cmd *cli.Command) (*time.Time, error) {
	text := cmd.String("since")
	if text == "" {
		return nil, nil
	}
	span, err := rule.Span(text)
	if err != nil {
		return nil, usage(cmd, err.Error())
	}
	at := time.Now().Add(-span).UTC()
	return &at, nil
}

// ruleAndService gives the ids of what --rule and --to name, "" for what is not given.
func ruleAndService(ctx context.Context, cmd *cli.Command, c *client.Client) (ruleID, interfaceID string,
	err error,
) {
	if name := cmd.String("rule"); name != "" {
		r, err := findRule(ctx, c, name)
		if err != nil {
			return "", "", err
		}
		ruleID = r.ID
	}
	if name := cmd.String("to"); name != "" {
		conn, err := findInterface(ctx, c, name)
		if err != nil {
			return "", "", err
		}
		interfaceID = conn.ID
	}
	return ruleID, interfaceID, nil
}

// giveUp stops deliveries for good.
func giveUp() *cli.Command {
	return &cli.Command{
		Name: "give-up", Usage: "Give up what is still to come: one delivery, those of a rule, or those to an interface", ArgsUsage: "[DELIVERY]",
		Description: "What comes after them for the same event is given up too. What is being made at this moment ends by itself.\n\n  kanban deliveries give-up --rule \"Lesson finished\" --state waiting --reason \"the label is gone for good\"",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "rule", Usage: "of this rule"},
			&cli.StringFlag{Name: "to", Usage: "to this interface"},
			&cli.StringFlag{Name: "state", Usage: "only planned, queued, retrying or waiting ones"},
			&cli.StringFlag{Name: "reason", Usage: "why", Required: true},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 1 {
				return usage(cmd, "one delivery at most")
			}
			c := connect(cmd)
			in := api.GiveUpRequest{ID: cmd.Args().First(), State: cmd.String("state"), Reason: cmd.String("reason")}
			var err error
			if in.RuleID, in.InterfaceID, err = ruleAndService(ctx, cmd, c); err != nil {
				return err
			}
			if in.ID == "" && in.RuleID == "" && in.InterfaceID == "" {
				return usage(cmd, "say which: a delivery, --rule or --to")
			}
			n, err := client.Post[api.GivenUp](ctx, c, "/deliveries/give-up", in)
			if err != nil {
				return err
			}
			say(cmd, "Given up: %d.", n.Stopped)
			if n.UnderWay > 0 {
				say(cmd, "%d are being made at this moment and end by themselves.", n.UnderWay)
			}
			return nil
		},
	}
}

// retryMany tries the deliveries of a rule, of an interface, or everything since a
// time again.
func retryMany() *cli.Command {
	return &cli.Command{
		Name: "retry-all", Usage: "Try many deliveries again now: those of a rule, of an interface, or everything since a time",
		Description: "Only what waits for a person, or would be tried later. Each keeps its id.\n\n  kanban deliveries retry-all --to \"Plant news\"\n  kanban deliveries retry-all --since 2h",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "rule", Usage: "of this rule"},
			&cli.StringFlag{Name: "to", Usage: "to this interface"},
			&cli.StringFlag{Name: "since", Usage: "made in the last 90m, 2h or 3d"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			var in api.RetryRequest
			var err error
			if in.RuleID, in.InterfaceID, err = ruleAndService(ctx, cmd, c); err != nil {
				return err
			}
			if in.Since, err = sinceOf(cmd); err != nil {
				return err
			}
			n, err := client.Post[api.Retried](ctx, c, "/deliveries/retry", in)
			if err == nil {
				say(cmd, "Trying %d again.", n.Deliveries)
			}
			return err
		},
	}
}

// deliveryState is a delivery's state in words: what was reverted reads so.
func deliveryState(d api.Delivery) string {
	switch {
	case d.Reverted:
		return "reverted"
	case d.Undoes != "" && d.State == "delivered":
		return "reverts another"
	}
	return d.State
}

func deliveries() *cli.Command {
	return &cli.Command{
		Name: "deliveries", Usage: "Follow what rules did, try again", Category: "learning",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List deliveries, the newest first",
				Description: "  kanban deliveries list --state waiting\n  kanban deliveries list --rule \"Greet newcomers\" --since 3d\n  kanban deliveries list --person stu-060",
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:  "state",
						Usage: "planned, queued, retrying, delivered, waiting, skipped or stopped",
					},
					&cli.StringFlag{Name: "rule", Usage: "of this rule"},
					&cli.StringFlag{Name: "to", Usage: "to this interface"},
					&cli.StringFlag{Name: "person", Usage: "about this person (name, address or identifier)"},
					&cli.StringFlag{Name: "section", Usage: "in this section (code or title)"},
					&cli.StringFlag{Name: "since", Usage: "made in the last 90m, 2h or 3d"},
					&cli.IntFlag{Name: "limit", Value: 30, Usage: "how many"},
				},
				Action: listDeliveries,
			},
			retryMany(), giveUp(),
			{
				Name: "attempts", Usage: "Every try of a delivery", ArgsUsage: "DELIVERY",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					args, err := arguments(cmd, 1)
					if err != nil {
						return err
					}
					all, err := client.Get[[]api.Attempt](ctx, connect(cmd), "/deliveries/"+args[0]+"/attempts")
					if err != nil {
						return err
					}
					return tableOf(all, "It has not been tried yet.",
						[]string{"try", "at", "ms", "status", "answer", "error"}, func(a api.Attempt) []string {
							return []string{
								fmt.Sprint(a.Number), moment(&a.StartedAt), fmt.Sprint(a.Millis),
								fmt.Sprint(a.Status), a.Answer, a.Error,
							}
						}).print(cmd)
				},
			},
			{
				Name: "retry", Usage: "Try a delivery again now", ArgsUsage: "DELIVERY",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					args, err := arguments(cmd, 1)
					if err != nil {
						return err
					}
					_, err = client.Post[client.Empty](ctx, connect(cmd), "/deliveries/"+args[0]+"/retry", nil)
					return err
				},
			},
		},
	}
}
