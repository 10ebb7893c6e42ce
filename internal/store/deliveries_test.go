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
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/leases"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/taskstore"
)

// joined is the event that somebody joined a section.
func joined(w *apptest.World, who string) eventstore.Event {
	p, s := w.Person(who), w.Section("PROP-A")
	return eventstore.Event{
		Type: string(rule.SectionJoined), NaturalKey: db.NewID(), PersonID: &p.ID,
		SectionID: &s.ID, CourseID: &s.CourseID, Data: map[string]any{"role": "student"},
		OccurredAt: time.Now().UTC(),
	}
}

func TestRules(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	r := w.Rule(rule.Draft{
		Name: "Greet", Trigger: string(rule.SectionJoined), OncePerPerson: true,
		Actions: []rule.Action{{Kind: rule.OpenTask, Subject: "Greet"}},
	})
	assert.Equal(t, "Greet", must[rulestore.Rule](t)(rulestore.FindRule(ctx, s, r.ID)).Name)
	missing[rulestore.Rule](t)(rulestore.FindRule(ctx, s, db.NewID()))
	assert.Len(t, must[[]rulestore.Rule](t)(rulestore.Rules(ctx, s)), 1)
	assert.Len(t, must[[]rulestore.Rule](t)(rulestore.RulesOn(ctx, s)), 1)
	mark := must[int64](t)(rulestore.RulesMark(ctx, s))
	edited := must[rulestore.Rule](t)(rulestore.FindRule(ctx, s, r.ID))
	stale := edited
	edited.Name = "Greet all"
	tx(t, s, func(tx *db.Tx) error {
		if err := rulestore.UpdateRule(tx, &edited); err != nil {
			return err
		}
		return rulestore.KeepVersion(ctx, tx, edited, "Maud")
	})
	assert.NotEqual(t, mark, must[int64](t)(rulestore.RulesMark(ctx, s)), "whoever keeps rules hears of it")
	assert.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return rulestore.UpdateRule(tx, &stale) }), db.ErrStale)
	versions := must[[]rulestore.RuleVersion](t)(rulestore.RuleVersions(ctx, s, r.ID))
	assert.Equal(t, "Maud", versions[0].Who)
	require.NoError(t, rulestore.KeepTrial(ctx, s, r.ID, edited.Version, ""))
	assert.NotNil(t, must[rulestore.Rule](t)(rulestore.FindRule(ctx, s, r.ID)).TriedAt)
	tx(t, s, func(tx *db.Tx) error { return rulestore.KeepMissing(ctx, tx, edited, []string{"the label learner"}) })
	assert.Len(t, must[[]rulestore.Rule](t)(rulestore.RulesLacking(ctx, s)), 1)

	e := w.Record(joined(w, "stu-014"))
	fired, once, err := eventstore.FiredFor(ctx, s, r.ID)
	require.NoError(t, err)
	assert.True(t, fired[e.ID])
	assert.Len(t, once, 1)
	usage := must[[]rulestore.RuleUsage](t)(rulestore.UsageOfRules(ctx, s, time.Now()))
	require.Len(t, usage, 1)
	assert.Equal(t, 1, usage[0].Fired)

	until := must[*time.Time](t)(deliverystore.ClaimCall(ctx, s, r.ID, time.Now(), time.Hour, 1))
	assert.Nil(t, until)
	until = must[*time.Time](t)(deliverystore.ClaimCall(ctx, s, r.ID, time.Now(), time.Hour, 1))
	assert.NotNil(t, until, "one an hour")

	u := rulestore.Unsubscribe{RuleID: r.ID, AddressKey: "a@fernmoor.example", Address: "A@fernmoor.example"}
	tx(t, s, func(tx *db.Tx) error { return rulestore.KeepUnsubscribe(ctx, tx, u) })
	tx(t, s, func(tx *db.Tx) error { return rulestore.KeepUnsubscribe(ctx, tx, u) })
	assert.True(t, must[bool](t)(rulestore.Unsubscribed(ctx, s, r.ID, u.AddressKey)))
	assert.Len(t, must[[]rulestore.Unsubscribe](t)(rulestore.Unsubscribes(ctx, s, r.ID)), 1)
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *db.Tx) error {
			ok, err := rulestore.DropUnsubscribe(ctx, tx, r.ID, u.AddressKey)
			assert.Equal(t, want, ok)
			return err
		})
	}
	tx(t, s, func(tx *db.Tx) error { return rulestore.RemoveRule(ctx, tx, r.ID) })
	missing[rulestore.Rule](t)(rulestore.FindRule(ctx, s, r.ID))
}

