package purchases_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
	"pgregory.net/rapid"

	"kanban/internal/adapter"
	"kanban/internal/app/purchases"
	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/standin/school"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/purchasestore"
	"kanban/internal/store/storetest"
	"kanban/internal/wire/webhook"
)

func TestMain(m *testing.M) { storetest.Main(m) }

type shop struct {
	*apptest.World
	t          *testing.T
	now        time.Time
	connection adapter.Interface
	platform   connectionstore.Interface
	register   connectionstore.Interface
}

func open(t *testing.T) *shop {
	w := apptest.New(t)
	s := &shop{World: w, t: t, now: time.Now().UTC().Add(time.Minute), register: w.Register()}
	w.Read(s.register, false)
	s.connection, s.platform = w.Shop(), w.Platform()
	clock := func() time.Time { return s.now }
	w.Deliveries.Clock, w.Purchases.Clock = clock, clock
	return s
}

// offer makes an offer that gives access to a section.
func (s *shop) offer(name, code string, change func(*purchasestore.Offer)) purchasestore.Offer {
	o := purchasestore.Offer{
		Name: name, InterfaceID: s.connection.ID, Offer: name,
		SectionIDs: []string{s.Section(code).ID}, PlatformID: &s.platform.ID, AtEnd: purchases.Unenrol,
	}
	if change != nil {
		change(&o)
	}
	o, err := s.Purchases.Save(s.t.Context(), "test", "", 0, o)
	require.NoError(s.t, err)
	require.NoError(s.t, s.Purchases.Settle(s.t.Context(), o.ID)) // the queued job
	return o
}

func (s *shop) tells(id, kind, email, offer, order string, at time.Time) {
	s.t.Helper()
	data, err := json.Marshal(map[string]any{"email": email, "offer": offer, "name": "Basil Bough"})
	require.NoError(s.t, err)
	problems, err := s.Facts.Report(s.t.Context(), s.connection,
		[]webhook.Received{{Event: webhook.Event{
			ID: id, Source: "https://shop.example", Type: kind, Subject: order,
			Time: at,
		}, Data: data}})
	require.NoError(s.t, err)
	require.NoError(s.t, problems[0])
}

func (s *shop) enrolled(identifier, section string) bool {
	return slices.ContainsFunc(s.Standins.School.Enrolments(), func(e school.Enrolment) bool {
		return e.PersonID == identifier && e.SectionID == section && !e.Ended
	})
}

func (s *shop) verdicts(offerID string) map[string]string {
	sides, err := s.Purchases.Sides(s.t.Context(), offerID)
	require.NoError(s.t, err)
	out := map[string]string{}
	for _, x := range sides {
		out[x.Person] = x.Access + ", " + string(x.Verdict)
	}
	return out
}

const nora = "dora.daisy@fernmoor.example" // stu-030, not in soil science

func TestPurchaseEnrolsAndCancellingTakesOutAfterGrace_E10(t *testing.T) {
	s := open(t)
	o := s.offer("place", "SOIL-A", func(o *purchasestore.Offer) { o.GraceDays = 14 })
	bought := s.now.Add(-time.Hour)
	s.tells("1", "purchase.completed", nora, "place", "order-1", bought)
	s.tells("1", "purchase.completed", nora, "place", "order-1", bought) // told twice
	assert.Equal(t, map[string]string{"Dora Daisy": "active, on-its-way"}, s.verdicts(o.ID))
	s.Deliver()
	assert.True(t, s.enrolled("stu-030", "sec-soil-a"))
	list, err := deliverystore.Deliveries(t.Context(), s.Store,
		deliverystore.DeliveryFilter{OfferID: o.ID, Limit: 10})
	require.NoError(t, err)
	require.Len(t, list, 1, "once, however often it is told")
	assert.Equal(t, "place", list[0].Rule, "the offer stands where a rule would")
	s.Read(s.register, false)
	assert.Equal(t, map[string]string{"Dora Daisy": "active, agrees"}, s.verdicts(o.ID))

	s.tells("2", "purchase.cancelled", nora, "place", "order-1", s.now)
	s.Deliver()
	assert.True(t, s.enrolled("stu-030", "sec-soil-a"), "grace")
	assert.Equal(t, map[string]string{"Dora Daisy": "grace, agrees"}, s.verdicts(o.ID))
	s.now = s.now.AddDate(0, 0, 13)
	require.NoError(t, s.Purchases.Tick(t.Context()))
	s.Deliver()
	assert.True(t, s.enrolled("stu-030", "sec-soil-a"))
	s.now = s.now.AddDate(0, 0, 2)
	require.NoError(t, s.Purchases.Tick(t.Context()))
	require.NoError(t, s.Purchases.Tick(t.Context()))
	s.Deliver()
	assert.False(t, s.enrolled("stu-030", "sec-soil-a"))
	events, err := eventstore.Events(t.Context(), s.Store,
		eventstore.EventFilter{Type: string(rule.AccessEnded), Limit: 10})
	require.NoError(t, err)
	assert.Len(t, events, 1)
	s.Read(s.register, false)
	assert.Equal(t, map[string]string{"Dora Daisy": "ended, agrees"}, s.verdicts(o.ID))

	s.tells("3", "purchase.completed", nora, "place", "order-1", s.now)
	s.Deliver()
	assert.True(t, s.enrolled("stu-030", "sec-soil-a"), "bought again")
}

