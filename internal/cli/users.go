package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func usersOf() *cli.Command {
	return &cli.Command{
		Name: "users", Usage: "Who may sign in, and as what", Category: "service",
		Description: `An administrator may do everything. An operator minds rosters, pairings, scores, rules and badges, but no
credentials and nobody's role. Support sees all, acknowledges findings and finishes tasks. A reader sees reports. An
awarder awards badges. Operators, support and awarders can be limited to an organisation, a course or a section.
Teachers and learners come from the register: invite the person.`,
		Commands: []*cli.Command{
			usersList(), usersInvite(), usersInviteAgain(), usersEdit(), usersGrant(), usersEndRole(), usersRemove(),
			usersEndCodes(), usersNeedCodes(),
		},
	}
}

func usersList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "List who may sign in", Description: "  kanban users list",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			page, err := client.Get[api.Page[api.User]](ctx, connect(cmd), "/users")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "Nobody may sign in.",
				[]string{"name", "address", "roles", "state", "invited by", "signed in"}, func(u api.User) []string {
					return []string{u.Name, u.Email, rolesOf(u), u.State, u.InvitedBy, moment(u.SignedInAt)}
				}).print(cmd)
		},
	}
}

func sayInvitation(cmd *cli.Command, in api.Invitation) {
	if in.Mailed {
		say(cmd, "%s was mailed a link to choose a password by; it works once, for a week.", in.User.Email)
		return
	}
	say(cmd, "Give %s this link; it works once, for a week, and is not shown again (not mailed: %s):\n%s", in.User.Name,
		in.Why, in.Link)
}

// roleFlags say a role, and in which part of the institution it is had.
func roleFlags(required bool) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name: "role", Required: required,
			Usage: "`ROLE`: administrator, operator, support, reader or awarder",
		},
		&cli.StringFlag{Name: "organisation", Usage: "only in this `ORGANISATION` and all below it"},
		&cli.StringFlag{Name: "course", Usage: "only in the sections of this `COURSE`"},
		&cli.StringFlag{Name: "section", Usage: "only in this `SECTION`"},
		&cli.StringFlag{Name: "issuer", Usage: "for an awarder: only badges of this `ISSUER`"},
	}
}

// grantOf reads the flags of roleFlags; nil when no role is given.
func grantOf(ctx context.Context, cmd *cli.Command, c *client.Client) (*api.NewRoleGrant, error) {
	g := api.NewRoleGrant{Role: cmd.String("role"), Scope: "institution"}
	for scope, find := range map[string]func(string) (string, error){
		"organisation": func(name string) (string, error) {
			x, err := findOrganisation(ctx, c, name)
			return x.ID, err
		},
		"course": func(name string) (string, error) {
			x, err := findCourse(ctx, c, name)
			return x.ID, err
		},
		"section": func(name string) (string, error) {
			x, err := findPart(ctx, c, name)
			return x.ID, err
		},
	} {
		name := cmd.String(scope)
		if name == "" {
			continue
		}
		if g.Role == "" {
			return nil, usage(cmd, "give --role with --"+scope)
		}
		if g.Scope != "institution" {
			return nil, usage(cmd, "give one of --organisation, --course and --section; grant the others one by one")
		}
		id, err := find(name)
		if err != nil {
			return nil, err
		}
		g.Scope, g.ScopeID = scope, id
	}
	if name := cmd.String("issuer"); name != "" {
		x, err := findIssuer(ctx, c, name)
		if err != nil {
			return nil, err
		}
		g.IssuerID = x.ID
	}
	if g.Role == "" {
		return nil, nil
	}
	return &g, nil
}

// rolesOf says what somebody may be, and where.
func rolesOf(u api.User) string {
	var all []string
	for _, g := range u.Grants {
		all = append(all, roleText(g))
	}
	if u.PersonID != "" {
		all = append(all, "as the register says")
	}
	return strings.Join(all, "; ")
}

