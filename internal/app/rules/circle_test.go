package rules_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
)

// Rules that enrol whoever leaves and take out whoever joins would go on for ever: that is
// said before the second is switched on, and where they are on all the same the chain stops.
func TestRulesThatFeedEachOtherStop_E8(t *testing.T) {
	w, now := apptest.Clocked(t)
	c, x := w.Platform(), w.Section("PROP-A")
	back := w.Rule(rule.Draft{
		Name: "Back again", Trigger: "section.left",
		Actions: []rule.Action{{Kind: rule.Enrol, InterfaceID: c.ID, SectionID: x.ID}},
	})
	require.NoError(t, w.Rules.Ends(t.Context(), back.ID))
	out, err := w.Rules.Save(t.Context(), "test", "", 0,
		rule.Draft{
			Name: "Out again", Trigger: "section.joined", Condition: `event.role == "student"`,
			Actions: []rule.Action{{Kind: rule.Unenrol, InterfaceID: c.ID, SectionID: x.ID}},
		})
	require.NoError(t, err)
	err = w.Rules.Ends(t.Context(), out.ID)
	require.ErrorContains(t, err, "Out again → Back again → Out again")
	_, err = w.Rules.Switch(t.Context(), "test", out.ID, true, "")
	require.NoError(t, err, "whoever asks for it gets it")

	kinds := []string{"section.left", "section.joined"}
	for i := range 10 { // as the register's reads would report it
		e := w.Joined(fmt.Sprint("k", i), "stu-006", "PROP-A")
		e.Type, e.OccurredAt = kinds[i%2], *now
		list := w.DeliveriesOf(w.Record(e).ID)
		require.Len(t, list, 1, "step %d", i)
		if i == rule.MostInChain {
			assert.Equal(t, []string{deliverystore.DeliveryWaiting, string(finding.ChainStopped)},
				[]string{list[0].State, list[0].Code})
			assert.Contains(t, list[0].LastError, "5 events led to this one")
			require.NoError(t, w.Deliveries.Retry(t.Context(), "test", list[0].ID))
			w.Deliver()
			assert.Equal(t, deliverystore.DeliveryDelivered, w.DeliveriesOf(list[0].EventID)[0].State,
				"a person can let it go one step further")
			return
		}
		w.Deliver()
		require.Equal(t, deliverystore.DeliveryDelivered, w.DeliveriesOf(list[0].EventID)[0].State, "step %d", i)
	}
	t.Fatal("the chain goes on for ever")
}

// A badge that was given because of a badge knows it.
func TestAwardsKnowTheirChain_E8(t *testing.T) {
	w, _ := apptest.Clocked(t)
	issuer, err := w.Badges.AddIssuer(t.Context(), "test", badgestore.Issuer{Name: "Fernmoor Garden School"})
	require.NoError(t, err)
	var badges []badgestore.Badge
	for i := range 7 {
		b, err := w.Badges.AddBadge(t.Context(), "test",
			badgestore.Badge{IssuerID: issuer.ID, Name: fmt.Sprint("B", i), Description: "d", Criteria: "c"})
		require.NoError(t, err)
		badges = append(badges, b)
		d := rule.Draft{
			Name: b.Name, Trigger: "badge.awarded", Condition: fmt.Sprintf(`event.badge == "B%d"`, i-1),
			Actions: []rule.Action{{Kind: rule.Award, BadgeID: b.ID}},
		}
		if i == 0 {
			d.Trigger, d.Condition = "module.completed", ""
		}
		r := w.Rule(d)
		require.NoError(t, w.Rules.Ends(t.Context(), r.ID), "it comes to an end by itself")
	}
	w.Record(w.About(rule.ModuleCompleted, "k", "stu-006"))
	for range badges {
		w.Deliver()
		events, err := eventstore.Events(t.Context(), w.Store,
			eventstore.EventFilter{Type: "badge.awarded", Limit: 20})
		require.NoError(t, err)
		for _, e := range events {
			require.NoError(t, w.Deliveries.React(t.Context(), []string{e.ID}, ""))
		}
	}
	held, err := badgestore.Awards(t.Context(), w.Store, badgestore.AwardFilter{
		PersonID: w.Person("stu-006").ID, Limit: 20,
	})
	require.NoError(t, err)
	assert.Len(t, held, rule.MostInChain)
	waiting := w.DeliveriesThat(deliverystore.DeliveryFilter{State: deliverystore.DeliveryWaiting})
	require.Len(t, waiting, 1)
	assert.Equal(t, string(finding.ChainStopped), waiting[0].Code)
}
