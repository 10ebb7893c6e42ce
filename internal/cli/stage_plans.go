package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/stage"
	"kanban/internal/wire/api"
	"kanban/internal/wire/config"
)

func oneSection() cli.Flag {
	return &cli.StringFlag{Name: "section", Usage: "only this section of the course (code or title)"}
}

func stagePlansOf() *cli.Command {
	return &cli.Command{
		Name: "stages", Usage: "Stages of a course: who has come how far, and the badges on the way",
		Category: "learning",
		Commands: []*cli.Command{
			stagePlansList(),
			stagePlansAdd(),
			stagePlansShow(),
			stagePlansPreview(),
			switchStagePlan("on", true), switchStagePlan("off", false),
			stagePlansRemove(),
			stagesMap(),
			{
				Name: "group", Usage: "How far a group has come, stage by stage", ArgsUsage: "NAME",
				Flags: []cli.Flag{oneSection()}, Action: showGroup,
				Description: "  kanban stages group Gardener --section PROP-A",
			},
			stagePlansPeople(),
			stagePlansApprove(),
			{
				Name: "person", Usage: "Where one person stands, and what lies ahead", ArgsUsage: "TEXT",
				Action:      showStages,
				Description: "  kanban stages person \"Tamsin Trial\"",
			},
		},
	}
}

func stagePlansList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "List stage plans",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			page, err := client.Get[api.Page[api.StagePlan]](ctx, connect(cmd), "/stage-plans")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "There is no stage plan yet. Make one: kanban stages add --help",
				[]string{
					"stage plan", "course", "stages", "on", "people",
					"finished",
				}, func(p api.StagePlan) []string {
					return []string{
						p.Name, p.Course, fmt.Sprint(len(p.Stages)), since(p.OnSince, "off"),
						fmt.Sprint(p.People), fmt.Sprint(p.Finished),
					}
				}).print(cmd)
		},
	}
}

func stagePlansAdd() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "Make a stage plan, which is off at first", ArgsUsage: "NAME",
		Description: `Stages come in the order in which they are given: TITLE: CRITERION; CRITERION. A criterion is one of
  module MODULE          by title or id, as in the course's outline
  course                 or course COURSE, for another one
  score ACTIVITY PERCENT by title or address
  badge BADGE
  approval WHAT          somebody has to say so: kanban stages approve
  any of (…; …)          or all of (…; …), or 2 of (…; …; …); groups can hold groups

  kanban stages add Gardener --course PROP --stage "Sower: module Seeds" --stage "Grafter: module Grafts; score Check 80" \
      --gives "Sower=Cuttings" --preview
  kanban stages add Gardener --course PROP --stage … --stage "Helper: badge Tools" --optional Helper
  kanban stages add Gardener --course PROP --stage "Ready: any of (badge Tools; all of (module Seeds; module Soil))"`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "course", Required: true, Usage: "whose learners it is about (code or title)"},
			&cli.StringSliceFlag{Name: "stage", Required: true, Usage: "a stage, as described above"},
			&cli.BoolFlag{Name: "any-order", Usage: "a stage is reached whatever stands before it"},
			&cli.StringSliceFlag{Name: "optional", Usage: "title of a stage that can be left out"},
			&cli.StringSliceFlag{Name: "gives", Usage: "TITLE=BADGE: awarded to whoever reaches the stage"},
			&cli.BoolFlag{Name: "preview", Usage: "only say what it would find"},
		},
		Action: addStagePlan,
	}
}

func stagePlansShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "Show a stage plan as the YAML that config apply takes in", ArgsUsage: "NAME",
		Description: "  kanban stages show Propagator > stages.yaml\n  kanban config apply stages.yaml",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, p, err := stagePlanNamed(ctx, cmd)
			if err != nil {
				return err
			}
			return showAsFile(ctx, cmd, c, config.StagePlans, p.Name, p)
		},
	}
}

