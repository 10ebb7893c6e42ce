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

func usersOf() *cli.Command {
	return &cli.Command{
		Name: "users", Usage: "Who may sign in, and as what", Category: "service",
		Description: `An administrator may do everything. An operator minds rosters, pairings, scores, rules and badges, but no
credentials and nobody's role. Support sees all, acknowledges findings and finishes tasks. A reader sees reports.`,
		Commands: []*cli.Command{usersList(), usersInvite(), usersInviteAgain(), usersEdit(), usersRemove()},
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
				[]string{"name", "address", "role", "state", "invited by", "signed in"}, func(u api.User) []string {
					return []string{u.Name, u.Email, u.Role, u.State, u.InvitedBy, moment(u.SignedInAt)}
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

func usersInvite() *cli.Command {
	return &cli.Command{
		Name: "invite", Usage: "Invite somebody: they choose a password by a link", ArgsUsage: "NAME ADDRESS",
		Description: `The link is mailed when a mail server is connected, and shown here otherwise.

  kanban users invite "Otto Onion" otto@school.example --role operator`,
		Flags: []cli.Flag{&cli.StringFlag{
			Name: "role", Required: true,
			Usage: "`ROLE`: administrator, operator, support or reader",
		}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2)
			if err != nil {
				return err
			}
			in, err := client.Post[api.Invitation](ctx, connect(cmd), "/users",
				api.NewUser{Name: args[0], Email: args[1], Role: cmd.String("role")})
			if err == nil {
				sayInvitation(cmd, in)
			}
			return err
		},
	}
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
		Description: "  kanban users edit otto@school.example --role support",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "role", Usage: "`ROLE`: administrator, operator, support or reader"},
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
			if e == (api.EditUser{}) {
				return usage(cmd, "give --role, --name or --email")
			}
			now, err := client.Send[api.User](ctx, c, http.MethodPatch, "/users/"+u.ID, e)
			if err == nil {
				say(cmd, "%s, %s: %s.", now.Name, now.Email, now.Role)
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
