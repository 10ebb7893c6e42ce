package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func badges() *cli.Command {
	return &cli.Command{
		Name: "badges", Usage: "Make badges and see awards", Category: "learning",
		Commands: []*cli.Command{
			badgesList(),
			badgesAdd(),
			badgesPicture(),
			badgesDraw(),
			badgesSymbols(),
			badgesPage(),
			badgesTerms(),
			badgesRemove(),
			badgesIssuers(),
			badgesRemoveIssuer(),
			badgesAwards(),
			badgesAward(),
			badgesAwardFile(),
			badgesRevoke(),
			badgesSuspend(),
			{
				Name: "restore", Usage: "Restore an award: end its suspension, or cancel a revocation made by mistake",
				ArgsUsage:   "BADGE PERSON",
				Description: "The award holds again, and its status list says so. Whoever checked it meanwhile saw that it did not hold.\n\n  kanban badges restore Cuttings bram.birch@fernmoor.example",
				Action:      restoreBadge,
			},
			badgesDownload(),
			badgesCheck(),
			badgesEdit(), badgesState("publish", "published", "Let a badge be awarded"),
			badgesState("withdraw", "withdrawn", "Let a badge be awarded no more; whoever holds it keeps it"),
			badgesVersions(), badgesEditIssuer(),
			badgesKeys(),
			badgesRotateKeys(),
		},
	}
}

func badgesList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "List badges",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			page, err := client.Get[api.Page[api.Badge]](ctx, connect(cmd), "/badges")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "There is no badge yet. Make one: kanban badges add --help",
				[]string{"badge", "issuer", "state", "version", "held by", "revoked", "criteria"},
				func(b api.Badge) []string {
					return []string{
						b.Name, b.Issuer, b.State, fmt.Sprint(b.Version), fmt.Sprint(b.Awards),
						fmt.Sprint(b.Revoked), b.Criteria,
					}
				}).print(cmd)
		},
	}
}

func badgesAdd() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "Make a badge; an issuer of that name is made when there is none", ArgsUsage: "NAME",
		Description: "  kanban badges add Cuttings --issuer \"Fernmoor Garden School\" --about \"Takes cuttings that root.\" --criteria \"Finish the module Cuttings.\"",
		Flags: badgeFlags(
			&cli.StringFlag{Name: "issuer", Required: true, Usage: "who gives it out"},
			&cli.StringFlag{Name: "about", Required: true, Usage: "what it is for"},
			&cli.StringFlag{Name: "criteria", Required: true, Usage: "what one has to do"},
			&cli.BoolFlag{Name: "draft", Usage: "not to be awarded before it is published"},
		),
		Action: addBadge,
	}
}

func badgesRemove() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "Remove a badge that nobody was awarded and that nothing is to award",
		ArgsUsage: "NAME", Description: "  kanban badges remove \"Cutings\"",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			b, err := findBadge(ctx, c, args[0])
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/badges/"+b.ID, nil); err != nil {
				return err
			}
			say(cmd, "Removed the badge %s.", b.Name)
			return nil
		},
	}
}

func badgesIssuers() *cli.Command {
	return &cli.Command{
		Name: "issuers", Usage: "List issuers",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			page, err := client.Get[api.Page[api.Issuer]](ctx, connect(cmd), "/issuers")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "There is no issuer yet; the first badge makes one: kanban badges add --help",
				[]string{"issuer", "page", "did:web", "id"}, func(i api.Issuer) []string {
					return []string{i.Name, i.Address, cmp.Or(i.DID, "none: it needs https"), i.ID}
				}).print(cmd)
		},
	}
}

func badgesRemoveIssuer() *cli.Command {
	return &cli.Command{
		Name: "remove-issuer", Usage: "Remove an issuer that has no badge", ArgsUsage: "NAME",
		Description: "  kanban badges remove-issuer \"Fernmor Garden School\"",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			i, err := findIssuer(ctx, c, args[0])
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/issuers/"+i.ID, nil); err != nil {
				return err
			}
			say(cmd, "Removed the issuer %s.", i.Name)
			return nil
		},
	}
}

func badgesAwards() *cli.Command {
	return &cli.Command{
		Name: "awards", Usage: "List awards, the newest first",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			all, err := client.All[api.Award](ctx, connect(cmd), "/awards")
			if err != nil {
				return err
			}
			return tableOf(all, "Nobody has been awarded yet.",
				[]string{"person", "badge", "awarded", "revoked", "suspended", "page"},
				func(a api.Award) []string {
					return []string{
						a.Person, a.Badge, moment(&a.AwardedAt), because(a.RevokedAt, a.Reason),
						because(a.SuspendedAt, a.SuspendedReason), a.Address,
					}
				}).print(cmd)
		},
	}
}

func badgesRevoke() *cli.Command {
	return endsAward("revoke", "Revoke somebody's badge; whoever checks it sees that", "Revoked",
		"The badge can be awarded anew afterwards, and a mistake can be mended: kanban badges restore.", "Awarded by mistake")
}

