package findings

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/core/rule"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rulestore"
)

// looked is how many of somebody's events a rule is held against, the newest first.
const looked = 20

// whyRule answers whether a rule has done for somebody what it does.
func (s *Service) whyRule(ctx context.Context, personID, id string, within *permission.Reach, a *Answer) error {
	if within != nil || uuid.Validate(id) != nil {
		return notThere("rule")
	}
	r, err := rulestore.FindRule(ctx, s.Store, id)
	if err != nil {
		return err
	}
	a.Thing.Title = r.Name
	return s.ruleSteps(ctx, personID, r, a)
}

// whyAwardedByRule answers by the rule that awards a badge and got furthest.
func (s *Service) whyAwardedByRule(ctx context.Context, personID, badgeID string, within *permission.Reach,
	a *Answer,
) error {
	all, err := rulestore.Rules(ctx, s.Store)
	if err != nil {
		return err
	}
	best := Answer{}
	for _, r := range all {
		if !awards(r, badgeID) {
			continue
		}
		one := Answer{}
		if err := s.ruleSteps(ctx, personID, r, &one); err != nil {
			return err
		}
		if len(one.Steps) > len(best.Steps) {
			best = one
		}
	}
	switch {
	case len(best.Steps) == 0:
		a.ends(WhyStep{
			Needed: "Somebody awards it", Found: "no rule awards it, and nobody has by hand",
			Owner: string(finding.OwnerAdministrator), Remedy: "Award it by hand, or write a rule that does.",
		})
		a.Again = "when somebody awards it"
	case within != nil: // rules are for those who see the whole institution
		a.ends(WhyStep{
			Needed: "A rule awards it", Found: "none has", Owner: string(finding.OwnerAdministrator),
			Remedy: "Ask an administrator why the rule has not.",
		})
	default:
		a.Steps, a.Again, a.AgainAt = append(a.Steps, best.Steps...), best.Again, best.AgainAt
	}
	return nil
}

// awards reports whether a rule awards a badge.
func awards(r rulestore.Rule, badgeID string) bool {
	for _, x := range r.Actions {
		if x.Kind == rule.Award && x.BadgeID == badgeID {
			return true
		}
	}
	return false
}

// ruleSteps adds what a rule needs: that it is on, that what sets it off has happened to somebody, that its condition
// holds, and that its actions have arrived.
func (s *Service) ruleSteps(ctx context.Context, personID string, r rulestore.Rule, a *Answer) error {
	a.Again = "when it happens next"
	done, err := deliverystore.Deliveries(ctx, s.Store, deliverystore.DeliveryFilter{
		RuleID: r.ID, PersonID: personID, Limit: looked,
	})
	if err != nil {
		return err
	}
	on := fmt.Sprintf("The rule %q is on", r.Name)
	if r.OnSince != nil {
		a.met(on, "it is", r.OnSince)
	} else if len(done) == 0 {
		a.ends(WhyStep{
			Needed: on, Found: "it is off", Owner: string(finding.OwnerAdministrator),
			Remedy: "Switch it on.",
		})
		a.Again = "when it is switched on"
		return nil
	}
	if len(done) > 0 {
		s.delivered(done, a)
		return nil
	}
	return s.notSetOff(ctx, personID, r, a)
}

// notSetOff says why a rule that is on has made nothing for somebody.
func (s *Service) notSetOff(ctx context.Context, personID string, r rulestore.Rule, a *Answer) error {
	needed := "It happened: " + strings.ToLower(rule.Trigger(r.Trigger).Name())
	events, err := eventstore.Events(ctx, s.Store, eventstore.EventFilter{
		Type: r.Trigger, PersonID: personID, Scope: r.Scope, Limit: looked,
	})
	if err != nil {
		return err
	}
	if len(events) == 0 {
		elsewhere, err := eventstore.Events(ctx, s.Store, eventstore.EventFilter{
			Type: r.Trigger, PersonID: personID, Limit: 1,
		})
		if err != nil {
			return err
		}
		found := "it has not happened to them"
		if len(elsewhere) > 0 {
			found = "it has happened to them only where the rule does not look"
		}
		a.ends(WhyStep{Needed: needed, Found: found})
		return nil
	}
	e := events[0]
	where := strings.Trim(strings.Join([]string{e.Section, e.Module, e.Activity}, ", "), ", ")
	a.met(needed, where, &e.RecordedAt)
	if e.RecordedAt.Before(*r.OnSince) {
		a.ends(WhyStep{
			Needed: "It happened after the rule was switched on", Found: "the rule is on since " +
				r.OnSince.Format(time.RFC3339), At: &e.RecordedAt, Owner: string(finding.OwnerAdministrator),
			Remedy: "Let the rule catch up with what happened before, if it is to count.",
		})
		return nil
	}
	if r.Condition != "" {
		holds, values, err := s.Conditions.Verdict(ctx, e.Event, r.Condition)
		needed := "The condition holds: " + r.Condition
		switch {
		case err != nil:
			a.ends(explained(WhyStep{Needed: needed, Found: "it cannot be worked out: " + err.Error()}, finding.ConditionRefused))
			return nil
		case !holds:
			a.ends(WhyStep{Needed: needed, Found: "it does not: " + values})
			return nil
		}
		a.met(needed, values, nil)
	}
	found := "nothing was made of it"
	if r.Counts != "" {
		found += "; of several results, the rule counts " + string(r.Counts)
	}
	a.ends(WhyStep{Needed: "The rule was set off", Found: found})
	return nil
}

// delivered says what became of what a rule made for somebody: of the newest event, action by action.
func (s *Service) delivered(all []deliverystore.ListedDelivery, a *Answer) {
	var newest []deliverystore.ListedDelivery
	for _, d := range all {
		if d.EventID == all[0].EventID && d.Undoes == nil {
			newest = append([]deliverystore.ListedDelivery{d}, newest...)
		}
	}
	a.met("What sets it off has happened", rule.Trigger(all[0].EventType).Name(), &all[0].CreatedAt)
	for _, d := range newest {
		at := ""
		if d.Interface != "" {
			at = " at " + d.Interface
		}
		needed := strings.ReplaceAll(d.Action.Kind, "-", " ") + at
		step := WhyStep{Needed: needed, At: d.DueAt, Found: d.State}
		switch {
		case d.Reverted:
			step.Found, step.At = "it was done, and reverted later", d.FinishedAt
		case d.State == deliverystore.DeliveryDelivered:
			a.met(needed, "done", d.FinishedAt)
			a.At = d.FinishedAt
			continue
		case d.State == deliverystore.DeliverySkipped: // the others go on
			a.met(needed, "left out: its own condition did not hold when its time came", d.FinishedAt)
			continue
		case d.State == deliverystore.DeliveryStopped:
			step.Found, step.At = "it was stopped: the rule's stop condition held, or it was undone", d.FinishedAt
		case d.State == deliverystore.DeliveryWaiting:
			step = explained(step, finding.Code(d.Code))
			step.Found = "it failed for good: " + d.LastError
		case d.State == deliverystore.DeliveryRetrying:
			step = explained(step, finding.Code(d.Code))
			step.Found, a.Again, a.AgainAt = "it failed and is tried again: "+d.LastError, "when it is tried again", d.NextAt
		default:
			a.Again, a.AgainAt = "when its time has come", cmp.Or(d.NextAt, d.DueAt)
			if step.Found = "it is to come"; d.HeldNow != "" || d.Held != "" {
				step.Found = "it waits: " + strings.ReplaceAll(d.Held+d.HeldNow, "-", " ")
			}
		}
		a.ends(step)
		return
	}
	a.Happened = true
}
