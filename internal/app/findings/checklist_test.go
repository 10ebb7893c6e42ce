package findings_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rulestore"
)

// open are the steps that are not done; each says what to do.
func open(t *testing.T, list findings.Checklist) (titles []string) {
	t.Helper()
	for _, s := range list {
		if !s.Done {
			assert.NotEmpty(t, s.Next, "%s does not say what to do", s.Title)
			titles = append(titles, s.Title)
		}
	}
	assert.Equal(t, len(titles) == 0, list.Live())
	return titles
}

func TestChecklistOfConnections_C1(t *testing.T) {
	w := apptest.New(t)
	steps := func(id string) []string {
		c, err := connectionstore.FindInterface(t.Context(), w.Store, id)
		require.NoError(t, err)
		list, err := w.Findings.Interface(t.Context(), c)
		require.NoError(t, err)
		return open(t, list)
	}
	probe := func(id string) {
		_, err := w.Connections.Probe(t.Context(), id)
		require.NoError(t, err)
	}
	register, workspace := w.Register(), w.Workspace()
	assert.Equal(t, []string{"Tested", "Read at least once"}, steps(register.ID))
	probe(register.ID)
	assert.Equal(t, []string{"Read at least once"}, steps(register.ID))
	w.Read(register, false)
	assert.Empty(t, steps(register.ID))

	assert.Equal(t, []string{"Tested", "Used by a pairing"}, steps(workspace.ID))
	probe(workspace.ID)
	assert.Equal(t, []string{"Used by a pairing"}, steps(workspace.ID))
	_, err := w.Pairings.Pair(t.Context(), "test",
		pairings.Wish{SectionID: w.Section("PROP-A").ID, InterfaceID: workspace.ID})
	require.NoError(t, err)
	assert.Empty(t, steps(workspace.ID))

	broken := w.Connect("scim", "Elsewhere", map[string]string{
		"address": w.Standins.Addresses.Workspace + "/scim/v2", "token": "wrong",
	})
	probe(broken.ID)
	assert.Equal(t, []string{
		"People in: works", "People out: works", "Knows how to keep new members from being notified",
		"Used by a pairing",
	}, steps(broken.ID), "a wrong credential is not a step that was done")
	assert.False(t, findings.Checklist{}.Live(), "of what nothing is known, nothing works")
}

func TestChecklistOfRules_E3(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	contacts := w.Contacts()
	draft := rule.Draft{
		Name: "r", Trigger: string(rule.ModuleCompleted), Scope: rule.Scope{Course: w.Section("PROP-A").CourseID},
		Actions: []rule.Action{
			{Kind: rule.SendEvent, InterfaceID: contacts.ID, Fields: map[string]string{"email": "person.email"}},
			{Kind: rule.SendEvent, InterfaceID: contacts.ID, Fields: map[string]string{"label": `"x"`}},
		},
	}
	r, err := w.Rules.Save(t.Context(), "test", "", 0, draft)
	require.NoError(t, err)
	steps := func(r rulestore.Rule) []string {
		list, err := w.Findings.Rule(t.Context(), r)
		require.NoError(t, err)
		return open(t, list)
	}
	assert.Equal(t, []string{
		"Contacts works", "The course has an outline", "Tried out as it is now", "Switched on",
	}, steps(r), "one interface is one step, however many actions use it")
	_, err = w.Connections.Probe(t.Context(), contacts.ID)
	require.NoError(t, err)
	w.Outlined()
	assert.Equal(t, []string{"Tried out as it is now", "Switched on"}, steps(r))

	r.Scope.Module, r.Scope.Activity = "nowhere", "nothing"
	assert.Equal(t, []string{
		"An outline has its module", "An outline has its activity", "Tried out as it is now", "Switched on",
	}, steps(r))
	r.Actions[0].InterfaceID = w.Section("PROP-A").ID
	assert.Contains(t, steps(r), "Its interface exists")
}

// What keeps a pairing from becoming newer is named, the widest reason first.
func TestFreshnessSaysWhatStoppedIt_V2(t *testing.T) {
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	workspace := w.Workspace()
	p, err := w.Pairings.Pair(t.Context(), "test",
		pairings.Wish{SectionID: w.Section("PROP-A").ID, InterfaceID: workspace.ID})
	require.NoError(t, err)
	fresh := func(every time.Duration) findings.Freshness {
		p, err = pairingstore.FindPairing(t.Context(), w.Store, p.ID)
		require.NoError(t, err)
		f, err := w.Findings.Freshness(t.Context(), p, every)
		require.NoError(t, err)
		return f
	}
	f := fresh(time.Hour)
	assert.Empty(t, f.StoppedBy)
	require.NotNil(t, f.ReadAt)
	assert.Equal(t, f.ReadAt.Add(time.Hour), *f.NextRead)
	assert.Nil(t, f.RanAt)
	f = fresh(0)
	assert.Contains(t, f.StoppedBy, "by hand only")
	assert.Nil(t, f.NextRead)

	list, err := w.Findings.Pairing(t.Context(), p)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"Workspace works", "Compared, so that a run can be looked at beforehand", "First run made by hand",
		"Last run came to its end",
	}, open(t, list))
	w.Sync(p.ID, false)
	_, err = w.Connections.Probe(t.Context(), workspace.ID)
	require.NoError(t, err)
	assert.NotNil(t, fresh(time.Hour).RanAt)
	list, err = w.Findings.Pairing(t.Context(), p)
	require.NoError(t, err)
	assert.Equal(t, []string{"Nobody needs a person"}, open(t, list))

	paused := true
	for _, stop := range []struct {
		says string
		do   func() error
	}{
		{"the pairing is paused", func() error {
			_, err := w.Pairings.Change(t.Context(), "test", p.ID, 0, pairings.Edit{Paused: &paused})
			return err
		}},
		{"Workspace is paused", func() error {
			_, err := w.Store.Pool.Exec(t.Context(), `UPDATE interfaces SET paused_at = now() WHERE id = $1`, workspace.ID)
			return err
		}},
		{"Register is paused", func() error {
			_, err := w.Store.Pool.Exec(t.Context(), `UPDATE interfaces SET paused_at = now() WHERE id = $1`, register.ID)
			return err
		}},
		{"the section's term is over", func() error {
			w.Findings.Clock = func() time.Time { return time.Now().AddDate(2, 0, 0) }
			return nil
		}},
	} {
		require.NoError(t, stop.do())
		assert.Equal(t, stop.says, fresh(time.Hour).StoppedBy)
	}
	assert.Nil(t, fresh(time.Hour).NextRead, "a paused register is not read by itself")
}
