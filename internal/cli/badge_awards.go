package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// errSomeRefused is why awarding ends with an error although the others were awarded.
var errSomeRefused = errors.New("not everybody could be awarded")

func badgesAward() *cli.Command {
	return &cli.Command{
		Name: "award", Usage: "Award a badge to people by hand", ArgsUsage: "BADGE PERSON...",
		Description: "Without --apply it is only shown what would become of everybody. Nobody is awarded twice.\n\n" +
			"  kanban badges award Cuttings bram.birch@fernmoor.example --note \"Helped the others\"\n" +
			"  kanban badges award Cuttings stu-001 stu-002 --section PROP-A --evidence https://fernmoor.example/photo --apply",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "note", Usage: "why; everybody who opens the badge can read it"},
			&cli.StringSliceFlag{Name: "evidence", Usage: "address of something that shows it"},
			&cli.StringFlag{Name: "section", Usage: "the section in which it was earned"},
			&cli.StringFlag{Name: "date", Usage: "the day on which it was earned, such as 2026-11-30; today when absent"},
			&cli.BoolFlag{Name: "apply", Usage: "do it; without this it is only shown"},
		},
		Action: awardBadge,
	}
}

func awardBadge(ctx context.Context, cmd *cli.Command) error {
	args := cmd.Args().Slice()
	if len(args) < 2 {
		return usage(cmd, fmt.Sprintf("%d arguments given, at least 2 needed", len(args)))
	}
	c := connect(cmd)
	b, err := findBadge(ctx, c, args[0])
	if err != nil {
		return err
	}
	n := api.NewAwards{Note: cmd.String("note"), Apply: cmd.Bool("apply")}
	for _, name := range args[1:] {
		p, err := onePerson(ctx, c, name)
		if err != nil {
			return err
		}
		n.People = append(n.People, p.ID)
	}
	for _, address := range cmd.StringSlice("evidence") {
		n.Evidence = append(n.Evidence, api.Evidence{Address: address})
	}
	if name := cmd.String("section"); name != "" {
		part, err := findPart(ctx, c, name)
		if err != nil {
			return err
		}
		n.SectionID = part.ID
	}
	if text := cmd.String("date"); text != "" {
		day, err := time.ParseInLocation(time.DateOnly, text, time.Local)
		if err != nil {
			return usage(cmd, fmt.Sprintf("--date %q is not written as 2026-11-30", text))
		}
		n.Date = &day
	}
	page, err := client.Post[api.Page[api.Awarding]](ctx, c, "/badges/"+b.ID+"/awards", n)
	if err != nil {
		return err
	}
	return showAwardings(cmd, page.Items)
}

func badgesAwardFile() *cli.Command {
	return &cli.Command{
		Name: "award-file", Usage: "Award what stands in a CSV file", ArgsUsage: "FILE",
		Description: "Its columns are person (identifier, e-mail address or user name), and if wanted badge, date, note and " +
			"evidence. Without --apply it is only shown what would become of each row; sent again, nobody is awarded twice.\n\n" +
			"  kanban badges award-file awards.csv --badge Cuttings\n  kanban badges award-file awards.csv --apply",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "badge", Usage: "the badge of rows that name none"},
			&cli.BoolFlag{Name: "apply", Usage: "do it; without this it is only shown"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			query := url.Values{"apply": {strconv.FormatBool(cmd.Bool("apply"))}}
			if name := cmd.String("badge"); name != "" {
				b, err := findBadge(ctx, c, name)
				if err != nil {
					return err
				}
				query.Set("badge", b.ID)
			}
			file, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			page, err := c.AwardFromFile(ctx, "/awards/upload?"+query.Encode(), file)
			if err != nil {
				return err
			}
			return showAwardings(cmd, page.Items)
		},
	}
}

