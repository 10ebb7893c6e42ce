package rules

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/rulestore"
)

// check reports the first thing that would keep the rule from working.
func (s *Service) check(ctx context.Context, d *rule.Draft) error {
	if d.Name = strings.TrimSpace(d.Name); d.Name == "" {
		return refusal.Invalid("name", "is missing: say what the rule is for")
	}
	if !slices.Contains(rule.Triggers, rule.Trigger(d.Trigger)) {
		return refusal.Invalid("trigger", "%q is not one of %s", d.Trigger, joined(rule.Triggers))
	}
	switch d.Counts {
	case rule.EveryResult, rule.LatestResult, rule.BestResult, rule.FirstResult:
	default:
		return refusal.Invalid("counts", "%q is not one of latest, best, first", d.Counts)
	}
	if d.Counts != rule.EveryResult && !rule.IsResult(rule.Trigger(d.Trigger)) {
		return refusal.Invalid("counts", "only rules about assessments passed or failed can say which result counts")
	}
	for _, t := range d.UndoneBy {
		if !slices.Contains(rule.Triggers, rule.Trigger(t)) || t == d.Trigger {
			return refusal.Invalid("undoneBy", "%q is not another one of %s", t, joined(rule.Triggers))
		}
	}
	if err := s.checkScope(ctx, d.Scope); err != nil {
		return err
	}
	waits := rule.Trigger(d.Trigger).Waits()
	if waits && (d.Days < 1 || d.Days > 365) {
		return refusal.Invalid("days", "say after how many days without activity, 1 to 365")
	}
	if !waits && d.Days != 0 {
		return refusal.Invalid("days", "only goes with %s and %s", rule.PersonInactive, rule.PersonNotBegun)
	}
	domains, err := s.domains(ctx, d)
	if err != nil {
		return err
	}
	if err := s.checkCondition(d.Condition, d.Trigger, domains); err != nil {
		return refusal.Invalid("condition", "%v", err)
	}
	if err := s.checkCondition(d.Stop, d.Trigger, domains); err != nil {
		return refusal.Invalid("stop", "%v", err)
	}
	if err := d.QuietHours.Check(); err != nil {
		return refusal.Invalid("quietHours", "%v", err)
	}
	if err := d.Limit.Check(); err != nil {
		return refusal.Invalid("limit", "%v", err)
	}
	if len(d.Actions) == 0 {
		return refusal.Invalid("actions", "names nothing to do; add at least one action")
	}
	for i, a := range d.Actions {
		if err := s.checkCondition(a.If, d.Trigger, domains); err != nil {
			return refusal.Invalid(fmt.Sprintf("actions[%d].if", i), "%v", err)
		}
		if err := s.checkAction(ctx, a, d.Trigger, fmt.Sprintf("actions[%d]", i)); err != nil {
			return err
		}
	}
	return nil
}

// checkScope reports a course or a section that is not there. A module or an activity
// may come into an outline later; the rule's checklist says when none has it.
func (s *Service) checkScope(ctx context.Context, scope rule.Scope) error {
	places, err := rulestore.TitlesOfScopes(ctx, s.Store, []rule.Scope{scope})
	switch {
	case err != nil:
		return err
	case scope.Course != "" && places[0].Course == "":
		return refusal.Invalid("scope.course", "there is no course %q; see which there are: kanban courses list",
			scope.Course)
	case scope.Section != "" && places[0].Section == "":
		return refusal.Invalid("scope.section", "there is no section %q; see which there are: kanban sections list",
			scope.Section)
	}
	return nil
}

// checkCondition reports why a text is no condition over the trigger's events, or one that
// can never hold.
func (s *Service) checkCondition(text, trigger string, domains map[string]rule.Domain) error {
	if err := s.Expressions.CheckCondition(text); err != nil {
		return err
	}
	if err := s.Expressions.CheckNames(text, rule.Trigger(trigger)); err != nil {
		return err
	}
	return s.Expressions.CheckPossible(text, rule.Trigger(trigger), domains)
}

