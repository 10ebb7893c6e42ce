package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func me() *cli.Command {
	return &cli.Command{
		Name: "me", Usage: "Who you are here: your roles, sections, progress and badges", Category: "service",
		Description: "  kanban me",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			who, err := client.Get[api.Caller](ctx, c, "/session")
			if err != nil {
				return err
			}
			page, err := client.Get[api.OwnPage](ctx, c, "/session/page")
			if err != nil {
				return err
			}
			rows := tableOf(page.Sections, "You are in no section of the register.",
				[]string{"section", "course", "role", "progress", "since", "left"}, func(x api.OwnSection) []string {
					progress := ""
					if x.Progress != nil {
						progress = fmt.Sprintf("%d %%", x.Progress.Percent)
					}
					return []string{x.Section, x.Course, x.Role, progress, day(&x.JoinedAt), moment(x.LeftAt)}
				})
			if cmd.String("output") != "table" {
				return rows.print(cmd)
			}
			say(cmd, "%s: %s", who.Name, strings.Join(who.Roles, ", "))
			if err := rows.print(cmd); err != nil || len(page.Awards) == 0 {
				return err
			}
			say(cmd, "")
			return tableOf(page.Awards, "", []string{"badge", "awarded", "page"}, func(a api.Award) []string {
				return []string{a.Badge, day(&a.AwardedAt), a.Address}
			}).print(cmd)
		},
	}
}
