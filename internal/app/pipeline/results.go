package pipeline

import (
	"context"

	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rulestore"
)

// results looks up, within a transaction, which results of assessments count for rules.
type results struct {
	tx    *db.Tx
	rules map[string]rulestore.Rule
	seen  map[string][]rule.Result // by person, section and activity
}

// hold reports whether, after a pass or fail, what counts for a rule is the result that sets
// it off.
func (x results) hold(ctx context.Context, e eventstore.Event, ruleID string) (bool, error) {
	r, ok := x.rules[ruleID]
	counts := r.Draft().ResultThatCounts()
	if !ok || counts == rule.EveryResult {
		return true, nil
	}
	key := *e.PersonID + "/" + text(e.SectionID) + "/" + e.ActivityID
	if _, known := x.seen[key]; !known {
		all, err := eventstore.Results(ctx, x.tx, e)
		if err != nil {
			return false, err
		}
		x.seen[key] = all
	}
	return counts.Holds(rule.Trigger(r.Trigger), x.seen[key]), nil
}

// counting leaves out what does not count for a rule: what follows from a fail, say, that
// came to be known after a later pass. It locks nothing: results of one person in one
// section are recorded one after the other, with their progress.
func (s *Deliveries) counting(ctx context.Context, tx *db.Tx, r reactions) (reactions, error) {
	if len(r.results) == 0 {
		return r, nil
	}
	x := results{tx, r.rules, map[string][]rule.Result{}}
	for i := range r.made {
		d := &r.made[i]
		e, ok := r.results[d.EventID]
		if !ok || d.RuleID == nil {
			continue
		}
		yes, err := x.hold(ctx, e, *d.RuleID)
		if err != nil {
			return r, err
		}
		if !yes {
			at := s.Clock.Now()
			d.State, d.Code, d.OnceKey, d.FinishedAt = deliverystore.DeliverySkipped,
				string(finding.OtherResultCounts), nil, &at
			d.LastError = "another result of the assessment counts for the rule"
		}
	}
	undo := make([]matched, 0, len(r.undo))
	for _, m := range r.undo {
		if e, ok := r.results[m.event.ID]; ok {
			var left []rule.Rule
			for _, match := range m.undone {
				trigger := rule.Trigger(r.rules[match.ID].Trigger)
				stays := false // what the rule did, because its result counts all the same
				if rule.IsResult(trigger) && trigger != rule.Trigger(e.Type) {
					var err error
					if stays, err = x.hold(ctx, e, match.ID); err != nil {
						return r, err
					}
				}
				if !stays {
					left = append(left, match)
				}
			}
			m.undone = left
		}
		undo = append(undo, m)
	}
	r.undo = undo
	return r, nil
}