// domains are which values the events that a rule is about can have.
func (s *Service) domains(ctx context.Context, d *rule.Draft) (map[string]rule.Domain, error) {
	out := rule.Domains(rule.Trigger(d.Trigger))
	switch rule.Trigger(d.Trigger) {
	case rule.PersonInactive, rule.PersonNotBegun:
		out["event.days"] = rule.Domain{
			OneOf: []any{int64(d.Days)},
			About: fmt.Sprintf("event.days is %d, as the rule says", d.Days),
		}
	case rule.ProgressCrossed:
		crossings, err := learningstore.Crossings(ctx, s.Store, d.Scope.Course, d.Scope.Section)
		if err != nil {
			return nil, err
		}
		var all []any
		for _, n := range crossings {
			all = append(all, int64(n))
		}
		about := strings.ReplaceAll(strings.Trim(fmt.Sprint(crossings), "[]"), " ", ", ")
		out["event.percent"] = rule.Domain{
			OneOf: all,
			About: "event.percent is one of " + about + " here; other percentages are chosen in the outline of the course",
		}
	}
	return out, nil
}

// checkValue reports why a text is no mapping over the trigger's events.
func (s *Service) checkValue(text, trigger string) error {
	if strings.TrimSpace(text) == "" {
		return fmt.Errorf("%w: it is empty; write \"\" for an empty text", rule.ErrExpression)
	}
	if err := s.Expressions.CheckValue(text); err != nil {
		return err
	}
	return s.Expressions.CheckNames(text, rule.Trigger(trigger))
}

// CheckText reports why a text cannot be what it is meant to be, over the events of a
// trigger: a condition, a value or a template. It is asked while somebody types.
func (s *Service) CheckText(kind, text, trigger string) error {
	switch kind {
	case "condition":
		return s.checkCondition(text, trigger, rule.Domains(rule.Trigger(trigger)))
	case "template":
		if err := rule.CheckText(text); err != nil {
			return err
		}
		if rule.Trigger(trigger) == rule.ServiceReported {
			return nil // what the service sends cannot be known beforehand
		}
		_, err := rule.Fill(text, withAward(rule.Sample(rule.Trigger(trigger))))
		return err
	}
	return s.checkValue(text, trigger)
}

// SampleOf gives what a text comes to for an event, or for a made-up one without an id;
// empty when that cannot be told.
func (s *Service) SampleOf(ctx context.Context, kind, text, trigger, eventID string) (string, error) {
	values := rule.Sample(rule.Trigger(trigger))
	if eventID != "" {
		_, real, err := s.sample(ctx, rulestore.Rule{Trigger: trigger}, TrialRequest{EventID: eventID})
		if err != nil {
			return "", err
		}
		values = real
	}
	values = withAward(values)
	if kind == "template" {
		out, _ := rule.Fill(text, values)
		return out, nil
	}
	if strings.TrimSpace(text) == "" {
		return "", nil
	}
	out, err := s.Expressions.Value(text, values)
	if err != nil {
		return "", nil
	}
	return fmt.Sprint(out), nil
}

// withAward adds what an earlier action may have awarded.
func withAward(v rule.Values) rule.Values {
	v["award"] = map[string]any{
		"awardId": "01a20932",
		"address": "https://kanban.fernmoor.example/open/awards/01a20932",
	}
	return v
}

func joined[T ~string](all []T) string {
	parts := make([]string, len(all))
	for i, x := range all {
		parts[i] = string(x)
	}
	return strings.Join(parts, ", ")
}

