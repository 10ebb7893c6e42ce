package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// secretInput asks for a secret without showing it, or reads a line when nobody
// sits at a terminal.
func secretInput(prompt string) (string, error) {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprint(os.Stderr, prompt+": ")
		text, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(os.Stderr)
		return string(text), err
	}
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if line = strings.TrimRight(line, "\r\n"); line != "" {
		err = nil
	}
	return line, err
}

func signIn() *cli.Command {
	return &cli.Command{
		Name: "sign-in", Usage: "Sign in and keep a token for later commands", Category: "service",
		Description: "The password is asked for, or read from standard input:\n\n  kanban sign-in --email maud@fernmoor.example\n  kanban sign-in --email maud@fernmoor.example < password-file",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "email", Required: true, Usage: "your e-mail address"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := client.New(address(cmd), "")
			password, err := secretInput("Password")
			if err != nil {
				return err
			}
			who, err := c.SignIn(ctx, cmd.String("email"), password)
			if err != nil {
				return err
			}
			host, _ := os.Hostname()
			token, err := client.Post[api.Token](ctx, c, "/tokens", api.NewToken{Name: "command line on " + host})
			if err != nil {
				return err
			}
			if err := keep(kept{c.Address(), token.Token}); err != nil {
				return err
			}
			say(cmd, "Signed in at %s as %s.", c.Address(), who.Name)
			return nil
		},
	}
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
