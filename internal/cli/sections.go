package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/roster"
	"kanban/internal/core/visibility"
	"kanban/internal/wire/api"
)

func listSections(ctx context.Context, cmd *cli.Command) error {
	q := filterQuery(cmd)
	q.Set("sort", cmd.String("sort"))
	if cmd.Bool("descending") {
		q.Set("sort", "-"+cmp.Or(cmd.String("sort"), "state"))
	}
	c := connect(cmd)
	all, err := client.All[api.Section](ctx, c, "/sections?"+q.Encode())
	if err != nil {
		return err
	}
	q.Set("limit", "1")
	page, err := client.Get[api.SectionPage](ctx, c, "/sections?"+q.Encode())
	if err != nil {
		return err
	}
	defer sayHidden(cmd, page.Hidden)
	return tableOf(all,
		"No section fits. Connect a register and read it: kanban interfaces add oneroster …",
		[]string{
			"state", "section", "code", "course", "term", "teachers", "learners", "target",
			"people",
		}, func(s api.Section) []string {
			if s.Set != nil {
				s.Code = fmt.Sprintf("%d linked", len(s.Set.Sections))
			}
			if s.List != "" {
				s.Code = "people list"
			}
			if s.Alike && s.Organisation != "" { // another one looks the same but for its school
				s.Title += " · " + s.Organisation
			}
			return []string{
				state(s.State), s.Title, s.Code, s.Course, strings.Join(s.Terms, ", "),
				strings.Join(s.Teachers, ", "), fmt.Sprint(s.Learners), s.Target, counts(s.Counts,
					roster.Outcomes),
			}
		}).print(cmd)
}

func sections() *cli.Command {
	return &cli.Command{
		Name: "sections", Usage: "See sections and their state", Category: "rosters",
		Commands: slices.Concat([]*cli.Command{{
			Name: "list", Usage: "List sections with course, term, teachers, size and state",
			Description: "  kanban sections list --state needs-person\n  kanban sections list --term \"First term\" --teacher \"Maud Marrow\" --output csv\n  kanban sections list --sort learners --descending",
			Flags: append(filterFlags(),
				&cli.StringFlag{
					Name:  "sort",
					Usage: "state, section, course, term, teachers, learners, class or run; state when absent",
				},
				&cli.BoolFlag{Name: "descending", Usage: "sort the other way round"}),
			Action: listSections,
		}, {
			Name: "hidden", Usage: "The rules that leave sections out of lists; what is paired is always shown",
			Action: hidingRules,
			Flags: []cli.Flag{
				&cli.StringSliceFlag{
					Name:  "add",
					Usage: "a rule, `NAME:CONDITION=VALUE,...`; conditions are course-code, title, class-type, empty, other-terms",
				},
				&cli.StringSliceFlag{Name: "drop", Usage: "a rule, by its name"},
			},
			Description: "  kanban sections hidden\n  kanban sections hidden --add \"Advisory hours:class-type=homeroom\" --add \"Empty:empty\"\n  kanban sections list --hidden \"Advisory hours\"",
		}, {
			Name: "roster", Usage: "Who was in a section on a day, or who came and went", ArgsUsage: "SECTION",
			Action: sectionRoster,
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "at", Usage: "a day such as 2026-10-01, or a time; now when absent"},
				&cli.BoolFlag{
					Name:  "movements",
					Usage: "who joined and left since the section was first read, newest first",
				},
			},
			Description: "  kanban sections roster PROP-A --at 2026-10-01\n  kanban sections roster PROP-A --movements",
		}}, linkCommands()),
	}
}

func sectionRoster(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	s, err := findPart(ctx, c, args[0])
	if err != nil {
		return err
	}
	path := "/sections/" + s.ID + "/roster?at=" + url.QueryEscape(cmd.String("at"))
	if cmd.Bool("movements") {
		path = "/sections/" + s.ID + "/movements"
	}
	page, err := client.Get[api.Page[api.RosterLine]](ctx, c, path)
	if err != nil {
		return err
	}
	return tableOf(page.Items, "Nobody.", []string{"person", "role", "identifier", "joined", "left"},
		func(l api.RosterLine) []string {
			return []string{l.Name, l.Role, l.Identifier, moment(&l.JoinedAt), moment(l.LeftAt)}
		}).print(cmd)
}

// sayHidden tells what a list left out.
func sayHidden(cmd *cli.Command, left []api.HiddenCount) {
	for _, l := range left {
		if l.Count > 0 && cmd.String("hidden") == "" {
			say(cmd, "%d hidden: %s. See them: kanban sections list --hidden %q", l.Count, l.Name, l.Name)
		}
	}
}

func hidingRules(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	rules, err := client.Get[[]visibility.SectionRule](ctx, c, "/sections/hidden")
	if err != nil {
		return err
	}
	changed := false
	for _, name := range cmd.StringSlice("drop") {
		was := len(rules)
		rules = slices.DeleteFunc(rules, func(r visibility.SectionRule) bool {
			return strings.EqualFold(r.Name,
				name)
		})
		if changed = true; was == len(rules) {
			return fmt.Errorf("%w: there is no rule %q", errUsage, name)
		}
	}
	for _, text := range cmd.StringSlice("add") {
		r, err := parseHidingRule(text)
		if err != nil {
			return err
		}
		rules, changed = append(rules, r), true
	}
	if changed {
		if rules, err = client.Send[[]visibility.SectionRule](ctx, c, http.MethodPut, "/sections/hidden",
			rules); err != nil {
			return err
		}
	}
	return tableOf(rules, "Nothing is hidden.", []string{"rule", "hides"}, func(r visibility.SectionRule) []string {
		return []string{r.Name, hidingWords(r)}
	}).print(cmd)
}

func hidingWords(r visibility.SectionRule) string {
	parts := given(condition{"course code", r.CourseCode}, condition{"title", r.Title},
		condition{"class type", r.ClassType})
	if r.Empty {
		parts = append(parts, "no learners")
	}
	if r.OtherTerms {
		parts = append(parts, "its terms do not run today")
	}
	return strings.Join(parts, " and ")
}

// condition is what a person or section must have, "" for whatever.
type condition struct{ name, value string }

// given says each named condition that has a value.
func given(conditions ...condition) (parts []string) {
	for _, c := range conditions {
		if c.value != "" {
			parts = append(parts, c.name+" "+c.value)
		}
	}
	return parts
}

// parseHidingRule reads NAME:CONDITION=VALUE,CONDITION.
func parseHidingRule(text string) (visibility.SectionRule, error) {
	name, rest, _ := strings.Cut(text, ":")
	r := visibility.SectionRule{Name: strings.TrimSpace(name)}
	for _, part := range strings.Split(rest, ",") {
		condition, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		switch condition {
		case "course-code":
			r.CourseCode = value
		case "title":
			r.Title = value
		case "class-type":
			r.ClassType = value
		case "empty":
			r.Empty = true
		case "other-terms":
			r.OtherTerms = true
		default:
			return r, fmt.Errorf("%w: --add %q: %q is no condition", errUsage, text, condition)
		}
	}
	return r, nil
}
