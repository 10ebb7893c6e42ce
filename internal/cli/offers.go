package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func offersOf() *cli.Command {
	return &cli.Command{
		Name: "offers", Usage: "Let purchases and memberships give access to sections", Category: "learning",
		Commands: []*cli.Command{
			{Name: "list", Usage: "List offers, and what was bought and leads nowhere", Action: listOffers},
			offersAdd(),
			switchOffer("on", true), switchOffer("off", false),
			offersRemove(),
			{
				Name: "accesses", Usage: "List what was bought and what was given by hand, one purchase a line",
				ArgsUsage: "[NAME]",
				Flags: []cli.Flag{&cli.BoolFlag{
					Name:  "troubled",
					Usage: "only what gives nothing although it should",
				}},
				Action: listAccesses,
			},
			offersGive(),
			offersEnd(),
			{
				Name: "assign", Usage: "Say whose a purchase is when Kanban cannot know", ArgsUsage: "ID PERSON",
				Description: "The id is that of: kanban offers accesses --troubled --ids. Nobody is enrolled for a purchase while it is not known whose it is.\n\n  kanban offers assign 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11 bram.birch@fernmoor.example",
				Action:      assignAccess,
			},
			offersCompare(),
		},
	}
}

func offersAdd() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "Say to which sections something that is sold gives access", ArgsUsage: "NAME",
		Description: `  kanban offers add "A place in Propagation" --sold-by "Garden shop" --as propagation-place \
      --section PROP-A --enrol-through "Course platform: places" --grace 14
  kanban offers add "Orchard membership" --sold-by "Garden shop" --as orchard-membership \
      --course ORCH --term current --at-end mark`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "sold-by", Required: true, Usage: "the interface that reports purchases"},
			&cli.StringFlag{Name: "as", Required: true, Usage: "what the service calls it"},
			&cli.StringSliceFlag{Name: "section", Usage: "a section it gives access to (code or title)"},
			&cli.StringFlag{Name: "course", Usage: "instead: the section of this course with the fewest learners"},
			&cli.StringFlag{Name: "term", Value: "current", Usage: "with --course: current or next"},
			&cli.StringFlag{
				Name:  "enrol-through",
				Usage: "the interface through which people are enrolled; nobody is when absent",
			},
			&cli.IntFlag{Name: "grace", Usage: "how many days access outlives its end"},
			&cli.StringFlag{Name: "at-end", Value: "unenrol", Usage: "unenrol or mark"},
			&cli.BoolFlag{Name: "only-buyers", Usage: "learners without access are a disagreement"},
		},
		Action: addOffer,
	}
}

func offersRemove() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "Remove an offer; whom it enrolled stays enrolled", ArgsUsage: "NAME",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			o, err := findOffer(ctx, c, args[0])
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/offers/"+o.ID, nil); err != nil {
				return err
			}
			say(cmd, "Removed the offer %q.", o.Name)
			return nil
		},
	}
}

func offersGive() *cli.Command {
	return &cli.Command{
		Name: "give", Usage: "Give a person by hand what an offer leads to, beside what is bought",
		ArgsUsage:   "NAME PERSON",
		Description: "Enrolment follows as after a purchase. It ends at the time that is given, or by: kanban offers end.\n\n  kanban offers give \"A place in Propagation\" bram.birch@fernmoor.example --reason \"Won it at the fair\" --until 2027-07-31T00:00:00",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "reason", Required: true, Usage: "why, for whoever reads it later"},
			&cli.TimestampFlag{
				Name:  "until",
				Usage: "when it ends, such as 2027-07-31T00:00:00; only by hand when absent",
				Config: cli.TimestampConfig{
					Timezone: time.Local,
					Layouts:  []string{"2006-01-02T15:04:05", "2006-01-02T15:04", time.DateOnly, time.RFC3339},
				},
			},
		},
		Action: giveAccess,
	}
}

func offersEnd() *cli.Command {
	return &cli.Command{
		Name: "end", Usage: "End access that was given by hand", ArgsUsage: "ID",
		Description: "The id is that of: kanban offers accesses --ids. What was bought is cancelled at the service that sold it.\n\n  kanban offers end 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11 --reason \"The fair is over\"",
		Flags: []cli.Flag{&cli.StringFlag{
			Name: "reason", Required: true,
			Usage: "why, for whoever reads it later",
		}},
		Action: endAccess,
	}
}

func offersCompare() *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "Access and enrolment side by side", ArgsUsage: "[NAME]",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "mismatches", Usage: "only where they do not agree"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			id := ""
			if name := cmd.Args().First(); name != "" {
				o, err := findOffer(ctx, c, name)
				if err != nil {
					return err
				}
				id = o.ID
			}
			all, err := client.Get[[]api.Side](ctx, c,
				fmt.Sprintf("/sides?offer=%s&mismatches=%t", id, cmd.Bool("mismatches")))
			if err != nil {
				return err
			}
			return tableOf(all, "Nobody has or had access.",
				[]string{
					"offer", "section", "person", "access", "until", "enrolled",
					"together",
				}, func(x api.Side) []string {
					enrolled := map[bool]string{true: "yes", false: "no"}[x.Enrolled]
					return []string{
						x.Offer, x.Section, x.Person, x.Access, moment(x.EndsOn), enrolled,
						strings.ReplaceAll(x.Verdict, "-", " "),
					}
				}).print(cmd)
		},
	}
}

