package lists_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/linking"
	"kanban/internal/app/lists"
	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func world(t *testing.T) (*apptest.World, *lists.Service, connectionstore.Interface, connectionstore.Interface) {
	t.Helper()
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	return w, &lists.Service{Store: w.Store}, register, w.Workspace()
}

func orgID(t *testing.T, w *apptest.World, name string) string {
	t.Helper()
	orgs, err := rosterstore.Orgs(t.Context(), w.Store)
	require.NoError(t, err)
	i := slices.IndexFunc(orgs, func(o rosterstore.Org) bool { return o.Name == name })
	require.GreaterOrEqual(t, i, 0, "%v", orgs)
	return orgs[i].ID
}

// A course is paired like a section: everybody of its sections is in one class, with the same
// outcomes, and follows the register.
func TestACourseIsPairedLikeASection_S4(t *testing.T) {
	w, s, register, workspace := world(t)
	course := w.Section("PROP-A").CourseID
	l, err := s.Make(t.Context(), "test", lists.Wish{Kind: rosterstore.ListOfCourse, OfID: course})
	require.NoError(t, err)
	assert.Equal(t, "Propagation", l.Name)
	cards, err := w.Pairings.Cards(t.Context(), pairings.Filter{Called: l.ID})
	require.NoError(t, err)
	require.Len(t, cards, 1, "it stands among the sections")
	assert.Equal(t, roster.NotPaired, cards[0].State)
	assert.Equal(t, []string{"Maud Marrow", "Otto Onion", "Pia Parsley"}, cards[0].Teachers)

	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{SectionID: l.ID, InterfaceID: workspace.ID})
	require.NoError(t, err)
	want := map[string]roster.Outcome{}
	for _, code := range []string{"PROP-A", "PROP-B", "PROP-C"} {
		plan := planOf(t, w, code, workspace.ID)
		for _, e := range plan.Entries {
			if before, ok := want[e.PersonID]; !ok || before != e.Outcome && e.Outcome == roster.OutcomeAdd {
				want[e.PersonID] = e.Outcome
			}
		}
	}
	preview, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	got := map[string]roster.Outcome{}
	for _, e := range preview.Plan.Entries {
		got[e.PersonID] = e.Outcome
	}
	assert.Equal(t, want, got, "everybody has the outcome that they have in their section")
	r := w.Sync(p.ID, false)
	require.Positive(t, r.Counts["added"])
	assert.Contains(t, w.Standins.Workspace.Space(p.TargetName), "Yann Yew")

	// Somebody who changes sections within the course stays; who leaves the course comes out.
	require.NoError(t, w.Standins.School.Withdraw("stu-025", "sec-prop-c"))
	require.NoError(t, w.Standins.School.Enrol("stu-025", "sec-prop-a"))
	require.NoError(t, w.Standins.School.Withdraw("stu-026", "sec-prop-c"))
	w.Read(register, false)
	asked, err := pairingstore.FindPairing(t.Context(), w.Store, p.ID)
	require.NoError(t, err)
	assert.NotNil(t, asked.AskedAt, "the read asks for a comparison")
	r = w.Sync(p.ID, false)
	assert.Equal(t, 1, r.Counts["removed"])
	assert.Contains(t, w.Standins.Workspace.Space(p.TargetName), "Yann Yew")

	// It is no section: nothing is linked with it, nobody is enrolled in it.
	_, err = w.Linking.Link(t.Context(), "test", linking.Wish{LeadID: w.Section("PROP-A").ID, Others: []string{l.ID}})
	assert.Error(t, err)
	assert.ErrorContains(t, s.Remove(t.Context(), "test", l.ID), "end that pairing first")
	require.NoError(t, w.Pairings.Unpair(t.Context(), "test", p.ID))
	require.NoError(t, s.Remove(t.Context(), "test", l.ID))
	cards, err = w.Pairings.Cards(t.Context(), pairings.Filter{Called: l.ID})
	require.NoError(t, err)
	assert.Empty(t, cards)
}

