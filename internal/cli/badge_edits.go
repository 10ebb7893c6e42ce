package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/stage"
	"kanban/internal/wire/api"
)

// badgeFlags are those of what a badge says beside its name.
func badgeFlags(more ...cli.Flag) []cli.Flag {
	return append(more,
		&cli.StringSliceFlag{Name: "tag", Usage: "a word under which it is found; can be given several times"},
		&cli.StringSliceFlag{Name: "align", Usage: "a goal of a framework: `NAME=ADDRESS`; can be given several times"},
		&cli.IntFlag{Name: "valid-days", Usage: "how many days an award holds; 0 for good"},
		&cli.StringFlag{Name: "last-day", Usage: "`DATE` such as 2027-07-31 on which every award ends; \"\" for none"},
		&cli.BoolFlag{Name: "renewable", Usage: "who holds it can be awarded it again from 60 days before its end"},
		&cli.StringFlag{Name: "asks", Usage: "the same as programs read it: CRITERION; CRITERION, as in stages add; \"\" for none"},
		&cli.StringFlag{Name: "course", Usage: "of what --asks names (code or title)"},
		&cli.StringFlag{Name: "level", Usage: "such as advanced; its credentials say it"},
	)
}

// asksOf reads what a badge asks for. Every criterion names its course, which is that of --course.
func asksOf(ctx context.Context, cmd *cli.Command, c *client.Client) ([]stage.Criterion, error) {
	if strings.TrimSpace(cmd.String("asks")) == "" {
		return []stage.Criterion{}, nil
	}
	if cmd.String("course") == "" {
		return nil, usage(cmd, "--asks needs --course, whose modules and activities it names")
	}
	course, err := findCourse(ctx, c, cmd.String("course"))
	if err != nil {
		return nil, err
	}
	all, err := readCriteria(ctx, c, course, cmd.String("asks"))
	return inCourse(all, course.ID), err
}

// inCourse gives criteria that name no course one.
func inCourse(all []stage.Criterion, courseID string) []stage.Criterion {
	for i := range all {
		if x := &all[i]; x.CourseID == "" && x.Kind != stage.Badge && !x.Kind.Groups() {
			x.CourseID = courseID
		}
		inCourse(all[i].Of, courseID)
	}
	return all
}

func alignmentsOf(cmd *cli.Command) (list []api.BadgeAlignment, err error) {
	for _, text := range cmd.StringSlice("align") {
		name, address, ok := strings.Cut(text, "=")
		if !ok {
			return nil, usage(cmd, fmt.Sprintf("--align %q is not NAME=ADDRESS", text))
		}
		list = append(list, api.BadgeAlignment{Name: name, Address: address})
	}
	return list, nil
}

func badgesEdit() *cli.Command {
	return &cli.Command{
		Name: "edit", Usage: "Change what a badge says; what is not given stays", ArgsUsage: "NAME",
		Description: `What it says after it was awarded is a new version: whoever holds it keeps it as it was.

  kanban badges edit Cuttings --criteria "Finish the module Cuttings with at least 80 %."
  kanban badges edit Cuttings --course PROP --asks "module Cuttings; score Check 80"
  kanban badges edit Cuttings --tag propagation --align "Plant care 3=https://frameworks.example/plants/3" --valid-days 730`,
		Flags: badgeFlags(
			&cli.StringFlag{Name: "name", Usage: "another name"},
			&cli.StringFlag{Name: "about", Usage: "what it is for"},
			&cli.StringFlag{Name: "criteria", Usage: "what one has to do"},
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, b, err := theBadge(ctx, cmd)
			if err != nil {
				return err
			}
			var e api.EditBadge
			for flag, into := range map[string]**string{
				"name": &e.Name, "about": &e.Description, "criteria": &e.Criteria, "last-day": &e.LastDay,
				"level": &e.Level,
			} {
				if cmd.IsSet(flag) {
					text := cmd.String(flag)
					*into = &text
				}
			}
			if cmd.IsSet("tag") {
				tags := cmd.StringSlice("tag")
				e.Tags = &tags
			}
			if cmd.IsSet("valid-days") {
				days := int(cmd.Int("valid-days"))
				e.ValidDays = &days
			}
			if cmd.IsSet("renewable") {
				renewable := cmd.Bool("renewable")
				e.Renewable = &renewable
			}
			if cmd.IsSet("asks") {
				list, err := asksOf(ctx, cmd, c)
				if err != nil {
					return err
				}
				e.Asks = &list
			}
			if cmd.IsSet("align") {
				list, err := alignmentsOf(cmd)
				if err != nil {
					return err
				}
				e.Alignments = &list
			}
			return editBadge(ctx, cmd, c, b, e)
		},
	}
}

