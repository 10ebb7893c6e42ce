package cli

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// errNotValid is why checking a badge ends with an error when it is not seen to hold.
var errNotValid = errors.New("the badge is not valid, or cannot be checked")

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

func badgesKeys() *cli.Command {
	return issuerKeys("keys", "List an issuer's keys", "  kanban badges keys \"Fernmoor Garden School\"",
		http.MethodGet, "/keys")
}

func badgesRotateKeys() *cli.Command {
	return issuerKeys("rotate-keys", "Give an issuer new keys",
		"The old keys stay published: what they signed keeps verifying.\n\n"+
			"  kanban badges rotate-keys \"Fernmoor Garden School\"", http.MethodPost, "/rotate-keys")
}

// issuerKeys shows the keys that a call about an issuer gives.
func issuerKeys(name, what, description, method, path string) *cli.Command {
	return &cli.Command{
		Name: name, Usage: what, ArgsUsage: "ISSUER", Description: description,
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
			page, err := client.Send[api.Page[api.IssuerKey]](ctx, c, method, "/issuers/"+i.ID+path, nil)
			if err != nil {
				return err
			}
			return tableOf(page.Items, "It has no key yet; the first award makes them.",
				[]string{"signs", "algorithm", "made", "retired", "published at"}, func(k api.IssuerKey) []string {
					signs := map[string]string{"RS256": "credentials as JWT", "EdDSA": "proofs inside credentials"}[k.Algorithm]
					if k.RetiredAt != nil {
						signs = "nothing any more"
					}
					return []string{signs, k.Algorithm, moment(&k.CreatedAt), moment(k.RetiredAt), k.Address}
				}).print(cmd)
		},
	}
}