func TestEvents(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	e := w.Record(joined(w, "stu-014"))
	listed := must[[]eventstore.ListedEvent](t)(eventstore.Events(ctx, s,
		eventstore.EventFilter{Type: e.Type, PersonID: *e.PersonID, Limit: 9}))
	require.Len(t, listed, 1)
	assert.Equal(t, []string{w.Person("stu-014").GivenName + " " + w.Person("stu-014").FamilyName, "Propagation A"},
		[]string{listed[0].Person, listed[0].Section})
	assert.Empty(t, must[[]eventstore.ListedEvent](t)(eventstore.Events(ctx, s,
		eventstore.EventFilter{Before: e.ID, Type: e.Type, Limit: 9})))
	assert.Len(t, must[[]eventstore.Event](t)(eventstore.EventsFor(ctx, s,
		eventstore.EventQuery{Trigger: e.Type, Since: time.Now().Add(-time.Hour), Limit: 9})), 1)
	assert.Len(t, must[[]eventstore.Event](t)(eventstore.EventsByID(ctx, s, []string{e.ID, db.NewID()})), 1)
	assert.Empty(t, must[[]eventstore.Event](t)(eventstore.ReportedBy(ctx, s, db.NewID(), 9)))
	assert.False(t, must[bool](t)(connectionstore.EventsFrom(ctx, s, db.NewID())))
	tx(t, s, func(tx *db.Tx) error {
		results, err := eventstore.Results(ctx, tx, e)
		assert.Empty(t, results, "nobody tested anything")
		return err
	})
	before := count(t, s, "river_job")
	tx(t, s, func(tx *db.Tx) error { return eventstore.EnqueueReactions(ctx, tx, []string{e.ID}) })
	assert.Greater(t, count(t, s, "river_job"), before)
	at := time.Date(2026, 3, 17, 8, 0, 0, 0, time.UTC)
	assert.Equal(t, time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC), db.MonthOf(at))
	assert.Less(t, db.FirstID(at), db.FirstID(at.Add(time.Millisecond)))
	chains := must[map[string]int](t)(deliverystore.KeepChains(ctx, s, []string{e.ID}))
	assert.NotNil(t, chains)
}

