package pipeline_test

import (
	"testing"
	"time"

	"kanban/internal/app/connections"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/standin/fault"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// world has a read register, a contact list and a rule that greets.
func world(t *testing.T, change func(*rule.Draft)) (*apptest.World, rulestore.Rule) {
	t.Helper()
	w := apptest.New(t)
	w.Read(w.Register(), false)
	d := rule.Draft{Name: "Greet", Trigger: "section.joined", OncePerPerson: true, Actions: []rule.Action{{
		Kind: rule.SendEvent, InterfaceID: w.Contacts().ID, Fields: map[string]string{
			"email": "person.email",
			"label": `"learns " + course.title`,
		},
	}}}
	if change != nil {
		change(&d)
	}
	r, err := w.Rules.Save(t.Context(), "test", "", 0, d)
	require.NoError(t, err)
	assert.Nil(t, r.OnSince, "a new rule is off")
	r, err = w.Rules.Switch(t.Context(), "test", r.ID, true, "")
	require.NoError(t, err)
	return w, r
}

func TestRuleFiresOncePerPersonAndTarget_E8(t *testing.T) {
	w, r := world(t, nil)
	first := w.Record(w.Joined("k1", "stu-001", "PROP-A"))
	require.Len(t, w.DeliveriesOf(first.ID), 1)
	require.NoError(t, w.Deliveries.React(t.Context(), []string{first.ID}, ""), "the job may come twice")
	assert.Len(t, w.DeliveriesOf(first.ID), 1)
	assert.Empty(t, w.DeliveriesOf(w.Record(w.Joined("k2", "stu-001", "PROP-A")).ID),
		"the same person and section again")
	assert.Len(t, w.DeliveriesOf(w.Record(w.Joined("k3", "stu-001", "SOIL-A")).ID), 1, "another section")
	assert.Len(t, w.DeliveriesOf(w.Record(w.Joined("k4", "stu-002", "PROP-A")).ID), 1, "another person")

	_, err := w.Rules.Switch(t.Context(), "test", r.ID, false, "finish")
	require.NoError(t, err)
	missed := w.Record(w.Joined("k5", "stu-003", "PROP-A"))
	_, err = w.Rules.Switch(t.Context(), "test", r.ID, true, "")
	require.NoError(t, err)
	require.NoError(t, w.Deliveries.React(t.Context(), []string{missed.ID}, ""))
	assert.Empty(t, w.DeliveriesOf(missed.ID), "what happened while it was off is not caught up")
}

func TestConditionDecides(t *testing.T) {
	w, _ := world(t, func(d *rule.Draft) {
		d.Condition = `event.role == "student" && person.givenName.startsWith("A")`
	})
	assert.Len(t, w.DeliveriesOf(w.Record(w.Joined("k1", "stu-001", "PROP-A")).ID), 1)
	assert.Empty(t, w.DeliveriesOf(w.Record(w.Joined("k2", "stu-002", "PROP-A")).ID))
	e := w.Joined("k3", "stu-027", "PROP-C") // Abel Aster, but the event lacks what is asked
	e.Data = nil
	waiting := w.DeliveriesOf(w.Record(e).ID)
	require.Len(t, waiting, 1, "a condition that cannot be worked out is not dropped silently")
	assert.Equal(t, deliverystore.DeliveryWaiting, waiting[0].State)
	assert.Equal(t, string(finding.ConditionRefused), waiting[0].Code)
}

func TestDeliveryIsRetriedThenWaits_E9(t *testing.T) {
	w, _ := world(t, nil)
	e := w.Record(w.Joined("k1", "stu-001", "PROP-A"))
	id := w.DeliveriesOf(e.ID)[0].ID
	deliver := func() (time.Duration, deliverystore.ListedDelivery) {
		t.Helper()
		again, err := w.Deliveries.Deliver(t.Context(), id)
		require.NoError(t, err)
		return again, w.DeliveriesOf(e.ID)[0]
	}
	require.NoError(t, w.Standins.Fault("contacts", fault.Fault{
		Kind: fault.Status, Status: 429, RetryAfter: 30,
		Path: "/events",
	}))
	again, d := deliver()
	assert.Equal(t, 30*time.Second, again, "longer than our own pause, because the service asks for it")
	assert.Equal(t, deliverystore.DeliveryRetrying, d.State)
	require.NoError(t, w.Standins.Fault("contacts", fault.Fault{Kind: fault.Cut, Path: "/events"}))
	again, _ = deliver()
	assert.InDelta(t, 30, again.Seconds(), 2)
	assert.Equal(t, 1, w.DeliveriesOf(e.ID)[0].Attempts, "nothing is sent to a service that wants to be left alone")
	later := 31 * time.Second
	w.Deliveries.Clock = func() time.Time { return time.Now().Add(later) }
	again, _ = deliver()
	assert.Equal(t, time.Minute, again)
	later += 15 * time.Second
	again, d = deliver()
	assert.Zero(t, again, "after the last pause it waits for a person")
	assert.Equal(t, deliverystore.DeliveryWaiting, d.State)
	assert.Equal(t, 3, d.Attempts)
	again, _ = deliver()
	assert.Zero(t, again)
	assert.Equal(t, 3, w.DeliveriesOf(e.ID)[0].Attempts, "a waiting delivery is not tried")

	w.Standins.ClearFaults()
	require.NoError(t, w.Deliveries.Retry(t.Context(), "test", id))
	_, d = deliver()
	assert.Equal(t, deliverystore.DeliveryDelivered, d.State)
	assert.ErrorContains(t, w.Deliveries.Retry(t.Context(), "test", id), "only a delivery that waits")
	attempts, err := deliverystore.Attempts(t.Context(), w.Store, id)
	require.NoError(t, err)
	require.Len(t, attempts, 4)
	for _, a := range attempts {
		assert.NotContains(t, a.Request, "ada.alder@", "personal data is masked")
	}
	require.Len(t, w.Standins.Contacts.Contacts(), 1)
	assert.Equal(t, []string{"learns Propagation"}, w.Standins.Contacts.Contacts()[0].Labels)
}

func TestRefusedAndPausedAreNotRetried(t *testing.T) {
	w, r := world(t, func(d *rule.Draft) { d.Actions[0].Fields["label"] = `""` })
	e := w.Record(w.Joined("k1", "stu-001", "PROP-A"))
	id := w.DeliveriesOf(e.ID)[0].ID
	paused := true
	_, err := w.Connections.Update(t.Context(), "test", r.Actions[0].InterfaceID, 0,
		connections.Change{Paused: &paused})
	require.NoError(t, err)
	again, err := w.Deliveries.Deliver(t.Context(), id)
	require.NoError(t, err)
	assert.Positive(t, again)
	assert.Zero(t, w.DeliveriesOf(e.ID)[0].Attempts, "a pause is no failure")
	paused = false
	_, err = w.Connections.Update(t.Context(), "test", r.Actions[0].InterfaceID, 0,
		connections.Change{Paused: &paused})
	require.NoError(t, err)
	again, err = w.Deliveries.Deliver(t.Context(), id)
	require.NoError(t, err)
	assert.Zero(t, again, "the receiver refuses this event; again would not help")
	assert.Equal(t, deliverystore.DeliveryWaiting, w.DeliveriesOf(e.ID)[0].State)
	assert.Contains(t, w.DeliveriesOf(e.ID)[0].LastError, "needs an email and a label")
}

// Actions happen in their order, and a later one sees what an earlier one did.
func TestActionsHappenInOrder(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	issuer, err := w.Badges.AddIssuer(t.Context(), "test", badgestore.Issuer{Name: "School"})
	require.NoError(t, err)
	badge, err := w.Badges.AddBadge(t.Context(), "test",
		badgestore.Badge{IssuerID: issuer.ID, Name: "B", Description: "d", Criteria: "c"})
	require.NoError(t, err)
	r, err := w.Rules.Save(t.Context(), "test", "", 0,
		rule.Draft{Name: "r", Trigger: "section.joined", Actions: []rule.Action{
			{Kind: rule.Award, BadgeID: badge.ID},
			{
				Kind: rule.Mail, InterfaceID: w.Mail().ID, Subject: "Hello {{.person.givenName}}",
				Text: "{{.award.address}}",
			},
		}})
	require.NoError(t, err)
	_, err = w.Rules.Switch(t.Context(), "test", r.ID, true, "")
	require.NoError(t, err)
	e := w.Record(w.Joined("k1", "stu-001", "PROP-A"))
	list := w.DeliveriesOf(e.ID)
	require.Len(t, list, 2)
	queued := func() (n int) {
		require.NoError(t, w.Store.Pool.QueryRow(t.Context(),
			`SELECT count(*) FROM deliveries WHERE state <> 'planned'`).Scan(&n))
		return n
	}
	assert.Equal(t, 1, queued(), "only the first is queued")
	_, err = w.Deliveries.Deliver(t.Context(), list[0].ID)
	require.NoError(t, err)
	assert.Equal(t, 2, queued(), "the second follows the first")
	_, err = w.Deliveries.Deliver(t.Context(), list[1].ID)
	require.NoError(t, err)
	mails := w.Standins.Inbox.Mails()
	require.Len(t, mails, 1)
	assert.Equal(t, "Hello Ada", mails[0].Subject)
	assert.Contains(t, mails[0].Text, "http://kanban.example/open/awards/")
	assert.Contains(t, mails[0].MessageID, list[1].ID, "a repeated mail carries the same id")
}

func TestRulesThatCannotWorkAreRefused(t *testing.T) {
	w := apptest.New(t)
	mail := w.Mail().ID
	good := func() rule.Draft {
		return rule.Draft{
			Name: "r", Trigger: "section.joined",
			Actions: []rule.Action{{Kind: rule.Mail, InterfaceID: mail, Subject: "s", Text: "t"}},
		}
	}
	for field, change := range map[string]func(*rule.Draft){
		"name":                   func(d *rule.Draft) { d.Name = " " },
		"trigger":                func(d *rule.Draft) { d.Trigger = "full.moon" },
		"condition":              func(d *rule.Draft) { d.Condition = "1 + 1" },
		"scope.course":           func(d *rule.Draft) { d.Scope.Course = db.NewID() },
		"scope.section":          func(d *rule.Draft) { d.Scope.Section = "PROP-A" },
		"actions":                func(d *rule.Draft) { d.Actions = nil },
		"actions[0].kind":        func(d *rule.Draft) { d.Actions[0].Kind = "sing" },
		"actions[0].interfaceId": func(d *rule.Draft) { d.Actions[0].Kind = rule.SendEvent },
		"actions[0].subject":     func(d *rule.Draft) { d.Actions[0].Subject = "" },
		"actions[0].text":        func(d *rule.Draft) { d.Actions[0].Text = "{{.person" },
		"actions[0].to":          func(d *rule.Draft) { d.Actions[0].To = "person." },
		"actions[1].badgeId": func(d *rule.Draft) {
			d.Actions = append(d.Actions, rule.Action{Kind: rule.Award, BadgeID: "x"})
		},
	} {
		d := good()
		change(&d)
		_, err := w.Rules.Save(t.Context(), "test", "", 0, d)
		r, ok := refusal.As(err)
		require.True(t, ok, "%s: %v", field, err)
		assert.Equal(t, field, r.Field)
	}
	r, err := w.Rules.Save(t.Context(), "test", "", 0, good())
	require.NoError(t, err)
	_, err = w.Rules.Save(t.Context(), "test", "", 0, good())
	assert.ErrorContains(t, err, "another rule is called")
	d := good()
	d.Name = "renamed"
	_, err = w.Rules.Save(t.Context(), "test", r.ID, r.Version, d)
	require.NoError(t, err)
	_, err = w.Rules.Save(t.Context(), "test", r.ID, r.Version, d)
	assert.ErrorIs(t, err, db.ErrStale)
}
