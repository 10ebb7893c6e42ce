package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func scoresOf() *cli.Command {
	return &cli.Command{
		Name: "scores", Usage: "Carry scores from where work is marked to the book of record", Category: "scores",
		Commands: []*cli.Command{
			scoresList(), scoresClasses(), scoresAdd(), scoresShow(), scoresEdit(), scoresCategories(),
			scoresAssignments(), scoresSet(), scoresCounterparts(), scoresLink(), scoresUnlink(),
			scoresPreview(), scoresRun(), scoresReport(), scoresRevert(), scoresDecide(), scoresGive(),
			scoresPeriods(),
			pauseScores("pause", true), pauseScores("resume", false), scoresEnd(),
			scoresUpload(), scoresPackage(), scoresUnfinished(),
			scoresTemplates(), scoresMismatches(), scoresFollow(), scoresOfPerson(),
		},
	}
}

func findScoreLink(ctx context.Context, c *client.Client, name string) (api.ScoreLink, error) {
	return named[api.ScoreLink]{
		"/score-links", "score link", "score links", "scores list",
		func(l api.ScoreLink) string { return l.ID },
		func(l api.ScoreLink) []string {
			names := []string{l.Title}
			for _, s := range l.Sections {
				if s.Title != l.Title {
					names = append(names, s.Title)
				}
				names = append(names, s.Code)
			}
			return names
		},
		func(l api.ScoreLink) string { return apart(l.Title, l.Source+" → "+l.Book, l.SourceClass) },
	}.find(ctx, c, name)
}

// scoreLinkNamed gives the score link that the first argument names, and the others.
func scoreLinkNamed(ctx context.Context, cmd *cli.Command, n int) (*client.Client, api.ScoreLink, []string, error) {
	args, err := arguments(cmd, n)
	if err != nil {
		return nil, api.ScoreLink{}, nil, err
	}
	c := connect(cmd)
	l, err := findScoreLink(ctx, c, args[0])
	return c, l, args[1:], err
}

func scoresList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "List score links and how they are", Description: "  kanban scores list",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			page, err := client.Get[api.Page[api.ScoreLink]](ctx, connect(cmd), "/score-links")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "There is no score link yet. Make one: kanban scores add --help",
				[]string{"score link", "from", "to", "sections", "state", "to carry", "conflicts", "held", "compared"},
				func(l api.ScoreLink) []string {
					return []string{
						l.Title, l.Source + ": " + l.SourceClass, l.Book, strconv.Itoa(len(l.Sections)),
						words(l.State, 1),
						strconv.Itoa(toCarry(l.Counts)), strconv.Itoa(l.Counts["conflict"]),
						strconv.Itoa(l.Counts["held"]),
						moment(l.ComparedAt),
					}
				}).print(cmd)
		},
	}
}

func toCarry(counts map[string]int) int { return counts["new"] + counts["update"] + counts["replace"] }

func scoresClasses() *cli.Command {
	return &cli.Command{
		Name: "classes", Usage: "List the classes that a gradebook has assignments of", ArgsUsage: "INTERFACE",
		Description: "  kanban scores classes \"Course platform: gradebook\"",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			x, err := findInterface(ctx, c, args[0])
			if err != nil {
				return err
			}
			page, err := client.Get[api.Page[api.GradebookClass]](ctx, c, "/interfaces/"+x.ID+"/gradebook-classes")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "The gradebook has no assignments.",
				[]string{"class", "section", "assignments", "scores"}, func(g api.GradebookClass) []string {
					return []string{g.ID, g.Title, strconv.Itoa(g.Assignments), strconv.Itoa(g.Scores)}
				}).print(cmd)
		},
	}
}

// scorePolicyFlags are those of what is set once for a score link.
func scorePolicyFlags(more ...cli.Flag) []cli.Flag {
	return slices.Concat(more, []cli.Flag{
		&cli.StringFlag{Name: "mode", Usage: "values that differ: fill-and-update, blanks-only or replace"},
		&cli.StringFlag{Name: "content", Usage: "what is carried: scores, completions or nothing"},
		&cli.BoolWithInverseFlag{Name: "comments", Usage: "carry comments that learners see where work is marked"},
		&cli.BoolWithInverseFlag{Name: "make-categories", Usage: "make categories that the book lacks, once"},
		&cli.StringFlag{Name: "category", Usage: "id of the book's category for assignments that have none there"},
		&cli.StringSliceFlag{Name: "category-map", Usage: "SOURCE=BOOK, ids of categories that belong together"},
		&cli.StringFlag{Name: "period-kind", Usage: "which kind of session of the register counts, e.g. gradingPeriod"},
		&cli.StringFlag{Name: "basis", Usage: "which date says in which period an assignment is: due or assigned"},
		&cli.BoolWithInverseFlag{Name: "without-points", Usage: "carry assignments that are worth no points"},
		&cli.StringSliceFlag{Name: "flag", Usage: "FLAG=keep, zero, blank or drop, e.g. missing=zero"},
		&cli.StringFlag{
			Name: "schedule", Usage: "when it runs by itself: by-hand, \"every 15\" (minutes), \"daily 18:00\"",
		},
	})
}

