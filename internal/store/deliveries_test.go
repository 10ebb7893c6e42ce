package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/rest"
	"kanban/internal/core/rule"
	"kanban/internal/store"
)

// joined is the event that somebody joined a section.
func joined(w *apptest.World, who string) store.Event {
	p, s := w.Person(who), w.Section("PROP-A")
	return store.Event{Type: string(rule.SectionJoined), NaturalKey: store.NewID(), PersonID: &p.ID, SectionID: &s.ID, CourseID: &s.CourseID, Data: map[string]any{"role": "student"}, OccurredAt: time.Now().UTC()}
}

func TestRules(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	r := w.Rule(rule.Draft{Name: "Greet", Trigger: string(rule.SectionJoined), Once: true, Actions: []rule.Action{{Kind: rule.OpenTask, Subject: "Greet"}}})
	assert.Equal(t, "Greet", must[store.Rule](t)(s.Rule(ctx, r.ID)).Name)
	missing[store.Rule](t)(s.Rule(ctx, store.NewID()))
	assert.Len(t, must[[]store.Rule](t)(s.Rules(ctx)), 1)
	assert.Len(t, must[[]store.Rule](t)(s.RulesOn(ctx)), 1)
	mark := must[int64](t)(s.RulesMark(ctx))
	edited := must[store.Rule](t)(s.Rule(ctx, r.ID))
	stale := edited
	edited.Name = "Greet all"
	tx(t, s, func(tx *store.Tx) error {
		if err := tx.UpdateRule(&edited); err != nil {
			return err
		}
		return tx.KeepVersion(ctx, edited, "Maud")
	})
	assert.NotEqual(t, mark, must[int64](t)(s.RulesMark(ctx)), "whoever keeps rules hears of it")
	assert.ErrorIs(t, s.InTx(ctx, func(tx *store.Tx) error { return tx.UpdateRule(&stale) }), store.ErrStale)
	versions := must[[]store.RuleVersion](t)(s.RuleVersions(ctx, r.ID))
	assert.Equal(t, "Maud", versions[0].Who)
	require.NoError(t, s.Tried(ctx, r.ID, edited.Version, ""))
	assert.NotNil(t, must[store.Rule](t)(s.Rule(ctx, r.ID)).TriedAt)
	tx(t, s, func(tx *store.Tx) error { return tx.KeepMissing(ctx, edited, []string{"the label learner"}) })
	assert.Len(t, must[[]store.Rule](t)(s.Lacking(ctx)), 1)

	e := w.Record(joined(w, "stu-014"))
	fired, once, err := s.Fired(ctx, r.ID)
	require.NoError(t, err)
	assert.True(t, fired[e.ID])
	assert.Len(t, once, 1)
	usage := must[[]store.RuleUsage](t)(s.RuleUsage(ctx, time.Now()))
	require.Len(t, usage, 1)
	assert.Equal(t, 1, usage[0].Fired)

	until := must[*time.Time](t)(s.ClaimCall(ctx, r.ID, time.Now(), time.Hour, 1))
	assert.Nil(t, until)
	until = must[*time.Time](t)(s.ClaimCall(ctx, r.ID, time.Now(), time.Hour, 1))
	assert.NotNil(t, until, "one an hour")

	u := store.Unsubscribe{RuleID: r.ID, AddressKey: "a@fernmoor.example", Address: "A@fernmoor.example"}
	tx(t, s, func(tx *store.Tx) error { return tx.KeepUnsubscribe(ctx, u) })
	tx(t, s, func(tx *store.Tx) error { return tx.KeepUnsubscribe(ctx, u) })
	assert.True(t, must[bool](t)(s.Unsubscribed(ctx, r.ID, u.AddressKey)))
	assert.Len(t, must[[]store.Unsubscribe](t)(s.Unsubscribes(ctx, r.ID)), 1)
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *store.Tx) error {
			ok, err := tx.DropUnsubscribe(ctx, r.ID, u.AddressKey)
			assert.Equal(t, want, ok)
			return err
		})
	}
	tx(t, s, func(tx *store.Tx) error { return tx.RemoveRule(ctx, r.ID) })
	missing[store.Rule](t)(s.Rule(ctx, r.ID))
}