// What is bought while an offer is off is kept, and counts as soon as it is on.
func TestOfferThatIsOffGivesAndTakesNothing_E10(t *testing.T) {
	s := open(t)
	o := s.offer("place", "SOIL-A", nil)
	switched := func(on bool) {
		t.Helper()
		_, err := s.Purchases.Switch(t.Context(), "test", o.ID, on)
		require.NoError(t, err)
		require.NoError(t, s.Purchases.Settle(t.Context(), o.ID)) // the queued job
		require.NoError(t, s.Purchases.Tick(t.Context()))
		s.Deliver()
	}
	switched(false)
	s.tells("1", "purchase.completed", nora, "place", "order-1", s.now.Add(-time.Hour))
	require.NoError(t, s.Purchases.Tick(t.Context()))
	s.Deliver()
	assert.False(t, s.enrolled("stu-030", "sec-soil-a"))
	switched(true)
	assert.True(t, s.enrolled("stu-030", "sec-soil-a"))

	switched(false)
	s.tells("2", "purchase.cancelled", nora, "place", "order-1", s.now)
	s.Deliver()
	assert.True(t, s.enrolled("stu-030", "sec-soil-a"))
	switched(true)
	assert.False(t, s.enrolled("stu-030", "sec-soil-a"))
}

// Access and enrolment never disagree silently: somebody takes the buyer out by hand.
func TestDisagreementsShow_E10(t *testing.T) {
	s := open(t)
	s.now = time.Now().UTC() // reads go by the machine's clock
	o := s.offer("place", "SOIL-A", func(o *purchasestore.Offer) { o.OnlyBuyers = true })
	s.tells("1", "purchase.completed", nora, "place", "order-1", s.now)
	s.Deliver()
	s.Read(s.register, false)
	require.NoError(t, s.Standins.School.Withdraw("stu-030", "sec-soil-a"))
	s.now = time.Now().UTC()
	s.Read(s.register, false)
	got := s.verdicts(o.ID)
	assert.Equal(t, "active, access-without-enrolment", got["Dora Daisy"])
	assert.Equal(t, "none, enrolment-without-access", got["Ada Alder"], "only buyers may be in it")

	kept := s.offer("kept", "BEES-A", func(o *purchasestore.Offer) { o.AtEnd = purchases.Mark })
	s.tells("2", "purchase.completed", nora, "kept", "order-2", s.now)
	s.Deliver()
	s.tells("3", "purchase.cancelled", nora, "kept", "order-2", s.now)
	s.Deliver()
	assert.True(t, s.enrolled("stu-030", "sec-bees-a"))
	s.Read(s.register, false)
	assert.Equal(t, map[string]string{"Dora Daisy": "ended, marked"}, s.verdicts(kept.ID))
}

func TestBuyerWhoIsNotInTheRegister(t *testing.T) {
	s := open(t)
	s.tells("1", "purchase.completed", "Basil.Bough@elsewhere.example", "place", "order-1", s.now)
	unmapped, err := purchasestore.UnmappedOffers(t.Context(), s.Store)
	require.NoError(t, err)
	require.Len(t, unmapped, 1, "nothing is lost before there is an offer")
	assert.Equal(t, "place", unmapped[0].Offer)

	o := s.offer("place", "SOIL-A", nil)
	s.Deliver()
	assert.Equal(t, map[string]string{"Basil Bough": "active, on-its-way"}, s.verdicts(o.ID),
		"the platform made an account")
	s.Read(s.register, false)
	require.NoError(t, s.Purchases.Tick(t.Context())) // the queued job
	assert.Equal(t, map[string]string{"Basil Bough": "active, agrees"}, s.verdicts(o.ID), "now known to the register")
	sides, err := s.Purchases.Sides(t.Context(), o.ID)
	require.NoError(t, err)
	assert.NotNil(t, sides[0].PersonID)

	// Where no account can be made, it waits for a person, and goes on by itself later.
	files := s.Connect("oneroster-delta", "Files", nil)
	o2 := s.offer("by file", "BEES-A", func(o *purchasestore.Offer) { o.PlatformID = &files.ID })
	s.tells("2", "purchase.completed", "new@elsewhere.example", "by file", "order-2", s.now)
	s.Deliver()
	list, err := deliverystore.Deliveries(t.Context(), s.Store,
		deliverystore.DeliveryFilter{OfferID: o2.ID, Limit: 10})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, deliverystore.DeliveryWaiting, list[0].State)
	assert.Equal(t, "buyer-unknown", list[0].Code)
	assert.Equal(t, map[string]string{"Basil Bough": "active, access-without-enrolment"}, s.verdicts(o2.ID))
	s.Standins.School.Admit("Basil", "Bough", "new@elsewhere.example")
	s.Read(s.register, false)
	require.NoError(t, s.Purchases.Tick(t.Context())) // the queued job
	s.Deliver()
	pending, _, err := deliverystore.Pickups(t.Context(), s.Store, files.ID, time.Time{})
	require.NoError(t, err)
	require.Len(t, pending, 1, "the next read enrols them, as the finding says")
	assert.Equal(t, "sec-bees-a", pending[0].Section)
}

