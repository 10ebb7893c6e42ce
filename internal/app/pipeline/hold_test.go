package pipeline_test

import (
	"fmt"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/connections"
	"kanban/internal/apptest"
	"kanban/internal/core/rest"
	"kanban/internal/core/rule"
	"kanban/internal/standin/fault"
	"kanban/internal/store/deliverystore"
)

func TestQuietHoursAndLimitsOnlyPostpone(t *testing.T) {
	w, now := apptest.Clocked(t)
	zone := time.FixedZone("institution", 3600)
	w.Deliveries.Zone = zone
	*now = time.Date(2031, 5, 4, 23, 30, 0, 0, zone)
	a := rule.Action{
		Kind: rule.SendEvent, InterfaceID: w.Contacts().ID,
		Fields: map[string]string{"email": "person.email", "label": `"x"`},
	}
	w.Rule(rule.Draft{
		Name: "r", Trigger: "section.joined", QuietHours: rule.QuietHours{From: "22:00", To: "07:00"},
		Limit: rule.Limit{Most: 2, Per: "day"}, Actions: []rule.Action{a},
	})
	for _, who := range []string{"stu-001", "stu-002", "stu-003"} {
		w.Record(w.Joined(who, who, "PROP-A"))
	}
	w.Deliver()
	assert.Empty(t, w.Standins.Contacts.Contacts())
	for _, d := range w.DeliveriesThat(deliverystore.DeliveryFilter{}) {
		assert.Equal(t, "quiet hours from 22:00 to 07:00", d.Held)
		assert.True(t, d.NextAt.Equal(time.Date(2031, 5, 5, 7, 0, 0, 0, zone)), d.NextAt)
	}
	*now = time.Now().UTC() // attempts are dated by the machine's clock
	w.Deliveries.Zone = time.FixedZone("where it is noon", int(12*time.Hour/time.Second)-now.Hour()*3600)
	w.Deliver()
	assert.Len(t, w.Standins.Contacts.Contacts(), 2)
	held := w.DeliveriesThat(deliverystore.DeliveryFilter{State: deliverystore.DeliveryQueued})
	require.Len(t, held, 1)
	assert.Equal(t, "the rule's limit of 2 calls a day", held[0].Held)
	*now = now.Add(24*time.Hour + time.Minute)
	w.Deliver()
	assert.Len(t, w.Standins.Contacts.Contacts(), 3)
}