func TestEvents(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	e := w.Record(joined(w, "stu-014"))
	listed := must[[]store.ListedEvent](t)(s.Events(ctx, store.EventFilter{Type: e.Type, PersonID: *e.PersonID, Limit: 9}))
	require.Len(t, listed, 1)
	assert.Equal(t, []string{w.Person("stu-014").GivenName + " " + w.Person("stu-014").FamilyName, "Propagation A"}, []string{listed[0].Person, listed[0].Section})
	assert.Empty(t, must[[]store.ListedEvent](t)(s.Events(ctx, store.EventFilter{Before: e.ID, Type: e.Type, Limit: 9})))
	assert.Len(t, must[[]store.Event](t)(s.EventsFor(ctx, store.EventQuery{Trigger: e.Type, Since: time.Now().Add(-time.Hour), Limit: 9})), 1)
	assert.Len(t, must[[]store.Event](t)(s.EventsByID(ctx, []string{e.ID, store.NewID()})), 1)
	assert.Empty(t, must[[]store.Event](t)(s.ReportedBy(ctx, store.NewID(), 9)))
	assert.False(t, must[bool](t)(s.EventsFrom(ctx, store.NewID())))
	tx(t, s, func(tx *store.Tx) error {
		results, err := tx.Results(ctx, e)
		assert.Empty(t, results, "nobody tested anything")
		return err
	})
	before := count(t, s, "river_job")
	tx(t, s, func(tx *store.Tx) error { return tx.EnqueueReactions(ctx, []string{e.ID}) })
	assert.Greater(t, count(t, s, "river_job"), before)
	at := time.Date(2026, 3, 17, 8, 0, 0, 0, time.UTC)
	assert.Equal(t, time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC), store.MonthOf(at))
	assert.Less(t, store.FirstID(at), store.FirstID(at.Add(time.Millisecond)))
	chains := must[map[string]int](t)(s.KeepChains(ctx, []string{e.ID}))
	assert.NotNil(t, chains)
}