func stagePlansPreview() *cli.Command {
	return &cli.Command{
		Name: "preview", Usage: "Say what a stage plan would find as it is now; nothing is changed", ArgsUsage: "NAME",
		Description: "  kanban stages preview Propagator",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, p, err := stagePlanNamed(ctx, cmd)
			if err != nil {
				return err
			}
			return previewStagePlan(ctx, cmd, c, api.StagePlanDraft{NewStagePlan: p.NewStagePlan, ID: p.ID})
		},
	}
}

func stagePlansRemove() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "Remove a stage plan that is off; what it recorded and awarded stays",
		ArgsUsage: "NAME", Action: func(ctx context.Context, cmd *cli.Command) error {
			c, p, err := stagePlanNamed(ctx, cmd)
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/stage-plans/"+p.ID, nil); err != nil {
				return err
			}
			say(cmd, "Removed the stage plan %q.", p.Name)
			return nil
		},
	}
}

func stagePlansPeople() *cli.Command {
	return &cli.Command{
		Name: "people", Usage: "Who stands where", ArgsUsage: "NAME", Action: listStagePlanPeople,
		Description: "  kanban stages people Gardener --missing Grafter\n  kanban stages people Gardener --state not-opened",
		Flags: []cli.Flag{
			oneSection(),
			&cli.StringFlag{Name: "reached", Usage: "who has reached this stage"},
			&cli.StringFlag{Name: "missing", Usage: "who has not reached this stage"},
			&cli.StringFlag{Name: "at", Usage: "for whom this stage comes next"},
			&cli.StringFlag{Name: "state", Usage: "not-opened, on-the-way or finished"},
			&cli.IntFlag{Name: "at-for", Usage: "who is at what comes next for so many days or longer"},
		},
	}
}

func stagePlanNamed(ctx context.Context, cmd *cli.Command) (*client.Client, api.StagePlan, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.StagePlan{}, err
	}
	c := connect(cmd)
	p, err := findPlan(ctx, c, args[0])
	return c, p, err
}

func findPlan(ctx context.Context, c *client.Client, name string) (api.StagePlan, error) {
	return named[api.StagePlan]{
		"/stage-plans", "stage plan", "stage plans", "stages list",
		func(x api.StagePlan) string { return x.ID },
		func(x api.StagePlan) []string { return []string{x.Name} },
		func(x api.StagePlan) string { return x.Name },
	}.find(ctx, c, name)
}

func switchStagePlan(name string, on bool) *cli.Command {
	usage := map[bool]string{
		true:  "Switch a stage plan on; whoever has reached a stage already is found",
		false: "Switch a stage plan off; what was reached stays known",
	}[on]
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: "NAME",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, p, err := stagePlanNamed(ctx, cmd)
			if err != nil {
				return err
			}
			if _, err := client.Post[api.StagePlan](ctx, c, "/stage-plans/"+p.ID+"/switch",
				api.Switch{On: on}); err != nil {
				return err
			}
			say(cmd, "%q is %s.", p.Name, name)
			return nil
		},
	}
}

func addStagePlan(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	course, err := findCourse(ctx, c, cmd.String("course"))
	if err != nil {
		return err
	}
	n := api.NewStagePlan{Name: args[0], CourseID: course.ID, AnyOrder: cmd.Bool("any-order")}
	for _, text := range cmd.StringSlice("stage") {
		stage, err := readStage(ctx, c, course, text)
		if err != nil {
			return err
		}
		n.Stages = append(n.Stages, stage)
	}
	at := func(title string) (*stage.Stage, error) {
		i := slices.IndexFunc(n.Stages, func(s stage.Stage) bool {
			return strings.EqualFold(s.Title,
				strings.TrimSpace(title))
		})
		if i < 0 {
			return nil, fmt.Errorf("%w: there is no --stage called %q", errUsage, title)
		}
		return &n.Stages[i], nil
	}
	for _, title := range cmd.StringSlice("optional") {
		stage, err := at(title)
		if err != nil {
			return err
		}
		stage.Optional = true
	}
	for _, text := range cmd.StringSlice("gives") {
		title, name, _ := strings.Cut(text, "=")
		stage, err := at(title)
		if err != nil {
			return err
		}
		b, err := findBadge(ctx, c, strings.TrimSpace(name))
		if err != nil {
			return err
		}
		stage.BadgeID = b.ID
	}
	if cmd.Bool("preview") {
		return previewStagePlan(ctx, cmd, c, api.StagePlanDraft{NewStagePlan: n})
	}
	p, err := client.Post[api.StagePlan](ctx, c, "/stage-plans", n)
	if err != nil {
		return err
	}
	say(cmd, "Made the stage plan %q. It is off: kanban stages on %q", p.Name, p.Name)
	return nil
}

