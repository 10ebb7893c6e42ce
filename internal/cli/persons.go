package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// shortID is how much of a pair's id lists show and commands need.
const shortID = 8

// ofSigns says what speaks for or against two records being one person's.
var ofSigns = map[string]string{
	"same-identifier": "same identifier", "same-email": "same address", "same-user-name": "same user name",
	"same-name": "same name", "other-name": "another name", "other-email": "another address",
	"other-identifier": "another identifier",
}

func signs(all []string) string {
	texts := make([]string, len(all))
	for i, s := range all {
		texts[i] = ofSigns[s]
	}
	return strings.Join(texts, ", ")
}

func peopleDuplicates() *cli.Command {
	return &cli.Command{
		Name: "duplicates", Usage: "People whom two registers have, it seems, with what speaks for it",
		ArgsUsage: "[TEXT]",
		Description: `Nothing follows before somebody says that they are one person: kanban people merge. Ambiguous
			means that a
record fits several; choose the right pair.

  kanban people duplicates
  kanban people duplicates Alder
  kanban people duplicates --certainty unsure`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "certainty", Usage: "only `sure`, likely, unsure or ambiguous ones"},
			&cli.BoolFlag{
				Name:  "two-people",
				Usage: "instead, those of whom somebody said that they are two people",
			},
		},
		Action: duplicates,
	}
}

func duplicates(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	if cmd.Bool("two-people") {
		page, err := client.Get[api.Page[api.TwoPeople]](ctx, c, "/same-people/two-people")
		if err != nil {
			return err
		}
		return tableOf(page.Items, "Of no two records anybody said that they are two people's.",
			[]string{"pair", "one", "in", "other", "in", "said by"}, func(x api.TwoPeople) []string {
				return []string{x.ID[:shortID], x.A, x.ARegister, x.B, x.BRegister, x.DecidedBy}
			}).print(cmd)
	}
	all, counts, err := samePeople(ctx, c, cmd.String("certainty"), cmd.Args().First())
	if err != nil {
		return err
	}
	if err := tableOf(all, "Nobody looks like somebody in another register.",
		[]string{"pair", "certainty", "person", "in", "also", "in", "signs"}, func(x api.SamePerson) []string {
			of := func(r api.Record) string { return r.Name + " (" + r.Identifier + ")" }
			return []string{
				x.ID[:shortID], x.Certainty, of(x.A), x.A.Register, of(x.B), x.B.Register,
				signs(x.Signs),
			}
		}).print(cmd); err != nil || cmd.String("output") != "table" || len(all) == 0 {
		return err
	}
	say(cmd, "\n%d sure, %d likely, %d unsure, %d ambiguous. Merge those that are one person: kanban people merge PAIR…",
		counts["sure"], counts["likely"], counts["unsure"], counts["ambiguous"])
	return nil
}

// samePeople lists all pairs that look like one person.
func samePeople(ctx context.Context, c *client.Client, certainty, text string) (all []api.SamePerson,
	counts map[string]int, err error,
) {
	for cursor := ""; ; {
		q := url.Values{"limit": {"1000"}, "text": {text}, "cursor": {cursor}}
		if certainty != "" {
			q.Set("certainty", certainty)
		}
		page, err := client.Get[api.SamePeople](ctx, c, "/same-people?"+q.Encode())
		if err != nil {
			return nil, nil, err
		}
		all, counts = append(all, page.Items...), page.Counts
		if cursor = page.Next; cursor == "" {
			return all, counts, nil
		}
	}
}

// pairsCalled finds pairs by the beginnings of their ids among those that a command lists.
func pairsCalled(all []string, names []string, listed string) (ids []string, err error) {
	for _, name := range names {
		var found []string
		for _, id := range all {
			if strings.HasPrefix(id, name) {
				found = append(found, id)
			}
		}
		if len(found) != 1 || len(name) < 4 {
			return nil, fmt.Errorf("%q names %s; see them with: %s", name, count(len(found), "pair"), listed)
		}
		ids = append(ids, found[0])
	}
	return ids, nil
}

// proposed finds pairs that look like one person.
func proposed(ctx context.Context, c *client.Client, names []string) ([]string, error) {
	all, _, err := samePeople(ctx, c, "", "")
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(all))
	for i, x := range all {
		ids[i] = x.ID
	}
	return pairsCalled(ids, names, "kanban people duplicates")
}

func peopleMerge() *cli.Command {
	return &cli.Command{
		Name: "merge", Usage: "Say that people of two registers are one person", ArgsUsage: "[PAIR…]",
		Description: `Their accounts, sections, progress, badges, events, messages and scores become one person's, which can be
undone (kanban people split). With --sure all are merged of which it is sure, as many as you have seen. With --person
and --with two people are merged who were not proposed, by their ids (kanban --ids people find TEXT).

  kanban people merge 3f2a91c0 77b01d2e
  kanban people merge --sure 41
  kanban people merge --person ID --with ID --use "Chat workspace=u00010"`,
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "sure", Usage: "merge all of which it is sure; `NUMBER` is how many you have seen"},
			&cli.StringFlag{Name: "person", Usage: "`ID` of the person who remains"},
			&cli.StringFlag{Name: "with", Usage: "`ID` of the person who becomes them"},
			&cli.StringSliceFlag{
				Name:  "use",
				Usage: "`SERVICE=ACCOUNT` that is used where both have an account",
			},
		},
		Action: merge,
	}
}