// A purchase that gives nothing is told, with the cause.
func TestPurchasesThatGiveNothingShow_E10(t *testing.T) {
	s := open(t)
	s.offer("place", "SOIL-A", nil)
	s.tells("1", "purchase.completed", "not an address", "place", "order-1", s.now)
	course := s.Section("PROP-A").CourseID
	s.offer("later", "PROP-A", func(o *purchasestore.Offer) {
		o.SectionIDs, o.CourseID, o.TermRule = nil, &course,
			purchases.NextTerm
	})
	s.tells("2", "purchase.completed", nora, "later", "order-2", s.now)
	got, err := purchasestore.TroubledAccesses(t.Context(), s.Store)
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.Equal(t, "offer-without-section", got[0].Code)
	assert.Equal(t, "Dora Daisy", got[0].Buyer)
	assert.Equal(t, "buyer-unknown", got[1].Code)
	s.tells("3", "purchase.cancelled", nora, "later", "order-2", s.now)
	got, err = purchasestore.TroubledAccesses(t.Context(), s.Store)
	require.NoError(t, err)
	assert.Len(t, got, 1, "what was cancelled troubles nobody")
}

func TestTwoPurchasesOfOneSection(t *testing.T) {
	s := open(t)
	s.offer("place", "SOIL-A", nil)
	s.offer("membership", "SOIL-A", nil)
	s.tells("1", "purchase.completed", nora, "place", "order-1", s.now)
	s.tells("2", "membership.started", nora, "membership", "member-1", s.now)
	s.tells("3", "purchase.cancelled", nora, "place", "order-1", s.now)
	s.Deliver()
	assert.True(t, s.enrolled("stu-030", "sec-soil-a"), "the membership still gives access")
	s.tells("4", "membership.ended", nora, "membership", "member-1", s.now)
	s.Deliver()
	assert.False(t, s.enrolled("stu-030", "sec-soil-a"))
}

func TestSectionOfACourseIsChosenOnce(t *testing.T) {
	s := open(t)
	course := s.Section("PROP-A").CourseID
	o := s.offer("any group", "PROP-A", func(o *purchasestore.Offer) {
		o.SectionIDs, o.CourseID, o.TermRule = nil, &course, purchases.CurrentTerm
	})
	s.tells("1", "purchase.completed", "new@elsewhere.example", "any group", "order-1", s.now)
	sides, err := s.Purchases.Sides(t.Context(), o.ID)
	require.NoError(t, err)
	require.Len(t, sides, 1)
	chosen := sides[0].Section
	s.Deliver()
	for _, who := range []string{"stu-040", "stu-041", "stu-042"} { // it is not the emptiest any more
		require.NoError(t, s.Standins.School.Enrol(who, "sec-prop-"+string(chosen[len(chosen)-1]|0x20)))
	}
	s.Read(s.register, false)
	require.NoError(t, s.Purchases.Tick(t.Context()))
	sides, err = s.Purchases.Sides(t.Context(), o.ID)
	require.NoError(t, err)
	require.Len(t, sides, 1, "and nobody is moved")
	assert.Equal(t, chosen, sides[0].Section)

	next := s.offer("later", "PROP-A", func(o *purchasestore.Offer) {
		o.SectionIDs, o.CourseID, o.TermRule = nil,
			&course, purchases.NextTerm
	})
	s.tells("2", "purchase.completed", nora, "later", "order-2", s.now)
	sides, err = s.Purchases.Sides(t.Context(), next.ID)
	require.NoError(t, err)
	assert.Empty(t, sides, "propagation is not given next term")
}

