package pipeline

import (
	"context"
	"time"

	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
)

// Attempts lists the tries of a delivery, first to last, the one under way among them.
func (s *Deliveries) Attempts(ctx context.Context, deliveryID string) ([]deliverystore.Attempt, error) {
	return deliverystore.Attempts(ctx, s.Store, deliveryID)
}

// Deliveries lists the newest first.
func (s *Deliveries) Deliveries(ctx context.Context, f deliverystore.DeliveryFilter) ([]deliverystore.ListedDelivery,
	error,
) {
	return deliverystore.Deliveries(ctx, s.Store, f)
}

// Events lists the newest first.
func (s *Deliveries) Events(ctx context.Context, f eventstore.EventFilter) ([]eventstore.ListedEvent, error) {
	return eventstore.Events(ctx, s.Store, f)
}

// FindDelivery finds one by id.
func (s *Deliveries) FindDelivery(ctx context.Context, id string) (deliverystore.Delivery, error) {
	return deliverystore.FindDelivery(ctx, s.Store, id)
}

// Pickups lists what has changed after a time, the oldest first, and gives the time after
// which to ask the next time. That is before anything that is just being written: what is
// written with an earlier time and seen later would be missed, so that some may be given
// twice instead.
func (s *Deliveries) Pickups(ctx context.Context, interfaceID string, since time.Time) ([]deliverystore.Pickup,
	time.Time, error,
) {
	return deliverystore.Pickups(ctx, s.Store, interfaceID, since)
}

// SheetRows lists the rows of a sheet, the oldest first.
func (s *Deliveries) SheetRows(ctx context.Context, name string) ([]deliverystore.SheetRow, error) {
	return deliverystore.SheetRows(ctx, s.Store, name)
}

// Sheets lists them, ordered by name.
func (s *Deliveries) Sheets(ctx context.Context) ([]deliverystore.Sheet, error) {
	return deliverystore.Sheets(ctx, s.Store)
}

// Statements lists statements in the order in which they were stored, the newest
// first unless Ascending, and gives the time up to which everything can be read.
func (s *Deliveries) Statements(ctx context.Context, q eventstore.StatementQuery) ([]eventstore.StoredStatement,
	time.Time, error,
) {
	return eventstore.Statements(ctx, s.Store, q)
}
