package cli

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

func stagesMap() *cli.Command {
	return &cli.Command{
		Name: "map", Usage: "Draw a stage plan with how many stand where", ArgsUsage: "NAME FILE",
		Description: `FILE ends with .svg, .png or .pdf.

  kanban stages map Propagator propagator.svg
  kanban stages map Propagator propagator.pdf --section PROP-A`,
		Flags: []cli.Flag{oneSection()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2)
			if err != nil {
				return err
			}
			form := strings.TrimPrefix(strings.ToLower(filepath.Ext(args[1])), ".")
			if !slices.Contains([]string{"svg", "png", "pdf"}, form) {
				return usage(cmd, "the file ends with .svg, .png or .pdf")
			}
			c := connect(cmd)
			p, err := findPlan(ctx, c, args[0])
			if err != nil {
				return err
			}
			section, err := sectionParam(ctx, cmd, c)
			if err != nil {
				return err
			}
			content, err := c.Download(ctx, "/stage-plans/"+p.ID+"/map."+form+"?section="+section)
			if err != nil {
				return err
			}
			if err := os.WriteFile(args[1], content, 0o644); err != nil { //nolint:gosec // the file that was named
				return err
			}
			say(cmd, "Drew %s into %s.", p.Name, args[1])
			return nil
		},
	}
}