func roleText(g api.RoleGrant) string {
	text := g.Role
	if g.Scope != "institution" {
		text += " in the " + g.Scope + " " + cmp.Or(g.ScopeName, "that the register has no more")
	}
	if g.Issuer != "" {
		text += " for badges of " + g.Issuer
	}
	return text
}

func usersInvite() *cli.Command {
	return &cli.Command{
		Name: "invite", Usage: "Invite somebody: they choose a password by a link", ArgsUsage: "[NAME ADDRESS]",
		Description: `The link is mailed when a mail server is connected, and shown here otherwise. Somebody of the register needs no role:
they see the sections that they teach and their own page, for as long as the register says so.

  kanban users invite "Otto Onion" otto@school.example --role operator
  kanban users invite "Olive Orchard" olive@school.example --role operator --organisation "Orchard House"
  kanban users invite --person hazel@school.example`,
		Flags: append(roleFlags(false),
			&cli.StringFlag{Name: "person", Usage: "who of the register they are: `NAME`, identifier or address"}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, n := connect(cmd), api.NewUser{}
			switch args := cmd.Args().Slice(); {
			case len(args) == 2:
				n.Name, n.Email = args[0], args[1]
			case len(args) != 0 || cmd.String("person") == "":
				return usage(cmd, "give a name and an address, or --person")
			}
			if text := cmd.String("person"); text != "" {
				p, err := onePerson(ctx, c, text)
				if err != nil {
					return err
				}
				n.PersonID = p.ID
			}
			g, err := grantOf(ctx, cmd, c)
			if err != nil {
				return err
			}
			n.Grant = g
			in, err := client.Post[api.Invitation](ctx, c, "/users", n)
			if err == nil {
				sayInvitation(cmd, in)
			}
			return err
		},
	}
}

func usersGrant() *cli.Command {
	return &cli.Command{
		Name: "grant", Usage: "Give somebody one more role, everywhere or in a part of the institution", ArgsUsage: "USER",
		Description: `It holds at once. An organisation is meant with all below it.

  kanban users grant otto@school.example --role support
  kanban users grant otto@school.example --role operator --course PROP
  kanban users grant hazel@school.example --role awarder --section PROP-1 --issuer "Fernmoor Garden School"`,
		Flags: roleFlags(true),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, u, g, err := userAndGrant(ctx, cmd)
			if err != nil {
				return err
			}
			now, err := client.Post[api.User](ctx, c, "/users/"+u.ID+"/grants", g)
			if err == nil {
				say(cmd, "%s, %s: %s.", now.Name, now.Email, rolesOf(now))
			}
			return err
		},
	}
}

func usersEndRole() *cli.Command {
	return &cli.Command{
		Name: "end-role", Usage: "End a role that somebody has; it ends at once", ArgsUsage: "USER",
		Description: `Without where it is had, the one in the whole institution is meant.

  kanban users end-role otto@school.example --role operator --course PROP`,
		Flags: roleFlags(true),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, u, g, err := userAndGrant(ctx, cmd)
			if err != nil {
				return err
			}
			for _, x := range u.Grants {
				if x.Role != g.Role || x.Scope != g.Scope || x.ScopeID != g.ScopeID || x.IssuerID != g.IssuerID {
					continue
				}
				now, err := client.Send[api.User](ctx, c, http.MethodDelete, "/users/"+u.ID+"/grants/"+x.ID, nil)
				if err == nil {
					say(cmd, "%s, %s: %s.", now.Name, now.Email, cmp.Or(rolesOf(now), "no role"))
				}
				return err
			}
			return fmt.Errorf("%w: %s has no such role; what they have: %s", errUsage, u.Name, rolesOf(u))
		},
	}
}

