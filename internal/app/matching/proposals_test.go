package matching_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
)

// Second accounts and test learners are proposed with what speaks for it; nothing follows
// before somebody says so, what is refused is not proposed again, and what was said can be
// dropped.
func TestSecondAccountsAreProposed_P6(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	exec := func(sql string, args ...any) {
		_, err := w.Store.Pool.Exec(t.Context(), sql, args...)
		require.NoError(t, err)
	}
	registers, err := matchstore.MarkedIn(t.Context(), w.Store, w.Person("stu-001").ID)
	require.NoError(t, err)
	register := registers[0]
	before, err := w.Matching.Proposals(t.Context(), register)
	require.NoError(t, err)
	first, second, test := w.Person("stu-007"), w.Person("stu-008"), w.Person("stu-009")
	exec(`UPDATE people SET master = 'm-1' WHERE id = ANY ($1::text[]::uuid[])`, []string{first.ID, second.ID})
	exec(`UPDATE people SET user_name = 'preview student 2' WHERE id = $1`, test.ID)
	exec(`UPDATE people SET user_name = 'protester' WHERE id = $1`, w.Person("stu-010").ID)
	section := w.Section("PROP-A")
	p := pairingstore.Pairing{
		ID: db.NewID(), SectionID: section.ID, InterfaceID: w.Workspace().ID,
		TargetName: "Prop", Policy: roster.DefaultPolicy(),
	}
	require.NoError(t, w.Store.InTx(t.Context(), func(tx *db.Tx) error { return db.Create(tx, &p, "pairing") }))
	reasons := func() map[string]finding.Code {
		t.Helper()
		preview, err := w.Runs.Preview(t.Context(), p.ID)
		require.NoError(t, err)
		out := map[string]finding.Code{}
		for _, e := range preview.Plan.Entries {
			out[e.PersonID] = e.Reason
		}
		return out
	}
	was := reasons()
	list, err := w.Matching.Proposals(t.Context(), register)
	require.NoError(t, err)
	require.Len(t, list, len(before)+2)
	of := map[string]matchstore.Proposal{}
	for _, x := range list {
		of[x.PersonID] = x
	}
	assert.Equal(t, []string{matchstore.MarkSecond, first.ID, "the same userMasterIdentifier m-1"},
		[]string{of[second.ID].Kind, of[second.ID].OfID, of[second.ID].Evidence})
	assert.Equal(t, []string{matchstore.MarkTest, "its user name is preview student 2"},
		[]string{of[test.ID].Kind, of[test.ID].Evidence})
	assert.NotContains(t, of, w.Person("stu-010").ID, "a protester is no tester")
	assert.NotContains(t, of, first.ID)

	for text, people := range map[string][]string{"is missing": nil, "any more": {w.Person("stu-011").ID}} {
		_, err := w.Matching.Decide(t.Context(), "Maud", register, people, true)
		require.ErrorContains(t, err, text)
	}
	n, err := w.Matching.Decide(t.Context(), "Maud", register, []string{second.ID, test.ID}, true)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	is := reasons()
	assert.Equal(t, []finding.Code{finding.SecondAccount, finding.TestLearner},
		[]finding.Code{is[second.ID], is[test.ID]})
	assert.Equal(t, was[first.ID], is[first.ID], "the person stays")
	where, err := rosterstore.WhereaboutsOf(t.Context(), w.Store, first.ID)
	require.NoError(t, err)
	through := 0
	for _, x := range where {
		if x.Through == "stu-008" {
			through++
		}
	}
	assert.Positive(t, through, "the sections of the second account show with the person")

	require.NoError(t, w.Matching.Undecide(t.Context(), "Maud", second.ID))
	require.ErrorContains(t, w.Matching.Undecide(t.Context(), "Maud", second.ID), "nothing was said")
	assert.Equal(t, was[second.ID], reasons()[second.ID])
	_, err = w.Matching.Decide(t.Context(), "Maud", register, []string{second.ID}, false)
	require.NoError(t, err)
	list, err = w.Matching.Proposals(t.Context(), register)
	require.NoError(t, err)
	assert.Len(t, list, len(before), "what was refused is not proposed again")
}