func planOf(t *testing.T, w *apptest.World, code, connection string) roster.Plan {
	t.Helper()
	at, err := w.Runs.DirectoryOf(t.Context(), connection, 1)
	require.NoError(t, err)
	plan, err := w.Runs.Plan(t.Context(), pairingstore.Pairing{
		ID: db.NewID(), SectionID: w.Section(code).ID,
		InterfaceID: connection, Policy: roster.DefaultPolicy(),
	}, at)
	require.NoError(t, err)
	return plan
}

func TestAnOrganisationAndNamedPeople_S4(t *testing.T) {
	w, s, _, workspace := world(t)
	all, err := s.Make(t.Context(), "test", lists.Wish{
		Kind: rosterstore.ListOfOrganisation,
		OfID: orgID(t, w, "Fernmoor Garden School"), Name: "All of the school",
	})
	require.NoError(t, err)
	people, err := rosterstore.PeopleOf(t.Context(), w.Store, all.ID)
	require.NoError(t, err)
	assert.Greater(t, len(people), 60)
	once := map[string]bool{}
	for _, p := range people {
		assert.False(t, once[p.PersonID], "%s is on it once", p.Name)
		once[p.PersonID] = true
	}

	ada, yann, maud := w.Person("stu-001").ID, w.Person("stu-025").ID, w.Person("tea-001").ID
	for name, c := range map[string]struct {
		wish lists.Wish
		says string
	}{
		"nobody":  {lists.Wish{Kind: rosterstore.ListOfNamed, Name: "Nobody"}, "names nobody"},
		"no name": {lists.Wish{Kind: rosterstore.ListOfNamed, People: []string{ada}}, "must have 1 to"},
		"a stranger": {
			lists.Wish{Kind: rosterstore.ListOfNamed, Name: "x", People: []string{db.NewID()}},
			"there is nobody",
		},
		"no id": {
			lists.Wish{Kind: rosterstore.ListOfNamed, Name: "x", People: []string{"zzz"}},
			"is no id of a person",
		},
		"no course": {lists.Wish{Kind: rosterstore.ListOfCourse, OfID: db.NewID()}, "there is no course"},
		"no organisation": {
			lists.Wish{Kind: rosterstore.ListOfOrganisation, OfID: db.NewID()},
			"there is no organisation",
		},
		"no kind": {lists.Wish{Kind: "club"}, "is not one of"},
	} {
		_, err := s.Make(t.Context(), "test", c.wish)
		assert.ErrorContains(t, err, c.says, name)
	}
	l, err := s.Make(t.Context(), "test", lists.Wish{
		Kind: rosterstore.ListOfNamed, Name: "Harvest committee",
		People: []string{ada, maud},
	})
	require.NoError(t, err)
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{SectionID: l.ID, InterfaceID: workspace.ID})
	require.NoError(t, err)
	w.Sync(p.ID, false)
	assert.Equal(t, []string{"Ada Alder", "Maud Marrow"}, w.Standins.Workspace.Space("Harvest committee"))
	_, err = s.Change(t.Context(), "test", l.ID, 9, lists.Edit{Add: []string{yann}})
	assert.ErrorIs(t, err, db.ErrStale)
	l, err = s.Change(t.Context(), "test", l.ID, l.Version, lists.Edit{Add: []string{yann}, Drop: []string{ada}})
	require.NoError(t, err)
	r := w.Sync(p.ID, true)
	assert.Equal(t, []int{1, 1}, []int{r.Counts["added"], r.Counts["removed"]})
	assert.Equal(t, []string{"Maud Marrow", "Yann Yew"}, w.Standins.Workspace.Space("Harvest committee"))
	_, err = s.Change(t.Context(), "test", all.ID, 0, lists.Edit{Drop: []string{ada}})
	assert.ErrorContains(t, err, "comes from the register")
}
