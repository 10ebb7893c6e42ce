package rules_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/app/rules"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/rule"
	"kanban/internal/standin/fault"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/rulestore"
)

// What a rule names at a service is looked for before anything fails: when it is gone the
// checklist and a finding say so, a service that cannot be asked takes nothing back, and
// what waited goes on once it is there again.
func TestWhatRulesNeedIsLookedFor_E5(t *testing.T) {
	w, _ := apptest.Clocked(t)
	c := w.Workspace()
	r := w.Rule(rule.Draft{
		Name: "r", Trigger: "module.completed",
		Actions: []rule.Action{{Kind: rule.AddToGroup, InterfaceID: c.ID, Group: "Greenhouse talk"}},
	})
	report := &findings.Service{Store: w.Store}
	look := func() (found int, step string) {
		t.Helper()
		require.NoError(t, w.Rules.AskNeeds(t.Context(), ""))
		list, err := report.Findings(t.Context(), findings.Filter{Code: finding.NeededGone})
		require.NoError(t, err)
		now, err := rulestore.FindRule(t.Context(), w.Store, r.ID)
		require.NoError(t, err)
		checklist, err := report.Rule(t.Context(), now)
		require.NoError(t, err)
		for _, s := range checklist {
			if s.Title == "What it needs is at the service" && !s.Done {
				step = s.Next
			}
		}
		return len(list), step
	}
	found, step := look()
	assert.Equal(t, 1, found)
	assert.Contains(t, step, `the group "Greenhouse talk"`)
	e := w.Record(w.About(rule.ModuleCompleted, "k1", "stu-001"))
	w.Deliver()
	require.Equal(t, deliverystore.DeliveryWaiting, w.DeliveriesOf(e.ID)[0].State)

	require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: fault.Status, Status: 500}))
	found, _ = look()
	assert.Equal(t, 1, found, "what could not be asked is no news")
	w.Standins.ClearFaults()
	w.Standins.Workspace.Open("Greenhouse talk")
	names, err := w.Rules.Choices(t.Context(), c.ID, "", "")
	require.NoError(t, err)
	assert.Contains(t, names, "Greenhouse talk")
	found, step = look()
	assert.Zero(t, found)
	assert.Empty(t, step)
	w.Deliver()
	assert.Equal(t, deliverystore.DeliveryDelivered, w.DeliveriesOf(e.ID)[0].State)
}

// Of several things that are missing, what is back goes on by itself; what was known of a
// rule is forgotten when it is written anew, and a draft is looked at as well.
func TestWhatRulesNeedGoesWithTheRule_E5(t *testing.T) {
	w, _ := apptest.Clocked(t)
	c := w.Workspace()
	to := func(groups ...string) (d rule.Draft) {
		d = rule.Draft{Name: "r", Trigger: "module.completed"}
		for _, g := range groups {
			d.Actions = append(d.Actions, rule.Action{Kind: rule.AddToGroup, InterfaceID: c.ID, Group: g})
		}
		return d
	}
	r := w.Rule(to("Greenhouse talk", "Night shift"))
	e := w.Record(w.About(rule.ModuleCompleted, "k1", "stu-001"))
	w.Deliver()
	require.Equal(t, deliverystore.DeliveryWaiting, w.DeliveriesOf(e.ID)[0].State)
	missing := func() (out []string, known bool) {
		t.Helper()
		require.NoError(t, w.Rules.AskNeeds(t.Context(), r.ID))
		now, err := rulestore.FindRule(t.Context(), w.Store, r.ID)
		require.NoError(t, err)
		return now.Missing, now.AskedAt != nil
	}
	list, _ := missing()
	require.Len(t, list, 2)
	w.Standins.Workspace.Open("Greenhouse talk")
	list, _ = missing()
	assert.Equal(t, []string{`the group "Night shift"`}, list)
	w.Deliver()
	assert.Equal(t, deliverystore.DeliveryDelivered, w.DeliveriesOf(e.ID)[0].State, "its own group is back")

	stale, err := rulestore.FindRule(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	r, err = w.Rules.Edit(t.Context(), "test", r.ID, 0, to("Greenhouse talk"), rules.FinishThem)
	require.NoError(t, err)
	assert.Nil(t, r.AskedAt)
	require.NoError(t, w.Store.InTx(t.Context(), func(tx *db.Tx) error {
		return rulestore.KeepMissing(t.Context(), tx,
			stale, []string{"older"})
	}))
	lacking, err := rulestore.RulesLacking(t.Context(), w.Store)
	require.NoError(t, err)
	assert.Empty(t, lacking, "an answer for the rule as it was is none for what it is now")
	list, known := missing()
	assert.Empty(t, list)
	assert.True(t, known)
	_, err = w.Rules.Edit(t.Context(), "test", r.ID, 0, to("Course {{.section.title}}"), rules.FinishThem)
	require.NoError(t, err)
	_, known = missing()
	assert.False(t, known, "it names nothing that could be looked for")

	draft, err := w.Rules.Save(t.Context(), "test", "", 0,
		rule.Draft{Name: "draft", Trigger: "module.completed", Actions: to("Nowhere").Actions})
	require.NoError(t, err)
	require.NoError(t, w.Rules.AskNeeds(t.Context(), ""))
	draft, err = rulestore.FindRule(t.Context(), w.Store, draft.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{`the group "Nowhere"`}, draft.Missing)
}

// A label is one of the service's own; the checklist says on which event which version was
// tried out; texts are shown for a real event.
func TestLabelsAreChosenFromTheService_E5(t *testing.T) {
	w, _ := apptest.Clocked(t)
	c := w.Labels()
	all, err := w.Rules.Choices(t.Context(), c.ID, "add-label", "label")
	require.NoError(t, err)
	require.Contains(t, all, "learner")
	_, err = w.Rules.Choices(t.Context(), c.ID, "add-label", "email")
	require.ErrorContains(t, err, "does not say how to list")
	r := w.Rule(rule.Draft{
		Name: "r", Trigger: "section.joined",
		Actions: []rule.Action{{
			Kind: rule.CallOperation, InterfaceID: c.ID, Operation: "add-label",
			Fields: map[string]string{"email": "person.email", "label": `"learner"`},
		}},
	})
	require.NoError(t, w.Rules.AskNeeds(t.Context(), ""))
	lacking, err := rulestore.RulesLacking(t.Context(), w.Store)
	require.NoError(t, err)
	assert.Empty(t, lacking)
	e := w.Record(w.Joined("k1", "stu-001", "PROP-A"))
	trial, err := w.Rules.Try(t.Context(), r.ID, rules.TrialRequest{EventID: e.ID})
	require.NoError(t, err)
	require.True(t, trial.Passed, "%+v", trial)
	now, err := rulestore.FindRule(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	checklist, err := (&findings.Service{Store: w.Store}).Rule(t.Context(), now)
	require.NoError(t, err)
	said := ""
	for _, s := range checklist {
		said += s.Title + "\n"
	}
	assert.Contains(t, said, "Tried out as it is now: version 2, on ")
	assert.Contains(t, said, "with what Ada Alder did on ")
	text, err := w.Rules.SampleOf(t.Context(), "template", "Dear {{.person.givenName}}", "section.joined", e.ID)
	require.NoError(t, err)
	assert.Equal(t, "Dear Ada", text)
	text, err = w.Rules.SampleOf(t.Context(), "template", "Dear {{.person.givenName}}", "section.joined", "")
	require.NoError(t, err)
	assert.Equal(t, "Dear Tamsin", text)
}