func previewStagePlan(ctx context.Context, cmd *cli.Command, c *client.Client, draft api.StagePlanDraft) error {
	v, err := client.Post[api.StagePlanPreview](ctx, c, "/stage-plans/preview", draft)
	if err != nil {
		return err
	}
	if err := tableOf(v.Stages, "", []string{"stage", "would have reached it", "newly", "open again"},
		func(s api.StagePreview) []string {
			return []string{s.Title, fmt.Sprint(s.Reached), fmt.Sprint(s.Newly), fmt.Sprint(s.Reopened)}
		}).print(cmd); err != nil {
		return err
	}
	for _, s := range v.Stages {
		if moved(s.NewlyPeople, s.Newly) != "" {
			say(cmd, "%s, newly: %s", s.Title, moved(s.NewlyPeople, s.Newly))
		}
		if moved(s.ReopenedPeople, s.Reopened) != "" {
			say(cmd, "%s, open again: %s", s.Title, moved(s.ReopenedPeople, s.Reopened))
		}
	}
	say(cmd, "%s; %d would have finished. Badges that would be awarded at once: %d. Nothing was changed.",
		peopleCount(v.People), v.Finished, v.Badges)
	return nil
}

// moved names the first of some people, and how many more there are.
func moved(names []string, of int) string {
	text := strings.Join(names, ", ")
	if more := of - len(names); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

func stagePlansApprove() *cli.Command {
	return &cli.Command{
		Name: "approve", Usage: "Approve what a stage asks somebody to say of people, or withdraw it",
		ArgsUsage: "NAME PERSON…", Action: approveStages,
		Description: "  kanban stages approve Gardener ada.alder@fernmoor.example --what \"Shows a graft\" --note \"Seen on Monday\"",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "what", Usage: "what is approved; can be left out where the plan asks for one thing"},
			&cli.StringFlag{Name: "note", Usage: "why"},
			&cli.BoolFlag{Name: "withdraw", Usage: "withdraw what was approved before"},
		},
	}
}

func approveStages(ctx context.Context, cmd *cli.Command) error {
	names := cmd.Args().Slice()
	if len(names) < 2 {
		return fmt.Errorf("%w: name the stage plan and the people", errUsage)
	}
	c := connect(cmd)
	p, err := findPlan(ctx, c, names[0])
	if err != nil {
		return err
	}
	what, err := approvalNamed(p, cmd.String("what"))
	if err != nil {
		return err
	}
	a := api.Approving{ApprovalID: what.ApprovalID, Note: cmd.String("note"), Withdraw: cmd.Bool("withdraw")}
	for _, name := range names[1:] {
		person, err := onePerson(ctx, c, name)
		if err != nil {
			return err
		}
		a.People = append(a.People, person.ID)
	}
	if _, err := client.Post[client.Empty](ctx, c, "/stage-plans/"+p.ID+"/approvals", a); err != nil {
		return err
	}
	done := "Approved"
	if a.Withdraw {
		done = "Withdrawn"
	}
	say(cmd, "%s for %s: %s", done, peopleCount(len(a.People)), what.What)
	return nil
}

