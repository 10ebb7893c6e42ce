package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func offersOf() *cli.Command {
	return &cli.Command{
		Name: "offers", Usage: "Let purchases and memberships give access to sections", Category: "learning",
		Commands: []*cli.Command{
			{Name: "list", Usage: "List offers, and what was bought and leads nowhere", Action: listOffers},
			{
				Name: "add", Usage: "Say to which sections something that is sold gives access", ArgsUsage: "NAME",
				Description: `  kanban offers add "A place in Propagation" --sold-by "Garden shop" --as propagation-place \
      --section PROP-A --enrol-through "Course platform places" --grace 14
  kanban offers add "Orchard membership" --sold-by "Garden shop" --as orchard-membership \
      --course ORCH --term current --at-end mark`,
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "sold-by", Required: true, Usage: "the connection that tells about purchases"},
					&cli.StringFlag{Name: "as", Required: true, Usage: "what the service calls it"},
					&cli.StringSliceFlag{Name: "section", Usage: "a section it gives access to (code or title)"},
					&cli.StringFlag{Name: "course", Usage: "instead: the section of this course with the fewest learners"},
					&cli.StringFlag{Name: "term", Value: "current", Usage: "with --course: current or next"},
					&cli.StringFlag{Name: "enrol-through", Usage: "the connection through which people are enrolled; nobody is when absent"},
					&cli.IntFlag{Name: "grace", Usage: "how many days access outlives its end"},
					&cli.StringFlag{Name: "at-end", Value: "unenrol", Usage: "unenrol or mark"},
					&cli.BoolFlag{Name: "only-buyers", Usage: "learners without access are a disagreement"},
				},
				Action: addOffer,
			},
			{Name: "remove", Usage: "Remove an offer; whom it enrolled stays enrolled", ArgsUsage: "NAME", Action: func(ctx context.Context, cmd *cli.Command) error {
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
			}},
			{
				Name: "compare", Usage: "Access and enrolment side by side", ArgsUsage: "[NAME]", Flags: []cli.Flag{&cli.BoolFlag{Name: "amiss", Usage: "only where they do not go together"}},
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
					all, err := client.Get[[]api.Side](ctx, c, fmt.Sprintf("/sides?offer=%s&amiss=%t", id, cmd.Bool("amiss")))
					if err != nil {
						return err
					}
					return tableOf(all, "Nobody has or had access.", []string{"offer", "section", "person", "access", "until", "enrolled", "together"}, func(x api.Side) []string {
						enrolled := map[bool]string{true: "yes", false: "no"}[x.Enrolled]
						return []string{x.Offer, x.Section, x.Person, x.Access, moment(x.EndsOn), enrolled, strings.ReplaceAll(x.Verdict, "-", " ")}
					}).print(cmd)
				},
			},
		},
	}
}

func listOffers(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	page, err := client.Get[api.Page[api.Offer]](ctx, c, "/offers")
	if err != nil {
		return err
	}
	if err := tableOf(page.Items, "There is no offer yet. Make one: kanban offers add --help", []string{"offer", "sold as", "leads to", "grace", "at end", "have access", "ended", "amiss"}, func(o api.Offer) []string {
		leads := count(len(o.SectionIDs), "section")
		if o.CourseID != "" {
			leads = "a course, " + o.TermRule + " term"
		}
		return []string{o.Name, o.Offer, leads, count(o.GraceDays, "day"), o.AtEnd, fmt.Sprint(o.Active), fmt.Sprint(o.Ended), fmt.Sprint(o.Amiss)}
	}).print(cmd); err != nil {
		return err
	}
	unmapped, err := client.Get[[]api.Unmapped](ctx, c, "/unmapped")
	for _, u := range unmapped {
		say(cmd, "%s sold %q to %s, and no offer says where it leads.", u.Connection, u.Offer, peopleCount(u.Buyers))
	}
	return err
}

func addOffer(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	shop, err := findConnection(ctx, c, cmd.String("sold-by"))
	if err != nil {
		return err
	}
	n := api.NewOffer{Name: args[0], ConnectionID: shop.ID, Offer: cmd.String("as"), GraceDays: cmd.Int("grace"), AtEnd: cmd.String("at-end"), OnlyBuyers: cmd.Bool("only-buyers")}
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
		p, err := findConnection(ctx, c, name)
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