func listOffers(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	page, err := client.Get[api.Page[api.Offer]](ctx, c, "/offers")
	if err != nil {
		return err
	}
	if err := tableOf(page.Items, "There is no offer yet. Make one: kanban offers add --help",
		[]string{
			"offer", "state", "sold as", "leads to", "grace", "at end", "have access", "ended",
			"mismatches",
		}, func(o api.Offer) []string {
			leads, state := count(len(o.SectionIDs), "section"), map[bool]string{true: "on", false: "off"}[o.On]
			if o.CourseID != "" {
				leads = "a course, " + o.TermRule + " term"
			}
			return []string{
				o.Name, state, o.Offer, leads, count(o.GraceDays, "day"), o.AtEnd, fmt.Sprint(o.Active),
				fmt.Sprint(o.Ended), fmt.Sprint(o.Mismatches),
			}
		}).print(cmd); err != nil {
		return err
	}
	unmapped, err := client.Get[[]api.Unmapped](ctx, c, "/unmapped")
	for _, u := range unmapped {
		say(cmd, "%s sold %q to %s, and no offer says where it leads.", u.Interface, u.Offer, peopleCount(u.Buyers))
	}
	return err
}

func switchOffer(name string, on bool) *cli.Command {
	usage := map[bool]string{
		true:  "Switch an offer on; what was bought while it was off counts from now on",
		false: "Switch an offer off: it gives nothing and takes nothing",
	}[on]
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: "NAME",
		Description: fmt.Sprintf("  kanban offers %s \"A place in Propagation\"", name),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			o, err := findOffer(ctx, c, args[0])
			if err != nil {
				return err
			}
			if _, err := client.Post[api.Offer](ctx, c, "/offers/"+o.ID+"/switch", api.Switch{On: on}); err != nil {
				return err
			}
			say(cmd, "%q is %s.", o.Name, name)
			return nil
		},
	}
}

func addOffer(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	shop, err := findInterface(ctx, c, cmd.String("sold-by"))
	if err != nil {
		return err
	}
	n := api.NewOffer{
		Name: args[0], InterfaceID: shop.ID, Offer: cmd.String("as"), GraceDays: cmd.Int("grace"),
		AtEnd: cmd.String("at-end"), OnlyBuyers: cmd.Bool("only-buyers"),
	}
	for _, name := range cmd.StringSlice("section") {
		x, err := findPart(ctx, c, name)
		if err != nil {
			return err
		}
		n.SectionIDs = append(n.SectionIDs, x.ID)
	}
	if name := cmd.String("course"); name != "" {
		course, err := findCourse(ctx, c, name)
		if err != nil {
			return err
		}
		n.CourseID, n.TermRule = course.ID, cmd.String("term")
	}
	if name := cmd.String("enrol-through"); name != "" {
		p, err := findInterface(ctx, c, name)
		if err != nil {
			return err
		}
		n.PlatformID = p.ID
	}
	o, err := client.Post[api.Offer](ctx, c, "/offers", n)
	if err != nil {
		return err
	}
	say(cmd, "Made the offer %q. See whom it gives access: kanban offers compare %q", o.Name, o.Name)
	return nil
}

func listAccesses(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	query, empty := url.Values{}, "Nothing was bought or given."
	if name := cmd.Args().First(); name != "" {
		o, err := findOffer(ctx, c, name)
		if err != nil {
			return err
		}
		query.Set("offer", o.ID)
	}
	if cmd.Bool("troubled") {
		query.Set("troubled", "true")
		empty = "Everything for which there is an offer gives access; what was sold without one: kanban offers list"
	}
	all, err := client.All[api.Access](ctx, c, "/accesses?"+query.Encode())
	if err != nil {
		return err
	}
	return tableOf(all, empty, []string{
		"person", "buyer", "offer", "order", "access", "sections", "until",
		"given by", "reason", "problem",
	}, func(a api.Access) []string {
		return []string{
			cmp.Or(a.Person, "not known"), cmp.Or(a.Buyer, a.Name), a.Offer, a.Order, a.State,
			strings.Join(a.Sections, ", "), moment(a.EndsOn), a.GivenBy, a.Reason, a.Why,
		}
	}).print(cmd)
}

func giveAccess(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 2)
	if err != nil {
		return err
	}
	c := connect(cmd)
	o, err := findOffer(ctx, c, args[0])
	if err != nil {
		return err
	}
	p, err := onePerson(ctx, c, args[1])
	if err != nil {
		return err
	}
	n := api.NewAccess{PersonID: p.ID, Reason: cmd.String("reason")}
	if cmd.IsSet("until") {
		until := cmd.Timestamp("until")
		n.Until = &until
	}
	a, err := client.Post[api.Access](ctx, c, "/offers/"+o.ID+"/accesses", n)
	if err != nil {
		return err
	}
	say(cmd, "%s has access by %q from now on: %s. End it: kanban offers end %s --reason …", a.Person, o.Name,
		cmp.Or(strings.Join(a.Sections, ", "), "no section"), a.ID)
	return nil
}

func endAccess(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	if _, err := client.Post[client.Empty](ctx, connect(cmd), "/accesses/"+url.PathEscape(args[0])+"/end",
		api.Ending{Reason: cmd.String("reason")}); err != nil {
		return err
	}
	say(cmd, "The access has ended.")
	return nil
}

func assignAccess(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 2)
	if err != nil {
		return err
	}
	c := connect(cmd)
	p, err := onePerson(ctx, c, args[1])
	if err != nil {
		return err
	}
	if _, err := client.Post[client.Empty](ctx, c, "/accesses/"+url.PathEscape(args[0])+"/person",
		api.Whose{PersonID: p.ID}); err != nil {
		return err
	}
	say(cmd, "It is %s's. Whom it enrols: kanban offers compare", p.Name)
	return nil
}