// approvalNamed finds an approval of a stage plan by what it says, or the only one.
func approvalNamed(p api.StagePlan, what string) (found stage.Criterion, err error) {
	var all, known []string
	for _, s := range p.Stages {
		for c := range (stage.Criterion{Kind: stage.All, Of: s.Criteria}).Leaves {
			if c.Kind != stage.Approval {
				continue
			}
			known = append(known, fmt.Sprintf("%q", c.What))
			if what == "" || strings.EqualFold(c.What, what) {
				found, all = c, append(all, c.What)
			}
		}
	}
	switch {
	case len(known) == 0:
		return found, fmt.Errorf("%w: %s asks nobody to approve anything", errUsage, p.Name)
	case len(all) != 1:
		return found, fmt.Errorf("%w: say with --what which of these: %s", errUsage, strings.Join(known, ", "))
	}
	return found, nil
}

// sectionParam is the --section as a parameter, empty when there is none.
func sectionParam(ctx context.Context, cmd *cli.Command, c *client.Client) (string, error) {
	name := cmd.String("section")
	if name == "" {
		return "", nil
	}
	x, err := findPart(ctx, c, name)
	return x.ID, err
}

func showGroup(ctx context.Context, cmd *cli.Command) error {
	c, p, err := stagePlanNamed(ctx, cmd)
	if err != nil {
		return err
	}
	section, err := sectionParam(ctx, cmd, c)
	if err != nil {
		return err
	}
	g, err := client.Get[api.StagePlanGroup](ctx, c, "/stage-plans/"+p.ID+"/group?section="+section)
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return table{value: g}.print(cmd)
	}
	if err := tableOf(g.Stages, "", []string{"stage", "reached", "", "next for", "median", "stuck", "takes"},
		func(s api.StageCount) []string {
			title, bar := s.Title, ""
			if s.Optional {
				title += " (optional)"
			}
			if g.People > 0 {
				bar = strings.Repeat("█", (s.Reached*20+g.People/2)/g.People)
			}
			takes := strings.Join(s.Takes, "; ")
			if s.Badge != "" {
				takes += "; gives the badge " + s.Badge
			}
			return []string{title, fmt.Sprint(s.Reached), bar, fmt.Sprint(s.At), days(s.MedianDays), stuckAt(s), takes}
		}).print(cmd); err != nil {
		return err
	}
	say(cmd, "%s; %d never opened the course, %d finished.", peopleCount(g.People), g.NotOpened, g.Finished)
	return nil
}

// days is a time in days, empty where it is not known.
func days(n *float64) string {
	switch {
	case n == nil:
		return ""
	case *n < 1:
		return "under 1 day"
	case *n == 1:
		return "1 day"
	}
	return fmt.Sprintf("%g days", *n)
}

// stuckAt says who is at a stage for two weeks and longer.
func stuckAt(s api.StageCount) string {
	if s.Stuck == 0 {
		return ""
	}
	return fmt.Sprintf("%d, up to %s", s.Stuck, days(s.LongestDays))
}

func listStagePlanPeople(ctx context.Context, cmd *cli.Command) error {
	c, p, err := stagePlanNamed(ctx, cmd)
	if err != nil {
		return err
	}
	query := url.Values{"state": {cmd.String("state")}}
	for _, flag := range []string{"reached", "missing", "at"} {
		title := cmd.String(flag)
		if title == "" {
			continue
		}
		i := slices.IndexFunc(p.Stages, func(s stage.Stage) bool {
			return strings.EqualFold(s.Title, title) ||
				s.ID == title
		})
		if i < 0 {
			return fmt.Errorf("%w: %s has no stage %q", errUsage, p.Name, title)
		}
		query.Set(flag, p.Stages[i].ID)
	}
	section, err := sectionParam(ctx, cmd, c)
	if err != nil {
		return err
	}
	query.Set("section", section)
	if days := cmd.Int("at-for"); days > 0 {
		query.Set("atForDays", fmt.Sprint(days))
	}
	if query.Get("state") == "" {
		query.Del("state")
	}
	all, err := client.All[api.StagePlanPerson](ctx, c, "/stage-plans/"+p.ID+"/people?"+query.Encode())
	if err != nil {
		return err
	}
	return tableOf(all, "Nobody fits.", []string{
		"person", "sections", "done", "reached", "next", "since",
		"last active",
	},
		func(x api.StagePlanPerson) []string {
			return []string{
				x.Person, x.Sections, fmt.Sprintf("%d %%", x.Percent), strings.Join(x.Reached, ", "),
				x.Next, atSince(x), since(x.LastAt, "never"),
			}
		}).print(cmd)
}