func badgesPicture() *cli.Command {
	return &cli.Command{
		Name: "picture", Usage: "Give a badge a picture of its own, a PNG or an SVG", ArgsUsage: "BADGE [FILE]",
		Description: "A PNG of 90 to 2048 pixels, square, at most 2 MB, or an SVG of at most 256 kB that does nothing but " +
			"draw. Awards that were given keep their picture.\n\n" +
			"  kanban badges picture Cuttings cuttings.png\n  kanban badges picture Cuttings --remove",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "remove", Usage: "give it the picture that all badges have"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			n := 2
			if cmd.Bool("remove") {
				n = 1
			}
			args, err := arguments(cmd, n)
			if err != nil {
				return err
			}
			c := connect(cmd)
			b, err := findBadge(ctx, c, args[0])
			if err != nil {
				return err
			}
			if n == 1 {
				path := "/badges/" + b.ID + "/picture"
				if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, path, nil); err != nil {
					return err
				}
				say(cmd, "The badge %s has the picture that all have.", b.Name)
				return nil
			}
			file, err := os.ReadFile(args[1])
			if err != nil {
				return err
			}
			if b, err = c.SetBadgePicture(ctx, b.ID, file); err != nil {
				return err
			}
			say(cmd, "The badge %s has its own picture: %s", b.Name, b.Picture)
			return nil
		},
	}
}

func badgesDownload() *cli.Command {
	return &cli.Command{
		Name: "download", Usage: "Write somebody's badge into a file", ArgsUsage: "BADGE PERSON FILE",
		Description: "A picture that carries the badge (.png, .svg), or the credential itself (.json, .jwt).\n\n" +
			"  kanban badges download Cuttings bram.birch@fernmoor.example cuttings.png",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 3)
			if err != nil {
				return err
			}
			form := strings.TrimPrefix(strings.ToLower(filepath.Ext(args[2])), ".")
			if !slices.Contains([]string{"png", "svg", "json", "jwt"}, form) {
				return usage(cmd, fmt.Sprintf("%q ends with none of .png, .svg, .json, .jwt", args[2]))
			}
			c := connect(cmd)
			b, p, all, err := awardsNamed(ctx, c, args[0], args[1])
			if err != nil {
				return err
			}
			if len(all) == 0 {
				return fmt.Errorf("%w: %s was not awarded the badge %s", errUsage, p.Name, b.Name)
			}
			i := max(0, slices.IndexFunc(all, func(a api.Award) bool { return a.RevokedAt == nil }))
			file, err := c.Download(ctx, "/open/awards/"+all[i].ID+"?form="+form)
			if err != nil {
				return err
			}
			if err := os.WriteFile(args[2], file, 0o600); err != nil {
				return err
			}
			say(cmd, "Wrote the badge %s of %s into %s.", b.Name, p.Name, args[2])
			return nil
		},
	}
}

// whyAwarding says why somebody is awarded or not, and what of the badge's criteria they have not done.
func whyAwarding(a api.Awarding) string {
	var parts []string
	if a.Because != "" {
		parts = append(parts, a.Because)
	}
	if len(a.Unmet) > 0 {
		parts = append(parts, "not done: "+strings.Join(a.Unmet, "; "))
	}
	return strings.Join(parts, "; ")
}

// showAwardings shows what became of everybody, those first who could not be awarded.
func showAwardings(cmd *cli.Command, all []api.Awarding) error {
	order := []string{"refused", "held", "to-award", "awarded"}
	slices.SortStableFunc(all, func(a, b api.Awarding) int {
		return slices.Index(order, a.Outcome) - slices.Index(order, b.Outcome)
	})
	t := tableOf(all, "Nobody is named.", []string{"line", "person", "badge", "outcome", "why", "page"},
		func(a api.Awarding) []string {
			line := ""
			if a.Line > 0 {
				line = strconv.Itoa(a.Line)
			}
			return []string{line, a.Person, a.Badge, words(a.Outcome, 1), whyAwarding(a), a.Address}
		})
	if err := t.print(cmd); err != nil {
		return err
	}
	counted := map[string]int{}
	for _, a := range all {
		counted[a.Outcome]++
	}
	say(cmd, "\n%s.", counts(counted, order))
	if counted["to-award"] > 0 {
		say(cmd, "Nothing was done. Award them with --apply.")
	}
	if counted["refused"] > 0 && counted["awarded"] > 0 {
		return errSomeRefused
	}
	return nil
}