func TestOffersThatCannotWorkAreRefused(t *testing.T) {
	s := open(t)
	good := purchasestore.Offer{
		Name: "n", InterfaceID: s.connection.ID, Offer: "o",
		SectionIDs: []string{s.Section("SOIL-A").ID}, PlatformID: &s.platform.ID, AtEnd: purchases.Unenrol,
	}
	for want, change := range map[string]func(*purchasestore.Offer){
		"say what is sold":       func(o *purchasestore.Offer) { o.Name = " " },
		"what the service calls": func(o *purchasestore.Offer) { o.Offer = "" },
		"between 0 and":          func(o *purchasestore.Offer) { o.GraceDays = -1 },
		"not one of unenrol":     func(o *purchasestore.Offer) { o.AtEnd = "shrug" },
		"name the sections":      func(o *purchasestore.Offer) { o.SectionIDs = nil },
		"not both":               func(o *purchasestore.Offer) { o.CourseID = &o.SectionIDs[0] },
		"is of kind scim":        func(o *purchasestore.Offer) { o.InterfaceID = s.platform.ID },
		"there is no section":    func(o *purchasestore.Offer) { o.SectionIDs = []string{db.NewID()} },
	} {
		o := good
		change(&o)
		_, err := s.Purchases.Save(t.Context(), "test", "", 0, o)
		assert.ErrorContains(t, err, want)
	}
}

// Whatever order purchases and cancellations come in, and however often, the same
// access is left, and each of its ends happens once.
func TestOrderOfReportsDoesNotMatter_E10(t *testing.T) {
	s := open(t)
	o := s.offer("place", "SOIL-A", func(o *purchasestore.Offer) { o.PlatformID = nil })
	start := s.now.Add(-24 * time.Hour)
	n := 0
	rapid.Check(t, func(r *rapid.T) {
		n++
		email, order := "x"+string(rune('a'+n%26))+time.Duration(n).String()+"@elsewhere.example", "o"
		type told struct {
			kind string
			at   time.Time
		}
		steps := rapid.IntRange(1, 4).Draw(r, "steps")
		var reports []told
		for i := range steps { // bought, cancelled, bought again, …
			reports = append(reports, told{
				[]string{"purchase.completed", "purchase.cancelled"}[i%2],
				start.Add(time.Duration(i) * time.Hour),
			})
		}
		sent := rapid.Permutation(append(slices.Clone(reports),
			reports[rapid.IntRange(0, steps-1).Draw(r, "twice")])).Draw(r, "order")
		for _, x := range sent {
			s.tells(email+x.at.String(), x.kind, email, "place", order, x.at)
		}
		sides, err := purchasestore.Sides(t.Context(), s.Store, o.ID, s.now)
		require.NoError(t, err)
		access := "none"
		for _, x := range sides {
			if x.Buyer == email {
				access = x.Access
			}
		}
		if steps%2 == 1 && access != "active" {
			r.Fatalf("%v: the last was a purchase, and access is %s", sent, access)
		}
		if steps%2 == 0 && access != "ended" && access != "none" { // none: the end came first
			r.Fatalf("%v: the last was a cancellation, and access is %s", sent, access)
		}
	})
}

// Batches about the same orders, told from two sides at once and in two orders, are all
// taken: one that stood in the other's way is taken anew.
func TestBatchesAboutTheSameOrders_E10(t *testing.T) {
	s := open(t)
	o := s.offer("place", "SOIL-A", nil)
	const orders = 60
	batch := func(from string, backwards bool) (list []webhook.Received) {
		for i := range orders {
			if backwards {
				i = orders - 1 - i
			}
			data, err := json.Marshal(map[string]any{
				"email": fmt.Sprintf("buyer-%d@elsewhere.example", i),
				"offer": "place",
			})
			require.NoError(t, err)
			list = append(list, webhook.Received{Event: webhook.Event{
				ID: fmt.Sprint(from, i), Source: from,
				Type: "purchase.completed", Subject: fmt.Sprint("order-",
					i), Time: s.now.Add(-time.Hour),
			}, Data: data})
		}
		return list
	}
	var group errgroup.Group
	for i := range 6 {
		list := batch(fmt.Sprintf("https://side-%d.example/", i), i%2 == 1)
		group.Go(func() error {
			problems, err := s.Facts.Report(t.Context(), s.connection, list)
			return errors.Join(append(problems, err)...)
		})
	}
	require.NoError(t, group.Wait())
	sides, err := s.Purchases.Sides(t.Context(), o.ID)
	require.NoError(t, err)
	assert.Len(t, sides, orders, "one access for each order, however many tell about it")
}
