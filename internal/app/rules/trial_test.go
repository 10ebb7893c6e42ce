package rules_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/rules"
	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/rulestore"
)

func TestTrialReachesNobody_E6(t *testing.T) {
	w, _ := apptest.Clocked(t)
	labels := w.Labels()
	issuer, err := w.Badges.AddIssuer(t.Context(), "test", badgestore.Issuer{Name: "School"})
	require.NoError(t, err)
	badge, err := w.Badges.AddBadge(t.Context(), "test",
		badgestore.Badge{IssuerID: issuer.ID, Name: "B", Description: "d", Criteria: "c"})
	require.NoError(t, err)
	d := rule.Draft{
		Name: "r", Trigger: "section.joined", Condition: `event.role == "student"`,
		Actions: []rule.Action{
			{Kind: rule.Award, BadgeID: badge.ID},
			{
				Kind: rule.Mail, InterfaceID: w.Mail().ID, Subject: "Hello {{.person.givenName}}",
				Text: "{{.award.address}}",
			},
			{
				Kind: rule.CallOperation, InterfaceID: labels.ID, Operation: "add-label",
				Fields: map[string]string{"email": "person.email", "label": `"weeds"`},
			},
			{Kind: rule.AddToGroup, InterfaceID: w.Workspace().ID, Group: "Greenhouse talk"},
			{Kind: rule.OpenTask, Subject: "x", If: `person.givenName == "Ada"`},
		},
	}
	made, err := w.Rules.TryDraft(t.Context(), d, rules.TrialRequest{})
	require.NoError(t, err)
	assert.Empty(t, made.EventID, "there is no real event yet, so one is made up")
	assert.Equal(t, "holds", made.Condition)

	r, err := w.Rules.Save(t.Context(), "test", "", 0, d)
	require.NoError(t, err)
	e := w.Record(w.Joined("k1", "stu-001", "PROP-A"))
	got, err := w.Rules.Try(t.Context(), r.ID, rules.TrialRequest{})
	require.NoError(t, err)
	assert.Equal(t, e.ID, got.EventID)
	assert.Equal(t, "Ada Alder", got.Person)
	require.Len(t, got.Steps, 5)
	assert.Equal(t, "Hello Ada", got.Steps[1].Shown["subject"])
	assert.Contains(t, got.Steps[2].Checked, `no label "weeds"`, "what must exist is checked")
	assert.Contains(t, got.Steps[3].Checked, "no such group")
	assert.Equal(t, "holds", got.Steps[4].If)
	_, err = w.Rules.Try(t.Context(), r.ID, rules.TrialRequest{Send: true})
	assert.ErrorContains(t, err, "where test sends go")
	require.NoError(t, w.Rules.SetTestRecipient(t.Context(), "test", "maud@fernmoor.example"))
	sent, err := w.Rules.Try(t.Context(), r.ID, rules.TrialRequest{Send: true})
	require.NoError(t, err)
	assert.True(t, sent.Steps[1].Sent)
	mails := w.Standins.Inbox.Mails()
	require.Len(t, mails, 1)
	assert.Equal(t, "maud@fernmoor.example", mails[0].To)
	assert.Equal(t, "[Test] Hello Ada", mails[0].Subject)
	awards, err := badgestore.Awards(t.Context(), w.Store, badgestore.AwardFilter{Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, awards, "nobody is awarded")
	assert.Empty(t, w.Standins.Contacts.Contacts())
	assert.Empty(t, w.DeliveriesThat(deliverystore.DeliveryFilter{}), "a trial is no delivery")
	after, err := rulestore.FindRule(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	assert.False(t, sent.Passed)
	assert.Nil(t, after.TriedAt, "what lacks a label and a group was not tried out with success")

	// A trial whose condition does not hold sends nothing, unless told to, and is none either.
	d.Actions = d.Actions[:2]
	d.Condition = `event.role == "teacher"`
	r, err = w.Rules.Save(t.Context(), "test", r.ID, 0, d)
	require.NoError(t, err)
	for anyway, n := range map[bool]int{false: 0, true: 1} {
		before := len(w.Standins.Inbox.Mails())
		sent, err = w.Rules.Try(t.Context(), r.ID, rules.TrialRequest{Send: true, Anyway: anyway})
		require.NoError(t, err)
		assert.False(t, sent.Passed)
		assert.Equal(t, anyway, sent.SentTo != "")
		assert.Len(t, w.Standins.Inbox.Mails(), before+n)
	}
	after, err = rulestore.FindRule(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	assert.Nil(t, after.TriedAt)
	d.Condition = ""
	r, err = w.Rules.Save(t.Context(), "test", r.ID, 0, d)
	require.NoError(t, err)
	sent, err = w.Rules.Try(t.Context(), r.ID, rules.TrialRequest{})
	require.NoError(t, err)
	assert.True(t, sent.Passed)
	after, err = rulestore.FindRule(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	assert.NotNil(t, after.TriedAt)
	_, err = w.Rules.Try(t.Context(), r.ID, rules.TrialRequest{EventID: db.NewID()})
	assert.ErrorContains(t, err, "there is no event")
}

func TestLookBackThenCatchUp_E7(t *testing.T) {
	w, _ := apptest.Clocked(t)
	since := time.Now().Add(-time.Hour)
	for _, x := range [][2]string{{"k1", "stu-001"}, {"k2", "stu-002"}, {"k3", "stu-003"}, {"k4", "stu-001"}} {
		w.Record(w.Joined(x[0], x[1], "PROP-A"))
	}
	r, err := w.Rules.Save(t.Context(), "test", "", 0,
		rule.Draft{
			Name: "r", Trigger: "section.joined", OncePerPerson: true, Condition: `person.givenName != "Ben"`,
			Actions: []rule.Action{
				{
					Kind: rule.SendEvent, InterfaceID: w.Contacts().ID,
					Fields: map[string]string{"email": "person.email", "label": `"x"`},
				},
			},
		})
	require.NoError(t, err)
	back, err := w.Rules.LookBack(t.Context(), r.ID, since)
	require.NoError(t, err)
	var who []string
	for _, x := range back.Would {
		who = append(who, x.Person)
	}
	before := len(who)
	require.Positive(t, before)
	assert.Contains(t, who, "Ada Alder")
	assert.Equal(t, back.Held, back.Already+before)
	assert.Empty(t, w.Standins.Contacts.Contacts(), "looking back does nothing")
	_, err = w.Rules.CatchUp(t.Context(), "test", r.ID, since, before)
	assert.ErrorContains(t, err, "the rule is off")
	_, err = w.Rules.Switch(t.Context(), "test", r.ID, true, "")
	require.NoError(t, err)
	_, err = w.Rules.CatchUp(t.Context(), "test", r.ID, since, before+1)
	assert.ErrorContains(t, err, "look back again", "only what was shown is done")
	n, err := w.Rules.CatchUp(t.Context(), "test", r.ID, since, before)
	require.NoError(t, err)
	assert.Equal(t, before, n)
	var ids []string
	for _, x := range back.Would {
		ids = append(ids, x.EventID)
	}
	require.NoError(t, w.Deliveries.React(t.Context(), ids, r.ID)) // the queued job
	w.Deliver()
	back, err = w.Rules.LookBack(t.Context(), r.ID, since)
	require.NoError(t, err)
	assert.Empty(t, back.Would, "everybody has been caught up")
	assert.Len(t, w.DeliveriesThat(deliverystore.DeliveryFilter{RuleID: r.ID}), before)
}
