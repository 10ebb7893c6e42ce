package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// newScorePolicy is with what a score link of a section begins: a template's policy, changed by what was given.
func newScorePolicy(ctx context.Context, cmd *cli.Command, c *client.Client, section string) (
	*api.ScorePolicy, error,
) {
	p, err := beginningPolicy(ctx, c, cmd.String("template"), section)
	if err != nil {
		return nil, err
	}
	return &p, changeScorePolicy(cmd, &p)
}

// beginningPolicy is that of a template of a name, else of a section's organisation, else the usual one.
func beginningPolicy(ctx context.Context, c *client.Client, template, section string) (api.ScorePolicy, error) {
	q := url.Values{"name": {template}, "section": {section}}
	begin, err := client.Get[api.ScoreTemplateFor](ctx, c, "/score-templates/for?"+q.Encode())
	return begin.Policy, err
}

func scoreTemplateNamed(name string) func(api.ScoreTemplate) bool {
	return func(t api.ScoreTemplate) bool { return strings.EqualFold(t.Name, strings.TrimSpace(name)) }
}

func scoresTemplates() *cli.Command {
	return &cli.Command{
		Name: "templates", Usage: "What score links begin with, and what is expected of gradebooks",
		Description: `One with an organisation holds for its sections and those of all organisations below it. Links that are there keep what is set for them; what is expected is compared with them too.

  kanban scores templates
  kanban scores templates --set "House rules" --organisation "Fernmoor Garden School" --make-categories --expect "Reports=60" --expect "Tests=40"
  kanban scores templates --set "House rules" --expect-word "merit=90-100" --expect-word "pass=50-89"
  kanban scores templates --drop "House rules"`,
		Flags: scorePolicyFlags(
			&cli.StringFlag{Name: "set", Usage: "make or change the template with this `NAME`"},
			&cli.StringFlag{Name: "drop", Usage: "drop the template with this `NAME`"},
			&cli.StringFlag{Name: "organisation", Usage: "whose score links begin with it; \"\" for none"},
			&cli.StringSliceFlag{Name: "expect", Usage: "a category that is expected, with its weight: `TITLE=PER CENT`, or TITLE alone; all that are expected"},
			&cli.StringSliceFlag{Name: "expect-word", Usage: "what a score in words is worth: `WORD=POINTS`; all that are expected"},
		),
		Action: editScoreTemplates,
	}
}

func editScoreTemplates(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	list, err := client.Get[[]api.ScoreTemplate](ctx, c, "/score-templates")
	if err != nil {
		return err
	}
	changed := false
	if name := cmd.String("drop"); name != "" {
		was := len(list)
		if list = slices.DeleteFunc(list, scoreTemplateNamed(name)); len(list) == was {
			return fmt.Errorf("%w: there is no template %q", errUsage, name)
		}
		changed = true
	}
	if name := cmd.String("set"); name != "" {
		t := api.ScoreTemplate{Name: name}
		i := slices.IndexFunc(list, scoreTemplateNamed(name))
		if i >= 0 {
			t = list[i]
		} else if t.Policy, err = beginningPolicy(ctx, c, "", ""); err != nil {
			return err
		}
		if err := changeScoreTemplate(ctx, cmd, c, &t); err != nil {
			return err
		}
		if changed = true; i >= 0 {
			list[i] = t
		} else {
			list = append(list, t)
		}
	}
	if changed {
		for i := range list {
			list[i].Organisation = ""
		}
		if list, err = client.Send[[]api.ScoreTemplate](ctx, c, http.MethodPut, "/score-templates", list); err != nil {
			return err
		}
	}
	return tableOf(list, "There is no template; score links begin with the usual policy. Make one: kanban scores templates --set NAME",
		[]string{"template", "organisation", "values that differ", "makes categories", "expected categories", "expected words"},
		func(t api.ScoreTemplate) []string {
			return []string{
				t.Name, t.Organisation, words(t.Policy.Mode, 1), yesNo(t.Policy.MakesCategories),
				expectedCategories(t.Expected.Categories), pairs(t.Expected.Scale),
			}
		}).print(cmd)
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

func expectedCategories(all []api.ExpectedCategory) string {
	var list []string
	for _, x := range all {
		text := x.Title
		if x.Weight != nil {
			text += " " + strconv.FormatFloat(*x.Weight, 'f', -1, 64) + " %"
		}
		list = append(list, text)
	}
	return strings.Join(list, ", ")
}

// pairs are names with their values, in one line.
func pairs(of map[string]string) string {
	var list []string
	for name, value := range of {
		list = append(list, name+" = "+value)
	}
	slices.Sort(list)
	return strings.Join(list, ", ")
}

// changeScoreTemplate changes what was given; the rest stays.
func changeScoreTemplate(ctx context.Context, cmd *cli.Command, c *client.Client, t *api.ScoreTemplate) error {
	if err := changeScorePolicy(cmd, &t.Policy); err != nil {
		return err
	}
	if cmd.IsSet("organisation") {
		if t.OrganisationID = ""; cmd.String("organisation") != "" {
			org, err := findOrganisation(ctx, c, cmd.String("organisation"))
			if err != nil {
				return err
			}
			t.OrganisationID = org.ID
		}
	}
	if cmd.IsSet("expect") {
		t.Expected.Categories = nil
		for _, text := range cmd.StringSlice("expect") {
			x, err := expectedCategory(text)
			if err != nil {
				return usage(cmd, err.Error())
			}
			t.Expected.Categories = append(t.Expected.Categories, x)
		}
	}
	if cmd.IsSet("expect-word") {
		t.Expected.Scale = map[string]string{}
		for _, text := range cmd.StringSlice("expect-word") {
			word, value, ok := strings.Cut(text, "=")
			if !ok {
				return usage(cmd, fmt.Sprintf("--expect-word %q is not WORD=POINTS", text))
			}
			t.Expected.Scale[strings.TrimSpace(word)] = strings.TrimSpace(value)
		}
	}
	return nil
}

// expectedCategory reads a title with its weight in per cent.
func expectedCategory(text string) (api.ExpectedCategory, error) {
	at := strings.LastIndex(text, "=")
	if at < 0 {
		return api.ExpectedCategory{Title: strings.TrimSpace(text)}, nil
	}
	n, err := strconv.ParseFloat(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(text[at+1:]), "%")), 64)
	if err != nil {
		return api.ExpectedCategory{}, fmt.Errorf("--expect %q is not TITLE=PER CENT", text)
	}
	return api.ExpectedCategory{Title: strings.TrimSpace(text[:at]), Weight: &n}, nil
}