// The way of a delivery: claimed, tried, held, waiting, put back, given up, undone.
func TestDeliveries(t *testing.T) {
	w, _ := school(t)
	s, ctx, contacts := w.Store, t.Context(), w.Contacts()
	r := w.Rule(rule.Draft{
		Name: "Tell", Trigger: string(rule.SectionJoined),
		Actions: []rule.Action{
			{Kind: rule.SendEvent, InterfaceID: contacts.ID},
			{Kind: rule.OpenTask, Subject: "Greet"},
		},
	})
	e := w.Record(joined(w, "stu-014"))
	ofEvent := deliverystore.DeliveryFilter{EventID: e.ID, Limit: 9}
	all := must[[]deliverystore.ListedDelivery](t)(deliverystore.Deliveries(ctx, s, ofEvent))
	require.Len(t, all, 2)
	first := must[deliverystore.Delivery](t)(deliverystore.FindDelivery(ctx, s, w.DeliveriesOf(e.ID)[0].ID))
	second := must[deliverystore.Delivery](t)(deliverystore.FindDelivery(ctx, s, w.DeliveriesOf(e.ID)[1].ID))
	missing[deliverystore.Delivery](t)(deliverystore.FindDelivery(ctx, s, db.NewID()))
	assert.Len(t, must[[]deliverystore.Delivery](t)(deliverystore.Following(ctx, s, first)), 2)
	assert.Equal(t, e.ID, must[map[string]eventstore.Event](t)(deliverystore.EventsOf(ctx, s,
		[]deliverystore.Delivery{first}))[e.ID].ID)
	tx(t, s, func(tx *db.Tx) error {
		ids, err := deliverystore.InterfacesOf(ctx, tx, []string{first.ID, second.ID})
		assert.Equal(t, []string{contacts.ID}, ids)
		return err
	})

	lease := must[leases.Lease](t)(leases.Register(ctx, s, time.Minute))
	lanes := must[[]deliverystore.Lane](t)(deliverystore.ReadyLanes(ctx, s, time.Now().Add(time.Minute)))
	require.NotEmpty(t, lanes)
	ready := []deliverystore.Delivery{}
	for _, l := range lanes {
		ready = append(ready, must[[]deliverystore.Delivery](t)(deliverystore.ReadyDeliveries(ctx, s, l,
			time.Now().Add(time.Minute), 9, nil, deliverystore.ReadyAfter{}))...)
	}
	require.NotEmpty(t, ready)
	assert.Equal(t, first.ID, ready[0].ID)
	assert.Empty(t, must[[]deliverystore.Delivery](t)(deliverystore.ReadyDeliveries(ctx, s, lanes[0],
		time.Now().Add(time.Minute), 9, nil, deliverystore.After(ready[0]))))

	until := time.Now().Add(time.Hour)
	require.NoError(t, deliverystore.HoldUntil(ctx, s,
		deliverystore.HeldDelivery{ID: first.ID, Why: "limit", Until: until}))
	assert.Equal(t, "limit", must[deliverystore.Delivery](t)(deliverystore.FindDelivery(ctx, s, first.ID)).Held)
	tx(t, s, func(tx *db.Tx) error {
		ids, err := deliverystore.Requeue(ctx, tx, ofEvent)
		assert.Contains(t, ids, first.ID)
		return err
	})

	begun := must[map[string]int](t)(deliverystore.BeginAttempts(ctx, s, lease.Worker, time.Now().Add(time.Minute),
		time.Now(), first.ID))
	require.Equal(t, map[string]int{first.ID: 1}, begun)
	assert.Empty(t, must[map[string]int](t)(deliverystore.BeginAttempts(ctx, s, "another",
		time.Now().Add(time.Minute), time.Now(), first.ID)), "it is somebody's")
	require.NoError(t, deliverystore.Unclaim(ctx, s, lease.Worker, first.ID))
	begun = must[map[string]int](t)(deliverystore.BeginAttempts(ctx, s, lease.Worker, time.Now().Add(time.Minute),
		time.Now(), first.ID))
	d := must[deliverystore.Delivery](t)(deliverystore.FindDelivery(ctx, s, first.ID))
	d.State, d.Code, d.LastError = "waiting", string(finding.AddressMissing), "no address"
	tx(t, s, func(tx *db.Tx) error {
		_, err := deliverystore.EndAttempts(ctx, tx, lease.Worker, []*deliverystore.Delivery{&d},
			[]deliverystore.Attempt{{DeliveryID: d.ID, Number: begun[d.ID], Error: "no address"}}, true)
		return err
	})
	attempts := must[[]deliverystore.Attempt](t)(deliverystore.Attempts(ctx, s, first.ID))
	assert.Equal(t, "no address", attempts[len(attempts)-1].Error)
	groups := must[[]deliverystore.WaitingGroup](t)(deliverystore.WaitingGroups(ctx, s))
	require.Len(t, groups, 1)
	assert.Equal(t, 1, groups[0].Count)
	assert.Equal(t, 1, must[map[string]int](t)(deliverystore.StillToCome(ctx, s,
		deliverystore.DeliveryFilter{RuleID: r.ID}))["waiting"])
	assert.Equal(t, 0, must[int](t)(deliverystore.WaitingFor(ctx, s, contacts.ID, "nothing")))

	for code, requeue := range map[finding.Code]func(tx *db.Tx) (int, error){
		finding.WrongCredential: func(tx *db.Tx) (int,
			error,
		) {
			return deliverystore.RequeueAnswered(ctx, tx, contacts.ID)
		},
		finding.GroupMissing: func(tx *db.Tx) (int, error) { return deliverystore.RequeueFound(ctx, tx, r.ID) },
		finding.AccountMissing: func(tx *db.Tx) (int,
			error,
		) {
			return deliverystore.RequeueMatched(ctx, tx, contacts.ID, *e.PersonID)
		},
		finding.AddressMissing: func(tx *db.Tx) (int, error) {
			return deliverystore.RequeueMended(ctx, tx, must[[]string](t)(matchstore.MarkedIn(ctx, s, *e.PersonID))[0])
		},
	} {
		_, err := s.Pool.Exec(ctx, `UPDATE deliveries SET state = 'waiting', code = $2 WHERE id = $1`, first.ID, code)
		require.NoError(t, err)
		for _, want := range []int{1, 0} {
			tx(t, s, func(tx *db.Tx) error {
				n, err := requeue(tx)
				assert.Equal(t, want, n, code)
				return err
			})
		}
		assert.Equal(t, "queued", must[deliverystore.Delivery](t)(deliverystore.FindDelivery(ctx, s, first.ID)).State,
			code)
	}
	assert.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return deliverystore.RequeueOne(ctx, tx, first.ID) }),
		db.ErrStale, "it is queued already")
	assert.True(t, must[bool](t)(deliverystore.HasEarlier(ctx, s,
		deliverystore.Delivery{ID: db.NewID(), InterfaceID: first.InterfaceID, PersonID: first.PersonID})))

	begun = must[map[string]int](t)(deliverystore.BeginAttempts(ctx, s, lease.Worker, time.Now().Add(time.Minute),
		time.Now(), first.ID))
	d = must[deliverystore.Delivery](t)(deliverystore.FindDelivery(ctx, s, first.ID))
	d.State = "delivered"
	written := must[map[string]bool](t)(deliverystore.EndPlain(ctx, s, lease.Worker, []*deliverystore.Delivery{&d},
		[]deliverystore.Attempt{{DeliveryID: d.ID, Number: begun[d.ID], Status: 200}}))
	assert.True(t, written[d.ID])
	tx(t, s, func(tx *db.Tx) error {
		undoable, err := deliverystore.FindUndoable(ctx, tx, r.ID,
			eventstore.Event{
				ID: db.NewID(), Type: string(rule.SectionLeft), PersonID: e.PersonID,
				SectionID: e.SectionID,
			})
		require.NotEmpty(t, undoable)
		if err == nil {
			err = deliverystore.AllowAgain(ctx, tx, first.ID, "")
		}
		return err
	})
	tx(t, s, func(tx *db.Tx) error { return deliverystore.QueuePlanned(ctx, tx, time.Now(), second.ID) })
	tx(t, s, func(tx *db.Tx) error {
		deliverystore.Queued(tx)
		return deliverystore.StopFollowing(ctx, tx, second, "over")
	})
	assert.Equal(t, "stopped", must[deliverystore.Delivery](t)(deliverystore.FindDelivery(ctx, s, second.ID)).State)
	e = w.Record(joined(w, "stu-015"))
	tx(t, s, func(tx *db.Tx) error {
		stopped, underWay, err := deliverystore.GiveUp(ctx, tx, deliverystore.DeliveryFilter{RuleID: r.ID}, "enough")
		assert.Equal(t, []int{2, 0}, []int{stopped, underWay})
		return err
	})
	again := w.DeliveriesOf(e.ID)[0].Delivery
	again.ID, again.Position = db.NewID(), 5
	tx(t, s, func(tx *db.Tx) error {
		added, err := deliverystore.AddDeliveries(ctx, tx, []deliverystore.Delivery{again})
		assert.True(t, added[again.ID])
		return err
	})
	require.NoError(t, leases.EndLease(ctx, s, lease))
	require.NoError(t, leases.EndDeadLeases(ctx, s))
	_ = must[int64](t)(leases.GiveBack(ctx, s))
	assert.Empty(t, must[[]deliverystore.Consequence](t)(deliverystore.ConsequencesOfReversed(ctx, s)))
}

