package matching_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/standin/school"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// paired is a world in which Propagation A is paired with the workspace.
func paired(t *testing.T) (*apptest.World, connectionstore.Interface, pairingstore.Pairing) {
	t.Helper()
	w := apptest.New(t)
	w.Read(w.Register(), false)
	c := w.Workspace()
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-A").ID,
		InterfaceID: c.ID,
	})
	require.NoError(t, err)
	return w, c, p
}

func reason(t *testing.T, w *apptest.World, p pairingstore.Pairing, identifier string) roster.Entry {
	t.Helper()
	preview, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	id := w.Person(identifier).ID
	for _, e := range preview.Plan.Entries {
		if e.PersonID == id {
			return e
		}
	}
	t.Fatalf("%s is not in the preview", identifier)
	return roster.Entry{}
}

// The preview of a rule names exactly those whom saving it touches, and they go in.
func TestDomainRuleIsShownBeforeItIsSaved_C7(t *testing.T) {
	w, c, p := paired(t)
	m, version, err := w.Matching.Of(t.Context(), c.ID)
	require.NoError(t, err)
	m.Domains = []roster.DomainRule{{From: "old.fernmoor.example", To: "fernmoor.example"}}
	m.Exclude = append(m.Exclude, roster.Exclusion{Name: "Not now", UserName: "ada.*"})
	touched, err := w.Matching.Preview(t.Context(), c.ID, m)
	require.NoError(t, err)
	got := map[string]string{}
	for _, x := range touched {
		got[x.Name] = x.Effect
	}
	assert.Equal(t, map[string]string{"Finn Fennel": "address finn.fennel@fernmoor.example, was finn.fennel@old.fernmoor.example", "Ada Alder": "left out: Not now"}, got)
	assert.Equal(t, finding.NewAccount, reason(t, w, p, "stu-001").Reason, "nothing was saved yet")

	require.NoError(t, w.Matching.Change(t.Context(), "test", c.ID, version, m))
	assert.Equal(t, finding.LeftOutByRule, reason(t, w, p, "stu-001").Reason)
	run := w.Sync(p.ID, false)
	changes, err := runstore.Changes(t.Context(), w.Store, run.ID)
	require.NoError(t, err)
	for _, x := range changes {
		assert.NotEqual(t, runstore.ChangeRefused, x.State, "%s: %s", x.Entry.Name, x.Answer)
	}
	assert.Equal(t, "finn.fennel@old.fernmoor.example", w.Person(school.OldDomain).Email,
		"what the register says stays")
	assert.Zero(t, w.Standins.Workspace.Told(), "newcomers are not told unless asked")

	// Other keys: only the service can tell whom that touches.
	byName := m
	byName.Keys = []roster.Key{roster.KeyUserName}
	touched, err = w.Matching.Preview(t.Context(), c.ID, byName)
	require.NoError(t, err)
	require.NotEmpty(t, touched)
	for _, x := range touched {
		assert.Contains(t, x.Effect, ", was ")
	}
	again := m
	touched, err = w.Matching.Preview(t.Context(), c.ID, again)
	require.NoError(t, err)
	assert.Empty(t, touched, "the same touches nobody")

	assert.ErrorIs(t, w.Matching.Change(t.Context(), "test", c.ID, version, m), db.ErrStale)
	m.Keys = nil
	assert.ErrorContains(t, w.Matching.Change(t.Context(), "test", c.ID, 0, m), "at least one key")
	_, err = w.Matching.Preview(t.Context(), w.Contacts().ID, m)
	assert.ErrorContains(t, err, "takes no people")
}

// A person decides between two accounts; the decision is kept and can be dropped.
func TestTwoCandidatesAreDecidedByHand_P1(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	c := w.Workspace()
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("SOIL-A").ID,
		InterfaceID: c.ID,
	})
	require.NoError(t, err)
	nils := w.Person(school.Doubled)
	assert.Equal(t, finding.TwoCandidates, reason(t, w, p, school.Doubled).Reason)
	list, err := w.Matching.Candidates(t.Context(), nils.ID, c.ID)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Contains(t, list[0].Evidence, "address")

	require.NoError(t, w.Matching.Choose(t.Context(), "test", nils.ID, c.ID, list[1].AccountID))
	e := reason(t, w, p, school.Doubled)
	assert.Equal(t, finding.NewMember, e.Reason)
	assert.Equal(t, list[1].AccountID, e.AccountID)
	assert.ErrorContains(t, w.Matching.Choose(t.Context(), "test", nils.ID, c.ID, "none"), `has no account "none"`)

	require.NoError(t, w.Matching.Deny(t.Context(), "test", nils.ID, c.ID, list[1].AccountID))
	e = reason(t, w, p, school.Doubled)
	assert.Equal(t, list[0].AccountID, e.AccountID, "one of two is left")
	known, err := matchstore.AccountsOf(t.Context(), w.Store, nils.ID)
	require.NoError(t, err)
	require.Len(t, known, 1)
	assert.True(t, known[0].Denied)
	assert.Equal(t, "test", known[0].By)

	require.NoError(t, w.Matching.Forget(t.Context(), "test", nils.ID, c.ID))
	assert.Equal(t, finding.TwoCandidates, reason(t, w, p, school.Doubled).Reason)
	var audited int
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM audit_entries WHERE subject = $1`,
		"person/"+nils.ID).Scan(&audited))
	assert.Equal(t, 3, audited)

	// What is another person's is not taken from them; forgetting really forgets.
	other := w.Person("stu-001")
	require.NoError(t, w.Matching.Choose(t.Context(), "test", nils.ID, c.ID, list[1].AccountID))
	err = w.Matching.Choose(t.Context(), "test", other.ID, c.ID, list[1].AccountID)
	require.ErrorContains(t, err, "is kept for Nils Nettle")
	assert.ErrorContains(t, err, "kanban people unmatch")
	assert.Equal(t, list[1].AccountID, reason(t, w, p, school.Doubled).AccountID)
	require.NoError(t, w.Matching.Forget(t.Context(), "test", nils.ID, c.ID))
	known, err = matchstore.AccountsOf(t.Context(), w.Store, nils.ID)
	require.NoError(t, err)
	assert.Empty(t, known)
	assert.Equal(t, finding.TwoCandidates, reason(t, w, p, school.Doubled).Reason)
	require.NoError(t, w.Matching.Choose(t.Context(), "test", other.ID, c.ID, list[1].AccountID), "nobody's any more")
}