// The way of a delivery: claimed, tried, held, waiting, put back, given up, undone.
func TestDeliveries(t *testing.T) {
	w, _ := school(t)
	s, ctx, contacts := w.Store, t.Context(), w.Contacts()
	r := w.Rule(rule.Draft{Name: "Tell", Trigger: string(rule.SectionJoined), Actions: []rule.Action{{Kind: rule.Send, ConnectionID: contacts.ID}, {Kind: rule.OpenTask, Subject: "Greet"}}})
	e := w.Record(joined(w, "stu-014"))
	ofEvent := store.DeliveryFilter{EventID: e.ID, Limit: 9}
	all := must[[]store.ListedDelivery](t)(s.Deliveries(ctx, ofEvent))
	require.Len(t, all, 2)
	first := must[store.Delivery](t)(s.Delivery(ctx, w.Deliveries(e.ID)[0].ID))
	second := must[store.Delivery](t)(s.Delivery(ctx, w.Deliveries(e.ID)[1].ID))
	missing[store.Delivery](t)(s.Delivery(ctx, store.NewID()))
	assert.Len(t, must[[]store.Delivery](t)(s.Following(ctx, first)), 2)
	assert.Equal(t, e.ID, must[map[string]store.Event](t)(s.EventsOf(ctx, []store.Delivery{first}))[e.ID].ID)
	tx(t, s, func(tx *store.Tx) error {
		ids, err := tx.ConnectionsOf(ctx, []string{first.ID, second.ID})
		assert.Equal(t, []string{contacts.ID}, ids)
		return err
	})

	lease := must[store.Lease](t)(s.Register(ctx, time.Minute))
	lanes := must[[]store.Lane](t)(s.ReadyLanes(ctx, time.Now().Add(time.Minute)))
	require.NotEmpty(t, lanes)
	ready := []store.Delivery{}
	for _, l := range lanes {
		ready = append(ready, must[[]store.Delivery](t)(s.ReadyDeliveries(ctx, l, time.Now().Add(time.Minute), 9, nil, store.ReadyAfter{}))...)
	}
	require.NotEmpty(t, ready)
	assert.Equal(t, first.ID, ready[0].ID)
	assert.Empty(t, must[[]store.Delivery](t)(s.ReadyDeliveries(ctx, lanes[0], time.Now().Add(time.Minute), 9, nil, store.After(ready[0]))))

	until := time.Now().Add(time.Hour)
	require.NoError(t, s.Hold(ctx, store.HeldDelivery{ID: first.ID, Why: "limit", Until: until}))
	assert.Equal(t, "limit", must[store.Delivery](t)(s.Delivery(ctx, first.ID)).Held)
	tx(t, s, func(tx *store.Tx) error {
		ids, err := tx.Requeue(ctx, ofEvent)
		assert.Contains(t, ids, first.ID)
		return err
	})

	begun := must[map[string]int](t)(s.BeginAttempts(ctx, lease.Worker, time.Now().Add(time.Minute), time.Now(), first.ID))
	require.Equal(t, map[string]int{first.ID: 1}, begun)
	assert.Empty(t, must[map[string]int](t)(s.BeginAttempts(ctx, "another", time.Now().Add(time.Minute), time.Now(), first.ID)), "it is somebody's")
	require.NoError(t, s.Unclaim(ctx, lease.Worker, first.ID))
	begun = must[map[string]int](t)(s.BeginAttempts(ctx, lease.Worker, time.Now().Add(time.Minute), time.Now(), first.ID))
	d := must[store.Delivery](t)(s.Delivery(ctx, first.ID))
	d.State, d.Code, d.LastError = "waiting", string(finding.AddressMissing), "no address"
	tx(t, s, func(tx *store.Tx) error {
		_, err := tx.EndAttempts(ctx, lease.Worker, []*store.Delivery{&d}, []store.Attempt{{DeliveryID: d.ID, Number: begun[d.ID], Error: "no address"}}, true)
		return err
	})
	attempts := must[[]store.Attempt](t)(s.Attempts(ctx, first.ID))
	assert.Equal(t, "no address", attempts[len(attempts)-1].Error)
	groups := must[[]store.WaitingGroup](t)(s.WaitingGroups(ctx))
	require.Len(t, groups, 1)
	assert.Equal(t, 1, groups[0].Count)
	assert.Equal(t, 1, must[map[string]int](t)(s.StillToCome(ctx, store.DeliveryFilter{RuleID: r.ID}))["waiting"])
	assert.Equal(t, 0, must[int](t)(s.WaitingFor(ctx, contacts.ID, "nothing")))

	for code, requeue := range map[finding.Code]func(tx *store.Tx) (int, error){
		finding.WrongCredential: func(tx *store.Tx) (int, error) { return tx.RequeueAnswered(ctx, contacts.ID) },
		finding.GroupMissing:    func(tx *store.Tx) (int, error) { return tx.RequeueFound(ctx, r.ID) },
		finding.AccountMissing:  func(tx *store.Tx) (int, error) { return tx.RequeueMatched(ctx, contacts.ID, *e.PersonID) },
		finding.AddressMissing: func(tx *store.Tx) (int, error) {
			return tx.RequeueMended(ctx, must[string](t)(s.RegisterOf(ctx, *e.PersonID)))
		},
	} {
		_, err := s.Pool.Exec(ctx, `UPDATE deliveries SET state = 'waiting', code = $2 WHERE id = $1`, first.ID, code)
		require.NoError(t, err)
		for _, want := range []int{1, 0} {
			tx(t, s, func(tx *store.Tx) error {
				n, err := requeue(tx)
				assert.Equal(t, want, n, code)
				return err
			})
		}
		assert.Equal(t, "queued", must[store.Delivery](t)(s.Delivery(ctx, first.ID)).State, code)
	}
	assert.ErrorIs(t, s.InTx(ctx, func(tx *store.Tx) error { return tx.RequeueOne(ctx, first.ID) }), store.ErrStale, "it is queued already")
	assert.True(t, must[bool](t)(s.Earlier(ctx, store.Delivery{ID: store.NewID(), ConnectionID: first.ConnectionID, PersonID: first.PersonID})))

	begun = must[map[string]int](t)(s.BeginAttempts(ctx, lease.Worker, time.Now().Add(time.Minute), time.Now(), first.ID))
	d = must[store.Delivery](t)(s.Delivery(ctx, first.ID))
	d.State = "delivered"
	written := must[map[string]bool](t)(s.EndPlain(ctx, lease.Worker, []*store.Delivery{&d}, []store.Attempt{{DeliveryID: d.ID, Number: begun[d.ID], Status: 200}}))
	assert.True(t, written[d.ID])
	tx(t, s, func(tx *store.Tx) error {
		undoable, err := tx.Undoable(ctx, r.ID, store.Event{ID: store.NewID(), Type: string(rule.SectionLeft), PersonID: e.PersonID, SectionID: e.SectionID})
		require.NotEmpty(t, undoable)
		if err == nil {
			err = tx.Release(ctx, first.ID, "")
		}
		return err
	})
	tx(t, s, func(tx *store.Tx) error { return tx.Begin(ctx, time.Now(), second.ID) })
	tx(t, s, func(tx *store.Tx) error { tx.Queued(); return tx.Stop(ctx, second, "over") })
	assert.Equal(t, "stopped", must[store.Delivery](t)(s.Delivery(ctx, second.ID)).State)
	e = w.Record(joined(w, "stu-015"))
	tx(t, s, func(tx *store.Tx) error {
		stopped, underWay, err := tx.GiveUp(ctx, store.DeliveryFilter{RuleID: r.ID}, "enough")
		assert.Equal(t, []int{2, 0}, []int{stopped, underWay})
		return err
	})
	again := w.Deliveries(e.ID)[0].Delivery
	again.ID, again.Position = store.NewID(), 5
	tx(t, s, func(tx *store.Tx) error {
		added, err := tx.AddDeliveries(ctx, []store.Delivery{again})
		assert.True(t, added[again.ID])
		return err
	})
	require.NoError(t, s.EndLease(ctx, lease))
	require.NoError(t, s.EndDeadLeases(ctx))
	_ = must[int64](t)(s.GiveBack(ctx))
	assert.Empty(t, must[[]store.Consequence](t)(s.ConsequencesOfReversed(ctx)))
}

