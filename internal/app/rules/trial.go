package rules

import (
	"context"
	"errors"
	"maps"
	"strings"
	"time"

	"kanban/internal/app/pipeline"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/settingstore"
)

// testRecipient is the setting under which the address for test sends is kept.
const testRecipient = "test-recipient"

// TestRecipient is where test sends go, empty when nobody has set it.
func (s *Service) TestRecipient(ctx context.Context) (address string, err error) {
	_, err = settingstore.FindSetting(ctx, s.Store, testRecipient, &address)
	return address, err
}

// SetTestRecipient says where test sends go.
func (s *Service) SetTestRecipient(ctx context.Context, who, address string) error {
	address = strings.TrimSpace(address)
	if local, domain, ok := strings.Cut(address, "@"); address != "" &&
		(!ok || local == "" || domain == "" || strings.ContainsAny(address, " ,;<>")) {
		return refusal.Invalid("address", "%q is not an e-mail address", address)
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, testRecipient, address); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "set the test recipient", "installation", map[string]string{"address": address})
	})
}

// TrialRequest says what a rule is tried out on.
type TrialRequest struct {
	// EventID of a real event; the latest that fits when empty, or a made-up one
	// when Made or when there is none.
	EventID string
	Made    bool
	// Send sends mails and events for real, to the test recipient.
	Send bool
	// Anyway sends even when the condition does not hold for the event.
	Anyway bool
}

// Trial is what a rule would have done.
type Trial struct {
	EventID   string // empty for a made-up one
	Event     map[string]any
	Person    string
	Condition string // "holds", "does not hold", or why it cannot be worked out
	Stops     string // the same for the stop condition, empty when there is none
	Steps     []TrialStep
	SentTo    string // empty when nothing was sent
	// Passed says that the condition holds and everything could be done.
	Passed bool
}

// TrialStep is one action of a trial.
type TrialStep struct {
	Kind      string
	Interface string
	After     string
	If        string // "holds", "does not hold" or why it cannot be worked out
	Shown     map[string]any
	Problem   string // why it could not be done
	Checked   string // what was found at the service: "exists", a problem, or empty
	Sent      bool
}

// Try renders and checks everything a rule would do for an event. It reaches nobody,
// unless it is asked to send mails and events to the test recipient.
func (s *Service) Try(ctx context.Context, id string, q TrialRequest) (Trial, error) {
	r, err := rulestore.FindRule(ctx, s.Store, id)
	if err != nil {
		return Trial{}, err
	}
	return s.try(ctx, r, q)
}

// TryDraft does the same with a rule that is not saved.
func (s *Service) TryDraft(ctx context.Context, d rule.Draft, q TrialRequest) (Trial, error) {
	if err := s.check(ctx, &d); err != nil {
		return Trial{}, err
	}
	var r rulestore.Rule
	r.Write(d)
	return s.try(ctx, r, q)
}

func (s *Service) try(ctx context.Context, r rulestore.Rule, q TrialRequest) (Trial, error) {
	recipient := ""
	if q.Send {
		var err error
		if recipient, err = s.TestRecipient(ctx); err != nil {
			return Trial{}, err
		}
		if recipient == "" {
			return Trial{}, refusal.Conflict("",
				"nobody has said where test sends go; set it: kanban rules test-recipient ADDRESS")
		}
	}
	e, values, err := s.sample(ctx, r, q)
	if err != nil {
		return Trial{}, err
	}
	t := Trial{EventID: e.ID, Event: values["event"]}
	t.Person, _ = values["person"]["name"].(string)
	t.Condition = s.verdict(r.Condition, values)
	if r.Stop != "" {
		t.Stops = s.verdict(r.Stop, values)
	}
	values["event"] = maps.Clone(values["event"])
	if q.Send {
		values["event"]["test"] = true
		values["person"] = maps.Clone(values["person"])
		if values["person"] == nil {
			values["person"] = map[string]any{}
		}
		values["person"]["email"] = recipient
	}
	t.Passed = t.Condition == verdictHolds
	send := q.Send && (t.Passed || q.Anyway)
	if send {
		t.SentTo = recipient
	}
	for i, a := range r.Actions {
		step := s.tryStep(ctx, r, e, i, a, values, send)
		t.Passed = t.Passed && step.Problem == "" && (step.Checked == "" || step.Checked == "exists")
		t.Steps = append(t.Steps, step)
		if a.Kind == rule.Award {
			values["award"] = map[string]any{"awardId": "trial", "address": s.Source + "/open/awards/trial"}
		}
	}
	if r.ID != "" && t.Passed { // another trial is none that was passed
		return t, rulestore.KeepTrial(ctx, s.Store, r.ID, r.Version, t.EventID)
	}
	return t, nil
}