func TestServiceThatKeepsFailingRests_E9(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Deliveries.Delays = slices.Repeat([]time.Duration{time.Nanosecond}, 20)
	c := w.Contacts()
	r := w.Rule(rule.Draft{
		Name: "r", Trigger: "section.joined",
		Actions: []rule.Action{{
			Kind: rule.SendEvent, InterfaceID: c.ID,
			Fields: map[string]string{"email": "person.email", "label": `"x"`},
		}},
	})
	failing := fault.Fault{Kind: fault.Status, Status: 500, Path: "/events"}
	require.NoError(t, w.Standins.Fault("contacts", failing))
	ids := []string{}
	for _, who := range []string{"stu-001", "stu-002", "stu-003"} {
		ids = append(ids, w.DeliveriesOf(w.Record(w.Joined(who, who, "PROP-A")).ID)[0].ID)
	}
	tries := func() (n int) {
		for _, d := range w.DeliveriesThat(deliverystore.DeliveryFilter{}) {
			n += d.Attempts
		}
		return n
	}
	round := func() {
		for _, id := range ids {
			*now = now.Add(time.Millisecond)
			_, err := w.Deliveries.Deliver(t.Context(), id)
			require.NoError(t, err)
		}
	}
	rests := func() deliverystore.Rest {
		list, err := deliverystore.Rests(t.Context(), w.Store, c.ID)
		require.NoError(t, err)
		require.Len(t, list, 1)
		return list[0]
	}
	for range 4 {
		round()
	}
	assert.Equal(t, 5, tries(), "after five failures in a row nobody is tried")
	held := w.DeliveriesThat(deliverystore.DeliveryFilter{})
	assert.Equal(t, "the service keeps failing and rests", held[0].Held)
	first := rests()
	assert.Contains(t, first.Reason, "broken (500)")
	*now = now.Add(rest.First + time.Second)
	round()
	assert.Equal(t, 6, tries(), "when the rest is over one is let through")
	assert.Greater(t, rests().RestsUntil.Sub(*now), rest.First, "it rests for longer")

	// A probe that finds it well ends the rest.
	w.Standins.ClearFaults()
	_, err := w.Connections.Probe(t.Context(), c.ID)
	require.NoError(t, err)
	list, err := deliverystore.Rests(t.Context(), w.Store, c.ID)
	require.NoError(t, err)
	assert.Empty(t, list)
	require.NoError(t, w.Standins.Fault("contacts", failing))
	*now = now.Add(time.Minute)
	for range 4 {
		round()
	}
	assert.Equal(t, 11, tries())
	w.Standins.ClearFaults()
	// Somebody says that it works again: everything of the interface at once.
	n, err := w.Deliveries.RetryAll(t.Context(), "test", deliverystore.DeliveryFilter{InterfaceID: c.ID})
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	w.Deliver()
	assert.Len(t, w.Standins.Contacts.Contacts(), 3)
	list, err = deliverystore.Rests(t.Context(), w.Store, c.ID)
	require.NoError(t, err)
	assert.Empty(t, list)
	n, err = w.Deliveries.RetryAll(t.Context(), "test", deliverystore.DeliveryFilter{RuleID: r.ID})
	require.NoError(t, err)
	assert.Zero(t, n, "what was delivered is not sent again")
	_, err = w.Deliveries.RetryAll(t.Context(), "test", deliverystore.DeliveryFilter{})
	assert.ErrorContains(t, err, "say which to try again")
}

// What is said of a connection holds for its interfaces: it is left alone when it says so, and what is for
// them waits while it is paused.
func TestConnectionIsPausedAndRestsAsItSays(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Deliveries.Delays = slices.Repeat([]time.Duration{time.Nanosecond}, 20)
	c := w.Contacts()
	change := func(e connections.EditConnection) {
		_, err := w.Connections.EditConnection(t.Context(), "test", c.ConnectionID, 0, e)
		require.NoError(t, err)
	}
	two, yes, no := 2, true, false
	change(connections.EditConnection{Details: connections.Details{RestAfter: &two}})
	w.Rule(rule.Draft{
		Name: "r", Trigger: "section.joined",
		Actions: []rule.Action{{
			Kind: rule.SendEvent, InterfaceID: c.ID,
			Fields: map[string]string{"email": "person.email", "label": `"x"`},
		}},
	})
	require.NoError(t, w.Standins.Fault("contacts", fault.Fault{Kind: fault.Status, Status: 500, Path: "/events"}))
	d := w.DeliveriesOf(w.Record(w.Joined("k1", "stu-001", "PROP-A")).ID)[0]
	try := func() deliverystore.ListedDelivery {
		*now = now.Add(time.Millisecond)
		_, err := w.Deliveries.Deliver(t.Context(), d.ID)
		require.NoError(t, err)
		return w.DeliveriesThat(deliverystore.DeliveryFilter{})[0]
	}
	for range 4 {
		try()
	}
	last := try()
	assert.Equal(t, 2, last.Attempts, "it rests after two failures")
	assert.Equal(t, "the service keeps failing and rests", last.Held)

	w.Standins.ClearFaults()
	change(connections.EditConnection{Paused: &yes})
	*now = now.Add(time.Hour)
	last = try()
	assert.Equal(t, 2, last.Attempts, "nothing is tried while it is paused")
	assert.Equal(t, deliverystore.HeldPaused, last.Held)
	assert.Empty(t, w.Standins.Contacts.Contacts())
	change(connections.EditConnection{Paused: &no})
	*now = now.Add(time.Hour)
	assert.Equal(t, deliverystore.DeliveryDelivered, try().State)
	assert.Len(t, w.Standins.Contacts.Contacts(), 1)
}

