// Package rules keeps rules: it checks them, tries them out, looks back, and says what they
// need that is not there. What happens by them is the pipeline's.
package rules

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/app/pipeline"
	"kanban/internal/core/clock"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
	"kanban/internal/store/rulestore"
	"kanban/internal/wire/call"
)

// Pipeline is what trying a rule out shares with what happens by it.
type Pipeline interface {
	// Values gives what the texts of a rule may refer to, for an event.
	Values(ctx context.Context, e eventstore.Event, texts ...string) (rule.Values, error)
	// Prepare fills a delivery's action in, so that it can be shown, checked or done.
	Prepare(ctx context.Context, d deliverystore.Delivery, e eventstore.Event, values rule.Values) (pipeline.Prepared,
		error)
	// Firing works out what rules make of events, without keeping it.
	Firing() *pipeline.Firing
	// ValuesThere lists the values that a service has for a field of an operation.
	ValuesThere(ctx context.Context, c adapter.Interface, f rule.OperationField) ([]string, error)
	// CallOperation calls an operation once, with values given by hand.
	CallOperation(ctx context.Context, c adapter.Interface, o rule.Operation,
		values map[string]any) (pipeline.Answer, error)
}

// Service is the use case. Fill every field up to Expressions.
type Service struct {
	Store       *db.Database
	Connections adapter.Opener
	Pipeline    Pipeline
	// Source is this installation's address, at which awards have their pages.
	Source      string
	Call        call.Options
	Clock       clock.Clock
	Expressions *rule.Expressions
}

// Save makes a rule (id empty) or changes one. A new rule is off.
func (s *Service) Save(ctx context.Context, who, id string, version int, d rule.Draft) (rulestore.Rule, error) {
	return s.save(ctx, who, id, version, d, FinishThem)
}

// Edit does the same with a rule that is there. When it gets other actions, what is still to
// come of the older ones is stopped or finished, as toCome says; with Ask it is refused while
// there is any.
func (s *Service) Edit(ctx context.Context, who, id string, version int, d rule.Draft, toCome ToCome) (rulestore.Rule,
	error,
) {
	r, err := rulestore.FindRule(ctx, s.Store, id)
	if err != nil {
		return r, err
	}
	if toCome == Ask && !same(r.Actions, d.Actions) {
		if err := s.askToCome(ctx, id); err != nil {
			return r, err
		}
	}
	return s.save(ctx, who, id, version, d, toCome)
}

// same reports whether two lists of actions read the same.
func same(a, b []rule.Action) bool {
	before, errBefore := json.Marshal(a)
	after, errAfter := json.Marshal(b)
	return errors.Join(errBefore, errAfter) == nil && bytes.Equal(before, after)
}

// askToCome refuses while deliveries of a rule are still to come.
func (s *Service) askToCome(ctx context.Context, id string) error {
	counts, err := deliverystore.StillToCome(ctx, s.Store, deliverystore.DeliveryFilter{RuleID: id})
	if err != nil {
		return err
	}
	if text := toComeInWords(counts); text != "" {
		return refusal.Conflict(finding.StillToCome,
			"deliveries of this rule are still to come: %s. Say whether to stop them or to let them finish", text)
	}
	return nil
}

func (s *Service) save(ctx context.Context, who, id string, version int, d rule.Draft, toCome ToCome) (rulestore.Rule,
	error,
) {
	r := rulestore.Rule{ID: db.NewID(), Version: 1}
	if id != "" {
		var err error
		if r, err = rulestore.FindRule(ctx, s.Store, id); err != nil {
			return r, err
		}
		if version != 0 && version != r.Version {
			return r, fmt.Errorf("changing the rule: %w", db.ErrStale)
		}
	}
	if err := s.check(ctx, &d); err != nil {
		return r, err
	}
	r.Write(d)
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		write, what := func() error { return db.Create(tx, &r, "making the rule") }, "made a rule"
		if id != "" {
			write, what = func() error { return rulestore.UpdateRule(tx, &r) }, "changed a rule"
		}
		if err := write(); err != nil {
			return err
		}
		if id != "" && toCome == StopThem {
			if _, _, err := deliverystore.GiveUp(ctx, tx, deliverystore.DeliveryFilter{RuleID: id},
				"the rule was changed by "+who); err != nil {
				return err
			}
		}
		if err := rulestore.KeepVersion(ctx, tx, r, who); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, jobs.AskNeeds{RuleID: r.ID}); err != nil {
			return err
		}
		return s.announce(ctx, tx, who, what, r)
	})
	if errors.Is(err, db.ErrTaken) {
		return r, refusal.Invalid("name", "another rule is called %q already; choose another name", d.Name)
	}
	return r, err
}

