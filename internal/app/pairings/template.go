package pairings

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/naming"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/settingstore"
)

const templatesSetting = "templates"

// Template is how pairings are made: how their classes are called, and their
// policy. The first template is the institution's own choice for all that name none.
type Template struct {
	Name   string        `json:"name"`
	Target string        `json:"target"` // a template of core/naming
	Policy roster.Policy `json:"policy"`
	// Details are templates for what services want to know of a class, by name; what is not
	// here is what the register says.
	Details map[string]string `json:"details,omitempty"`
}

// Templates lists them, the institution's usual one first.
func (s *Service) Templates(ctx context.Context) ([]Template, error) {
	var list []Template
	ok, err := settingstore.FindSetting(ctx, s.Store, templatesSetting, &list)
	if err != nil || ok {
		return list, err
	}
	return []Template{{Name: "Usual", Target: naming.Usual, Policy: roster.DefaultPolicy()}}, nil
}

// SetTemplates replaces them. Pairings that were made before stay as they are.
func (s *Service) SetTemplates(ctx context.Context, who string, list []Template) error {
	if len(list) == 0 {
		return refusal.Invalid("templates", "keep at least one: the first is used where none is named")
	}
	names := map[string]bool{}
	for i, t := range list {
		key := naming.Key(t.Name)
		if key == "" || names[key] {
			return refusal.Invalid(fmt.Sprintf("%d.name", i), "template %d needs a name of its own", i+1)
		}
		names[key] = true
		if err := naming.Check(t.Target); err != nil {
			return refusal.Invalid(fmt.Sprintf("%d.target", i), "%v", err)
		}
		if err := CheckDetails(t.Details); err != nil {
			return err
		}
		for name, text := range t.Details {
			if err := naming.CheckFields(text); err != nil {
				return refusal.Invalid(fmt.Sprintf("%d.details.%s", i, name), "%v", err)
			}
		}
		if err := CheckPolicy(t.Policy); err != nil {
			return err
		}
	}
	before, err := s.Templates(ctx)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, templatesSetting, list); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "changed the templates", "templates",
			map[string]any{"before": before, "after": list}); err != nil {
			return err
		}
		return tx.Announce(ctx, "section", "")
	})
}

// Names says what a template would call the classes of all sections that lists show.
func (s *Service) Names(ctx context.Context, target string) (naming.Naming, error) {
	list, err := s.List(ctx, Filter{})
	if err != nil {
		return naming.Naming{}, err
	}
	var all []naming.Values
	var last string
	for _, c := range list.Cards {
		if c.Section.ID == last || c.Section.Gone {
			continue // paired twice, it stands twice
		}
		last = c.Section.ID
		all = append(all, values(c))
	}
	t, err := naming.Try(target, all)
	if err != nil {
		return t, refusal.Invalid("target", "%v", err)
	}
	return t, nil
}

// PolicyOf gives the policy of a template; of the usual one for an empty name.
func (s *Service) PolicyOf(ctx context.Context, name string) (roster.Policy, error) {
	list, err := s.Templates(ctx)
	if err != nil {
		return roster.Policy{}, err
	}
	t, err := template(list, name)
	return t.Policy, err
}

// template finds one by name; the first for an empty name.
func template(list []Template, name string) (Template, error) {
	i := slices.IndexFunc(list, func(t Template) bool { return name == "" || naming.Key(t.Name) == naming.Key(name) })
	if i < 0 {
		var names []string
		for _, t := range list {
			names = append(names, t.Name)
		}
		return Template{}, refusal.Invalid("template", "there is no template %q; there are: %s", name,
			strings.Join(names, ", "))
	}
	return list[i], nil
}

// FollowingName gives the name that a class gets when it goes from one section to another:
// that of the template by which it was named, for the new section. It is empty where the
// name stays, because it is the same or somebody gave it by hand.
func (s *Service) FollowingName(ctx context.Context, name string, from, to Card) (string, error) {
	list, err := s.Templates(ctx)
	if err != nil {
		return "", err
	}
	for _, t := range list {
		was, err := naming.Name(t.Target, values(from))
		if err != nil || naming.Key(was) != naming.Key(name) {
			continue
		}
		next, err := naming.Name(t.Target, values(to))
		if err != nil || naming.Key(next) == naming.Key(name) || len([]rune(next)) > pairingstore.MaxTargetName {
			return "", nil
		}
		return next, nil
	}
	return "", nil
}

func values(c Card) naming.Values {
	x := c.Section
	v := naming.Values{
		"level": x.Level, "subject": x.Subject, "section": c.Title(), "code": x.Code,
		"course": x.Course, "courseCode": x.CourseCode, "organisation": x.Org, "teacher": strings.Join(c.Teachers,
			", "),
	}
	if len(x.Terms) > 0 {
		v["term"] = x.Terms[0]
	}
	if x.BeginsOn != nil {
		v["starts"] = x.BeginsOn.Format(time.DateOnly)
	}
	if x.EndsOn != nil {
		v["ends"] = x.EndsOn.Format(time.DateOnly)
	}
	if c.Set != nil {
		var codes []string
		for _, o := range c.Set.Sections {
			codes = append(codes, o.Code)
		}
		v["code"] = strings.Join(codes, " + ")
	}
	return v
}

// mostDetail is how long a detail of a class may be.
const mostDetail = 200

// CheckDetails reports a detail that no class has.
func CheckDetails(details map[string]string) error {
	for name, text := range details {
		if !slices.ContainsFunc(workspaces.Details, func(d workspaces.Detail) bool { return d.Name == name }) {
			return refusal.Invalid("details", "%q is not one of level, subject, starts, ends", name)
		}
		if len([]rune(text)) > mostDetail {
			return refusal.Invalid("details."+name, "is longer than %d characters", mostDetail)
		}
	}
	return nil
}

// CheckPolicy reports the first value of a policy that cannot be.
func CheckPolicy(p roster.Policy) error {
	switch {
	case len(p.Roles) == 0:
		return refusal.Invalid("policy.roles",
			"names no role, so nobody would be carried; use student, teacher or both")
	case !slices.Contains([]roster.Leavers{roster.LeaversRemove, roster.LeaversDeactivate, roster.LeaversKeep},
		p.Leavers):
		return refusal.Invalid("policy.leavers", "%q is not one of remove, deactivate, keep", p.Leavers)
	case p.RemovalShare < 0 || p.RemovalShare > 1:
		return refusal.Invalid("policy.removalShare", "%v is not between 0 and 1", p.RemovalShare)
	case p.RemovalNumber < 0:
		return refusal.Invalid("policy.removalNumber", "%d is negative", p.RemovalNumber)
	}
	if err := p.Schedule.Check(); err != nil {
		return refusal.Invalid("policy.schedule", "%v", err)
	}
	return nil
}
