package pipeline

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"

	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/xapi"
)

// Finish records of somebody in a section that they did at a time what a module asks for, as though a platform had
// reported it; without a module it is the first one that counts. Doing it again for the same cause records nothing. It
// gives the module and how many activities those are.
func (s *Facts) Finish(ctx context.Context, cause, personID string, x rosterstore.Section, moduleID string,
	at time.Time,
) (module learning.Module, done int, err error) {
	all, err := s.Outlines.CompiledOf(ctx, []string{x.CourseID})
	if err != nil {
		return module, 0, err
	}
	o := all[x.CourseID]
	if o.Course == nil {
		return module, 0, refusal.Conflict("", "the course has no outline, so there is no module to finish")
	}
	i := slices.IndexFunc(o.Outline.Modules, func(m learning.Module) bool {
		return m.ID == moduleID || moduleID == "" && m.Counts()
	})
	if i < 0 {
		return module, 0, refusal.Invalid("module", "the course has no module %q", moduleID)
	}
	module = o.Outline.Modules[i]
	person, err := rosterstore.FindPerson(ctx, s.Store, personID)
	if err != nil {
		return module, 0, err
	}
	place := membership{rosterstore.Enrolled{
		PersonID: personID, SectionID: x.ID, CourseID: x.CourseID, Role: "student",
	}, o}
	var items []*item
	for _, f := range learning.Finishing(module, at) {
		id := uuid.NewSHA1(uuid.NameSpaceURL, []byte(cause+" "+f.ActivityID)).String()
		items = append(items, &item{
			statement: xapi.Statement{ID: id}, person: person, fact: f,
			places: []membership{place},
		})
	}
	return module, len(items), db.Again(func() error {
		return s.Store.InShortTx(ctx, func(tx *db.Tx) error { return s.advance(ctx, tx, items) })
	})
}

// UndoAll stops what came to be for somebody since a time and is still to come, and queues the opposite of what was
// done, the last first.
// It gives how many deliveries have not come to an end; of those, waiting ones need a person.
func (s *Deliveries) UndoAll(ctx context.Context, personID string, since time.Time) (open, waiting int, err error) {
	err = db.Again(func() error {
		return s.Store.InTx(ctx, func(tx *db.Tx) error {
			list, err := deliverystore.UndoableOf(ctx, tx, personID, since)
			if err != nil {
				return err
			}
			for _, d := range list {
				if d.State != deliverystore.DeliveryDelivered {
					if err := deliverystore.AllowAgain(ctx, tx, d.ID, deliverystore.DeliveryStopped); err != nil {
						return err
					}
					continue
				}
				if d.Action.Kind == rule.Award || d.Action.Kind == rule.AppendRow {
					continue // what it made is ours and goes with the person
				}
				if err := s.opposite(ctx, tx, d.EventID, 0, d); err != nil {
					return err
				}
			}
			return nil
		})
	})
	if err != nil {
		return 0, 0, err
	}
	still, err := deliverystore.StillToCome(ctx, s.Store, deliverystore.DeliveryFilter{
		PersonID: personID,
		Since:    since,
	})
	for state, n := range still {
		if open += n; state == deliverystore.DeliveryWaiting {
			waiting = n
		}
	}
	return open, waiting, err
}