// Tried refuses a rule of which no trial was passed as it is now.
func (s *Service) Tried(ctx context.Context, id string) error {
	r, err := rulestore.FindRule(ctx, s.Store, id)
	if err != nil || r.TriedAt != nil || r.OnSince != nil {
		return err
	}
	return refusal.Conflict(finding.NotTried,
		"%q was not tried out as it is now; try it first, or switch it on all the same", r.Name)
}

// Switch puts a rule on or off. Events recorded while it was off are not caught up.
//
// What a rule that is switched off has still to come is stopped or finished, as toCome says; with
// Ask it is refused while there is any.
func (s *Service) Switch(ctx context.Context, who, id string, on bool, toCome ToCome) (rulestore.Rule, error) {
	r, err := rulestore.FindRule(ctx, s.Store, id)
	if err != nil || (r.OnSince != nil) == on {
		return r, err
	}
	its := deliverystore.DeliveryFilter{RuleID: id}
	if !on && toCome == Ask {
		if err := s.askToCome(ctx, id); err != nil {
			return r, err
		}
	}
	what := "switched a rule off"
	r.OnSince = nil
	if on {
		d := r.Draft()
		if err := s.check(ctx, &d); err != nil {
			return r, err
		}
		at := s.Clock.Now()
		r.OnSince, what = &at, "switched a rule on"
		if r.FirstOnAt == nil {
			r.FirstOnAt = &at
		}
	}
	return r, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := rulestore.UpdateRule(tx, &r); err != nil {
			return err
		}
		if !on && toCome == StopThem {
			if _, _, err := deliverystore.GiveUp(ctx, tx, its, "the rule was switched off by "+who); err != nil {
				return err
			}
		}
		if err := rulestore.KeepVersion(ctx, tx, r, who); err != nil {
			return err
		}
		return s.announce(ctx, tx, who, what, r)
	})
}

// ToCome says what becomes of what a rule has still to come when it is switched off or
// changed.
type ToCome string

// The choices.
const (
	Ask        ToCome = ""       // refuse, when there is any
	StopThem   ToCome = "stop"   // they are stopped
	FinishThem ToCome = "finish" // they are made
)

// toComeInWords says how many deliveries are still to come, "" for none.
func toComeInWords(counts map[string]int) string {
	var parts []string
	for _, x := range []struct{ state, words string }{
		{deliverystore.DeliveryPlanned, "planned"},
		{deliverystore.DeliveryQueued, "queued"},
		{deliverystore.DeliveryRetrying, "to be tried again"},
		{deliverystore.DeliveryWaiting, "waiting for a person"},
	} {
		if n := counts[x.state]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, x.words))
		}
	}
	return strings.Join(parts, ", ")
}

// Remove removes a rule that is off and never made a delivery; one that did is kept,
// because its deliveries lead to it.
func (s *Service) Remove(ctx context.Context, who, id string) error {
	r, err := rulestore.FindRule(ctx, s.Store, id)
	if err != nil {
		return err
	}
	if r.OnSince != nil {
		return refusal.Conflict("", "the rule is on; switch it off first")
	}
	made, err := deliverystore.Deliveries(ctx, s.Store, deliverystore.DeliveryFilter{RuleID: id, Limit: 1})
	if err != nil {
		return err
	}
	if len(made) > 0 {
		return refusal.Conflict("", "the rule has made deliveries, which lead to it; leave it switched off instead")
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := rulestore.RemoveRule(ctx, tx, id); err != nil {
			return err
		}
		return s.announce(ctx, tx, who, "removed a rule", r)
	})
}

func (s *Service) announce(ctx context.Context, tx *db.Tx, who, what string, r rulestore.Rule) error {
	detail := map[string]any{"name": r.Name, "trigger": r.Trigger, "condition": r.Condition, "on": r.OnSince != nil}
	if err := tx.Audit(ctx, who, what, "rule/"+r.ID, detail); err != nil {
		return err
	}
	return tx.Announce(ctx, "rule", r.ID)
}
