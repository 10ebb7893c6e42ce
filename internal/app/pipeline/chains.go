package pipeline

import (
	"context"

	"kanban/internal/core/rule"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
)

// chained works out how many events led to those that follow from what rules did at a
// service: somebody who was enrolled by a delivery joins by the next read.
func (s *Deliveries) chained(ctx context.Context, events []eventstore.Event) error {
	var ids []string
	for _, e := range events {
		switch rule.Trigger(e.Type) {
		case rule.SectionJoined, rule.SectionLeft, rule.SectionMoved:
			if rule.Chain(e.Data) == 0 && e.PersonID != nil && e.SectionID != nil {
				ids = append(ids, e.ID)
			}
		}
	}
	if len(ids) == 0 {
		return nil
	}
	chains, err := deliverystore.KeepChains(ctx, s.Store, ids)
	if err != nil || len(chains) == 0 {
		return err
	}
	for i := range events {
		if n := chains[events[i].ID]; n > 0 {
			events[i].Data["chain"] = float64(n)
		}
	}
	return nil
}
