package apptest

import (
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/core/rule"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
)

// Joined is the event that somebody joined a section, by their identifiers.
func (w *World) Joined(key, who, section string) eventstore.Event {
	p, s := w.Person(who), w.Section(section)
	return eventstore.Event{
		Type: string(rule.SectionJoined), NaturalKey: key, PersonID: &p.ID, SectionID: &s.ID, CourseID: &s.CourseID,
		Data: map[string]any{"role": "student"}, OccurredAt: time.Now(),
	}
}

// About is an event of another kind, about the activity "act" in the module "m" of the
// section PROP-A.
func (w *World) About(kind rule.Trigger, key, who string) eventstore.Event {
	e := w.Joined(key, who, "PROP-A")
	e.Type, e.ModuleID, e.ActivityID, e.Data = string(kind), "m", "act", map[string]any{"percent": 10, "score": 0.5}
	return e
}

// DeliveriesThat lists the deliveries that fit, up to a hundred.
func (w *World) DeliveriesThat(f deliverystore.DeliveryFilter) []deliverystore.ListedDelivery {
	w.t.Helper()
	f.Limit = 100
	list, err := deliverystore.Deliveries(w.t.Context(), w.Store, f)
	require.NoError(w.t, err)
	return list
}