func scoresMismatches() *cli.Command {
	return &cli.Command{
		Name: "mismatches", Usage: "What is set up differently at both sides, or not as it is expected",
		ArgsUsage: "SCORE-LINK", Description: "  kanban scores mismatches Propagation",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			m, err := client.Get[api.ScoreMismatches](ctx, c, "/score-links/"+l.ID+"/mismatches")
			if err != nil {
				return err
			}
			empty := "Weights and score scales agree, as far as both sides tell them."
			if l.ComparedAt == nil {
				empty = "Both sides were not compared yet: kanban scores preview " + strconv.Quote(l.Title)
			}
			return tableOf(m.Items, empty, []string{"what", "about", "at the source", "in the book", "expected"},
				func(x api.ScoreMismatch) []string {
					what := strings.ReplaceAll(x.Kind, "-", " ")
					if x.Kind == "category" {
						what = "missing category"
					}
					return []string{
						what, x.About, cmp.Or(x.Source, "–"), cmp.Or(x.Book, "–"), cmp.Or(x.Expected, "–"),
					}
				}).print(cmd)
		},
	}
}

func scoresFollow() *cli.Command {
	return &cli.Command{
		Name: "follow", Usage: "Copy score links for the sections that follow in the next term", ArgsUsage: "[SCORE-LINK]",
		Description: `Without a score link it is shown which of them end, and what follows. The old ones stay as they are.

  kanban scores follow
  kanban scores follow Propagation --apply
  kanban scores follow Propagation --class propagation-2 --apply
  kanban scores follow --all --apply`,
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "ahead", Value: 60, Usage: "days until the term ends at the latest"},
			&cli.StringFlag{Name: "class", Usage: "the class where work is marked, when it is not known by itself"},
			&cli.BoolFlag{Name: "all", Usage: "all that can be copied"},
			&cli.BoolFlag{Name: "anyway", Usage: "although both sides have few people in common"},
			&cli.BoolFlag{Name: "apply", Usage: "do it; without this it is only shown"},
		},
		Action: followScores,
	}
}

func followScores(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	page, err := client.Get[api.Page[api.FollowingScoreLink]](ctx, c,
		"/following-score-links?ahead="+strconv.Itoa(int(cmd.Int("ahead"))))
	if err != nil {
		return err
	}
	list := page.Items
	if name := cmd.Args().First(); name != "" {
		l, err := findScoreLink(ctx, c, name)
		if err != nil {
			return err
		}
		list = slices.DeleteFunc(list, func(f api.FollowingScoreLink) bool { return f.LinkID != l.ID })
	} else if cmd.Bool("apply") && !cmd.Bool("all") {
		return usage(cmd, "name a score link, or give --all")
	}
	if !cmd.Bool("apply") {
		return showFollowing(cmd, list)
	}
	failed := 0
	for _, f := range list {
		l, err := client.Post[api.ScoreLink](ctx, c, "/score-links/"+f.LinkID+"/follow", api.FollowScoreLink{
			SourceClass: cmd.String("class"), Ahead: int(cmd.Int("ahead")), Anyway: cmd.Bool("anyway"),
		})
		if err != nil {
			failed++
			say(cmd, "%s: %v", f.Title, err)
			continue
		}
		say(cmd, "%s goes on as %s, with %s.", f.Title, l.Title, l.SourceClass)
	}
	if len(list) == 0 {
		say(cmd, "The term of no such score link ends within %d days.", cmd.Int("ahead"))
	}
	if failed > 0 {
		return fmt.Errorf("%d of %d could not be copied", failed, len(list))
	}
	return nil
}

func showFollowing(cmd *cli.Command, list []api.FollowingScoreLink) error {
	return tableOf(list, "The term of no score link ends soon.",
		[]string{"score link", "sections", "followed by", "class at the source", "remark"},
		func(f api.FollowingScoreLink) []string {
			var from, to []string
			for _, m := range f.Moves {
				from, to = append(from, m.From), append(to, cmp.Or(m.To, "–"))
			}
			return []string{f.Title, strings.Join(from, ", "), strings.Join(to, ", "), f.SourceClass, f.Why}
		}).print(cmd)
}
