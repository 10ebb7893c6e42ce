package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func interfacesSignIn() *cli.Command {
	return &cli.Command{
		Name: "sign-in", Usage: "Grant an interface access by signing in at its service", ArgsUsage: "NAME",
		Description: `The interface is let in by signing in (--set "letInBy=signing in", with the authorization server and the client id).
An address is printed; open it in a browser in which you are signed in to Kanban as the same person.

  kanban interfaces sign-in "Plant news: labels"
  kanban interfaces sign-in "Plant news: labels" --take     take a grant that waits for a decision
  kanban interfaces sign-in "Plant news: labels" --drop     drop it; the former one counts on
  kanban interfaces sign-in "Plant news: labels" --end      give up what was granted`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "take", Usage: "take a grant that waits for a decision"},
			&cli.BoolFlag{Name: "drop", Usage: "drop a grant that waits for a decision"},
			&cli.BoolFlag{Name: "end", Usage: "give up what was granted"},
			&cli.DurationFlag{Name: "wait", Value: 15 * time.Minute, Usage: "how long to wait until somebody has signed in"},
		},
		Action: signInAtService,
	}
}

func signInAtService(ctx context.Context, cmd *cli.Command) error {
	c, x, err := oneInterface(ctx, cmd)
	if err != nil {
		return err
	}
	at := "/interfaces/" + x.ID
	switch {
	case cmd.Bool("end"):
		if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, at+"/grant", nil); err != nil {
			return err
		}
		say(cmd, "What was granted to %s is given up.", x.Name)
		return nil
	case cmd.Bool("take"), cmd.Bool("drop"):
		x, err = client.Post[api.Interface](ctx, c, at+"/grant", api.GrantDecision{Take: cmd.Bool("take")})
		if err != nil {
			return err
		}
		return printGrant(cmd, x)
	}
	where, err := client.Post[api.SignInAt](ctx, c, at+"/sign-in", nil)
	if err != nil {
		return err
	}
	say(cmd, "Open this address in a browser in which you are signed in to Kanban as the same person:\n\n  %s\n", where.Address)
	before := grantedAt(x)
	x, err = waitFor(ctx, c, at, cmd.Duration("wait"), func(x api.Interface) bool { return grantedAt(x) != before })
	if err != nil {
		return err
	}
	if grantedAt(x) != before {
		return printGrant(cmd, x)
	}
	return fmt.Errorf("nobody has signed in yet; begin again when somebody can: kanban interfaces sign-in %q", x.Name)
}

// grantedAt tells the grants of an interface from others.
func grantedAt(x api.Interface) string {
	var at []string
	for _, g := range []*api.Grant{x.Grant, x.Pending} {
		if g != nil {
			at = append(at, g.GrantedAt.Format(time.RFC3339Nano))
		}
	}
	return strings.Join(at, " ")
}

// printGrant says what was granted.
func printGrant(cmd *cli.Command, x api.Interface) error {
	if cmd.String("output") != "table" {
		return printJSON(cmd, x)
	}
	for _, g := range []*api.Grant{x.Grant, x.Pending} {
		if g == nil {
			continue
		}
		account := g.Account
		if account == "" {
			account = "an account that the service does not name"
		}
		say(cmd, "%s is let in as %s, with %s.", x.Name, account, strings.Join(g.Scopes, ", "))
		if len(g.Missing) > 0 {
			say(cmd, "Asked for and not granted: %s.", strings.Join(g.Missing, ", "))
		}
		switch {
		case g.Trouble != "":
			say(cmd, "It has to be decided: %s. Take it (--take) or drop it (--drop).", g.Trouble)
		case g.Renews:
			say(cmd, "It renews itself.")
		case g.ExpiresAt != nil:
			say(cmd, "It ends on %s; sign in again before.", moment(g.ExpiresAt))
		}
	}
	return nil
}
