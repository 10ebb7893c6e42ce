package cli

import (
	"context"
	"fmt"
	"net/http"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func sessionsOf() *cli.Command {
	return &cli.Command{
		Name: "sessions", Usage: "Where you are signed in", Category: "service",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List where you are signed in, the latest used first", Description: "  kanban sessions list",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					all, err := client.All[api.OwnSession](ctx, connect(cmd), "/sessions")
					if err != nil {
						return err
					}
					return tableOf(all, "You are signed in by a token only.", []string{"id", "browser", "from", "began", "used"},
						func(s api.OwnSession) []string {
							return []string{s.ID, s.Agent, s.Address, moment(&s.BeganAt), moment(&s.UsedAt)}
						}).print(cmd)
				},
			},
			{
				Name: "end", Usage: "End a session; it ends at once", ArgsUsage: "ID",
				Description: "  kanban sessions end 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					return endOwn(ctx, cmd, "/sessions/", "The session has ended.")
				},
			},
		},
	}
}

func endOwn(ctx context.Context, cmd *cli.Command, at, said string) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	if _, err := client.Send[client.Empty](ctx, connect(cmd), http.MethodDelete, at+args[0], nil); err != nil {
		return err
	}
	say(cmd, "%s", said)
	return nil
}

func tokensOf() *cli.Command {
	return &cli.Command{
		Name: "tokens", Usage: "Your API tokens, by which programs act for you", Category: "service",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List your tokens; what each is was shown when it was made",
				Description: "  kanban tokens list",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					all, err := client.All[api.OwnToken](ctx, connect(cmd), "/tokens")
					if err != nil {
						return err
					}
					columns := []string{"id", "name", "may at most", "made", "used", "expires"}
					return tableOf(all, "No token yet.", columns,
						func(t api.OwnToken) []string {
							most := "all that you may"
							if t.Role != "" {
								most = roleText(api.RoleGrant{Role: t.Role, Scope: t.Scope, ScopeName: t.ScopeName})
							}
							expires := "never"
							if t.Expired {
								expires = "expired"
							} else if t.ExpiresAt != nil {
								expires = moment(t.ExpiresAt)
							}
							return []string{t.ID, t.Name, most, moment(&t.CreatedAt), moment(t.LastUsedAt), expires}
						}).print(cmd)
				},
			},
			tokensMake(),
			{
				Name: "end", Usage: "End a token; nobody gets in with it any more", ArgsUsage: "ID",
				Description: "  kanban tokens end 01a2203f-5c1e-7d02-9b1a-2f6c0d8e4a11",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					return endOwn(ctx, cmd, "/tokens/", "The token has ended.")
				},
			},
		},
	}
}

func tokensMake() *cli.Command {
	flags := roleFlags(false)
	return &cli.Command{
		Name: "make", Usage: "Make a token; it is shown once", ArgsUsage: "NAME",
		Description: `It may what you may, or less: a role, everywhere or in a part of the institution.

  kanban tokens make "nightly export" --days 90
  kanban tokens make "wall screen" --role support --course PROP`,
		Flags: append(flags[:4:4], &cli.IntFlag{Name: "days", Usage: "until it expires; it does not when absent"}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c, n := connect(cmd), api.NewToken{Name: args[0], Days: cmd.Int("days")}
			g, err := grantOf(ctx, cmd, c)
			if err != nil {
				return err
			}
			if g != nil {
				n.Role, n.Scope, n.ScopeID = g.Role, g.Scope, g.ScopeID
			}
			made, err := client.Post[api.Token](ctx, c, "/tokens", n)
			if err != nil {
				return err
			}
			if cmd.String("output") == "json" {
				return printJSON(cmd, made)
			}
			_, err = fmt.Fprintln(out(cmd), made.Token)
			return err
		},
	}
}