// changeScorePolicy changes what was given; the rest stays.
func changeScorePolicy(cmd *cli.Command, p *api.ScorePolicy) (err error) {
	for name, into := range map[string]*string{
		"mode": &p.Mode, "content": &p.Content, "category": &p.Category, "period-kind": &p.PeriodKind,
		"basis": &p.Basis, "template": &p.Template,
	} {
		if cmd.IsSet(name) {
			*into = cmd.String(name)
		}
	}
	for name, into := range map[string]*bool{
		"comments": &p.Comments, "make-categories": &p.MakesCategories, "without-points": &p.WithoutPoints,
	} {
		if cmd.IsSet(name) {
			*into = cmd.Bool(name)
		}
	}
	for _, pair := range cmd.StringSlice("category-map") {
		source, book, ok := strings.Cut(pair, "=")
		if !ok {
			return usage(cmd, fmt.Sprintf("--category-map %q is not SOURCE=BOOK", pair))
		}
		if p.Categories == nil {
			p.Categories = map[string]string{}
		}
		p.Categories[source] = book
	}
	for _, pair := range cmd.StringSlice("flag") {
		name, value, ok := strings.Cut(pair, "=")
		if !ok {
			return usage(cmd, fmt.Sprintf("--flag %q is not FLAG=VALUE", pair))
		}
		if p.Flags == nil {
			p.Flags = map[string]api.FlagRule{}
		}
		p.Flags[name] = api.FlagRule{Value: value}
		if value == "drop" {
			p.Flags[name] = api.FlagRule{Value: "keep", Drop: true}
		}
	}
	if cmd.IsSet("schedule") {
		p.Schedule, err = parseSchedule(cmd.String("schedule"))
	}
	return err
}

func scoresAdd() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "Make a score link of a section or a linked set; nothing is carried before it is run",
		ArgsUsage: "SECTION",
		Description: `SECTION is a code or title; of one in a linked set, the link is made for the whole set. Without --apply it is only shown what both sides have in common.

  kanban scores add PROP-A --from "Course platform: gradebook" --class propagation --to "School register: gradebook"
  kanban scores add PROP-A --from "Course platform: gradebook" --class propagation --to "School register: gradebook" --make-categories --apply`,
		Flags: scorePolicyFlags(
			&cli.StringFlag{Name: "from", Required: true, Usage: "the gradebook in which work is marked"},
			&cli.StringFlag{Name: "class", Required: true, Usage: "the class there; see: kanban scores classes"},
			&cli.StringFlag{Name: "to", Required: true, Usage: "the gradebook that is the book of record"},
			&cli.StringSliceFlag{
				Name: "book-class", Usage: "SECTION=CLASS where the book does not call a section's class as the register does",
			},
			&cli.StringFlag{
				Name: "template", Usage: "begin with the template of this name; with that of the section's organisation when absent",
			},
			&cli.BoolFlag{Name: "anyway", Usage: "make it although both sides have few people in common"},
			&cli.BoolFlag{Name: "apply", Usage: "do it; without this it is only shown"},
		),
		Action: addScoreLink,
	}
}

func addScoreLink(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	s, err := findSection(ctx, c, args[0])
	if err != nil {
		return err
	}
	n := api.NewScoreLink{SectionID: s.ID, SourceClass: cmd.String("class"), Anyway: cmd.Bool("anyway")}
	if s.Set != nil {
		n.SectionID, n.SetID = "", s.Set.ID
	}
	for flag, into := range map[string]*string{"from": &n.SourceInterfaceID, "to": &n.BookInterfaceID} {
		x, err := findInterface(ctx, c, cmd.String(flag))
		if err != nil {
			return err
		}
		*into = x.ID
	}
	if n.BookClasses, err = bookClasses(ctx, cmd, c); err != nil {
		return err
	}
	if n.Policy, err = newScorePolicy(ctx, cmd, c, s.ID); err != nil {
		return err
	}
	overlap, err := client.Post[api.Page[api.ScoreOverlap]](ctx, c, "/score-links/overlap", n)
	if err != nil {
		return err
	}
	if cmd.String("output") == "table" || !cmd.Bool("apply") {
		if err := showOverlap(cmd, overlap.Items); err != nil {
			return err
		}
	}
	if !cmd.Bool("apply") {
		say(cmd, "\nNothing was done. Make the score link with --apply.")
		return nil
	}
	l, err := client.Post[api.ScoreLink](ctx, c, "/score-links", n)
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return table{value: l}.print(cmd)
	}
	name := l.Title
	if _, err := findScoreLink(ctx, c, name); err != nil {
		name = l.ID // there is more than one of this title
	}
	say(cmd, "\nMade the score link %q. See what it would carry: kanban scores preview %q", l.Title, name)
	return nil
}

