package cli

import (
	"context"
	"net/http"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/badge"
	"kanban/internal/wire/api"
)

func badgesDraw() *cli.Command {
	return &cli.Command{
		Name: "draw", Usage: "Draw a badge's picture; what is not given stays as it was drawn", ArgsUsage: "NAME",
		Description: `Colours are given as #2f6136. A first picture begins like those that its issuer has, so that badges of one school look
like a family, or like that of another badge with --like.

  kanban badges draw Cuttings --shape shield --symbol plant --above "Fernmoor Garden School" --below Cuttings
  kanban badges draw "Root care" --like Cuttings --symbol drop --below "Root care" --stars 2
  kanban badges draw Cuttings --shape hexagon --save cuttings.svg`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "like", Usage: "begin like the drawn picture of `BADGE`"},
			&cli.StringFlag{Name: "shape", Usage: strings.Join(badge.Shapes, ", ")},
			&cli.StringFlag{Name: "symbol", Usage: "in the middle; see them: kanban badges symbols"},
			&cli.StringFlag{Name: "letters", Usage: "in the middle in place of a symbol"},
			&cli.StringFlag{Name: "above", Usage: "text on a curve above the middle"},
			&cli.StringFlag{Name: "below", Usage: "text on a curve below the middle"},
			&cli.IntFlag{Name: "stars", Usage: "0 to 5, under the symbol"},
			&cli.StringFlag{Name: "edge", Usage: "colour of the outline"},
			&cli.StringFlag{Name: "body", Usage: "colour of the field on which the texts stand"},
			&cli.StringFlag{Name: "disc", Usage: "colour of the disc in the middle"},
			&cli.StringFlag{Name: "symbol-colour", Usage: "colour of the symbol, letters and stars"},
			&cli.StringFlag{Name: "text-colour", Usage: "colour of the texts"},
			&cli.StringFlag{Name: "save", Usage: "only save the picture as an SVG; the badge keeps the one it has", TakesFile: true},
		},
		Action: drawBadge,
	}
}

func drawBadge(ctx context.Context, cmd *cli.Command) error {
	c, b, err := theBadge(ctx, cmd)
	if err != nil {
		return err
	}
	begin, err := client.Get[api.BadgeDrawing](ctx, c, "/badges/"+b.ID+"/drawing")
	if err != nil {
		return err
	}
	d := begin.Design
	if like := cmd.String("like"); like != "" {
		other, err := findBadge(ctx, c, like)
		if err != nil {
			return err
		}
		if other.Design == nil {
			return usage(cmd, "the picture of "+other.Name+" was not drawn here")
		}
		d = badge.Begin(other.Design, "", b.Name)
	}
	for flag, into := range map[string]*string{
		"shape": &d.Shape, "symbol": &d.Symbol, "letters": &d.Letters, "above": &d.Above, "below": &d.Below,
		"edge": &d.Colours.Edge, "body": &d.Colours.Body, "disc": &d.Colours.Disc, "symbol-colour": &d.Colours.Symbol,
		"text-colour": &d.Colours.Text,
	} {
		if cmd.IsSet(flag) {
			*into = cmd.String(flag)
		}
	}
	if cmd.IsSet("stars") {
		d.Stars = int(cmd.Int("stars"))
	}
	if file := cmd.String("save"); file != "" {
		asked := api.BadgeDrawing{Design: d, Title: b.Name}
		drawn, err := client.Post[api.DrawnBadge](ctx, c, "/badge-drawings", asked)
		if err != nil {
			return err
		}
		if err := os.WriteFile(file, []byte(drawn.SVG), 0o644); err != nil { //nolint:gosec // a picture for anybody
			return err
		}
		say(cmd, "Saved %s.", file)
		return nil
	}
	now, err := client.Send[api.Badge](ctx, c, http.MethodPut, "/badges/"+b.ID+"/drawing", api.BadgeDrawing{Design: d})
	if err != nil {
		return err
	}
	say(cmd, "Drew the picture of %s: %s", now.Name, now.Picture)
	return nil
}

// issuerPicture gives an issuer the picture in a file, or takes it away.
func issuerPicture(ctx context.Context, c *client.Client, id, file string) error {
	if file == "" {
		_, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/issuers/"+id+"/picture", nil)
		return err
	}
	content, err := os.ReadFile(file) //nolint:gosec // the file that was named
	if err != nil {
		return err
	}
	_, err = c.SetIssuerPicture(ctx, id, content)
	return err
}

func badgesSymbols() *cli.Command {
	return &cli.Command{
		Name: "symbols", Usage: "List the symbols that can stand in the middle of a drawn picture",
		Description: "  kanban badges symbols",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			page, err := client.Get[api.Page[api.BadgeSymbol]](ctx, connect(cmd), "/badge-symbols")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "", []string{"symbol"}, func(s api.BadgeSymbol) []string {
				return []string{s.Name}
			}).print(cmd)
		},
	}
}
