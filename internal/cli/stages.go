package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"kanban/internal/client"
	"kanban/internal/core/stage"
	"kanban/internal/wire/api"
)

// readStage reads TITLE: CRITERION; CRITERION.
func readStage(ctx context.Context, c *client.Client, course api.Course, text string) (s stage.Stage, err error) {
	title, rest, ok := strings.Cut(text, ":")
	if s.Title = strings.TrimSpace(title); !ok || s.Title == "" {
		return s, fmt.Errorf("%w: --stage %q is not of the form TITLE: CRITERION; CRITERION", errUsage, text)
	}
	for part := range strings.SplitSeq(rest, ";") {
		criterion, err := readCriterion(ctx, c, course, strings.TrimSpace(part))
		if err != nil {
			return s, err
		}
		s.Criteria = append(s.Criteria, criterion)
	}
	return s, nil
}

func readCriterion(ctx context.Context, c *client.Client, course api.Course, text string) (stage.Criterion, error) {
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
	case out.Kind == stage.Badge:
		b, err := findBadge(ctx, c, rest)
		out.BadgeID = b.ID
		return out, err
	case out.Kind != stage.Module && out.Kind != stage.Score:
		return out, fmt.Errorf("%w: %q is no criterion; write module …, course, score … PERCENT or badge …", errUsage, text)
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