// bookClasses reads which class of the book is which section's.
func bookClasses(ctx context.Context, cmd *cli.Command, c *client.Client) (map[string]string, error) {
	out := map[string]string{}
	for _, pair := range cmd.StringSlice("book-class") {
		name, class, ok := strings.Cut(pair, "=")
		if !ok {
			return nil, usage(cmd, fmt.Sprintf("--book-class %q is not SECTION=CLASS", pair))
		}
		part, err := findPart(ctx, c, name)
		if err != nil {
			return nil, err
		}
		out[part.ID] = class
	}
	return out, nil
}

func showOverlap(cmd *cli.Command, all []api.ScoreOverlap) error {
	return tableOf(all, "", []string{
		"section", "class in the book", "learners in both", "only at the source", "only in the book", "assignments in both",
		"only at the source ", "remark",
	}, func(o api.ScoreOverlap) []string {
		remark := ""
		if o.Poor {
			remark = "few people in common: is it the right class?"
		}
		return []string{
			o.Section, o.BookClass, strconv.Itoa(o.Both), strconv.Itoa(o.SourceOnly), strconv.Itoa(o.BookOnly),
			strconv.Itoa(o.Items), strconv.Itoa(o.OtherItems), remark,
		}
	}).print(cmd)
}

func scoresShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "Which side counts for what, what is set, and how it is", ArgsUsage: "SCORE-LINK",
		Description: "  kanban scores show Propagation",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err == nil {
				l, err = client.Get[api.ScoreLink](ctx, c, "/score-links/"+l.ID)
			}
			if err != nil {
				return err
			}
			if cmd.String("output") == "json" {
				return table{value: l}.print(cmd)
			}
			say(cmd, "%s: %s", l.Title, words(l.State, 1))
			say(cmd, "  from %s, class %s: work is marked there; change a score there", l.Source, l.SourceClass)
			say(cmd, "  to   %s: the book of record; what somebody changes there stays until somebody decides", l.Book)
			for _, s := range l.Sections {
				say(cmd, "       %s is %s there", s.Title, s.BookClass)
			}
			say(cmd, "  %s, %s; categories that are missing are %s; periods of kind %s by the %s date",
				words(l.Policy.Mode, 1), words(l.Policy.Content, 1),
				map[bool]string{true: "made", false: "not made"}[l.Policy.MakesCategories], l.Policy.PeriodKind,
				l.Policy.Basis)
			say(cmd, "  runs %s", l.Policy.Schedule.String())
			if l.Trouble != "" {
				say(cmd, "  The latest comparison did not come about: %s\n  %s", l.Trouble, l.Remedy)
			}
			if l.ComparedAt != nil {
				say(cmd, "  compared %s: %s", when(l.ComparedAt), scoreCounts(l.Counts))
			}
			for _, step := range l.Checklist.Steps {
				if !step.Done {
					say(cmd, "  still to do: %s. %s", step.Title, step.Next)
				}
			}
			return showReasons(cmd, l.Reasons)
		},
	}
}

// scoreOutcomes are the outcomes of scores in the order in which they are shown.
var scoreOutcomes = []string{
	"conflict", "refused", "withdrawn", "new", "update", "replace", "held", "kept", "unchanged", "book-only",
}

func scoreCounts(c map[string]int) string {
	var parts []string
	for _, o := range scoreOutcomes {
		if c[o] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", c[o], words(o, 1)))
		}
	}
	if len(parts) == 0 {
		return "no scores"
	}
	return strings.Join(parts, ", ")
}

func showReasons(cmd *cli.Command, all []api.ScoreReason) error {
	if len(all) == 0 {
		return nil
	}
	say(cmd, "")
	return tableOf(all, "", []string{"scores", "in assignments", "reason", "who can mend it", "remedy"},
		func(r api.ScoreReason) []string {
			return []string{strconv.Itoa(r.Scores), strconv.Itoa(r.Items), r.Title, r.Owner, r.Remedy}
		}).print(cmd)
}

