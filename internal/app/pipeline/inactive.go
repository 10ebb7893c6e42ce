package pipeline

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/learningstore"
)

// idleAtOnce is how many people are found inactive in one transaction.
const idleAtOnce = 1000

// Inactive records who has done nothing for as long as some rule that is on asks for, once
// for each time they stop, and who has not begun so long after joining. Whoever comes back
// and stops again is recorded again.
func (s *Deliveries) Inactive(ctx context.Context) error {
	b, err := s.rulesOn(ctx)
	if err != nil {
		return err
	}
	type wait struct {
		trigger rule.Trigger
		days    int
	}
	asked := map[wait]bool{}
	for _, r := range b.byID {
		if t := rule.Trigger(r.Trigger); t.Waits() {
			asked[wait{t, r.Days}] = true
		}
	}
	for w := range asked {
		days := w.days
		for more := true; more; {
			list, err := learningstore.IdleSince(ctx, s.Store, w.trigger, s.Clock.Now().AddDate(0, 0, -days), days,
				idleAtOnce)
			if err != nil {
				return err
			}
			more = len(list) == idleAtOnce
			events := make([]eventstore.Event, len(list))
			for i, x := range list {
				events[i] = eventstore.Event{
					Type: string(w.trigger), NaturalKey: fmt.Sprintf("%s/%s/%s/%d/%d", w.trigger, x.PersonID,
						x.SectionID, days, x.Last.Truncate(time.Second).Unix()),
					PersonID: &x.PersonID, SectionID: &x.SectionID, CourseID: &x.CourseID, OccurredAt: s.Clock.Now(),
					Data: map[string]any{
						"days": days, "percent": x.Percent,
						"last": x.Last.UTC().Format(time.RFC3339),
					},
				}
			}
			fresh := 0
			err = s.Store.InTx(ctx, func(tx *db.Tx) error {
				ids, err := eventstore.RecordEvents(ctx, tx, events)
				fresh = len(ids)
				return err
			})
			if err != nil {
				return err
			}
			more = more && fresh > 0
		}
	}
	return nil
}
