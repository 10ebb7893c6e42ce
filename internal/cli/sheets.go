package cli

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strings"
	"time"

	"kanban/internal/client"

	"github.com/urfave/cli/v3"
)

func sheetsOf() *cli.Command {
	return &cli.Command{
		Name: "sheets", Usage: "Sheets that rules fill", Category: "learning",
		Commands: []*cli.Command{
			{Name: "list", Usage: "List the sheets", Action: func(ctx context.Context, cmd *cli.Command) error {
				all, err := client.Get[[]sheetInfo](ctx, connect(cmd), "/sheets")
				if err != nil {
					return err
				}
				return tableOf(all, "No rule has filled a sheet yet.", []string{"sheet", "rows", "latest"},
					func(s sheetInfo) []string {
						return []string{s.Name, fmt.Sprint(s.Rows), moment(&s.Last)}
					}).print(cmd)
			}},
			{
				Name: "save", Usage: "Save a sheet into a file, as CSV or XLSX by its ending",
				ArgsUsage:   "SHEET FILE",
				Description: "  kanban sheets save Failed failed.xlsx",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					args, err := arguments(cmd, 2)
					if err != nil {
						return err
					}
					kind := "csv"
					if strings.HasSuffix(strings.ToLower(args[1]), ".xlsx") {
						kind = "xlsx"
					}
					body, err := connect(cmd).Download(ctx, "/sheets/"+url.PathEscape(args[0])+"."+kind)
					if err != nil {
						return err
					}
					if err := os.WriteFile(args[1], body, 0o600); err != nil {
						return err
					}
					say(cmd, "Saved %s.", args[1])
					return nil
				},
			},
		},
	}
}

type sheetInfo struct {
	Name string    `json:"name"`
	Rows int       `json:"rows"`
	Last time.Time `json:"last"`
}