// verdictHolds is the verdict on a condition that holds.
const verdictHolds = "holds"

// sample finds the event to try a rule on.
func (s *Service) sample(ctx context.Context, r rulestore.Rule, q TrialRequest) (eventstore.Event, rule.Values,
	error,
) {
	if q.EventID == "" && !q.Made {
		latest, err := eventstore.EventsFor(ctx, s.Store,
			eventstore.EventQuery{Trigger: r.Trigger, Scope: r.Scope, Limit: 1})
		if err != nil {
			return eventstore.Event{}, nil, err
		}
		if len(latest) > 0 {
			q.EventID = latest[0].ID
		}
	}
	if q.EventID == "" {
		made := rule.Sample(rule.Trigger(r.Trigger))
		return eventstore.Event{
			Type: r.Trigger, Data: map[string]any{}, OccurredAt: s.Clock.Now(),
			RecordedAt: s.Clock.Now(),
		}, made, nil
	}
	events, err := eventstore.EventsByID(ctx, s.Store, []string{q.EventID})
	if err == nil && len(events) == 0 {
		err = refusal.Invalid("eventId", "there is no event %q; see which there are: kanban events list", q.EventID)
	}
	if err != nil {
		return eventstore.Event{}, nil, err
	}
	if events[0].Type != r.Trigger {
		return eventstore.Event{}, nil, refusal.Invalid("eventId", "the event is %s, the rule is set off by %s",
			events[0].Type, r.Trigger)
	}
	values, err := s.Pipeline.Values(ctx, events[0], "progress", "teacher")
	return events[0], values, err
}

func (s *Service) verdict(condition string, values rule.Values) string {
	held, err := s.Expressions.Holds(condition, values)
	switch {
	case err != nil:
		return "cannot be worked out: " + strings.TrimPrefix(err.Error(), rule.ErrExpression.Error()+": ")
	case held:
		return verdictHolds
	}
	return "does not hold"
}

func (s *Service) tryStep(ctx context.Context, r rulestore.Rule, e eventstore.Event, i int, a rule.Action,
	values rule.Values, send bool,
) TrialStep {
	step := TrialStep{Kind: a.Kind, After: a.After}
	if a.If != "" {
		step.If = s.verdict(a.If, values)
	}
	d := deliverystore.Delivery{
		ID: "trial-" + db.NewID(), Position: i, Action: a, PersonID: e.PersonID,
		SectionID: e.SectionID,
	}
	p, err := s.Pipeline.Prepare(ctx, d, e, values)
	step.Interface, step.Shown = p.Interface(), p.Shown()
	if err != nil {
		step.Problem = problemText(err)
		return step
	}
	if p.Needs() {
		step.Checked = "exists"
		if err := p.Check(ctx); err != nil {
			step.Checked = problemText(err)
		}
	}
	if send && (a.Kind == rule.Mail || a.Kind == rule.SendEvent) {
		ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
		defer cancel()
		if err := p.Do(ctx); err != nil {
			step.Problem = "the test send failed: " + problemText(err)
		} else {
			step.Sent = true
		}
	}
	return step
}

