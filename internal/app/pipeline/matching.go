package pipeline

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/riverqueue/river"

	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/stagestore"
)

// book holds the rules that are on, ready to be matched. One is built when any rule
// has changed.
type book struct {
	mark   int64
	byID   map[string]rulestore.Rule
	fires  *rule.Index
	undone *rule.Index // by what takes a rule's deliveries back
	watch  stage.Watch // what the stage plans that are on are about
}

// idle reports whether nothing follows from any event.
func (b *book) idle() bool { return len(b.byID) == 0 && len(b.watch.Own) == 0 }

// books keeps the latest book of a process.
type books struct {
	mu     sync.Mutex
	latest *book
	at     time.Time // when it was last found to be the latest
}

func newBook(mark int64, rules []rulestore.Rule) *book {
	b := &book{mark: mark, byID: make(map[string]rulestore.Rule, len(rules))}
	var fires, undone []rule.Rule
	for _, r := range rules {
		b.byID[r.ID] = r
		fires = append(fires, rule.Rule{ID: r.ID, Trigger: rule.Trigger(r.Trigger), Scope: r.Scope, Days: r.Days})
		for _, t := range r.UndoneBy {
			undone = append(undone, rule.Rule{ID: r.ID, Trigger: rule.Trigger(t), Scope: r.Scope})
		}
	}
	b.fires, b.undone = rule.NewIndex(fires), rule.NewIndex(undone)
	return b
}