func scoresEdit() *cli.Command {
	return &cli.Command{
		Name: "edit", Usage: "Change what is set for a score link; what is not given stays", ArgsUsage: "SCORE-LINK",
		Description: "  kanban scores edit Propagation --schedule \"daily 18:00\" --make-categories",
		Flags: scorePolicyFlags(
			&cli.StringFlag{Name: "from", Usage: "another gradebook in which work is marked; the history stays"},
			&cli.StringFlag{Name: "to", Usage: "another book of record; what the one before has stays in it"},
			&cli.StringSliceFlag{Name: "book-class", Usage: "SECTION=CLASS, another class in the book"},
			&cli.StringFlag{Name: "class", Usage: "another class where work is marked; the history stays"},
			&cli.StringFlag{Name: "template", Usage: "compare with what this template expects; \"\" for the organisation's"},
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			e := api.EditScoreLink{Policy: &l.Policy}
			if err := pointScores(ctx, cmd, c, &e); err != nil {
				return err
			}
			if err := changeScorePolicy(cmd, &l.Policy); err != nil {
				return err
			}
			l, err = client.Edit[api.ScoreLink](ctx, c, http.MethodPatch, "/score-links/"+l.ID, l.Version, e)
			if err != nil {
				return err
			}
			say(cmd, "Changed the score link %q; it runs %s.", l.Title, l.Policy.Schedule.String())
			return nil
		},
	}
}

// pointScores reads to which classes a score link is to be pointed.
func pointScores(ctx context.Context, cmd *cli.Command, c *client.Client, e *api.EditScoreLink) (err error) {
	if cmd.IsSet("class") {
		class := cmd.String("class")
		e.SourceClass = &class
	}
	for flag, into := range map[string]**string{"from": &e.SourceInterfaceID, "to": &e.BookInterfaceID} {
		if !cmd.IsSet(flag) {
			continue
		}
		x, err := findInterface(ctx, c, cmd.String(flag))
		if err != nil {
			return err
		}
		*into = &x.ID
	}
	e.BookClasses, err = bookClasses(ctx, cmd, c)
	return err
}

func scoresCategories() *cli.Command {
	return &cli.Command{
		Name: "categories", Usage: "How categories match, and whether their weights agree", ArgsUsage: "SCORE-LINK",
		Description: "  kanban scores categories Propagation",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			all, err := client.Get[api.ScoreCategories](ctx, c, "/score-links/"+l.ID+"/categories")
			if err != nil {
				return err
			}
			weight := func(g *api.GradebookCategory) string {
				if g == nil || g.Weight == nil {
					return ""
				}
				return strconv.FormatFloat(*g.Weight, 'f', -1, 64) + " %"
			}
			t := tableOf(all.Matches, "No assignment of the source has a category.",
				[]string{"at the source", "weight", "in the book", "weight ", "why", "remark"},
				func(m api.CategoryMatch) []string {
					book, why, remark := "", words(m.Evidence, 1), ""
					switch {
					case m.Book != nil:
						book = m.Book.Title
					case m.Makes:
						book, why = m.Source.Title, "is made"
					case m.Several:
						remark = "several are called the same: choose one with --category-map"
					default:
						remark = "none is settled: choose one with --category-map, or let it be made"
					}
					if m.Weights {
						remark = "the weights differ"
					}
					return []string{m.Source.Title, weight(&m.Source), book, weight(m.Book), why, remark}
				})
			t.value = all
			return t.print(cmd)
		},
	}
}

func pauseScores(name string, paused bool) *cli.Command {
	return &cli.Command{
		Name: name, ArgsUsage: "SCORE-LINK", Description: "  kanban scores " + name + " Propagation",
		Usage: map[bool]string{true: "Let a score link carry nothing for now", false: "Let a paused score link go on"}[paused],
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			l, err = client.Edit[api.ScoreLink](ctx, c, http.MethodPatch, "/score-links/"+l.ID, l.Version,
				api.EditScoreLink{Paused: &paused})
			if err != nil {
				return err
			}
			say(cmd, "%s: %s.", l.Title, words(l.State, 1))
			return nil
		},
	}
}

func scoresEnd() *cli.Command {
	return &cli.Command{
		Name: "end", Usage: "End a score link; what is in the book stays there", ArgsUsage: "SCORE-LINK",
		Description: "  kanban scores end Propagation",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			if _, err := client.Post[api.ScoreLink](ctx, c, "/score-links/"+l.ID+"/end", nil); err != nil {
				return err
			}
			say(cmd, "Ended the score link %q. Everything that is in the book stays there.", l.Title)
			return nil
		},
	}
}