func badgesSuspend() *cli.Command {
	return endsAward("suspend", "Suspend somebody's badge: it does not hold until it is restored", "Suspended",
		"Whoever checks it meanwhile sees that, and why. End it: kanban badges restore.", "Being looked into")
}

// endsAward is a command by which an award does not hold any more, or not for now.
func endsAward(name, what, done, about, reason string) *cli.Command {
	return &cli.Command{
		Name: name, Usage: what, ArgsUsage: "BADGE PERSON",
		Description: about + fmt.Sprintf("\n\n  kanban badges %s Cuttings bram.birch@fernmoor.example --reason %q", name, reason),
		Flags: []cli.Flag{&cli.StringFlag{
			Name: "reason", Required: true, Usage: "why; whoever checks the badge is shown it",
		}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			b, p, all, err := awardsOf(ctx, cmd, c)
			if err != nil {
				return err
			}
			i := slices.IndexFunc(all, func(a api.Award) bool { return a.RevokedAt == nil })
			if i < 0 {
				return fmt.Errorf("%w: %s does not hold the badge %s", errUsage, p.Name, b.Name)
			}
			a, err := client.Post[api.Award](ctx, c, "/awards/"+all[i].ID+"/"+name,
				api.Revocation{Reason: cmd.String("reason")})
			if err != nil {
				return err
			}
			say(cmd, "%s the badge %s of %s. Its page says so: %s", done, a.Badge, a.Person, a.Address)
			return nil
		},
	}
}

func addBadge(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	asks, err := asksOf(ctx, cmd, c)
	if err != nil {
		return err
	}
	page, err := client.Get[api.Page[api.Issuer]](ctx, c, "/issuers")
	if err != nil {
		return err
	}
	var issuer api.Issuer
	i := slices.IndexFunc(page.Items, func(x api.Issuer) bool {
		return strings.EqualFold(x.Name,
			cmd.String("issuer"))
	})
	if i >= 0 {
		issuer = page.Items[i]
	} else if issuer, err = client.Post[api.Issuer](ctx, c, "/issuers",
		api.NewIssuer{Name: cmd.String("issuer")}); err != nil {
		return err
	}
	made := i < 0
	n := api.NewBadge{
		IssuerID: issuer.ID, Name: args[0], Description: cmd.String("about"), Criteria: cmd.String("criteria"),
		Asks: asks, Tags: cmd.StringSlice("tag"), ValidDays: int(cmd.Int("valid-days")),
		LastDay: cmd.String("last-day"), Renewable: cmd.Bool("renewable"), Level: cmd.String("level"),
	}
	if cmd.Bool("draft") {
		n.State = "draft"
	}
	if n.Alignments, err = alignmentsOf(cmd); err != nil {
		return err
	}
	b, err := client.Post[api.Badge](ctx, c, "/badges", n)
	if err != nil {
		if made { // it is not left behind
			_, gone := client.Send[client.Empty](ctx, c, http.MethodDelete, "/issuers/"+issuer.ID, nil)
			err = errors.Join(err, gone)
		}
		return err
	}
	say(cmd, "Made the badge %s.", b.Name)
	return nil
}

// because says in one cell since when something is so, and why; nothing where it is not.
func because(at *time.Time, reason string) string {
	if at == nil {
		return ""
	}
	return when(at) + ": " + reason
}

// awardsOf gives the badge, the person and all awards of the one to the other.
func awardsOf(ctx context.Context, cmd *cli.Command, c *client.Client) (b api.Badge, p api.Person, all []api.Award,
	err error,
) {
	args, err := arguments(cmd, 2)
	if err != nil {
		return b, p, nil, err
	}
	return awardsNamed(ctx, c, args[0], args[1])
}

func awardsNamed(ctx context.Context, c *client.Client, badge, person string) (b api.Badge, p api.Person,
	all []api.Award, err error,
) {
	if b, err = findBadge(ctx, c, badge); err != nil {
		return b, p, nil, err
	}
	if p, err = onePerson(ctx, c, person); err != nil {
		return b, p, nil, err
	}
	all, err = client.All[api.Award](ctx, c, "/awards?badge="+b.ID+"&person="+p.ID)
	return b, p, all, err
}

func restoreBadge(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	b, p, all, err := awardsOf(ctx, cmd, c)
	if err != nil {
		return err
	}
	suspended := func(a api.Award) bool { return a.SuspendedAt != nil && a.RevokedAt == nil }
	i := slices.IndexFunc(all, suspended)
	if i < 0 {
		i = slices.IndexFunc(all, func(a api.Award) bool { return a.RevokedAt != nil }) // the newest
	}
	if i < 0 {
		return fmt.Errorf("%w: no award of the badge %s to %s is revoked or suspended", errUsage, b.Name, p.Name)
	}
	a, err := client.Post[api.Award](ctx, c, "/awards/"+all[i].ID+"/restore", nil)
	if err != nil {
		return err
	}
	say(cmd, "The badge %s of %s holds again. Its page says so: %s", a.Badge, a.Person, a.Address)
	return nil
}
