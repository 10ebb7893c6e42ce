package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/oauth2"
	"golang.org/x/term"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// secretInput asks for a secret without showing it, or reads a line when nobody
// sits at a terminal.
func secretInput(prompt string) (string, error) { return secrets().ask(prompt) }

// asking asks for one secret after the other.
type asking struct{ lines *bufio.Reader }

func secrets() asking { return asking{bufio.NewReader(os.Stdin)} }

// ask asks for one without showing it, or reads a line when nobody sits at a terminal.
func (a asking) ask(prompt string) (string, error) {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprint(os.Stderr, prompt+": ")
		text, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(os.Stderr)
		return string(text), err
	}
	line, err := a.lines.ReadString('\n')
	if line = strings.TrimRight(line, "\r\n"); line != "" {
		err = nil
	}
	return line, err
}

func signIn() *cli.Command {
	return &cli.Command{
		Name: "sign-in", Usage: "Sign in and keep a token for later commands", Category: "service",
		Description: `With --browser you sign in there, in whichever way your institution has, also on another machine. Otherwise the
password is asked for, or read from standard input, and a one-time code after it when yours are on.

  kanban sign-in --browser
  kanban sign-in --email maud@fernmoor.example
  kanban sign-in --email maud@fernmoor.example < password-file`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "email", Usage: "your e-mail `ADDRESS`"},
			&cli.BoolFlag{Name: "browser", Usage: "sign in with a browser"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := client.New(address(cmd), "")
			var token string
			var err error
			switch {
			case cmd.Bool("browser") && cmd.String("email") == "":
				token, err = byBrowser(ctx, c)
			case cmd.String("email") != "" && !cmd.Bool("browser"):
				token, err = byPassword(ctx, c, cmd.String("email"))
			default:
				return usage(cmd, "give --email with your address, or --browser")
			}
			if err != nil {
				return err
			}
			who, err := client.Get[api.Caller](ctx, client.New(c.Address(), token), "/session")
			if err != nil {
				return err
			}
			if err := keep(kept{c.Address(), token}); err != nil {
				return err
			}
			say(cmd, "Signed in at %s as %s.", c.Address(), who.Name)
			return nil
		},
	}
}

// thisMachine names the token that the command line gets.
func thisMachine() string {
	host, _ := os.Hostname()
	return "command line on " + host
}

// byPassword gets a token for whoever knows a password, and has a one-time code where one is needed.
func byPassword(ctx context.Context, c *client.Client, email string) (string, error) {
	input := secrets()
	password, err := input.ask("Password")
	if err != nil {
		return "", err
	}
	who, err := c.SignIn(ctx, api.SignIn{Email: email, Password: password})
	var p *client.Problem
	if errors.As(err, &p) && p.About("body.code") {
		code, asked := input.ask("One-time code, or a recovery code")
		if asked != nil {
			return "", err // nobody can be asked: what is missing is said
		}
		who, err = c.SignIn(ctx, api.SignIn{Email: email, Password: password, Code: code})
	}
	if err != nil {
		return "", err
	}
	if who.CodesNeeded {
		return "", errors.New("your role needs one-time codes: sign in with a browser first and set them up under Account")
	}
	token, err := client.Post[api.Token](ctx, c, "/tokens", api.NewToken{Name: thisMachine()})
	return token.Token, err
}

// byBrowser gets a token for whoever allows it in a browser (RFC 8628).
func byBrowser(ctx context.Context, c *client.Client) (string, error) {
	app := oauth2.Config{ClientID: "kanban", Endpoint: oauth2.Endpoint{
		DeviceAuthURL: c.Address() + "/device-authorization", TokenURL: c.Address() + "/ims/ob/v3p0/token",
		AuthStyle: oauth2.AuthStyleInParams,
	}}
	begun, err := app.DeviceAuth(ctx, oauth2.SetAuthURLParam("device_name", thisMachine()))
	if err != nil {
		return "", unreachable(c, err)
	}
	fmt.Fprintf(os.Stderr, "Open this address, also on another machine, and let the command line in:\n  %s\n"+
		"It shows the code %s. Waiting for you, for %d minutes...\n", begun.VerificationURIComplete, begun.UserCode,
		int(time.Until(begun.Expiry).Round(time.Minute).Minutes()))
	token, err := app.DeviceAccessToken(ctx, begun)
	var refused *oauth2.RetrieveError
	switch {
	case errors.As(err, &refused) && refused.ErrorCode == "access_denied":
		return "", errors.New("it was refused in the browser")
	case errors.As(err, &refused) && refused.ErrorCode == "expired_token", errors.Is(err, context.DeadlineExceeded):
		return "", errors.New("nobody allowed it in time; begin again: kanban sign-in --browser")
	case err != nil:
		return "", unreachable(c, err)
	}
	return token.AccessToken, nil
}

// unreachable says of a call that no service answers it, when that is so.
func unreachable(c *client.Client, err error) error {
	var dial *url.Error
	if errors.As(err, &dial) {
		return fmt.Errorf("%w at %s (%v); start it with: kanban serve", client.ErrUnreachable, c.Address(), dial.Err)
	}
	return err
}

func keep(k kept) error {
	path, err := keptPath()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	text, err := json.Marshal(k)
	if err != nil {
		return err
	}
	return os.WriteFile(path, text, 0o600)
}

func signOut() *cli.Command {
	return &cli.Command{
		Name: "sign-out", Usage: "End the kept token and forget it", Category: "service",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			path, err := keptPath()
			if err != nil {
				return err
			}
			if _, err := os.Stat(path); err == nil {
				if _, err := client.Send[client.Empty](ctx, connect(cmd), http.MethodDelete, "/session",
					nil); err != nil {
					fmt.Fprintf(os.Stderr,
						"The service could not be reached, so the token still works for whoever has it: %v\n", err)
				}
			}
			if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
				return err
			}
			return nil
		},
	}
}