// A service that fails again and again rests, and is let through one by one.
func TestRests(t *testing.T) {
	w, _ := school(t)
	s, ctx, contacts := w.Store, t.Context(), w.Contacts()
	assert.Empty(t, must[[]deliverystore.Rest](t)(deliverystore.Rests(ctx, s, contacts.ID)))
	until := time.Now().Add(time.Hour).UTC()
	tx(t, s, func(tx *db.Tx) error {
		_, err := deliverystore.CountFailure(ctx, tx, contacts.ID, "", "Plant news", func(r rest.Record) rest.Record {
			r.Failures, r.Until = r.Failures+1, until
			return r
		})
		return err
	})
	list := must[[]deliverystore.Rest](t)(deliverystore.Rests(ctx, s, contacts.ID))
	require.Len(t, list, 1)
	assert.Equal(t, 1, list[0].Failures)
	assert.True(t, must[bool](t)(deliverystore.TryDuringRest(ctx, s, contacts.ID, "", time.Now().Add(2*time.Hour),
		time.Minute)))
	assert.False(t, must[bool](t)(deliverystore.TryDuringRest(ctx, s, contacts.ID, "", time.Now().Add(2*time.Hour),
		time.Minute)), "one at a time")
	for _, want := range []bool{true, false} {
		tx(t, s, func(tx *db.Tx) error {
			ok, err := deliverystore.EndFailures(ctx, tx, contacts.ID, "")
			assert.Equal(t, want, ok)
			return err
		})
	}
	tx(t, s, func(tx *db.Tx) error { return deliverystore.EndAllFailures(ctx, tx, contacts.ID) })
	assert.Empty(t, must[[]deliverystore.Rest](t)(deliverystore.Rests(ctx, s, contacts.ID)))
}

