package cli

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"
	"rsc.io/qr"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func codesOf() *cli.Command {
	return &cli.Command{
		Name: "codes", Usage: "One-time codes, with which you sign in besides the password", Category: "service",
		Commands: []*cli.Command{codesShow(), codesSetUp(), codesRecovery(), codesEnd()},
	}
}

func codesShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "Show whether yours are on", Description: "  kanban codes show",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			have, err := client.Get[api.Codes](ctx, connect(cmd), "/session/codes")
			if err != nil {
				return err
			}
			return tableOf([]api.Codes{have}, "", []string{"on since", "recovery codes left", "needed for your role"},
				func(c api.Codes) []string {
					since := "off"
					if c.OnSince != nil {
						since = moment(c.OnSince)
					}
					return []string{since, fmt.Sprint(c.RecoveryLeft), yesOrNo(c.Required)}
				}).print(cmd)
		},
	}
}

func yesOrNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

func codesSetUp() *cli.Command {
	return &cli.Command{
		Name: "set-up", Usage: "Turn yours on: show your app a picture, then enter the code that it shows",
		Description: `Any app does that shows one-time codes (RFC 6238). The password and the first code are asked for, or read from
standard input, a line each; the recovery codes are shown once.

  kanban codes set-up`,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, input := connect(cmd), secrets()
			password, err := input.ask("Password")
			if err != nil {
				return err
			}
			begun, err := client.Post[api.NewCodes](ctx, c, "/session/codes", api.BeginCodes{Password: password})
			if err != nil {
				return err
			}
			picture, err := drawnCode(begun.Address)
			if err != nil {
				return err
			}
			fmt.Fprintf(os.Stderr, "%s\nShow this to your app, or enter there: %s\n", picture, begun.Secret)
			code, err := input.ask("Code that the app shows")
			if err != nil {
				return err
			}
			made, err := client.Send[api.RecoveryCodes](ctx, c, http.MethodPut, "/session/codes", api.Code{Code: code})
			return sayRecovery(cmd, made, err)
		},
	}
}

// drawnCode draws a QR code with half blocks. On a terminal it is black on white, as scanners want it.
func drawnCode(text string) (string, error) {
	code, err := qr.Encode(text, qr.L)
	if err != nil {
		return "", fmt.Errorf("drawing the code: %w", err)
	}
	const quiet = 2
	colours, plain := "", ""
	if term.IsTerminal(int(os.Stderr.Fd())) {
		colours, plain = "\x1b[97;40m", "\x1b[0m"
	}
	var out strings.Builder
	for y := -quiet; y < code.Size+quiet; y += 2 {
		out.WriteString(colours)
		for x := -quiet; x < code.Size+quiet; x++ {
			out.WriteString(map[[2]bool]string{
				{false, false}: "█", {false, true}: "▀", {true, false}: "▄", {true, true}: " ",
			}[[2]bool{code.Black(x, y), code.Black(x, y+1)}])
		}
		out.WriteString(plain + "\n")
	}
	return out.String(), nil
}

// sayRecovery prints recovery codes, the only time that they are shown.
func sayRecovery(cmd *cli.Command, made api.RecoveryCodes, err error) error {
	if err != nil {
		return err
	}
	if cmd.String("output") != "table" {
		return printJSON(cmd, made)
	}
	say(cmd, "Your one-time codes are on. Keep these recovery codes; each lets you in once without the app:")
	say(cmd, "  %s", strings.Join(made.Codes, "\n  "))
	return nil
}

func codesRecovery() *cli.Command {
	return &cli.Command{
		Name: "recovery", Usage: "Get new recovery codes; the former ones are void", Description: "  kanban codes recovery",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			code, err := secrets().ask("Code that the app shows")
			if err != nil {
				return err
			}
			made, err := client.Post[api.RecoveryCodes](ctx, connect(cmd), "/session/codes/recovery", api.Code{Code: code})
			return sayRecovery(cmd, made, err)
		},
	}
}

func codesEnd() *cli.Command {
	return &cli.Command{
		Name: "end", Usage: "Sign in with the password alone from now on", Description: "  kanban codes end",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			code, err := secrets().ask("Code that the app shows, or a recovery code")
			if err != nil {
				return err
			}
			if _, err := client.Post[client.Empty](ctx, connect(cmd), "/session/codes/end",
				api.Code{Code: code}); err != nil {
				return err
			}
			say(cmd, "Your one-time codes are off.")
			return nil
		},
	}
}

func usersEndCodes() *cli.Command {
	return &cli.Command{
		Name: "end-codes", Usage: "End the one-time codes of somebody who has lost them", ArgsUsage: "USER",
		Description: `Make sure first that it is them who ask: they sign in with the password alone from then on.

  kanban users end-codes otto@school.example`,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, u, err := oneUser(ctx, cmd)
			if err != nil {
				return err
			}
			_, err = client.Send[client.Empty](ctx, c, http.MethodDelete, "/users/"+u.ID+"/codes", nil)
			if err == nil {
				say(cmd, "%s signs in with the password alone.", u.Name)
			}
			return err
		},
	}
}

func usersNeedCodes() *cli.Command {
	return &cli.Command{
		Name: "need-codes", Usage: "Say which roles need one-time codes besides the password", ArgsUsage: "[ROLE...]",
		Description: `Whoever has such a role and no codes sets them up before anything else. Without a role, what holds is shown; "none"
needs them for nobody.

  kanban users need-codes
  kanban users need-codes administrator operator
  kanban users need-codes none`,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, roles := connect(cmd), cmd.Args().Slice()
			now, err := client.Get[api.SignInSettings](ctx, c, "/sign-in-settings")
			if err == nil && len(roles) > 0 {
				if len(roles) == 1 && roles[0] == "none" {
					roles = nil
				}
				now, err = client.Send[api.SignInSettings](ctx, c, http.MethodPut, "/sign-in-settings",
					api.SignInSettings{CodesRequired: append([]string{}, roles...)})
			}
			if err != nil {
				return err
			}
			if cmd.String("output") != "table" {
				return printJSON(cmd, now)
			}
			if len(now.CodesRequired) == 0 {
				say(cmd, "No role needs one-time codes.")
				return nil
			}
			say(cmd, "One-time codes are needed for: %s.", strings.Join(now.CodesRequired, ", "))
			return nil
		},
	}
}
