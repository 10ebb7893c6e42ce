// Package reacting turns facts into events and events, by rules, into deliveries.
package reacting

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/wire/call"
)

// Service is the use case. Fill every field but Expressions.
type Service struct {
	Store *store.Store
	// Open gives a connection with its secrets.
	Open func(ctx context.Context, connectionID string) (adapter.Connection, error)
	// Award gives a badge and the address of its page.
	Award func(ctx context.Context, badgeID string, event store.Event, at time.Time) (award store.Award, address string, err error)
	// Source is this installation's address, named as the source of events.
	Source string
	Call   call.Options
	// Delays between the attempts of a delivery; DefaultDelays when nil.
	Delays []time.Duration

	Expressions *rule.Expressions
}

// Draft is a rule as it is written.
type Draft struct {
	Name      string
	Trigger   string
	Scope     rule.Scope
	Condition string
	Actions   []store.Action
	Once      bool
}

// Save makes a rule (id empty) or changes one. A new rule is off.
func (s *Service) Save(ctx context.Context, who, id string, version int, d Draft) (store.Rule, error) {
	r := store.Rule{ID: store.NewID(), Version: 1}
	if id != "" {
		var err error
		if r, err = s.Store.Rule(ctx, id); err != nil {
			return r, err
		}
		if version != 0 && version != r.Version {
			return r, fmt.Errorf("changing the rule: %w", store.ErrStale)
		}
	}
	if err := s.check(ctx, &d); err != nil {
		return r, err
	}
	r.Name, r.Trigger, r.Scope, r.Condition, r.Actions, r.Once = d.Name, d.Trigger, d.Scope, d.Condition, d.Actions, d.Once
	err := s.Store.InTx(ctx, func(tx *store.Tx) error {
		write, what := func() error { return store.Create(tx, &r, "making the rule") }, "made a rule"
		if id != "" {
			write, what = func() error { return tx.UpdateRule(&r) }, "changed a rule"
		}
		if err := write(); err != nil {
			return err
		}
		return s.announce(ctx, tx, who, what, r)
	})
	if errors.Is(err, store.ErrTaken) {
		return r, refusal.Invalid("name", "another rule is called %q already; choose another name", d.Name)
	}
	return r, err
}

// Switch puts a rule on or off. Events recorded while it was off are not caught up.
func (s *Service) Switch(ctx context.Context, who, id string, on bool) (store.Rule, error) {
	r, err := s.Store.Rule(ctx, id)
	if err != nil || (r.OnSince != nil) == on {
		return r, err
	}
	what := "switched a rule off"
	r.OnSince = nil
	if on {
		d := Draft{r.Name, r.Trigger, r.Scope, r.Condition, r.Actions, r.Once}
		if err := s.check(ctx, &d); err != nil {
			return r, err
		}
		at := time.Now().UTC()
		r.OnSince, what = &at, "switched a rule on"
	}
	return r, s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.UpdateRule(&r); err != nil {
			return err
		}
		return s.announce(ctx, tx, who, what, r)
	})
}

func (s *Service) announce(ctx context.Context, tx *store.Tx, who, what string, r store.Rule) error {
	detail := map[string]any{"name": r.Name, "trigger": r.Trigger, "condition": r.Condition, "on": r.OnSince != nil}
	if err := tx.Audit(ctx, who, what, "rule/"+r.ID, detail); err != nil {
		return err
	}
	return tx.Announce(ctx, "rule", r.ID)
}

// check reports the first thing that would keep the rule from working.
func (s *Service) check(ctx context.Context, d *Draft) error {
	if d.Name = strings.TrimSpace(d.Name); d.Name == "" {
		return refusal.Invalid("name", "is missing: say what the rule is for")
	}
	if !slices.Contains(rule.Triggers, rule.Trigger(d.Trigger)) {
		return refusal.Invalid("trigger", "%q is not one of %s", d.Trigger, joined(rule.Triggers))
	}
	if err := s.Expressions.CheckCondition(d.Condition); err != nil {
		return refusal.Invalid("condition", "%v", err)
	}
	if len(d.Actions) == 0 {
		return refusal.Invalid("actions", "names nothing to do; add at least one action")
	}
	for i, a := range d.Actions {
		if err := s.checkAction(ctx, a, fmt.Sprintf("actions[%d]", i)); err != nil {
			return err
		}
	}
	return nil
}

func joined[T ~string](all []T) string {
	parts := make([]string, len(all))
	for i, x := range all {
		parts[i] = string(x)
	}
	return strings.Join(parts, ", ")
}

func (s *Service) checkAction(ctx context.Context, a store.Action, at string) error {
	switch a.Kind {
	case store.ActionSend:
		if err := s.checkConnection(ctx, a.ConnectionID, adapter.KindWebhook, at); err != nil {
			return err
		}
		for name, text := range a.Fields {
			if err := s.Expressions.CheckValue(text); err != nil {
				return refusal.Invalid(at+".fields."+name, "%v", err)
			}
		}
	case store.ActionMail:
		if err := s.checkConnection(ctx, a.ConnectionID, adapter.KindSMTP, at); err != nil {
			return err
		}
		if a.To != "" {
			if err := s.Expressions.CheckValue(a.To); err != nil {
				return refusal.Invalid(at+".to", "%v", err)
			}
		}
		for name, text := range map[string]string{"subject": a.Subject, "text": a.Text} {
			if strings.TrimSpace(text) == "" {
				return refusal.Invalid(at+"."+name, "is missing")
			}
			if err := rule.CheckText(text); err != nil {
				return refusal.Invalid(at+"."+name, "%v", err)
			}
		}
	case store.ActionAward:
		if _, err := s.Store.Badge(ctx, a.BadgeID); errors.Is(err, store.ErrNotFound) {
			return refusal.Invalid(at+".badgeId", "there is no badge %q; list them with: kanban badges list", a.BadgeID)
		} else if err != nil {
			return err
		}
	default:
		return refusal.Invalid(at+".kind", "%q is not one of send, mail, award", a.Kind)
	}
	return nil
}

func (s *Service) checkConnection(ctx context.Context, id, kind, at string) error {
	c, err := s.Store.Connection(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return refusal.Invalid(at+".connectionId", "there is no connection %q; list them with: kanban connections list", id)
	}
	if err == nil && c.Kind != kind {
		return refusal.Invalid(at+".connectionId", "%s is of kind %s, this action needs one of kind %s", c.Name, c.Kind, kind)
	}
	return err
}