// rulesOn gives the rules that are on.
func (s *Deliveries) rulesOn(ctx context.Context) (*book, error) {
	mark, err := rulestore.RulesMark(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	return s.rulesAt(ctx, mark)
}

// rulesAt does the same where the rules' mark is known.
func (s *Deliveries) rulesAt(ctx context.Context, mark int64) (*book, error) {
	s.books.mu.Lock()
	defer s.books.mu.Unlock()
	s.books.at = time.Now()
	if s.books.latest != nil && s.books.latest.mark == mark {
		return s.books.latest, nil
	}
	rules, err := rulestore.RulesOn(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	plans, err := stagestore.StagePlansOn(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	prepared := make([]stage.Plan, len(plans))
	for i, p := range plans {
		prepared[i] = p.Plan()
	}
	s.books.latest = newBook(mark, rules)
	s.books.latest.watch = stage.Watching(prepared...)
	return s.books.latest, nil
}

// lately is how old the rules may be that a delivery goes by: it was decided already.
const lately = time.Second

// rulesLately gives the rules that are on, or were a moment ago.
func (s *Deliveries) rulesLately(ctx context.Context) (*book, error) {
	s.books.mu.Lock()
	b := s.books.latest
	fresh := b != nil && s.Remember > 0 && time.Since(s.books.at) < lately
	s.books.mu.Unlock()
	if fresh {
		return b, nil
	}
	return s.rulesOn(ctx)
}

// DaysOf is after how many days an event that comes with time was due; 0 for others.
func DaysOf(e eventstore.Event) int {
	n, _ := e.Data["days"].(float64)
	if !rule.Trigger(e.Type).Waits() {
		n = 0
	}
	return int(n)
}

// at is an event as rules are matched with it.
func at(e eventstore.Event) rule.Event {
	return rule.Event{
		Type: rule.Trigger(e.Type), Days: DaysOf(e),
		At: rule.Scope{
			Course: text(e.CourseID), Section: text(e.SectionID), Module: e.ModuleID,
			Activity: e.ActivityID,
		},
	}
}

// React matches rules against events and makes the deliveries that follow. An
// event that has had its deliveries gets no second ones. With ruleID only that rule
// is looked at, and what happened before it was on counts too.
func (s *Deliveries) React(ctx context.Context, eventIDs []string, ruleID string) error {
	b, err := s.rulesOn(ctx)
	if err != nil || b.idle() {
		return err
	}
	events, err := eventstore.EventsByID(ctx, s.Store, eventIDs)
	if err != nil {
		return err
	}
	if err := s.chained(ctx, events); err != nil {
		return err
	}
	var stages []river.JobArgs
	if ruleID == "" {
		stages = b.later(events)
	}
	r, err := s.reactions(ctx, b, s.newKnown(), b.matching(events), ruleID)
	if err != nil || r.none() && len(stages) == 0 {
		return err
	}
	return db.Again(func() error {
		return s.Store.InTx(ctx, func(tx *db.Tx) error {
			if err := tx.Enqueue(ctx, stages...); err != nil || r.none() {
				return err
			}
			return s.keepReactions(ctx, tx, r)
		})
	})
}

// Recorded makes, in the transaction that records events, the deliveries that follow from
// those that are new. people are some of those whom they are about, read already; mark is
// that of the rules.
func (s *Deliveries) Recorded(ctx context.Context, tx *db.Tx, people []rosterstore.Person, events []eventstore.Event,
	fresh []string, mark int64,
) error {
	b, err := s.rulesAt(ctx, mark)
	if err != nil || b.idle() {
		return err
	}
	if err := tx.Enqueue(ctx, b.advanced(events)...); err != nil || len(fresh) == 0 {
		return err
	}
	isNew := make(map[string]bool, len(fresh))
	for _, id := range fresh {
		isNew[id] = true
	}
	list := b.matching(slices.DeleteFunc(events, func(e eventstore.Event) bool { return !isNew[e.ID] }))
	now := s.Clock.Now()
	for i := range list {
		e := &list[i].event
		e.RecordedAt = now
		if e.Data, err = asStored(e.Data); err != nil {
			return err
		}
	}
	known := s.newKnown()
	known.tx = tx
	for _, p := range people {
		known.people[p.ID] = valuesOf(p)
	}
	r, err := s.reactions(ctx, b, known, list, "")
	if err != nil || r.none() {
		return err
	}
	return s.keepReactions(ctx, tx, r)
}

// Reworked lets follow, in the background, what follows from progress in a course that was
// worked out anew: reactions to its new events, and the stages of those people.
func (s *Deliveries) Reworked(ctx context.Context, tx *db.Tx, courseID string, people, fresh []string,
	mark int64,
) error {
	b, err := s.rulesAt(ctx, mark)
	if err != nil {
		return err
	}
	if b.watch.Courses[courseID] && len(people) > 0 {
		if err := tx.Enqueue(ctx, jobs.WorkOutStages{People: people, Courses: []string{courseID}}); err != nil {
			return err
		}
	}
	return eventstore.EnqueueReactions(ctx, tx, fresh)
}

// asStored gives what an event holds as it reads when it comes out of the database.
func asStored(data map[string]any) (map[string]any, error) {
	out := make(map[string]any, len(data))
	for name, v := range data {
		switch v := v.(type) {
		case string, float64, bool, nil:
			out[name] = v
		case int:
			out[name] = float64(v)
		default:
			text, err := json.Marshal(v)
			if err != nil {
				return nil, err
			}
			var read any
			if err := json.Unmarshal(text, &read); err != nil {
				return nil, err
			}
			out[name] = read
		}
	}
	return out, nil
}

// matched is an event with the rules that it sets off, and those whose deliveries it
// reverts.
type matched struct {
	event         eventstore.Event
	fires, undone []rule.Rule
}

// matching gives the events that any rule is about.
func (b *book) matching(events []eventstore.Event) (list []matched) {
	for _, e := range events {
		m := matched{e, b.fires.Match(at(e)), nil}
		if e.PersonID != nil {
			m.undone = b.undone.Match(rule.Event{Type: rule.Trigger(e.Type), At: at(e).At})
		}
		if len(m.fires)+len(m.undone) > 0 {
			list = append(list, m)
		}
	}
	return list
}

// reactions are what follows from events.
type reactions struct {
	made []deliverystore.Delivery
	undo []matched // that take something back
	// results are the passes and fails among their events, by id, for rules for which not
	// every one counts.
	results map[string]eventstore.Event
	rules   map[string]rulestore.Rule
}

func (r reactions) none() bool { return len(r.made)+len(r.undo) == 0 }

func (s *Deliveries) reactions(ctx context.Context, b *book, known *known, list []matched,
	ruleID string,
) (out reactions, err error) {
	var events []eventstore.Event
	for _, m := range list {
		if len(m.fires) > 0 {
			events = append(events, m.event)
		}
	}
	if err := known.prefetch(ctx, events); err != nil {
		return out, err
	}
	out.results, out.rules = map[string]eventstore.Event{}, b.byID
	for _, m := range list {
		e := m.event
		// What stands in no outline is not told apart by its activity.
		if rule.IsResult(rule.Trigger(e.Type)) && e.PersonID != nil && e.ActivityID != "" {
			out.results[e.ID] = e
		}
		known.next()
		for _, match := range m.fires {
			r := b.byID[match.ID]
			if ruleID != "" && r.ID != ruleID || ruleID == "" && e.RecordedAt.Before(*r.OnSince) {
				continue
			}
			list, err := s.fire(ctx, known, e, r)
			if errors.Is(err, db.ErrNotFound) {
				continue // whoever it is about went with their register
			}
			if err != nil {
				return out, err
			}
			out.made = append(out.made, list...)
		}
		if ruleID == "" && len(m.undone) > 0 {
			out.undo = append(out.undo, m)
		}
	}
	return out, nil
}

func (s *Deliveries) keepReactions(ctx context.Context, tx *db.Tx, r reactions) error {
	r, err := s.counting(ctx, tx, r)
	if err != nil {
		return err
	}
	if err := s.queue(ctx, tx, r.made); err != nil {
		return err
	}
	for _, m := range r.undo {
		for _, match := range m.undone {
			if err := s.revert(ctx, tx, m.event, match.ID); err != nil {
				return err
			}
		}
	}
	return tx.Announce(ctx, "delivery", "")
}

func text(id *string) string {
	if id == nil {
		return ""
	}
	return *id
}

// queue writes deliveries and queues the first of each rule and event. What a
// person has had once already is left out whole.
func (s *Deliveries) queue(ctx context.Context, tx *db.Tx, made []deliverystore.Delivery) error {
	for i := range made {
		if d := &made[i]; d.State == deliverystore.DeliveryPlanned && d.Position == 0 {
			d.State = deliverystore.DeliveryQueued
		}
	}
	fresh, err := deliverystore.AddDeliveries(ctx, tx, made)
	if err != nil {
		return err
	}
	if len(fresh) > 0 {
		deliverystore.Queued(tx)
	}
	return nil
}

// fire gives the deliveries of one rule for one event: none when its condition does
// not hold. Each of them is begun when the one before it is over.
func (s *Deliveries) fire(ctx context.Context, known *known, e eventstore.Event,
	r rulestore.Rule,
) ([]deliverystore.Delivery, error) {
	var conditionErr error
	if r.Condition != "" {
		values, err := known.values(ctx, e, r.Condition)
		if err != nil {
			return nil, err
		}
		var held bool
		if held, conditionErr = s.Expressions.Holds(r.Condition, values); conditionErr == nil && !held {
			return nil, nil
		}
	}
	list := make([]deliverystore.Delivery, 0, len(r.Actions))
	for i, a := range r.Actions {
		d := deliverystore.Delivery{
			ID: db.NewID(), EventID: e.ID, RuleID: &r.ID, RuleVersion: r.Version, Position: i,
			Action: a, PersonID: e.PersonID, SectionID: e.SectionID, State: deliverystore.DeliveryPlanned,
		}
		if a.InterfaceID != "" {
			d.InterfaceID = &a.InterfaceID
		}
		if i == 0 {
			wait, _ := rule.Span(a.After)
			due := e.RecordedAt.Add(wait)
			d.DueAt = &due
		}
		if r.OncePerPerson && e.PersonID != nil {
			key := fmt.Sprintf("%s/%d/%s/%s/%s/%s", r.ID, i, *e.PersonID, text(e.SectionID), e.ModuleID, e.ActivityID)
			if _, id := e.Thing(); id != "" {
				key += "/" + id
			}
			d.OnceKey = &key
		}
		switch n := rule.Chain(e.Data); {
		case conditionErr != nil:
			d.State, d.Code, d.LastError = deliverystore.DeliveryWaiting, string(finding.ConditionRefused),
				conditionErr.Error()
		case n >= rule.MostInChain && i == 0:
			d.State, d.Code, d.LastError = deliverystore.DeliveryWaiting, string(finding.ChainStopped),
				rule.ChainTooLong(n).Error()
		}
		list = append(list, d)
	}
	return list, nil
}

// revert stops what a rule has not done yet for the event's person and place, and
// queues the opposite of what it has done.
func (s *Deliveries) revert(ctx context.Context, tx *db.Tx, e eventstore.Event, ruleID string) error {
	list, err := deliverystore.FindUndoable(ctx, tx, ruleID, e)
	if err != nil {
		return err
	}
	slices.Reverse(list) // the last thing first
	for _, d := range list {
		if d.State != deliverystore.DeliveryDelivered {
			if err := deliverystore.AllowAgain(ctx, tx, d.ID, deliverystore.DeliveryStopped); err != nil {
				return err
			}
			continue
		}
		if err := deliverystore.AllowAgain(ctx, tx, d.ID, ""); err != nil {
			return err
		}
		if err := s.opposite(ctx, tx, e.ID, rule.Chain(e.Data), d); err != nil {
			return err
		}
	}
	return nil
}

// opposite queues the delivery that takes one back, because of an event to which so many
// others led. What cannot be reverted is noted.
func (s *Deliveries) opposite(ctx context.Context, tx *db.Tx, eventID string, chain int,
	d deliverystore.Delivery,
) error {
	now := s.Clock.Now()
	u := deliverystore.Delivery{
		ID: db.NewID(), EventID: eventID, RuleID: d.RuleID, RuleVersion: d.RuleVersion, Position: d.Position,
		InterfaceID: d.InterfaceID,
		PersonID:    d.PersonID, SectionID: d.SectionID, Undoes: &d.ID, State: deliverystore.DeliveryPlanned,
		DueAt: &now,
	}
	opposite, ok := d.Action.Reverted()
	if u.Action = opposite; !ok {
		u.Action, u.State, u.Code, u.FinishedAt = d.Action, deliverystore.DeliverySkipped,
			string(finding.CannotRevert), &now
		u.Action.Undo = true
	}
	if ok && chain >= rule.MostInChain {
		u.State, u.Code, u.LastError = deliverystore.DeliveryWaiting, string(finding.ChainStopped),
			rule.ChainTooLong(chain).Error()
	}
	fresh, err := deliverystore.AddDeliveries(ctx, tx, []deliverystore.Delivery{u})
	if err != nil || !fresh[u.ID] || u.State != deliverystore.DeliveryPlanned {
		return err
	}
	return deliverystore.QueuePlanned(ctx, tx, now, u.ID)
}
