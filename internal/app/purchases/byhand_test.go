package purchases_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/purchasestore"
)

// accesses gives what was bought and given, by order.
func (s *shop) accesses() map[string]purchasestore.ListedAccess {
	s.t.Helper()
	all, err := purchasestore.Accesses(s.t.Context(), s.Store, purchasestore.AccessFilter{Limit: 50})
	require.NoError(s.t, err)
	out := map[string]purchasestore.ListedAccess{}
	for _, a := range all {
		out[a.OrderRef] = a
	}
	return out
}

// A membership that lapsed and is renewed gives access again.
func TestRenewedAfterALapse_E10(t *testing.T) {
	s := open(t)
	s.offer("place", "SOIL-A", nil)
	s.tells("1", "membership.started", nora, "place", "m-1", s.now.Add(-3*time.Hour))
	s.Deliver()
	s.tells("2", "membership.ended", nora, "place", "m-1", s.now.Add(-2*time.Hour))
	s.Deliver()
	require.False(t, s.enrolled("stu-030", "sec-soil-a"))
	s.tells("3", "membership.renewed", nora, "place", "m-1", s.now.Add(-time.Hour))
	s.tells("3", "membership.renewed", nora, "place", "m-1", s.now.Add(-time.Hour))
	s.Deliver()
	assert.True(t, s.enrolled("stu-030", "sec-soil-a"))
}

// Purchases of which it cannot be told whose they are enrol nobody, each is listed by
// itself, and a person says whose they are.
func TestWhoseAPurchaseIsIsAskedAbout_E10(t *testing.T) {
	s := open(t)
	o := s.offer("place", "SOIL-A", nil)
	shared := s.Person("stu-030")
	_, err := s.Store.Pool.Exec(t.Context(), `UPDATE people SET email = $2, email_key = $3 WHERE id = $1`,
		s.Person("stu-031").ID, shared.Email, nora)
	require.NoError(t, err)
	before := len(s.Standins.School.Enrolments())
	s.tells("1", "purchase.completed", nora, "place", "order-1", s.now)
	s.tells("2", "purchase.completed", nora, "place", "order-2", s.now)
	s.tells("3", "purchase.completed", "", "place", "order-3", s.now)
	s.tells("4", "purchase.completed", "", "place", "order-4", s.now)
	s.Deliver()
	assert.Len(t, s.Standins.School.Enrolments(), before, "nobody is guessed")
	got := s.accesses()
	require.Len(t, got, 4)
	for order, code := range map[string]finding.Code{
		"order-1": finding.BuyerAmbiguous,
		"order-2": finding.BuyerAmbiguous, "order-3": finding.BuyerUnknown, "order-4": finding.BuyerUnknown,
	} {
		assert.Equal(t, string(code), got[order].Trouble, order)
		assert.Nil(t, got[order].PersonID, order)
	}

	for order, who := range map[string]string{"order-1": "stu-030", "order-2": "stu-031", "order-3": "stu-032"} {
		require.NoError(t, s.Purchases.Assign(t.Context(), "Maud", got[order].ID, s.Person(who).ID))
	}
	err = s.Purchases.Assign(t.Context(), "Maud", got["order-1"].ID, s.Person("stu-031").ID)
	require.ErrorContains(t, err, "known whose this is already")
	require.NoError(t, s.Purchases.Tick(t.Context()))
	s.Deliver()
	for _, who := range []string{"stu-030", "stu-031", "stu-032"} {
		assert.True(t, s.enrolled(who, "sec-soil-a"), who)
	}
	got = s.accesses()
	assert.Empty(t, got["order-3"].Trouble)
	assert.Equal(t, string(finding.BuyerUnknown), got["order-4"].Trouble)

	// One of two orders under one address ends: only that person goes.
	s.tells("5", "purchase.cancelled", nora, "place", "order-1", s.now.Add(time.Minute))
	s.now = s.now.Add(2 * time.Minute)
	require.NoError(t, s.Purchases.Tick(t.Context()))
	s.Deliver()
	assert.False(t, s.enrolled("stu-030", "sec-soil-a"))
	assert.True(t, s.enrolled("stu-031", "sec-soil-a"), "the other order under the address still holds")
	assert.NotEmpty(t, s.verdicts(o.ID))
}

func TestAccessGivenByHandEnds_E10(t *testing.T) {
	s := open(t)
	o := s.offer("place", "SOIL-A", func(o *purchasestore.Offer) { o.GraceDays = 14 })
	who := s.Person("stu-030")
	past, later := s.now.Add(-time.Hour), s.now.AddDate(0, 0, 30)
	for text, give := range map[string]func() error{
		"say why": func() error {
			_, err := s.Purchases.Give(t.Context(), "Maud", o.ID, who.ID, &later,
				" ")
			return err
		},
		"has passed": func() error {
			_, err := s.Purchases.Give(t.Context(), "Maud", o.ID, who.ID, &past,
				"r")
			return err
		},
		"no person": func() error {
			_, err := s.Purchases.Give(t.Context(), "Maud", o.ID, db.NewID(), nil, "r")
			return err
		},
	} {
		require.ErrorContains(t, give(), text)
	}
	a, err := s.Purchases.Give(t.Context(), "Maud", o.ID, who.ID, &later, "Won it at the fair")
	require.NoError(t, err)
	s.Deliver()
	assert.True(t, s.enrolled("stu-030", "sec-soil-a"))
	assert.Equal(t, "active, on-its-way", s.verdicts(o.ID)["Dora Daisy"])
	s.now = later.Add(-time.Minute)
	require.NoError(t, s.Purchases.Tick(t.Context()))
	s.Deliver()
	assert.True(t, s.enrolled("stu-030", "sec-soil-a"))
	s.now = later.Add(time.Minute)
	require.NoError(t, s.Purchases.Tick(t.Context()))
	require.NoError(t, s.Purchases.Tick(t.Context()))
	s.Deliver()
	assert.False(t, s.enrolled("stu-030", "sec-soil-a"), "its end is its end, without the grace of what is bought")
	require.ErrorContains(t, s.Purchases.End(t.Context(), "Maud", a.ID, "r"), "ended already")

	// Beside a purchase it takes nothing away when it ends.
	b, err := s.Purchases.Give(t.Context(), "Maud", o.ID, who.ID, nil, "Helps in the shop")
	require.NoError(t, err)
	s.tells("1", "purchase.completed", nora, "place", "order-1", s.now)
	s.Deliver()
	require.NoError(t, s.Purchases.End(t.Context(), "Maud", b.ID, "Has bought it"))
	s.Deliver()
	assert.True(t, s.enrolled("stu-030", "sec-soil-a"))
	require.ErrorContains(t, s.Purchases.End(t.Context(), "Maud", s.accesses()["order-1"].ID, "r"), "was bought")
	events, err := eventstore.Events(t.Context(), s.Store,
		eventstore.EventFilter{Type: string(rule.AccessEnded), Limit: 10})
	require.NoError(t, err)
	assert.Len(t, events, 1)
}
