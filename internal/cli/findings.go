package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/finding"
	"kanban/internal/wire/api"
)

func findings() *cli.Command {
	return &cli.Command{
		Name: "findings", Usage: "Everything that was noticed, with remedy and who can mend it", Category: "service",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List findings, what needs a person first", Action: listFindings,
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "group", Usage: "only mend, waiting, left-out or remark"},
					&cli.StringFlag{Name: "owner", Usage: "only what this one can mend, e.g. \"register office\""},
					&cli.StringFlag{Name: "code", Usage: "only one code"},
					&cli.StringFlag{Name: "find", Usage: "only what has this in whom, where or detail"},
					&cli.BoolFlag{Name: "seen", Usage: "what was acknowledged instead"},
				},
				Description: "  kanban findings list --group mend\n  kanban findings list --group left-out --find \"Propagation A\"\n  kanban findings list -o csv > findings.csv",
			},
			{
				Name: "acknowledge", Usage: "Keep a finding quiet, with a note, until it changes",
				ArgsUsage:   "KEY NOTE",
				Description: "  kanban findings acknowledge 5f0c1a7be2d34c10 \"the office knows, mended next week\"",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					args, err := arguments(cmd, 2)
					if err != nil {
						return err
					}
					if _, err := client.Send[client.Empty](ctx, connect(cmd), http.MethodPut,
						"/findings/"+url.PathEscape(args[0])+"/acknowledgement",
						api.Acknowledgement{Note: args[1]}); err != nil {
						return err
					}
					say(cmd, "Acknowledged. It stays quiet until it changes.")
					return nil
				},
			},
			{
				Name: "reopen", Usage: "Take an acknowledgement back", ArgsUsage: "KEY",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					args, err := arguments(cmd, 1)
					if err != nil {
						return err
					}
					if _, err := client.Send[client.Empty](ctx, connect(cmd), http.MethodDelete,
						"/findings/"+url.PathEscape(args[0])+"/acknowledgement", nil); err != nil {
						return err
					}
					say(cmd, "It shows again.")
					return nil
				},
			},
		},
	}
}

func listFindings(ctx context.Context, cmd *cli.Command) error {
	query := url.Values{"limit": {"1000"}}
	for name, flag := range map[string]string{"group": "group", "owner": "owner", "code": "code", "text": "find"} {
		if v := cmd.String(flag); v != "" {
			query.Set(name, v)
		}
	}
	if cmd.Bool("seen") {
		query.Set("seen", "true")
	}
	all, err := client.All[api.Finding](ctx, connect(cmd), "/findings?"+query.Encode())
	if err != nil {
		return err
	}
	return tableOf(all, "Nothing fits.", []string{
		"group", "who or what", "where", "finding", "detail",
		"who can mend it", "key",
	}, func(f api.Finding) []string {
		detail := f.Detail
		if f.Seen != nil {
			detail = f.Seen.By + ": " + f.Seen.Note
		}
		return []string{f.Group, f.Subject, f.Where, f.Title, detail, f.Owner, f.Key}
	}).print(cmd)
}

func today() *cli.Command {
	return &cli.Command{
		Name: "today", Usage: "What needs a person, ordered by harm, each with its remedy", Category: "service",
		Description: "Exit code 3 when there is something, so that scripts can ask:\n\n  kanban today\n  kanban today --output json",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			tasks, err := client.Get[[]api.Finding](ctx, c, "/today")
			if err != nil {
				return err
			}
			rest, err := client.Get[[]string](ctx, c, "/today/rest")
			if err != nil {
				return err
			}
			beside := "Everything else is in step."
			if len(rest) > 0 {
				beside = "Not in step, or not known to be: " + strings.Join(rest, ", ") + "."
			}
			err = tableOf(tasks, "Nothing needs a person. "+beside,
				[]string{
					"who or what", "where", "cause", "detail", "who can mend it",
					"remedy",
				}, func(t api.Finding) []string {
					return []string{t.Subject, t.Where, t.Title, t.Detail, t.Owner, t.Remedy}
				}).print(cmd)
			if err == nil && len(tasks) > 0 {
				for _, t := range tasks {
					if len(t.People) > 0 {
						say(cmd, "\nWho, for %q: kanban findings list --code %s", t.Title, t.Code)
					}
				}
				say(cmd, "\n%s", beside)
				return cli.Exit("", ExitNeedsPerson)
			}
			return err
		},
	}
}

func explain() *cli.Command {
	return &cli.Command{
		Name: "explain", Usage: "Explain a finding code", ArgsUsage: "CODE", Category: "service",
		Description: "  kanban explain address-shared\n  kanban explain            (all codes)",
		Action: func(_ context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() == 0 {
				return tableOf(finding.All(), "", []string{"code", "severity", "meaning"},
					func(e finding.Entry) []string {
						return []string{string(e.Code), string(e.Severity), e.Title}
					}).print(cmd)
			}
			e, ok := finding.Lookup(finding.Code(cmd.Args().First()))
			if !ok {
				return usage(cmd, fmt.Sprintf("there is no code %q; all of them: kanban explain", cmd.Args().First()))
			}
			t := table{
				value: e, columns: []string{"code", "severity", "title", "explanation", "remedy", "owner"},
				rows: [][]string{{
					string(e.Code), string(e.Severity), e.Title, e.Explanation, e.Remedy,
					string(e.Owner),
				}},
			}
			if cmd.String("output") != "table" {
				return t.print(cmd)
			}
			say(cmd, "%s (%s): %s\n\n%s\n\nRemedy: %s\nWho can mend it: %s", e.Code, e.Severity, e.Title,
				e.Explanation, e.Remedy, e.Owner)
			return nil
		},
	}
}
