package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/wire/api"
)

func meaningOf() *cli.Command {
	return &cli.Command{
		Name: "meaning", Usage: "What the events of a service mean for access, tried on the latest of them",
		ArgsUsage: "CONNECTION",
		Description: `  kanban interfaces meaning "Garden shop"
  kanban interfaces meaning "Garden shop" --places
  kanban interfaces meaning "Garden shop" --set "person=event.data.customer.email" --set "offer=event.data.items[0].sku"
  kanban interfaces meaning "Garden shop" --set "person=event.data.customer.email" --save

The expressions are person, starts, ends, offer, order, buyerName and scores. Without --save nothing is changed.`,
		Flags: []cli.Flag{
			&cli.StringSliceFlag{
				Name:  "set",
				Usage: "NAME=EXPRESSION to try instead of what is set; empty to leave it out",
			},
			&cli.BoolFlag{Name: "save", Usage: "keep the expressions that were tried"},
			&cli.BoolFlag{Name: "places", Usage: "list the values of the latest event, as expressions name them"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			in := api.MeaningTry{Values: map[string]string{}}
			for _, set := range cmd.StringSlice("set") {
				name, text, ok := strings.Cut(set, "=")
				if !ok {
					return usage(cmd, fmt.Sprintf("%q is not NAME=EXPRESSION", set))
				}
				in.Values[name] = text
			}
			c := connect(cmd)
			conn, err := findInterface(ctx, c, args[0])
			if err != nil {
				return err
			}
			m, err := client.Post[api.Meaning](ctx, c, "/interfaces/"+conn.ID+"/meaning", in)
			if err != nil {
				return err
			}
			if cmd.Bool("places") {
				var places []rule.EventValue
				if len(m.Examples) > 0 {
					places = m.Examples[0].Places
				}
				return tableOf(places, "It has reported nothing yet.", []string{"place", "value"},
					func(p rule.EventValue) []string { return []string{p.Path, p.Value} }).print(cmd)
			}
			if err := showMeaning(cmd, m); err != nil || !cmd.Bool("save") {
				return err
			}
			if _, err := client.Edit[api.Interface](ctx, c, http.MethodPatch, "/interfaces/"+conn.ID, conn.Version,
				api.EditInterface{Values: in.Values}); err != nil {
				return err
			}
			say(cmd, "Saved; what %s reports from now on is read that way.", conn.Name)
			return nil
		},
	}
}

func showMeaning(cmd *cli.Command, m api.Meaning) error {
	for _, name := range rule.MappingNames {
		say(cmd, "%-10s %s", name, cmp.Or(m.Mapping[name], "(none)"))
		if m.Wrong[name] != "" {
			say(cmd, "           ✕ %s", m.Wrong[name])
		}
	}
	return tableOf(m.Examples, "It has reported nothing yet: send an event and look again.",
		[]string{"when", "reported", "whom", "offer", "order", "means"}, func(x api.MeaningExample) []string {
			whom := cmp.Or(x.Values["person"], "?")
			if x.Known != "" {
				whom += " (" + x.Known + ")"
			}
			offer := cmp.Or(x.Values["offer"], "?")
			if x.Leads != "" {
				offer += " → " + x.Leads
			}
			means := x.Means
			if x.Values["scores"] == "true" {
				means = "scores are final"
			}
			return []string{moment(&x.At), x.Reported, whom, offer, cmp.Or(x.Values["order"], "?"), means}
		}).print(cmd)
}