// theBadge finds the badge that is the one argument.
func theBadge(ctx context.Context, cmd *cli.Command) (*client.Client, api.Badge, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.Badge{}, err
	}
	c := connect(cmd)
	b, err := findBadge(ctx, c, args[0])
	return c, b, err
}

func editBadge(ctx context.Context, cmd *cli.Command, c *client.Client, b api.Badge, e api.EditBadge) error {
	now, err := client.Edit[api.Badge](ctx, c, http.MethodPatch, "/badges/"+b.ID, b.Revision, e)
	if err != nil {
		return err
	}
	if now.Version != b.Version {
		say(cmd, "%s is version %d now. Whoever holds version %d keeps it.", now.Name, now.Version, b.Version)
		return nil
	}
	say(cmd, "%s: %s, version %d.", now.Name, now.State, now.Version)
	return nil
}

func badgesState(name, state, what string) *cli.Command {
	return &cli.Command{
		Name: name, Usage: what, ArgsUsage: "NAME", Description: "  kanban badges " + name + " Cuttings",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, b, err := theBadge(ctx, cmd)
			if err != nil {
				return err
			}
			return editBadge(ctx, cmd, c, b, api.EditBadge{State: &state})
		},
	}
}

func badgesVersions() *cli.Command {
	return &cli.Command{
		Name: "versions", Usage: "List the versions of a badge that were, and who holds them", ArgsUsage: "NAME",
		Description: "  kanban badges versions Cuttings",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, b, err := theBadge(ctx, cmd)
			if err != nil {
				return err
			}
			page, err := client.Get[api.Page[api.BadgeVersion]](ctx, c, "/badges/"+b.ID+"/versions")
			if err != nil {
				return err
			}
			return tableOf(page.Items, b.Name+" has not changed since it was awarded first.",
				[]string{"version", "until", "by", "held by", "what it was for", "criteria"},
				func(v api.BadgeVersion) []string {
					return []string{
						fmt.Sprint(v.Version), when(&v.ChangedAt), v.ChangedBy, fmt.Sprint(v.Awards), v.Description,
						v.Criteria,
					}
				}).print(cmd)
		},
	}
}

func badgesEditIssuer() *cli.Command {
	return &cli.Command{
		Name: "edit-issuer", Usage: "Change what an issuer says of itself; what is not given stays", ArgsUsage: "ISSUER",
		Description: "  kanban badges edit-issuer \"Fernmoor Garden School\" --email badges@fernmoor.example",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "another name"},
			&cli.StringFlag{Name: "url", Usage: "its site"},
			&cli.StringFlag{Name: "email", Usage: "its address for questions"},
			&cli.StringFlag{Name: "about", Usage: "what it is"},
			&cli.StringFlag{Name: "terms", Usage: "of use, for whoever relies on its badges"},
			&cli.StringFlag{Name: "picture", Usage: "a PNG or an SVG; \"\" for none", TakesFile: true},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			was, err := findIssuer(ctx, c, args[0])
			if err != nil {
				return err
			}
			n := was.NewIssuer
			for flag, into := range map[string]*string{
				"name": &n.Name, "url": &n.URL, "email": &n.Email, "about": &n.Description, "terms": &n.Terms,
			} {
				if cmd.IsSet(flag) {
					*into = cmd.String(flag)
				}
			}
			x, err := client.Send[api.Issuer](ctx, c, http.MethodPut, "/issuers/"+was.ID, n)
			if err == nil && cmd.IsSet("picture") {
				err = issuerPicture(ctx, c, x.ID, cmd.String("picture"))
			}
			if err == nil {
				say(cmd, "Changed the issuer %s. What it signed before stays as it was.", x.Name)
			}
			return err
		},
	}
}
