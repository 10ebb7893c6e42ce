package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// reportsRecount compares kept progress with what is recorded, or counts it anew.
func reportsRecount() *cli.Command {
	return &cli.Command{
		Name: "recount", Usage: "Count the progress that reports go by anew from what is recorded; nobody is told by that",
		Description: `Every night it is compared without changing anything; a difference is a finding.

  kanban reports recount
  kanban reports recount --compare`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "compare", Usage: "only say where it differs"},
			&cli.DurationFlag{Name: "wait", Usage: "how long to wait for the end", Value: 10 * time.Minute},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			if _, err := client.Post[client.Empty](ctx, c, "/progress-check",
				api.StartProgressCheck{Mend: !cmd.Bool("compare")}); err != nil {
				return err
			}
			x, err := waitFor(ctx, c, "/progress-check", cmd.Duration("wait"),
				func(x api.ProgressCheck) bool { return x.StartedAt == nil })
			if err != nil {
				return err
			}
			if x.StartedAt != nil {
				say(cmd, "It goes on in the background.")
				return nil
			}
			return toldCheck(cmd, x)
		},
	}
}

// toldCheck says what a comparison found; differences that stay are an error.
func toldCheck(cmd *cli.Command, x api.ProgressCheck) error {
	switch {
	case x.Trouble != "":
		return fmt.Errorf("it could not be done: %s", x.Trouble)
	case x.Wrong == 0:
		say(cmd, "%d looked at; all as recorded.", x.Checked)
	case x.Mended:
		say(cmd, "%d looked at; %d counted anew, in %s.", x.Checked, x.Wrong, strings.Join(x.Courses, ", "))
	default:
		return fmt.Errorf("%d looked at; %d differ, in %s; count them anew with: kanban reports recount", x.Checked,
			x.Wrong, strings.Join(x.Courses, ", "))
	}
	return nil
}
