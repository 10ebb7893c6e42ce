package cli

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

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
		"basis": &p.Basis,
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

  kanban scores add PROP-A --from "Course platform: gradebook" --class propagation --to "School office: gradebook"
  kanban scores add PROP-A --from "Course platform: gradebook" --class propagation --to "School office: gradebook" --make-categories --apply`,
		Flags: scorePolicyFlags(
			&cli.StringFlag{Name: "from", Required: true, Usage: "the gradebook in which work is marked"},
			&cli.StringFlag{Name: "class", Required: true, Usage: "the class there; see: kanban scores classes"},
			&cli.StringFlag{Name: "to", Required: true, Usage: "the gradebook that is the book of record"},
			&cli.StringSliceFlag{
				Name: "book-class", Usage: "SECTION=CLASS where the book does not call a section's class as the register does",
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
	n.Policy = &api.ScorePolicy{Mode: "fill-and-update", Content: "scores", Basis: "due"}
	if err := changeScorePolicy(cmd, n.Policy); err != nil {
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
	say(cmd, "\nMade the score link %q. See what it would carry: kanban scores preview %q", l.Title, l.Title)
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
				say(cmd, "  compared %s: %s", moment(l.ComparedAt), scoreCounts(l.Counts))
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
		Flags: scorePolicyFlags(&cli.StringFlag{
			Name: "class", Usage: "another class where work is marked; the history stays",
		}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			e := api.EditScoreLink{Policy: &l.Policy}
			if cmd.IsSet("class") {
				class := cmd.String("class")
				e.SourceClass = &class
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

func scoresAssignments() *cli.Command {
	return &cli.Command{
		Name: "assignments", Usage: "List assignments, with every reason why one is not ready", ArgsUsage: "SCORE-LINK",
		Description: "  kanban scores assignments Propagation\n  kanban scores assignments Propagation --not-ready -o csv > mend.csv",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "not-ready", Usage: "only those that cannot be carried yet"},
			&cli.StringFlag{Name: "section", Usage: "only those of this section (code or title)"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			rows, err := assignmentsOf(ctx, c, l, cmd.String("section"))
			if err != nil {
				return err
			}
			if cmd.Bool("not-ready") {
				rows = slices.DeleteFunc(rows, func(a api.Assignment) bool {
					return a.Outcome == "made" ||
						a.Outcome == "linked"
				})
			}
			return tableOf(rows, "There are no assignments.", []string{
				"assignment", "section", "due", "points", "category", "period", "state", "final", "drafts", "partly",
				"to carry",
				"why not",
			}, func(a api.Assignment) []string {
				var why []string
				for _, r := range a.Reasons {
					why = append(why, r.Title)
				}
				if a.LeftOut != "" {
					why = []string{a.LeftOut}
				}
				return []string{
					a.Title, a.Section, day(a.Source.Due), strconv.FormatFloat(a.Source.Maximum, 'f', -1, 64),
					a.Category, a.Period,
					assignmentState(a), strconv.Itoa(a.Final), strconv.Itoa(a.Drafts), strconv.Itoa(a.Partly),
					strconv.Itoa(toCarry(a.Counts)), strings.Join(why, "; "),
				}
			}).print(cmd)
		},
	}
}

func day(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Format("2 Jan 2006")
}

func assignmentState(a api.Assignment) string {
	switch {
	case a.ChangedSince:
		return "left out, changed since"
	case a.Outcome == "made":
		return "ready, is made"
	}
	return words(a.Outcome, 1)
}

// assignmentsOf lists those of a score link, of one section when it is named.
func assignmentsOf(ctx context.Context, c *client.Client, l api.ScoreLink, sectionName string) ([]api.Assignment,
	error,
) {
	page, err := client.Get[api.Page[api.Assignment]](ctx, c, "/score-links/"+l.ID+"/assignments")
	if err != nil || sectionName == "" {
		return page.Items, err
	}
	i := slices.IndexFunc(l.Sections, func(s api.ScoreLinkSection) bool {
		return s.ID == sectionName || strings.EqualFold(s.Title, sectionName) || strings.EqualFold(s.Code, sectionName)
	})
	if i < 0 {
		return nil, fmt.Errorf("%w: the score link has no section %q", errUsage, sectionName)
	}
	return slices.DeleteFunc(page.Items, func(a api.Assignment) bool { return a.SectionID != l.Sections[i].ID }), nil
}

// called are the assignments with a title or id, in all sections; none is an error.
func called(rows []api.Assignment, name string) (list []api.Assignment, err error) {
	for _, a := range rows {
		if a.ID == name || a.Source.ID == name || strings.EqualFold(a.Title, name) {
			list = append(list, a)
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%w: there is no assignment %q; see which there are: kanban scores assignments", errUsage, name)
	}
	return list, nil
}

func scoresSet() *cli.Command {
	return &cli.Command{
		Name: "set", Usage: "Change assignments, in all their sections at once", ArgsUsage: "SCORE-LINK ASSIGNMENT…",
		Description: `  kanban scores set Propagation "Care of tools" --basis assigned
  kanban scores set Propagation Herbarium --leave-out "belongs to next term"
  kanban scores set Propagation Herbarium --take-in`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "content", Usage: "scores, completions or nothing; empty for the score link's"},
			&cli.StringFlag{Name: "basis", Usage: "due or assigned; empty for the score link's"},
			&cli.StringFlag{Name: "category", Usage: "id of a category of the book; empty for the one that is matched"},
			&cli.StringFlag{Name: "period", Usage: "id of a period of the register; empty for the one by its date"},
			&cli.StringFlag{Name: "leave-out", Usage: "leave it out, for this reason"},
			&cli.BoolFlag{Name: "take-in", Usage: "take in again what was left out"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() < 2 {
				return usage(cmd, "name the score link and at least one assignment")
			}
			c := connect(cmd)
			l, err := findScoreLink(ctx, c, cmd.Args().First())
			if err != nil {
				return err
			}
			rows, err := assignmentsOf(ctx, c, l, "")
			if err != nil {
				return err
			}
			var e api.EditAssignments
			for _, name := range cmd.Args().Tail() {
				some, err := called(rows, name)
				if err != nil {
					return err
				}
				for _, a := range some {
					e.IDs = append(e.IDs, a.ID)
				}
			}
			for flag, into := range map[string]**string{
				"content": &e.Content, "basis": &e.Basis, "category": &e.Category, "period": &e.Period,
				"leave-out": &e.LeftOut,
			} {
				if cmd.IsSet(flag) {
					text := cmd.String(flag)
					*into = &text
				}
			}
			if cmd.Bool("take-in") {
				e.LeftOut = new(string)
			}
			if _, err := client.Send[api.Page[api.Assignment]](ctx, c, http.MethodPatch,
				"/score-links/"+l.ID+"/assignments", e); err != nil {
				return err
			}
			say(cmd, "Changed %s.", count(len(e.IDs), "assignment"))
			return nil
		},
	}
}

// oneAssignment gives the one assignment of a section with a name.
func oneAssignment(ctx context.Context, cmd *cli.Command, n int) (*client.Client, api.ScoreLink, api.Assignment,
	[]string,
	error,
) {
	c, l, rest, err := scoreLinkNamed(ctx, cmd, n)
	if err != nil {
		return c, l, api.Assignment{}, rest, err
	}
	rows, err := assignmentsOf(ctx, c, l, cmd.String("section"))
	if err != nil {
		return c, l, api.Assignment{}, rest, err
	}
	list, err := called(rows, rest[0])
	if err == nil && len(list) > 1 {
		candidates := make([]candidate, len(list))
		for i, a := range list {
			candidates[i] = candidate{a.ID, apart(a.Title, a.Section)}
		}
		err = ambiguous("assignments", rest[0], candidates)
	}
	if err != nil {
		return c, l, api.Assignment{}, rest, err
	}
	return c, l, list[0], rest[1:], nil
}

func ofSection() cli.Flag {
	return &cli.StringFlag{Name: "section", Usage: "in this section of the score link (code or title)"}
}

func scoresCounterparts() *cli.Command {
	return &cli.Command{
		Name: "counterparts", Usage: "Rank the book's assignments that may be the same as one",
		ArgsUsage: "SCORE-LINK ASSIGNMENT", Flags: []cli.Flag{ofSection()},
		Description: "  kanban scores counterparts Propagation \"Report on cuttings\" --section PROP-A",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, a, _, err := oneAssignment(ctx, cmd, 2)
			if err != nil {
				return err
			}
			page, err := client.Get[api.Page[api.ScoreCounterpart]](ctx, c,
				"/score-links/"+l.ID+"/assignments/"+a.ID+"/counterparts")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "The book has no assignment that could be the same.",
				[]string{"in the book", "id", "score", "due", "points", "values that agree", "that differ", "remark"},
				func(x api.ScoreCounterpart) []string {
					return []string{
						x.Item.Title, x.Item.ID, strconv.Itoa(x.Score), day(x.Item.Due),
						strconv.FormatFloat(x.Item.Maximum, 'f', -1, 64), strconv.Itoa(x.Equal),
						strconv.Itoa(x.Different),
						map[bool]string{true: "linked already"}[x.Linked],
					}
				}).print(cmd)
		},
	}
}

func scoresLink() *cli.Command {
	return &cli.Command{
		Name: "link", Usage: "Link an assignment to one that the book has", ArgsUsage: "SCORE-LINK ASSIGNMENT BOOK-ID",
		Flags:       []cli.Flag{ofSection()},
		Description: "  kanban scores link Propagation \"Report on cuttings\" li-204 --section PROP-A",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, a, rest, err := oneAssignment(ctx, cmd, 3)
			if err != nil {
				return err
			}
			if err := linkAssignment(ctx, c, l, a, rest[0]); err != nil {
				return err
			}
			say(cmd, "%q of %s is linked to %s. What differs is shown as a conflict, and nothing is overwritten.", a.Title,
				a.Section, rest[0])
			return nil
		},
	}
}

func linkAssignment(ctx context.Context, c *client.Client, l api.ScoreLink, a api.Assignment, bookItem string) error {
	_, err := client.Send[client.Empty](ctx, c, http.MethodPut, "/score-links/"+l.ID+"/assignments/"+a.ID+"/link",
		api.AssignmentLink{BookItem: bookItem})
	return err
}

func scoresUnlink() *cli.Command {
	return &cli.Command{
		Name: "unlink", Usage: "Unlink an assignment; what is in the book stays there",
		ArgsUsage: "SCORE-LINK ASSIGNMENT", Flags: []cli.Flag{ofSection()},
		Description: "  kanban scores unlink Propagation \"Report on cuttings\" --section PROP-A",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, a, _, err := oneAssignment(ctx, cmd, 2)
			if err != nil {
				return err
			}
			if err := linkAssignment(ctx, c, l, a, ""); err != nil {
				return err
			}
			say(cmd, "%q of %s is linked to nothing now.", a.Title, a.Section)
			return nil
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

func scoresUpload() *cli.Command {
	return &cli.Command{
		Name: "upload", Usage: "Read a OneRoster CSV package of a gradebook of files", ArgsUsage: "INTERFACE FILE",
		Description: "  kanban scores upload \"Exam office: gradebook files\" package.zip",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2)
			if err != nil {
				return err
			}
			c := connect(cmd)
			x, err := findInterface(ctx, c, args[0])
			if err != nil {
				return err
			}
			file, err := os.Open(args[1])
			if err != nil {
				return err
			}
			defer file.Close()
			r, err := c.UploadGradebook(ctx, x.ID, file)
			if err != nil {
				return err
			}
			if cmd.String("output") == "json" {
				return table{value: r}.print(cmd)
			}
			say(cmd, "Read. %s could not be understood.", count(r.Unread, "record"))
			for _, u := range r.First {
				say(cmd, "  %s line %d: %s", u.Collection, u.Position, u.Problem)
			}
			return nil
		},
	}
}

func scoresPackage() *cli.Command {
	return &cli.Command{
		Name: "package", Usage: "Write what waits to be put into a gradebook of files as a OneRoster CSV package",
		ArgsUsage: "INTERFACE FILE",
		Description: "It waits until a package of the gradebook shows that it arrived: kanban scores upload.\n\n" +
			"  kanban scores package \"Exam office: gradebook files\" for-the-book.zip",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2)
			if err != nil {
				return err
			}
			c := connect(cmd)
			x, err := findInterface(ctx, c, args[0])
			if err != nil {
				return err
			}
			text, err := c.Download(ctx, "/interfaces/"+x.ID+"/gradebook.zip")
			if err != nil {
				return err
			}
			if err := os.WriteFile(args[1], text, 0o600); err != nil {
				return err
			}
			say(cmd, "Wrote %s. Put it into the gradebook, then upload a package of the gradebook.", args[1])
			return nil
		},
	}
}

func scoresUnfinished() *cli.Command {
	return &cli.Command{
		Name: "unfinished", Usage: "List missing work and scores that are not final", ArgsUsage: "SCORE-LINK",
		Description: "  kanban scores unfinished Propagation\n  kanban scores unfinished Propagation --section PROP-A -o csv\n" +
			"  kanban scores unfinished Propagation --person stu-014",
		Flags: []cli.Flag{
			ofSection(),
			&cli.StringFlag{Name: "teacher", Usage: "in sections of this teacher (a part of the name)"},
			&cli.StringFlag{Name: "person", Usage: "of this learner"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, l, _, err := scoreLinkNamed(ctx, cmd, 1)
			if err != nil {
				return err
			}
			page, err := client.Get[api.Page[api.UnfinishedWork]](ctx, c, "/score-links/"+l.ID+"/unfinished")
			if err != nil {
				return err
			}
			rows, err := narrowedWork(ctx, cmd, c, l, page.Items)
			if err != nil {
				return err
			}
			return tableOf(rows, "Nothing is missing, and every score is final.",
				[]string{"section", "teachers", "assignment", "due", "person", "state", "score", "since"},
				func(u api.UnfinishedWork) []string {
					return []string{
						u.Section, strings.Join(u.Teachers, ", "), u.Assignment, day(u.Due), u.Person,
						words(u.State, 1), u.Score,
						day(u.Since),
					}
				}).print(cmd)
		},
	}
}

// narrowedWork keeps what is asked for.
func narrowedWork(ctx context.Context, cmd *cli.Command, c *client.Client, l api.ScoreLink, all []api.UnfinishedWork) (
	[]api.UnfinishedWork, error,
) {
	title, person := "", ""
	if name := cmd.String("section"); name != "" {
		for _, s := range l.Sections {
			if s.ID == name || strings.EqualFold(s.Title, name) || strings.EqualFold(s.Code, name) {
				title = s.Title
			}
		}
		if title == "" {
			return nil, fmt.Errorf("%w: the score link has no section %q", errUsage, name)
		}
	}
	if name := cmd.String("person"); name != "" {
		p, err := onePerson(ctx, c, name)
		if err != nil {
			return nil, err
		}
		person = p.ID
	}
	teacher := strings.ToLower(cmd.String("teacher"))
	return slices.DeleteFunc(all, func(u api.UnfinishedWork) bool {
		return title != "" && u.Section != title || person != "" && u.PersonID != person ||
			!strings.Contains(strings.ToLower(strings.Join(u.Teachers, ", ")), teacher)
	}), nil
}