func TestOperationsTasksAndSheets(t *testing.T) {
	w, _ := school(t)
	s, ctx, labels := w.Store, t.Context(), w.Labels()
	assert.Len(t, must[[]rule.Operation](t)(connectionstore.Operations(ctx, s, labels.ID)), 2)
	o := must[rule.Operation](t)(connectionstore.FindOperation(ctx, s, labels.ID, "add-label"))
	o.Title = "Add"
	tx(t, s, func(tx *db.Tx) error { return connectionstore.KeepOperation(ctx, tx, labels.ID, o) })
	assert.Equal(t, "Add", must[rule.Operation](t)(connectionstore.FindOperation(ctx, s, labels.ID,
		"add-label")).Title)
	tx(t, s, func(tx *db.Tx) error { return connectionstore.DropOperation(ctx, tx, labels.ID, "add-label") })
	missing[rule.Operation](t)(connectionstore.FindOperation(ctx, s, labels.ID, "add-label"))

	w.Rule(rule.Draft{
		Name: "Greet", Trigger: string(rule.SectionJoined),
		Actions: []rule.Action{{Kind: rule.OpenTask, Subject: "Greet"}},
	})
	w.Record(joined(w, "stu-014"))
	w.Deliver()
	tasks := must[[]taskstore.ListedTask](t)(taskstore.Tasks(ctx, s, false, 9, nil))
	require.Len(t, tasks, 1)
	assert.Equal(t, "Greet", tasks[0].Rule)
	tx(t, s, func(tx *db.Tx) error { return taskstore.HasTask(ctx, tx, tasks[0].ID) })
	assert.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return taskstore.HasTask(ctx, tx, db.NewID()) }),
		db.ErrNotFound)
	tx(t, s, func(tx *db.Tx) error {
		ok, err := taskstore.EndTask(ctx, tx, taskstore.Task{ID: tasks[0].ID}, "Maud")
		assert.True(t, ok)
		return err
	})
	assert.Empty(t, must[[]taskstore.ListedTask](t)(taskstore.Tasks(ctx, s, false, 9, nil)))
	assert.Equal(t, "Maud", must[[]taskstore.ListedTask](t)(taskstore.Tasks(ctx, s, true, 9, nil))[0].DoneBy)
	tx(t, s, func(tx *db.Tx) error {
		ok, err := taskstore.ReopenTask(ctx, tx, tasks[0].ID)
		assert.True(t, ok)
		return err
	})

	row := db.NewID()
	for range 2 {
		tx(t, s, func(tx *db.Tx) error {
			return deliverystore.AppendRow(ctx, tx, "Arrivals", row, map[string]any{"name": "Ada"})
		})
	}
	sheets := must[[]deliverystore.Sheet](t)(deliverystore.Sheets(ctx, s))
	require.Len(t, sheets, 1)
	assert.Equal(t, 1, sheets[0].Rows, "a row has one delivery")
	assert.Equal(t, "Ada", must[[]deliverystore.SheetRow](t)(deliverystore.SheetRows(ctx, s,
		"Arrivals"))[0].Cells["name"])
}