// An operation that is refused the same way again and again rests by itself: a probe of its
// service does not wake it, other operations go on, and a retry by hand lets it try again.
func TestOperationRefusedTheSameWayRests_E9(t *testing.T) {
	w, now := apptest.Clocked(t)
	c := w.Labels()
	add := func(label string) rule.Action {
		return rule.Action{
			Kind: rule.CallOperation, InterfaceID: c.ID, Operation: "add-label",
			Fields: map[string]string{"email": "person.email", "label": strconv.Quote(label)},
		}
	}
	gone := w.Rule(rule.Draft{Name: "gone", Trigger: "section.joined", Actions: []rule.Action{add("no such label")}})
	there := w.Rule(rule.Draft{Name: "there", Trigger: "section.joined", Actions: []rule.Action{add("learner")}})
	for i := range 25 {
		who := fmt.Sprintf("stu-%03d", 14+i)
		w.Record(w.Joined(who, who, "PROP-A"))
	}
	w.Deliver()
	called := func() (n int) {
		for _, d := range w.DeliveriesThat(deliverystore.DeliveryFilter{RuleID: gone.ID}) {
			n += d.Attempts
		}
		return n
	}
	assert.Equal(t, rest.SameRefusals, called(), "after that nobody is tried")
	assert.Len(t, w.DeliveriesThat(deliverystore.DeliveryFilter{
		RuleID: there.ID,
		State:  deliverystore.DeliveryDelivered,
	}), 25, "another label is another matter")
	held := w.DeliveriesThat(deliverystore.DeliveryFilter{RuleID: gone.ID, State: deliverystore.DeliveryQueued})
	require.Len(t, held, 15)
	assert.Equal(t, "it is refused the same way again and again, and rests", held[0].Held)
	_, err := w.Connections.Probe(t.Context(), c.ID)
	require.NoError(t, err)
	*now = now.Add(time.Minute)
	w.Deliver()
	assert.Equal(t, rest.SameRefusals, called(), "the service is well, the label is still gone")
	*now = now.Add(rest.FirstRefused)
	w.Deliver()
	assert.Equal(t, rest.SameRefusals+1, called(), "one finds out")
	require.NoError(t, w.Deliveries.Retry(t.Context(), "test", held[0].ID))
	rests, err := deliverystore.Rests(t.Context(), w.Store, c.ID)
	require.NoError(t, err)
	assert.Empty(t, rests)
}

func TestOneAfterTheOtherPerPersonAndConnection(t *testing.T) {
	w, _ := apptest.Clocked(t)
	c := w.Contacts()
	w.Rule(rule.Draft{
		Name: "r", Trigger: "section.joined", InOrder: true,
		Actions: []rule.Action{{
			Kind: rule.SendEvent, InterfaceID: c.ID,
			Fields: map[string]string{"email": "person.email", "label": "section.title"},
		}},
	})
	first := w.DeliveriesOf(w.Record(w.Joined("k1", "stu-001", "PROP-A")).ID)[0]
	second := w.DeliveriesOf(w.Record(w.Joined("k2", "stu-001", "SOIL-A")).ID)[0]
	other := w.DeliveriesOf(w.Record(w.Joined("k3", "stu-002", "SOIL-A")).ID)[0]
	again, err := w.Deliveries.Deliver(t.Context(), second.ID)
	require.NoError(t, err)
	assert.Positive(t, again)
	for _, id := range []string{other.ID, first.ID, second.ID} {
		again, err := w.Deliveries.Deliver(t.Context(), id)
		require.NoError(t, err)
		assert.Zero(t, again)
	}
	assert.Equal(t, []string{"Propagation A", "Soil science A"}, w.Standins.Contacts.Contacts()[0].Labels)
}