func showStages(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	p, err := onePerson(ctx, c, args[0])
	if err != nil {
		return err
	}
	all, err := client.Get[[]api.PersonStagePlan](ctx, c, "/people/"+p.ID+"/stage-plans")
	if err != nil {
		return err
	}
	type line struct {
		StagePlan string `json:"stagePlan"`
		api.StageProgress
	}
	var lines []line
	for _, x := range all {
		for _, s := range x.Stages {
			lines = append(lines, line{x.Name, s})
		}
	}
	return tableOf(lines, "No stage plan that is on is about this person.",
		[]string{"stage plan", "stage", "stands", "since", "takes", "badge"}, func(l line) []string {
			title := l.Title
			if l.Optional {
				title += " (optional)"
			}
			var takes []string
			for _, x := range l.Criteria {
				takes = append(takes, map[bool]string{true: "● ", false: "○ "}[x.Met]+x.Text)
			}
			return []string{
				l.StagePlan, title, stands(l.StageProgress), moment(l.ReachedAt),
				strings.Join(takes, "; "),
				badgeWord(l.StageProgress),
			}
		}).print(cmd)
}

// atSince is since when somebody is at what comes next; nothing when nothing does.
func atSince(x api.StagePlanPerson) string {
	if x.Next == "" {
		return ""
	}
	return since(x.Since, "")
}

// since is when something began, or a word for that it did not.
func since(t *time.Time, not string) string {
	if t == nil {
		return not
	}
	return when(t)
}

func stands(s api.StageProgress) string {
	switch {
	case s.Reached:
		return "● reached"
	case s.Open:
		return "○ open"
	}
	return "· ahead"
}

// badgeWord says whether the stage's badge is held, and should be.
func badgeWord(s api.StageProgress) string {
	switch {
	case s.Badge == "":
		return ""
	case s.Holds && !s.Reached:
		return s.Badge + ": held, though not reached"
	case s.Holds:
		return s.Badge + ": held"
	case s.Reached:
		return s.Badge + ": not awarded"
	}
	return s.Badge
}

// readStage reads TITLE: CRITERION; CRITERION.
func readStage(ctx context.Context, c *client.Client, course api.Course, text string) (s stage.Stage, err error) {
	title, rest, ok := strings.Cut(text, ":")
	if s.Title = strings.TrimSpace(title); !ok || s.Title == "" {
		return s, fmt.Errorf("%w: --stage %q is not of the form TITLE: CRITERION; CRITERION", errUsage, text)
	}
	s.Criteria, err = readCriteria(ctx, c, course, rest)
	return s, err
}

// readCriteria reads CRITERION; CRITERION. Those in brackets belong together.
func readCriteria(ctx context.Context, c *client.Client, course api.Course, text string) (all []stage.Criterion,
	err error,
) {
	parts, err := apartOutside(text)
	if err != nil {
		return nil, err
	}
	for _, part := range parts {
		criterion, err := readCriterion(ctx, c, course, strings.TrimSpace(part))
		if err != nil {
			return nil, err
		}
		all = append(all, criterion)
	}
	return all, nil
}

