package pipeline_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/rosterstore"
)

func TestNudgeOnceForEachStop_E11(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Outlined()
	platform := w.Connect("xapi", "Platform", nil).ID
	r := w.Rule(rule.Draft{
		Name: "nudge", Trigger: "person.inactive", Days: 7, OncePerPerson: false,
		Stop: "progress.courseDone || progress.daysSince < 7", Actions: []rule.Action{
			{
				Kind: rule.Mail, InterfaceID: w.Mail().ID, Subject: "We miss you",
				Text: "{{.person.givenName}}, {{.event.days}} days",
			},
		},
	})
	begin := *now
	w.Completes(platform, "stu-001", "one", begin)
	w.Completes(platform, "stu-002", "one", begin)
	w.Completes(platform, "stu-002", "two", begin)
	look := func() (who []string) {
		t.Helper()
		require.NoError(t, w.Deliveries.Inactive(t.Context()))
		list, err := eventstore.Events(t.Context(), w.Store,
			eventstore.EventFilter{Type: "person.inactive", Limit: 100})
		require.NoError(t, err)
		for _, e := range list {
			if e.Person == "Ada Alder" || e.Person == "Ben Birch" {
				who = append(who, e.Person)
			}
		}
		return who
	}
	finished, err := rosterstore.FindPerson(t.Context(), w.Store, w.Person("stu-002").ID)
	require.NoError(t, err)
	*now = begin.AddDate(0, 0, 6)
	assert.Empty(t, look())
	*now = begin.AddDate(0, 0, 8)
	first := look()
	assert.Equal(t, first, look(), "looking again finds nothing new")
	assert.Contains(t, first, "Ada Alder")
	assert.NotContains(t, first, finished.Name(), "whoever has finished is not nudged")

	w.Completes(platform, "stu-001", "one", *now) // back again
	*now = now.AddDate(0, 0, 8)
	assert.Len(t, look(), len(first)+1, "and stopped again")

	// The mail is not sent to whoever came back in the meantime.
	events, err := eventstore.EventsFor(t.Context(), w.Store,
		eventstore.EventQuery{Trigger: "person.inactive", Limit: 200})
	require.NoError(t, err)
	var ids []string
	for _, e := range events {
		if e.PersonID != nil && *e.PersonID == w.Person("stu-001").ID {
			ids = append(ids, e.ID)
		}
	}
	require.Len(t, ids, 2)
	w.Completes(platform, "stu-001", "one", *now)
	require.NoError(t, w.Deliveries.React(t.Context(), ids, ""))
	w.Deliver()
	for _, d := range w.DeliveriesThat(deliverystore.DeliveryFilter{RuleID: r.ID}) {
		assert.Equal(t, deliverystore.DeliveryStopped, d.State)
	}
	assert.Empty(t, w.Standins.Inbox.Mails())
}

// Whoever never began is found once, so many days after joining; whoever began is not.
func TestWhoNeverBeganIsFoundOnce_E11(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Outlined()
	platform := w.Connect("xapi", "Platform", nil).ID
	w.Rule(rule.Draft{
		Name: "welcome", Trigger: "person.not-begun", Days: 3, OncePerPerson: true,
		Scope: rule.Scope{Section: w.Section("PROP-A").ID}, Actions: []rule.Action{{
			Kind:    rule.OpenTask,
			Subject: "Call {{.person.name}}, {{.event.days}} days",
		}},
	})
	begun := w.Person("stu-006")
	w.Completes(platform, "stu-006", "one", *now)
	look := func() (who []string) {
		t.Helper()
		require.NoError(t, w.Deliveries.Inactive(t.Context()))
		list, err := eventstore.Events(t.Context(), w.Store,
			eventstore.EventFilter{Type: "person.not-begun", Limit: 500})
		require.NoError(t, err)
		for _, e := range list {
			who = append(who, *e.PersonID+" "+*e.SectionID)
		}
		return who
	}
	assert.Empty(t, look())
	*now = now.AddDate(0, 0, 4)
	first := look()
	x := w.Section("PROP-A")
	assert.Contains(t, first, w.Person("stu-007").ID+" "+x.ID)
	assert.NotContains(t, first, begun.ID+" "+x.ID)
	*now = now.AddDate(0, 0, 30)
	assert.Equal(t, first, look(), "once, however long it lasts")
	_, err := w.Rules.Save(t.Context(), "test", "", 0,
		rule.Draft{
			Name: "x", Trigger: "person.not-begun",
			Actions: []rule.Action{{Kind: rule.OpenTask, Subject: "x"}},
		})
	require.ErrorContains(t, err, "say after how many days")
}