func merge(ctx context.Context, cmd *cli.Command) error {
	c, names := connect(cmd), cmd.Args().Slice()
	switch {
	case cmd.IsSet("person") || cmd.IsSet("with"):
		if len(names) > 0 || cmd.IsSet("sure") || cmd.String("person") == "" || cmd.String("with") == "" {
			return usage(cmd, "give --person and --with, and no pairs with them")
		}
		return mergeTwo(ctx, cmd, c)
	case (len(names) == 0) == !cmd.IsSet("sure"):
		return usage(cmd, "name pairs (kanban people duplicates), or give --sure with how many you have seen")
	case cmd.IsSet("use"):
		return usage(cmd, "--use goes with --person and --with")
	}
	wish := api.MergeSame{Sure: cmd.IsSet("sure"), Expected: cmd.Int("sure")}
	var err error
	if len(names) > 0 {
		if wish.IDs, err = proposed(ctx, c, names); err != nil {
			return err
		}
	}
	done, err := client.Post[api.MergeOutcomes](ctx, c, "/same-people/merge", wish)
	if err != nil {
		return err
	}
	refused := tableOf(done.Refused, "", []string{"person", "other", "not merged"},
		func(o api.MergeOutcome) []string { return []string{o.Name, o.Other, o.Why} })
	if shown := cmd.String("output") == "table"; !shown || len(done.Refused) > 0 {
		if err := refused.print(cmd); err != nil || !shown {
			return err
		}
	}
	say(cmd, "%s merged, %d not. Undo one with: kanban people split (see kanban people merges).",
		count(done.Merged, "pair"), len(done.Refused))
	if len(done.Refused) > 0 {
		return fmt.Errorf("not all were merged; of two who have an account at one service say which is used: kanban " +
			"people merge --person ID --with ID --use SERVICE=ACCOUNT")
	}
	return nil
}

func mergeTwo(ctx context.Context, cmd *cli.Command, c *client.Client) error {
	wish := api.MergePeople{OtherID: cmd.String("with"), Accounts: map[string]string{}}
	for _, x := range cmd.StringSlice("use") {
		service, account, ok := strings.Cut(x, "=")
		if !ok {
			return usage(cmd, "--use is SERVICE=ACCOUNT")
		}
		conn, err := findInterface(ctx, c, service)
		if err != nil {
			return err
		}
		wish.Accounts[conn.ID] = account
	}
	o, err := client.Post[api.MergeOutcome](ctx, c, "/people/"+url.PathEscape(cmd.String("person"))+"/merge", wish)
	if err != nil {
		return err
	}
	if o.Why != "" {
		return fmt.Errorf("%s and %s were not merged: %s", o.Name, o.Other, o.Why)
	}
	say(cmd, "%s is one person now. Undo it with: kanban people split %s", o.Name, o.MergeID)
	return nil
}

func peopleKeepApart() *cli.Command {
	return &cli.Command{
		Name: "keep-apart", Usage: "Say that pairs are two people each; they are not proposed again",
		ArgsUsage:   "PAIR…",
		Description: "  kanban people keep-apart 77b01d2e\n  kanban people keep-apart --drop 77b01d2e",
		Flags: []cli.Flag{&cli.BoolFlag{
			Name:  "drop",
			Usage: "drop that, so that they may be proposed again",
		}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, names := connect(cmd), cmd.Args().Slice()
			if len(names) == 0 {
				return usage(cmd, "name pairs: kanban people duplicates")
			}
			if cmd.Bool("drop") {
				return dropApart(ctx, cmd, c, names)
			}
			ids, err := proposed(ctx, c, names)
			if err != nil {
				return err
			}
			d, err := client.Post[api.Decided](ctx, c, "/same-people/two-people", api.Pairs{IDs: ids})
			if err == nil {
				say(cmd, "%s not proposed again.", count(d.Count, "pair"))
			}
			return err
		},
	}
}

func dropApart(ctx context.Context, cmd *cli.Command, c *client.Client, names []string) error {
	page, err := client.Get[api.Page[api.TwoPeople]](ctx, c, "/same-people/two-people")
	if err != nil {
		return err
	}
	all := make([]string, len(page.Items))
	for i, x := range page.Items {
		all[i] = x.ID
	}
	ids, err := pairsCalled(all, names, "kanban people duplicates --two-people")
	if err != nil {
		return err
	}
	for _, id := range ids {
		if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/same-people/two-people/"+id, nil); err != nil {
			return err
		}
	}
	say(cmd, "%s may be proposed again.", count(len(names), "pair"))
	return nil
}

func peopleMerges() *cli.Command {
	return &cli.Command{
		Name: "merges", Usage: "People who became one, the latest first", Description: "  kanban people merges",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			var all []api.Merge
			for cursor := ""; ; {
				page, err := client.Get[api.Page[api.Merge]](ctx, connect(cmd), "/merges?limit=1000&cursor="+cursor)
				if err != nil {
					return err
				}
				if all, cursor = append(all, page.Items...), page.Next; cursor == "" {
					break
				}
			}
			return tableOf(all, "Nobody was merged.", []string{"id", "person", "other", "signs", "merged by", "at"},
				func(m api.Merge) []string {
					return []string{m.ID, m.Name, m.Other, signs(m.Evidence), m.MergedBy, moment(&m.MergedAt)}
				}).print(cmd)
		},
	}
}

func peopleSplit() *cli.Command {
	return &cli.Command{
		Name: "split", Usage: "Make two people of one again, each with what was theirs", ArgsUsage: "MERGE",
		Description: `What was either's before goes back to them; what came since goes with the register of its
			section.

  kanban people merges
  kanban people split MERGE`,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			m, err := client.Post[api.Merge](ctx, connect(cmd), "/merges/"+url.PathEscape(args[0])+"/split",
				struct{}{})
			if err == nil {
				say(cmd, "%s and %s are two people again.", m.Name, m.Other)
			}
			return err
		},
	}
}
