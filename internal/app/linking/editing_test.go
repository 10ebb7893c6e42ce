package linking_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/findings"
	"kanban/internal/app/linking"
	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
)

// nowhere gives interfaces at whose address nobody answers.
type nowhere struct{ adapter.Opener }

func (n nowhere) Open(ctx context.Context, id string) (adapter.Interface, error) {
	c, err := n.Opener.Open(ctx, id)
	c.Settings = map[string]string{"address": "http://127.0.0.1:1"}
	return c, err
}

// effects gives names by what becomes of them.
func effects(people []roster.Affected) map[roster.Effect][]string {
	out := map[roster.Effect][]string{}
	for _, p := range people {
		out[p.Effect] = append(out[p.Effect], p.Name)
	}
	return out
}

// paired is a set of Propagation A and B whose class has run.
func paired(t *testing.T) (*apptest.World, linkstore.LinkedSet, pairingstore.Pairing) {
	t.Helper()
	w := apptest.New(t)
	w.Read(w.Register(), false)
	set, err := w.Linking.Link(t.Context(), "test", linking.Wish{
		LeadID: w.Section("PROP-A").ID,
		Others: []string{w.Section("PROP-B").ID},
	})
	require.NoError(t, err)
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   set.LeadID,
		InterfaceID: w.Workspace().ID,
	})
	require.NoError(t, err)
	w.Sync(p.ID, false)
	return w, set, p
}

// What a change of a set shows for everybody is what its next run does.
func TestASetIsChangedAsShown_S2(t *testing.T) {
	w, set, p := paired(t)
	id := func(code string) string { return w.Section(code).ID }
	for name, c := range map[string]struct {
		edit linking.Edit
		says string
	}{
		"nothing": {linking.Edit{}, "nothing is to be changed"},
		"the lead goes": {
			linking.Edit{Drop: []string{id("PROP-A")}, Add: []string{id("PROP-C")}},
			"say which of the others leads",
		},
		"only one is left":   {linking.Edit{Drop: []string{id("PROP-B")}}, "unlink it instead"},
		"a stranger leads":   {linking.Edit{LeadID: id("SOIL-A")}, "none of those"},
		"a stranger goes":    {linking.Edit{Drop: []string{id("SOIL-A")}}, "is no section of"},
		"one that is in":     {linking.Edit{Add: []string{id("PROP-B")}}, "named twice"},
		"of another course":  {linking.Edit{Add: []string{id("SOIL-A")}}, "give a reason"},
		"an unknown section": {linking.Edit{Add: []string{db.NewID()}}, "there is no section"},
	} {
		assert.ErrorContains(t, w.Linking.Change(t.Context(), "test", set.ID, 0, c.edit), c.says, name)
	}
	assert.ErrorIs(t, w.Linking.Change(t.Context(), "test", set.ID, 7, linking.Edit{Add: []string{id("PROP-C")}}),
		db.ErrStale)

	add := linking.Edit{Add: []string{id("PROP-C")}}
	x, err := w.Linking.Editing(t.Context(), set.ID, add)
	require.NoError(t, err)
	require.Empty(t, x.Refused)
	shown := effects(x.Classes[0].People)
	require.NotEmpty(t, shown[roster.Added])
	assert.Empty(t, shown[roster.Removed])
	before, err := w.Linking.Set(t.Context(), set.ID)
	require.NoError(t, err)
	assert.Len(t, before.Sections, 2, "nothing happened yet")
	require.NoError(t, w.Linking.Change(t.Context(), "Maud", set.ID, set.Version, add))
	r := w.Sync(p.ID, false)
	assert.Equal(t, len(shown[roster.Added]), r.Counts["added"]+r.Counts["refused"], "who was shown to go in")
	assert.NotEmpty(t, w.Standins.Workspace.Space("Propagation – Propagation C"))

	// C leads, A goes out: its people come out, whom another section of the set has stays.
	swap := linking.Edit{Drop: []string{id("PROP-A")}, LeadID: id("PROP-C")}
	x, err = w.Linking.Editing(t.Context(), set.ID, swap)
	require.NoError(t, err)
	shown = effects(x.Classes[0].People)
	assert.Contains(t, shown[roster.Removed], "Ada Alder")
	assert.Contains(t, shown[roster.Stays], "Otto Onion", "he teaches B as well")
	require.NoError(t, w.Linking.Change(t.Context(), "Maud", set.ID, 0, swap))
	after, err := w.Linking.Set(t.Context(), set.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"PROP-C", "PROP-B"}, []string{after.Sections[0].Code, after.Sections[1].Code})
	assert.Equal(t, id("PROP-C"), after.Pairings[0].SectionID)
	r = w.Sync(p.ID, true)
	assert.Equal(t, len(shown[roster.Removed]), r.Counts["removed"])
	assert.NotContains(t, w.Standins.Workspace.Space("Propagation"), "Ada Alder")
	_, err = w.Linking.Link(t.Context(), "test", linking.Wish{
		LeadID: id("PROP-A"), Others: []string{id("SOIL-A")},
		Reason: "x",
	})
	assert.NoError(t, err, "what was taken out can be linked elsewhere")

	// Its group is left over, empty, and can be removed; one with somebody in it cannot.
	said, err := (&findings.Service{Store: w.Store}).Findings(t.Context(), findings.Filter{Code: finding.GroupLeft})
	require.NoError(t, err)
	require.Len(t, said, 1)
	assert.Equal(t, "Propagation A", said[0].Subject)
	groups, err := w.Linking.LeftGroups(t.Context(), "")
	require.NoError(t, err)
	require.Len(t, groups, 1)
	assert.Equal(t, "Propagation – Propagation A", groups[0].Name)
	assert.Zero(t, groups[0].Members)
	w.Standins.Workspace.Seat("Propagation – Propagation A", "Ada Alder", true)
	assert.ErrorContains(t, w.Linking.RemoveGroup(t.Context(), "test", groups[0].InterfaceID, groups[0].Ref),
		"is not empty (members: 1)")
	w.Standins.Workspace.Seat("Propagation – Propagation A", "Ada Alder", false)
	connections := w.Runs.Connections
	w.Runs.Connections = nowhere{connections}
	down, err := w.Linking.LeftGroups(t.Context(), "")
	require.NoError(t, err)
	require.Len(t, down, 1)
	assert.Error(t, down[0].Problem, "who is in it is not known")
	assert.Equal(t, "Propagation A", down[0].Section)
	assert.Error(t, w.Linking.RemoveGroup(t.Context(), "test", groups[0].InterfaceID, groups[0].Ref),
		"what is not known to be empty stays")
	w.Runs.Connections = connections
	assert.ErrorContains(t, w.Linking.RemoveGroup(t.Context(), "test", groups[0].InterfaceID, p.TargetRef),
		"no group that is left over", "a class is none")
	require.NoError(t, w.Linking.RemoveGroup(t.Context(), "test", groups[0].InterfaceID, groups[0].Ref))
	groups, err = w.Linking.LeftGroups(t.Context(), "")
	require.NoError(t, err)
	assert.Empty(t, groups)
	assert.Nil(t, w.Standins.Workspace.Space("Propagation – Propagation A"))
}

