package runs_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/store/runstore"
)

// Who sits in the class of another section than the register says is told as such, with the
// section, and stays; a stranger is still one.
func TestWhoSitsInAnotherSectionsClass(t *testing.T) {
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	workspace := w.Workspace()
	pair := func(code string) string {
		p, err := w.Pairings.Pair(t.Context(), "test",
			pairings.Wish{SectionID: w.Section(code).ID, InterfaceID: workspace.ID})
		require.NoError(t, err)
		w.Sync(p.ID, false)
		return p.ID
	}
	a, c, soil := pair("PROP-A"), pair("PROP-C"), pair("SOIL-A")
	w.Standins.Workspace.Seat("Propagation A", "Yann Yew", true)
	w.Standins.Workspace.Seat("Soil science A", "Yann Yew", true)
	entry := func(pairing string) roster.Entry {
		t.Helper()
		preview, err := w.Runs.Preview(t.Context(), pairing)
		require.NoError(t, err)
		for _, e := range preview.Plan.Entries {
			if e.Name == "Yann Yew" {
				return e
			}
		}
		t.Fatal("he is not in the preview")
		return roster.Entry{}
	}
	e := entry(a)
	assert.Equal(t, []any{roster.OutcomeLeftOut, finding.OtherSection, "Propagation C", w.Person("stu-025").ID},
		[]any{e.Outcome, e.Reason, e.Detail, e.PersonID})
	assert.Equal(t, finding.InStep, entry(c).Reason, "in his own class all is well")
	assert.Equal(t, finding.NotOurs, entry(soil).Reason, "another course is none of the register's business here")
	r := w.Sync(a, false)
	assert.Zero(t, r.Counts["removed"])
	assert.Contains(t, w.Standins.Workspace.Space("Propagation A"), "Yann Yew")

	// When the register has moved him, he is simply in step, and leaves with the section.
	require.NoError(t, w.Standins.School.Withdraw("stu-025", "sec-prop-c"))
	require.NoError(t, w.Standins.School.Enrol("stu-025", "sec-prop-a"))
	w.Read(register, false)
	assert.Equal(t, roster.OutcomeInStep, entry(a).Outcome)
}

// Preview, list and comparison count the same people the same way, also who was refused; a
// run for some accounts for all.
func TestEverywhereTheSameCounts(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-A").ID,
		InterfaceID: w.Workspace().ID,
	})
	require.NoError(t, err)
	preview, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	var only []string
	for _, e := range preview.Plan.Entries {
		if e.Outcome == roster.OutcomeAdd && len(only) < 2 {
			only = append(only, e.Key())
		}
	}
	r, err := w.Runs.Start(t.Context(), "test", preview.ID, false, only...)
	require.NoError(t, err)
	require.NoError(t, w.Runs.Work(t.Context(), r.ID, true))
	r, err = runstore.FindRun(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	before := preview.Plan.Counts()
	assert.Equal(t, 2, r.Counts["added"])
	assert.Equal(t, before[roster.OutcomeAdd]-2, r.Counts[roster.LeftForLater], "nobody of the others is lost")
	assert.Equal(t, before[roster.OutcomeNeedsPerson], r.Counts["needs-person"])

	r = w.Sync(p.ID, false)
	require.Equal(t, 1, r.Counts["refused"])
	card, err := w.Pairings.Card(t.Context(), p.ID)
	require.NoError(t, err)
	preview, err = w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	lines, err := w.Runs.Lines(t.Context(), p.ID)
	require.NoError(t, err)
	compared := roster.Plan{}
	for _, l := range lines {
		compared.Entries = append(compared.Entries, l.Entry)
	}
	assert.Equal(t, card.Pairing.Counts, preview.Plan.CountsNow())
	assert.Equal(t, card.Pairing.Counts, compared.CountsNow())
	assert.Equal(t, 1, preview.Plan.Counts().Changes(), "a run by hand tries the refused one again")
	assert.Equal(t, r.Counts["needs-person"]+1, preview.Plan.CountsNow()[roster.OutcomeNeedsPerson])
}