// A service that fails again and again rests, and is let through one by one.
func TestRests(t *testing.T) {
	w, _ := school(t)
	s, ctx, contacts := w.Store, t.Context(), w.Contacts()
	assert.Empty(t, must[[]store.Rest](t)(s.Rests(ctx, contacts.ID)))
	until := time.Now().Add(time.Hour).UTC()
	tx(t, s, func(tx *store.Tx) error {
		_, err := tx.CountFailure(ctx, contacts.ID, "", "Plant news", func(r rest.Record) rest.Record {
			r.Failures, r.Until = r.Failures+1, until
			return r
		})
		return err
	})
	list := must[[]store.Rest](t)(s.Rests(ctx, contacts.ID))
	require.Len(t, list, 1)
	assert.Equal(t, 1, list[0].Failures)
	assert.True(t, must[bool](t)(s.LetThrough(ctx, contacts.ID, "", time.Now().Add(2*time.Hour), time.Minute)))
	assert.False(t, must[bool](t)(s.LetThrough(ctx, contacts.ID, "", time.Now().Add(2*time.Hour), time.Minute)), "one at a time")
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *store.Tx) error {
			ok, err := tx.Worked(ctx, contacts.ID, "")
			assert.Equal(t, want, ok)
			return err
		})
	}
	tx(t, s, func(tx *store.Tx) error { return tx.WorkedAll(ctx, contacts.ID) })
	assert.Empty(t, must[[]store.Rest](t)(s.Rests(ctx, contacts.ID)))
}

func TestOperationsTasksAndSheets(t *testing.T) {
	w, _ := school(t)
	s, ctx, labels := w.Store, t.Context(), w.Labels()
	assert.Len(t, must[[]rule.Operation](t)(s.Operations(ctx, labels.ID)), 2)
	o := must[rule.Operation](t)(s.Operation(ctx, labels.ID, "add-label"))
	o.Title = "Add"
	tx(t, s, func(tx *store.Tx) error { return tx.KeepOperation(ctx, labels.ID, o) })
	assert.Equal(t, "Add", must[rule.Operation](t)(s.Operation(ctx, labels.ID, "add-label")).Title)
	tx(t, s, func(tx *store.Tx) error { return tx.DropOperation(ctx, labels.ID, "add-label") })
	missing[rule.Operation](t)(s.Operation(ctx, labels.ID, "add-label"))

	w.Rule(rule.Draft{Name: "Greet", Trigger: string(rule.SectionJoined), Actions: []rule.Action{{Kind: rule.OpenTask, Subject: "Greet"}}})
	w.Record(joined(w, "stu-014"))
	w.Deliver()
	tasks := must[[]store.ListedTask](t)(s.Tasks(ctx, false, 9))
	require.Len(t, tasks, 1)
	assert.Equal(t, "Greet", tasks[0].Rule)
	tx(t, s, func(tx *store.Tx) error { return tx.HasTask(ctx, tasks[0].ID) })
	assert.ErrorIs(t, s.InTx(ctx, func(tx *store.Tx) error { return tx.HasTask(ctx, store.NewID()) }), store.ErrNotFound)
	tx(t, s, func(tx *store.Tx) error {
		ok, err := tx.EndTask(ctx, store.Task{ID: tasks[0].ID}, "Maud")
		assert.True(t, ok)
		return err
	})
	assert.Empty(t, must[[]store.ListedTask](t)(s.Tasks(ctx, false, 9)))
	assert.Equal(t, "Maud", must[[]store.ListedTask](t)(s.Tasks(ctx, true, 9))[0].DoneBy)
	tx(t, s, func(tx *store.Tx) error {
		ok, err := tx.ReopenTask(ctx, tasks[0].ID)
		assert.True(t, ok)
		return err
	})

	row := store.NewID()
	for range 2 {
		tx(t, s, func(tx *store.Tx) error { return tx.AppendRow(ctx, "Arrivals", row, map[string]any{"name": "Ada"}) })
	}
	sheets := must[[]store.Sheet](t)(s.Sheets(ctx))
	require.Len(t, sheets, 1)
	assert.Equal(t, 1, sheets[0].Rows, "a row has one delivery")
	assert.Equal(t, "Ada", must[[]store.SheetRow](t)(s.SheetRows(ctx, "Arrivals"))[0].Cells["name"])
}