func (s *Service) checkAction(ctx context.Context, a rule.Action, trigger, at string) error {
	for name, text := range map[string]string{"after": a.After, "dueIn": a.DueIn} {
		if _, err := rule.Span(text); err != nil {
			return refusal.Invalid(at+"."+name, "%v", err)
		}
	}
	for _, group := range []struct {
		name   string
		fields map[string]string
	}{{"fields", a.Fields}, {"undoFields", a.UndoFields}} {
		for _, name := range slices.Sorted(maps.Keys(group.fields)) {
			if err := s.checkValue(group.fields[name], trigger); err != nil {
				return refusal.Invalid(at+"."+group.name+"."+name, "%v", err)
			}
		}
	}
	for name := range a.Fallbacks {
		if _, there := a.Fields[name]; !there {
			return refusal.Invalid(at+".fallbacks."+name, "there is no field of this name")
		}
	}
	switch a.Kind {
	case rule.SendEvent:
		return s.checkInterface(ctx, a.InterfaceID, at, adapter.KindWebhook)
	case rule.Mail:
		if err := s.checkInterface(ctx, a.InterfaceID, at, adapter.KindSMTP); err != nil {
			return err
		}
		if a.To != "" {
			if err := s.checkValue(a.To, trigger); err != nil {
				return refusal.Invalid(at+".to", "%v", err)
			}
		}
		return s.checkTexts(at, trigger, text3{"subject", a.Subject, true}, text3{"text", a.Text, true})
	case rule.Award:
		if _, err := badgestore.FindBadge(ctx, s.Store, a.BadgeID); errors.Is(err, db.ErrNotFound) {
			return refusal.Invalid(at+".badgeId", "there is no badge %q; see which there are: kanban badges list",
				a.BadgeID)
		} else if err != nil {
			return err
		}
		return nil
	case rule.CallOperation:
		return s.checkOperate(ctx, a, at)
	case rule.Enrol, rule.Unenrol:
		if err := s.checkInterface(ctx, a.InterfaceID, at, adapter.KindSCIM, adapter.KindPickup); err != nil {
			return err
		}
		return s.checkSection(ctx, a.SectionID, at)
	case rule.AddToGroup, rule.TakeFrom:
		if err := s.checkInterface(ctx, a.InterfaceID, at, adapter.KindSCIM); err != nil {
			return err
		}
		return s.checkTexts(at, trigger, text3{"group", a.Group, true})
	case rule.OpenTask:
		if a.Owner != "" && !strings.Contains(a.Owner, "@") {
			return refusal.Invalid(at+".owner", "%q is not an e-mail address", a.Owner)
		}
		return s.checkTexts(at, trigger, text3{"subject", a.Subject, true}, text3{"text", a.Text, false})
	case rule.AppendRow:
		if strings.TrimSpace(a.Sheet) == "" || len(a.Sheet) > 60 || strings.ContainsAny(a.Sheet, `/\`) {
			return refusal.Invalid(at+".sheet", "needs a name of up to 60 characters without a slash")
		}
		if len(a.Fields) == 0 {
			return refusal.Invalid(at+".fields", "names no column; add at least one")
		}
		return nil
	}
	return refusal.Invalid(at+".kind", "%q is not one of %s", a.Kind, strings.Join(rule.Kinds, ", "))
}

// text3 is a template of an action.
type text3 struct {
	name, text string
	needed     bool
}

func (s *Service) checkTexts(at, trigger string, all ...text3) error {
	for _, t := range all {
		if strings.TrimSpace(t.text) == "" && t.needed {
			return refusal.Invalid(at+"."+t.name, "is missing")
		}
		if err := s.CheckText("template", t.text, trigger); err != nil {
			return refusal.Invalid(at+"."+t.name, "%v", err)
		}
	}
	return nil
}

func (s *Service) checkOperate(ctx context.Context, a rule.Action, at string) error {
	if err := s.checkInterface(ctx, a.InterfaceID, at, adapter.KindHTTP); err != nil {
		return err
	}
	o, err := connectionstore.FindOperation(ctx, s.Store, a.InterfaceID, a.Operation)
	if errors.Is(err, db.ErrNotFound) {
		return refusal.Invalid(at+".operation",
			"the interface defines no operation %q; see which there are: kanban operations list", a.Operation)
	}
	if err != nil {
		return err
	}
	for _, f := range o.Fields {
		if _, there := a.Fields[f.Name]; f.Required && !there {
			return refusal.Invalid(at+".fields."+f.Name, "the operation needs this value")
		}
	}
	for name := range a.Fields {
		if !slices.ContainsFunc(o.Fields, func(f rule.OperationField) bool { return f.Name == name }) {
			return refusal.Invalid(at+".fields."+name, "the operation has no such value")
		}
	}
	return nil
}

func (s *Service) checkSection(ctx context.Context, id, at string) error {
	if id == "" {
		return nil
	}
	x, err := rosterstore.FindSection(ctx, s.Store, id)
	if err == nil && x.List != "" {
		return refusal.Invalid(at+".sectionId", "%s is a list of people: nothing happens in it; choose a section",
			x.Title)
	}
	if errors.Is(err, db.ErrNotFound) {
		return refusal.Invalid(at+".sectionId", "there is no section %q; see which there are: kanban sections list", id)
	}
	return err
}

func (s *Service) checkInterface(ctx context.Context, id, at string, kinds ...string) error {
	c, err := connectionstore.FindInterface(ctx, s.Store, id)
	if errors.Is(err, db.ErrNotFound) {
		return refusal.Invalid(at+".interfaceId",
			"there is no interface %q; see which there are: kanban interfaces list", id)
	}
	if err == nil && !slices.Contains(kinds, c.Kind) {
		return refusal.Invalid(at+".interfaceId", "%s is of kind %s, this action needs one of kind %s", c.Name,
			c.Kind, strings.Join(kinds, " or "))
	}
	return err
}
