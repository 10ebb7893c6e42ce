package apptest_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// What the mirror tells the comparison about the demo school's untidiness.
func TestSourceKnowsWhatIsUntidy_P1(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	workspace := w.Workspace()
	source, err := pairingstore.Source(t.Context(), w.Store,
		pairingstore.Pairing{ID: db.NewID(), SectionID: w.Section("PROP-A").ID, InterfaceID: workspace.ID})
	require.NoError(t, err)
	by := map[string]roster.Member{}
	for _, m := range source.Members {
		by[m.Identifier] = m
	}
	assert.Len(t, by, 16)
	assert.Equal(t, "Dario Dill", by["stu-003"].SharesAddressWith)
	assert.Equal(t, "Cleo Clover", by["stu-004"].SharesAddressWith)
	assert.Equal(t, w.Person("tea-001").ID, by["tea-001-admin"].SecondOf)
	assert.Empty(t, by["tea-001"].SecondOf)
	assert.Equal(t, roster.TestLearner, by["stu-preview"].Role)
	assert.Empty(t, by["stu-005"].Email)
	soil, err := pairingstore.Source(t.Context(), w.Store,
		pairingstore.Pairing{ID: db.NewID(), SectionID: w.Section("SOIL-A").ID, InterfaceID: workspace.ID})
	require.NoError(t, err)
	disabled := 0
	for _, m := range soil.Members {
		if !m.Enabled {
			disabled++
		}
	}
	assert.Equal(t, 1, disabled)
}

// A mover's earlier section stays reachable from the person.
func TestMoverKeepsWhereTheyWere_P5(t *testing.T) {
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	require.NoError(t, w.Standins.School.Withdraw("stu-010", "sec-prop-a"))
	require.NoError(t, w.Standins.School.Enrol("stu-010", "sec-prop-b"))
	run := w.Read(register, false)
	assert.Equal(t, 1, run.Counts["joined"])
	assert.Equal(t, 1, run.Counts["left"])
	list, err := rosterstore.WhereaboutsOf(t.Context(), w.Store, w.Person("stu-010").ID)
	require.NoError(t, err)
	require.Len(t, list, 4)
	assert.Equal(t, "Propagation B", list[1].Section)
	assert.Nil(t, list[1].LeftAt)
	assert.Equal(t, "Propagation A", list[3].Section, "what was left comes last")
	assert.NotNil(t, list[3].LeftAt)

	found, err := rosterstore.People(t.Context(), w.Store, "JUNIPER", 10, nil)
	require.NoError(t, err)
	require.Len(t, found.People, 1)
	assert.Equal(t, "stu-010", found.People[0].Identifier)
	found, err = rosterstore.People(t.Context(), w.Store, "%", 10, nil)
	require.NoError(t, err)
	assert.Zero(t, found, "what is looked for is no pattern")
}