func problemText(err error) string {
	if r, ok := refusal.As(err); ok {
		if r.Field != "" {
			return r.Field + ": " + r.Detail
		}
		return r.Detail
	}
	return err.Error()
}

// LookBack is what a rule would have done in a time that has passed.
type LookBack struct {
	Since   time.Time
	Events  int // of its trigger, in its scope
	Held    int // of these, for which its condition held
	Already int // of these, for which it did so, or the person has had it once
	Unclear int // of these, for which its condition cannot be worked out
	Would   []WouldFire
	// More is true when there were more events than can be looked at in one go.
	More bool
}

// WouldFire is one event for which a rule would have fired.
type WouldFire struct {
	EventID    string
	OccurredAt time.Time
	PersonID   string
	Person     string
	Section    string
}

// mostLookedAt bounds a look back.
const mostLookedAt = 20_000

// LookBack says what a rule would have done since a time, once per person where the
// rule says so, and leaves out what it has done already.
func (s *Service) LookBack(ctx context.Context, id string, since time.Time) (LookBack, error) {
	r, err := rulestore.FindRule(ctx, s.Store, id)
	if err != nil {
		return LookBack{}, err
	}
	out := LookBack{Since: since}
	events, err := eventstore.EventsFor(ctx, s.Store, eventstore.EventQuery{
		Trigger: r.Trigger, Scope: r.Scope,
		Since: since, Limit: mostLookedAt + 1, Ascending: true,
	})
	if err != nil {
		return out, err
	}
	if len(events) > mostLookedAt {
		events, out.More = events[:mostLookedAt], true
	}
	out.Events = len(events)
	fired, once, err := eventstore.FiredFor(ctx, s.Store, r.ID)
	if err != nil {
		return out, err
	}
	firing := s.Pipeline.Firing()
	for _, e := range events {
		if rule.Trigger(r.Trigger).Waits() && pipeline.DaysOf(e) != r.Days {
			continue
		}
		list, err := firing.Fire(ctx, e, r)
		if errors.Is(err, db.ErrNotFound) {
			continue // the person is gone
		}
		if err != nil {
			return out, err
		}
		if len(list) == 0 {
			continue
		}
		if list[0].State == deliverystore.DeliveryWaiting {
			out.Unclear++
			continue
		}
		out.Held++
		key := list[0].OnceKey
		if fired[e.ID] || key != nil && once[*key] {
			out.Already++
			continue
		}
		if key != nil {
			once[*key] = true
		}
		w := WouldFire{EventID: e.ID, OccurredAt: e.OccurredAt}
		if e.PersonID != nil {
			w.PersonID = *e.PersonID
		}
		w.Person, w.Section = firing.Names(ctx, e)
		out.Would = append(out.Would, w)
	}
	return out, nil
}

// CatchUp lets a rule that is on do what it would have done since a time for exactly
// the events that were shown; when others fit by now it is refused.
func (s *Service) CatchUp(ctx context.Context, who, id string, since time.Time, shown int) (int, error) {
	r, err := rulestore.FindRule(ctx, s.Store, id)
	if err != nil {
		return 0, err
	}
	if r.OnSince == nil {
		return 0, refusal.Conflict("", "the rule is off; switch it on first")
	}
	back, err := s.LookBack(ctx, id, since)
	if err != nil {
		return 0, err
	}
	if len(back.Would) != shown {
		return 0, refusal.Conflict("", "by now it is %d events, not %d; look back again", len(back.Would), shown)
	}
	var ids []string
	for _, w := range back.Would {
		ids = append(ids, w.EventID)
	}
	return len(ids), s.Store.InTx(ctx, func(tx *db.Tx) error {
		for from := 0; from < len(ids); from += 200 {
			if err := tx.Enqueue(ctx, jobs.React{
				EventIDs: ids[from:min(from+200, len(ids))],
				RuleID:   id,
			}); err != nil {
				return err
			}
		}
		return tx.Audit(ctx, who, "let a rule catch up", "rule/"+id,
			map[string]any{"since": since, "events": len(ids)})
	})
}