// apartOutside cuts a text at each ; that is in no group.
func apartOutside(text string) (parts []string, err error) {
	depth, from := 0, 0
	for i, r := range text {
		switch {
		case r == '(' && grouping.MatchString(text[:i+1]):
			depth++
		case r == ')' && depth > 0:
			depth--
		case r == ';' && depth == 0:
			parts, from = append(parts, text[from:i]), i+1
		}
	}
	if depth > 0 {
		return nil, fmt.Errorf("%w: a bracket of %q is not closed", errUsage, text)
	}
	return append(parts, text[from:]), nil
}

// grouping begins a group: any of (…), all of (…), 2 of (…).
var grouping = regexp.MustCompile(`(?:^|[;(]\s*)\s*(any|all|[0-9]+) of \($`)

// readGroup reads any of (A; B), all of (A; B) or 2 of (A; B; C); ok is false where the text is none.
func readGroup(ctx context.Context, c *client.Client, course api.Course, text string) (out stage.Criterion, ok bool,
	err error,
) {
	how, rest, ok := strings.Cut(text, " of (")
	if !ok || !grouping.MatchString(how+" of (") || !strings.HasSuffix(rest, ")") {
		return out, false, nil
	}
	switch how {
	case "any", "all":
		out.Kind = stage.Kind(how)
	default:
		out.Kind = stage.Some
		if out.Need, err = strconv.Atoi(how); err != nil {
			return out, true, fmt.Errorf("%w: %q is no number of criteria", errUsage, how)
		}
	}
	out.Of, err = readCriteria(ctx, c, course, strings.TrimSuffix(rest, ")"))
	return out, true, err
}

func readCriterion(ctx context.Context, c *client.Client, course api.Course, text string) (stage.Criterion, error) {
	if group, is, err := readGroup(ctx, c, course, text); is || err != nil {
		return group, err
	}
	kind, rest, _ := strings.Cut(text, " ")
	rest = strings.TrimSpace(rest)
	out := stage.Criterion{Kind: stage.Kind(kind)}
	switch {
	case out.Kind == stage.Course && rest != "":
		other, err := findCourse(ctx, c, rest)
		out.CourseID = other.ID
		return out, err
	case out.Kind == stage.Course:
		return out, nil
	case out.Kind == stage.Approval && rest != "":
		out.What = rest
		return out, nil
	case out.Kind == stage.Badge:
		b, err := findBadge(ctx, c, rest)
		out.BadgeID = b.ID
		return out, err
	case out.Kind != stage.Module && out.Kind != stage.Score:
		return out, fmt.Errorf("%w: %q is no criterion; write module …, course, score … PERCENT, badge …, approval … or any of (…; …)", errUsage,
			text)
	}
	o, err := client.Get[api.Outline](ctx, c, "/courses/"+course.ID+"/outline")
	if err != nil {
		return out, fmt.Errorf("%s: %w", course.Title, err)
	}
	if out.Kind == stage.Module {
		for _, m := range o.Modules {
			if strings.EqualFold(m.Title, rest) || m.ID == rest {
				out.ModuleID = m.ID
				return out, nil
			}
		}
		return out, fmt.Errorf("%w: %s has no module %q; see kanban courses show", errUsage, course.Title, rest)
	}
	i := strings.LastIndexByte(rest, ' ')
	percent, err := strconv.ParseFloat(strings.TrimSuffix(rest[i+1:], "%"), 64)
	if i < 0 || err != nil || percent < -100 || percent > 100 {
		return out, fmt.Errorf("%w: %q does not end with a percentage, as in: score Check 80", errUsage, text)
	}
	name := strings.TrimSpace(rest[:i])
	for _, m := range o.Modules {
		for _, a := range m.All() {
			if strings.EqualFold(a.Title, name) || a.ID == name {
				out.ActivityID, out.AtLeast = a.ID, percent/100
				return out, nil
			}
		}
	}
	return out, fmt.Errorf("%w: %s has no activity %q; see kanban courses show", errUsage, course.Title, name)
}