// Unlinking and ending say for everybody what becomes of them.
func TestUnlinkingSaysWhatBecomesOfEverybody(t *testing.T) {
	w, set, p := paired(t)
	all := len(w.Standins.Workspace.Space("Propagation"))
	toLead, err := w.Linking.Unlinking(t.Context(), set.ID, linking.ToLead)
	require.NoError(t, err)
	lead := effects(toLead[0].People)
	assert.Contains(t, lead[roster.Stays], "Ada Alder")
	assert.NotEmpty(t, lead[roster.Removed])
	assert.Len(t, lead[roster.Stays], all-len(lead[roster.Removed]))
	ends, err := w.Linking.Unlinking(t.Context(), set.ID, linking.Ended)
	require.NoError(t, err)
	ended := effects(ends[0].People)
	assert.Len(t, ended[roster.Stays], all)
	assert.Empty(t, ended[roster.Removed])

	kept, err := pairingstore.FindPairing(t.Context(), w.Store, p.ID)
	require.NoError(t, err)
	out, err := w.Runs.TakenOut(t.Context(), kept)
	require.NoError(t, err)
	assert.Len(t, effects(out)[roster.Removed], all)
	stay, err := w.Runs.Effects(t.Context(), kept, true)
	require.NoError(t, err)
	assert.Len(t, effects(stay)[roster.Stays], all)
}

// A safety copy stays when the set is unlinked; results that were lost since come back, and
// what is there stays as it is.
func TestASafetyCopyIsPutBack_S3(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	ada, lead := w.Person("stu-001").ID, w.Section("PROP-A").ID
	exec := func(sql string, args ...any) {
		t.Helper()
		_, err := w.Store.Pool.Exec(t.Context(), sql, args...)
		require.NoError(t, err)
	}
	exec(`INSERT INTO progress (person_id, section_id, percent) VALUES ($1, $2, 50)`, ada, lead)
	for _, a := range []string{"check", "essay"} {
		exec(`INSERT INTO activity_progress (person_id, section_id, activity_id, first_at, last_at, completed, passed,
			failed, best) VALUES ($1, $2, 'http://p.example/' || $3, now(), now(), false, true, true, 0.75)`, ada, lead, a)
	}
	set, err := w.Linking.Link(t.Context(), "test", linking.Wish{
		LeadID: lead,
		Others: []string{w.Section("PROP-B").ID},
	})
	require.NoError(t, err)
	require.NoError(t, w.Linking.Unlink(t.Context(), "test", set.ID, 0, ""))
	gone, err := linkstore.UnlinkedSets(t.Context(), w.Store)
	require.NoError(t, err)
	require.Len(t, gone, 1)
	copies, err := linkstore.SafetyCopies(t.Context(), w.Store, gone[0].ID)
	require.NoError(t, err)
	require.Len(t, copies, 1)
	_, err = w.Linking.PutBack(t.Context(), "test", copies[0].ID)
	assert.ErrorContains(t, err, "nothing of this copy is missing")

	var before, after string
	read := `SELECT string_agg(a::text, ' ' ORDER BY activity_id) FROM activity_progress a`
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), read).Scan(&before))
	exec(`DELETE FROM activity_progress WHERE activity_id = 'http://p.example/check'`)
	x, err := w.Linking.PuttingBack(t.Context(), copies[0].ID)
	require.NoError(t, err)
	require.Len(t, x.Back, 1)
	assert.Equal(t, "Ada Alder", x.Back[0].Person)
	assert.Equal(t, 1, x.There)
	_, err = w.Linking.PutBack(t.Context(), "Maud", copies[0].ID)
	require.NoError(t, err)
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), read).Scan(&after))
	assert.Equal(t, before, after, "to the last digit")
}
