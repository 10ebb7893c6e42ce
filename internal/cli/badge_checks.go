package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// errNotValid is why checking a badge that does not hold ends with an error.
var errNotValid = errors.New("the badge is not valid")

func badgesCheck() *cli.Command {
	return &cli.Command{
		Name: "check", Usage: "Check a badge of any issuer", ArgsUsage: "FILE|ADDRESS",
		Description: "A picture that carries a badge (PNG or SVG), a credential (JSON or JWT), or the address of one. " +
			"It ends with 1 when the badge is not valid.\n\n" +
			"  kanban badges check cuttings.png\n" +
			"  kanban badges check https://badges.example/awards/17 --email ada.alder@fernmoor.example",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "email", Usage: "also say whether it was awarded to this e-mail address"},
		},
		Action: checkBadge,
	}
}

func checkBadge(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	file := []byte(args[0])
	if !strings.HasPrefix(args[0], "https://") && !strings.HasPrefix(args[0], "http://") {
		if file, err = os.ReadFile(args[0]); err != nil {
			return err
		}
	}
	path := "/badge-checks"
	if email := cmd.String("email"); email != "" {
		path += "?email=" + url.QueryEscape(email)
	}
	c, err := connect(cmd).CheckBadge(ctx, path, file)
	if err != nil {
		return err
	}
	if err := showCheck(cmd, c); err != nil {
		return err
	}
	if c.Verdict != "valid" {
		return errNotValid
	}
	return nil
}

func showCheck(cmd *cli.Command, c api.CheckedBadge) error {
	t := tableOf(c.Checks, "", []string{"checked", "outcome", "detail"}, func(k api.BadgeCheck) []string {
		return []string{k.What, k.Outcome, k.Detail}
	})
	t.value = c
	if cmd.String("output") != "table" {
		return t.print(cmd)
	}
	verdict := words(c.Verdict, 1)
	say(cmd, "%s%s. %s", strings.ToUpper(verdict[:1]), verdict[1:], c.Why)
	if c.Name != "" {
		say(cmd, "\nIt says: %s, awarded by %s (%s)", c.Name, c.Issuer, c.IssuerID)
	}
	if c.Belongs != nil {
		say(cmd, map[bool]string{true: "It was awarded to %s.", false: "It was not awarded to %s."}[*c.Belongs],
			cmd.String("email"))
	}
	say(cmd, "")
	return t.print(cmd)
}

func badgesSuspend() *cli.Command {
	return &cli.Command{
		Name: "suspend", Usage: "Suspend somebody's badge: it does not hold until it is restored", ArgsUsage: "BADGE PERSON",
		Description: "Whoever checks it meanwhile sees that, and why. End it: kanban badges restore.\n\n" +
			"  kanban badges suspend Cuttings bram.birch@fernmoor.example --reason \"Being looked into\"",
		Flags: []cli.Flag{&cli.StringFlag{
			Name: "reason", Required: true, Usage: "why; whoever checks the badge is shown it",
		}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2)
			if err != nil {
				return err
			}
			c := connect(cmd)
			b, p, all, err := awardsOf(ctx, c, args[0], args[1])
			if err != nil {
				return err
			}
			i := slices.IndexFunc(all, func(a api.Award) bool { return a.RevokedAt == nil })
			if i < 0 {
				return fmt.Errorf("%w: %s does not hold the badge %s", errUsage, p.Name, b.Name)
			}
			a, err := client.Post[api.Award](ctx, c, "/awards/"+all[i].ID+"/suspend",
				api.Revocation{Reason: cmd.String("reason")})
			if err != nil {
				return err
			}
			say(cmd, "Suspended the badge %s of %s. Its page says so: %s", a.Badge, a.Person, a.Address)
			return nil
		},
	}
}

func badgesKeys() *cli.Command {
	return &cli.Command{
		Name: "keys", Usage: "List an issuer's keys", ArgsUsage: "ISSUER",
		Description: "  kanban badges keys \"Fernmoor Garden School\"",
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
			page, err := client.Get[api.Page[api.IssuerKey]](ctx, c, "/issuers/"+i.ID+"/keys")
			if err != nil {
				return err
			}
			return keyTable(page.Items).print(cmd)
		},
	}
}

func keyTable(keys []api.IssuerKey) table {
	return tableOf(keys, "It has no key yet; the first award makes them.",
		[]string{"signs", "algorithm", "made", "retired", "published at"}, func(k api.IssuerKey) []string {
			signs := map[string]string{"RS256": "credentials as JWT", "EdDSA": "proofs inside credentials"}[k.Algorithm]
			if k.RetiredAt != nil {
				signs = "nothing any more"
			}
			return []string{signs, k.Algorithm, moment(&k.CreatedAt), moment(k.RetiredAt), k.Address}
		})
}

func badgesRotateKeys() *cli.Command {
	return &cli.Command{
		Name: "rotate-keys", Usage: "Give an issuer new keys", ArgsUsage: "ISSUER",
		Description: "The old keys stay published: what they signed keeps verifying.\n\n" +
			"  kanban badges rotate-keys \"Fernmoor Garden School\"",
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
			page, err := client.Send[api.Page[api.IssuerKey]](
				ctx,
				c,
				http.MethodPost,
				"/issuers/"+i.ID+"/rotate-keys",
				nil,
			)
			if err != nil {
				return err
			}
			return keyTable(page.Items).print(cmd)
		},
	}
}
