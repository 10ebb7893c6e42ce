package pipeline_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/rules"
	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/rulestore"
)

// Off means off: what a rule has still to come is asked about, and stopped or finished as
// somebody says.
func TestSwitchingOffAsksAboutWhatIsToCome_E8(t *testing.T) {
	for _, toCome := range []rules.ToCome{rules.StopThem, rules.FinishThem} {
		w, now := apptest.Clocked(t)
		send := rule.Action{
			Kind: rule.SendEvent, InterfaceID: w.Contacts().ID,
			Fields: map[string]string{"email": "person.email", "label": `"learner"`},
		}
		later := send
		later.After, later.Fields = "2d", map[string]string{"email": "person.email", "label": `"reminded"`}
		r := w.Rule(rule.Draft{Name: "welcome", Trigger: "section.joined", Actions: []rule.Action{send, later}})
		for i := range 3 {
			who := fmt.Sprintf("stu-%03d", 20+i)
			w.Record(w.Joined(who, who, "PROP-A"))
		}
		w.Deliver()
		_, err := w.Rules.Switch(t.Context(), "Maud", r.ID, false, rules.Ask)
		require.ErrorContains(t, err, "3 ")
		assert.ErrorContains(t, err, "stop them or to let them finish")
		still, err := rulestore.FindRule(t.Context(), w.Store, r.ID)
		require.NoError(t, err)
		assert.NotNil(t, still.OnSince, "it is on until that is answered")

		_, err = w.Rules.Switch(t.Context(), "Maud", r.ID, false, toCome)
		require.NoError(t, err)
		*now = now.AddDate(0, 0, 3)
		w.Deliver()
		reminded := 0
		for _, c := range w.Standins.Contacts.Contacts() {
			for _, l := range c.Labels {
				if l == "reminded" {
					reminded++
				}
			}
		}
		if toCome == rules.FinishThem {
			assert.Equal(t, 3, reminded)
			continue
		}
		assert.Zero(t, reminded)
		stopped := w.DeliveriesThat(deliverystore.DeliveryFilter{RuleID: r.ID, State: deliverystore.DeliveryStopped})
		require.Len(t, stopped, 3)
		assert.Equal(t, "the rule was switched off by Maud", stopped[0].Held)
		again, err := w.Rules.Switch(t.Context(), "Maud", r.ID, true, "")
		require.NoError(t, err)
		assert.NotNil(t, again.OnSince)
		_, err = w.Rules.Switch(t.Context(), "Maud", r.ID, false, rules.Ask)
		assert.NoError(t, err, "nothing is to come any more")
	}
}

// One, or all of a rule or interface, are given up with a reason; what was delivered stays,
// and nobody's retry brings them back.
func TestGivingUpByHand_E9(t *testing.T) {
	w, _ := apptest.Clocked(t)
	c := w.Labels()
	r := w.Rule(rule.Draft{Name: "label", Trigger: "section.joined", Actions: []rule.Action{
		{
			Kind: rule.CallOperation, InterfaceID: c.ID, Operation: "add-label",
			Fields: map[string]string{"email": "person.email", "label": `"no such label"`},
		},
		{Kind: rule.OpenTask, Subject: "Talk to {{.person.givenName}}", Owner: "maud@fernmoor.example", After: "1d"},
	}})
	for i := range 4 {
		who := fmt.Sprintf("stu-%03d", 20+i)
		w.Record(w.Joined(who, who, "PROP-A"))
	}
	w.Deliver()
	waiting := w.DeliveriesThat(deliverystore.DeliveryFilter{RuleID: r.ID, State: deliverystore.DeliveryWaiting})
	require.Len(t, waiting, 4)

	_, _, err := w.Deliveries.GiveUp(t.Context(), "Maud", deliverystore.DeliveryFilter{RuleID: r.ID}, "  ")
	require.ErrorContains(t, err, "reason")
	_, _, err = w.Deliveries.GiveUp(t.Context(), "Maud", deliverystore.DeliveryFilter{}, "why not")
	require.ErrorContains(t, err, "say which")
	n, under, err := w.Deliveries.GiveUp(t.Context(), "Maud", deliverystore.DeliveryFilter{ID: waiting[0].ID},
		"left the school")
	require.NoError(t, err)
	assert.Equal(t, 2, n, "with the task that would have come after it")
	assert.Zero(t, under)
	_, _, err = w.Deliveries.GiveUp(t.Context(), "Maud", deliverystore.DeliveryFilter{ID: waiting[0].ID}, "again")
	require.ErrorContains(t, err, "still to come")
	assert.Error(t, w.Deliveries.Retry(t.Context(), "Maud", waiting[0].ID))

	n, _, err = w.Deliveries.GiveUp(t.Context(), "Maud",
		deliverystore.DeliveryFilter{InterfaceID: c.ID, State: deliverystore.DeliveryWaiting}, "the label is gone")
	require.NoError(t, err)
	assert.Equal(t, 6, n)
	given := w.DeliveriesThat(deliverystore.DeliveryFilter{RuleID: r.ID, State: deliverystore.DeliveryStopped})
	assert.Len(t, given, 8)
	assert.Contains(t, given[0].Held, "given up by Maud: ")
	open, err := deliverystore.StillToCome(t.Context(), w.Store, deliverystore.DeliveryFilter{RuleID: r.ID})
	require.NoError(t, err)
	assert.Empty(t, open)
}

// A new version with other actions asks about what the older ones have still to come; one
// with the same actions does not, and its stop condition counts for them.
func TestNewVersionAsksAboutWhatIsToCome(t *testing.T) {
	for _, toCome := range []rules.ToCome{rules.StopThem, rules.FinishThem, rules.Ask} {
		w, now := apptest.Clocked(t)
		d := rule.Draft{
			Name: "remind", Trigger: "section.joined",
			Actions: []rule.Action{{
				Kind: rule.Mail, InterfaceID: w.Mail().ID, After: "2d", Subject: "Old",
				Text: "Old text",
			}},
		}
		r := w.Rule(d)
		w.Record(w.Joined("k", "stu-020", "PROP-A"))
		w.Deliver()
		if toCome == rules.Ask { // the same actions, and a reason to stop
			d.Stop = `person.givenName != ""`
		} else {
			d.Actions = []rule.Action{d.Actions[0]}
			d.Actions[0].Text = "New text"
			_, err := w.Rules.Edit(t.Context(), "Maud", r.ID, r.Version, d, rules.Ask)
			require.ErrorContains(t, err, "still to come: 1 queued")
		}
		_, err := w.Rules.Edit(t.Context(), "Maud", r.ID, r.Version, d, toCome)
		require.NoError(t, err)
		*now = now.AddDate(0, 0, 3)
		w.Deliver()
		mails := w.Standins.Inbox.Mails()
		if toCome != rules.FinishThem {
			assert.Empty(t, mails, toCome)
			assert.Equal(t, []string{"stopped"}, states(w.DeliveriesThat(deliverystore.DeliveryFilter{RuleID: r.ID})))
			continue
		}
		require.Len(t, mails, 1)
		assert.Contains(t, mails[0].Text, "Old text", "by the version that was there when it happened")
	}
}