// userAndGrant finds the user whom the argument names, and reads the role that is meant.
func userAndGrant(ctx context.Context, cmd *cli.Command) (c *client.Client, u api.User, g *api.NewRoleGrant,
	err error,
) {
	if c, u, err = oneUser(ctx, cmd); err != nil {
		return c, u, nil, err
	}
	g, err = grantOf(ctx, cmd, c)
	return c, u, g, err
}

// oneUser finds the user whom the argument names, by address, id or name; of two of one name neither is taken.
func oneUser(ctx context.Context, cmd *cli.Command) (*client.Client, api.User, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.User{}, err
	}
	c := connect(cmd)
	page, err := client.Get[api.Page[api.User]](ctx, c, "/users")
	if err != nil {
		return c, api.User{}, err
	}
	var found []api.User
	for _, u := range page.Items {
		if u.ID == args[0] || strings.EqualFold(u.Email, args[0]) {
			return c, u, nil
		}
		if strings.EqualFold(u.Name, args[0]) {
			found = append(found, u)
		}
	}
	if len(found) == 0 {
		return c, api.User{}, fmt.Errorf("%w: there is no user %q; see which there are: kanban users list", errUsage,
			args[0])
	}
	if len(found) != 1 {
		return c, api.User{}, fmt.Errorf("%s called %q; name one by the address (kanban users list)",
			count(len(found), "user"), args[0])
	}
	return c, found[0], nil
}

func usersInviteAgain() *cli.Command {
	return &cli.Command{
		Name: "invite-again", Usage: "Send or show a new link, also to somebody who forgot the password", ArgsUsage: "USER",
		Description: "  kanban users invite-again otto@school.example",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, u, err := oneUser(ctx, cmd)
			if err != nil {
				return err
			}
			in, err := client.Post[api.Invitation](ctx, c, "/users/"+u.ID+"/invitation", struct{}{})
			if err == nil {
				sayInvitation(cmd, in)
			}
			return err
		},
	}
}

func usersEdit() *cli.Command {
	return &cli.Command{
		Name: "edit", Usage: "Change somebody's role, name or address; it holds at once", ArgsUsage: "USER",
		Description: `A role given here is had in the whole institution, in place of the one that they have there.

  kanban users edit otto@school.example --role support
  kanban users edit otto@school.example --person tea-004`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "role", Usage: "`ROLE`: administrator, operator, support, reader or awarder"},
			&cli.StringFlag{Name: "person", Usage: "who of the register they are: `NAME`, identifier or address; \"\" for nobody"},
			&cli.StringFlag{Name: "name", Usage: "`NAME` shown beside what they change"},
			&cli.StringFlag{Name: "email", Usage: "`ADDRESS` by which they sign in"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, u, err := oneUser(ctx, cmd)
			if err != nil {
				return err
			}
			var e api.EditUser
			for flag, into := range map[string]**string{"role": &e.Role, "name": &e.Name, "email": &e.Email} {
				if cmd.IsSet(flag) {
					v := cmd.String(flag)
					*into = &v
				}
			}
			if cmd.IsSet("person") {
				e.PersonID = new(string)
				if text := cmd.String("person"); text != "" {
					p, err := onePerson(ctx, c, text)
					if err != nil {
						return err
					}
					e.PersonID = &p.ID
				}
			}
			if e == (api.EditUser{}) {
				return usage(cmd, "give --role, --name, --email or --person")
			}
			now, err := client.Send[api.User](ctx, c, http.MethodPatch, "/users/"+u.ID, e)
			if err == nil {
				say(cmd, "%s, %s: %s.", now.Name, now.Email, rolesOf(now))
			}
			return err
		},
	}
}

func usersRemove() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "Let somebody in no more; sessions and tokens end at once", ArgsUsage: "USER",
		Description: "  kanban users remove otto@school.example",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, u, err := oneUser(ctx, cmd)
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/users/"+u.ID, nil); err != nil {
				return err
			}
			say(cmd, "%s may not sign in any more.", u.Name)
			return nil
		},
	}
}
