package linking_test

import (
	"archive/zip"
	"bytes"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/app/linking"
	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/visibility"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// linked is a world in which Propagation A, B and C are linked under B.
func linked(t *testing.T) (*apptest.World, connectionstore.Interface, linkstore.LinkedSet) {
	t.Helper()
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	set, err := w.Linking.Link(t.Context(), "test", linking.Wish{
		LeadID: w.Section("PROP-B").ID,
		Others: []string{w.Section("PROP-C").ID, w.Section("PROP-A").ID},
	})
	require.NoError(t, err)
	return w, register, set
}

func TestWhatCannotBeLinkedSaysWhy_S2(t *testing.T) {
	w, _, set := linked(t)
	assert.Equal(t, "Propagation", set.Name)
	id := func(code string) string { return w.Section(code).ID }
	for _, c := range []struct {
		lead, other, reason string
		code                finding.Code
	}{
		{"SOIL-A", "PROP-A", "all the same", finding.LinkTwice},
		{"PROP-A", "SOIL-A", "all the same", finding.LinkTwice},
		{"SOIL-A", "SOIL-A", "all the same", finding.LinkTwice},
		{"SOIL-A", "GLAS-A", "", finding.OtherCourse},
		{"ORCH-A", "ORCH-B", "", finding.OtherTerm},
	} {
		_, err := w.Linking.Link(t.Context(), "test", linking.Wish{
			LeadID: id(c.lead), Others: []string{id(c.other)},
			Reason: c.reason,
		})
		r, ok := refusal.As(err)
		require.True(t, ok, "%v %v", c, err)
		assert.Equal(t, c.code, r.Code)
	}
	list, err := w.Linking.Candidates(t.Context(), id("ORCH-A"), "")
	require.NoError(t, err)
	require.Len(t, list, 8)
	assert.Equal(t, "ORCH-B", list[0].Code, "what is closest comes first")
	assert.NotEmpty(t, list[0].Obstacles)

	// With a reason it can be done, and the reason is kept.
	_, err = w.Linking.Link(t.Context(), "Maud", linking.Wish{
		LeadID: id("ORCH-A"), Others: []string{id("ORCH-B")},
		Reason: "one class over both terms", Name: "Orchard",
	})
	require.NoError(t, err)
	var who, detail string
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT who, detail::text FROM audit_entries
		WHERE what = 'linked sections' ORDER BY id DESC LIMIT 1`).Scan(&who, &detail))
	assert.Equal(t, "Maud", who)
	assert.Contains(t, detail, "one class over both terms")
}

func TestProposalsAndSafetyCopy_S3(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	found, err := w.Linking.Proposals(t.Context(), true, false, nil)
	same := found.List
	require.NoError(t, err)
	require.Len(t, same, 1)
	assert.Len(t, same[0].Sections, 2, "Propagation A and B share Otto Onion")
	assert.Zero(t, found.Hidden)
	found, err = w.Linking.Proposals(t.Context(), false, false, nil)
	all := found.List
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.Len(t, all[0].Sections, 3)
	wish := linking.Wish{
		LeadID: all[0].Sections[0].ID,
		Others: []string{all[0].Sections[1].ID, all[0].Sections[2].ID},
	}
	ada, propagation := w.Person("stu-001").ID, w.Section("PROP-A").ID
	for _, done := range []string{
		`INSERT INTO progress (person_id, section_id, percent) VALUES ($1, $2, 50)`,
		`INSERT INTO activity_progress (person_id, section_id, activity_id, first_at, last_at, completed, passed,
			failed, best) VALUES ($1, $2, 'http://p.example/check', now(), now(), false, true, true, 0.75)`,
	} {
		_, err := w.Store.Pool.Exec(t.Context(), done, ada, propagation)
		require.NoError(t, err)
	}
	c, err := w.Linking.Consequences(t.Context(), wish)
	require.NoError(t, err)
	assert.Empty(t, c.Refused)
	assert.Equal(t, 1, c.Several, "Otto Onion teaches two of them")
	set, err := w.Linking.Link(t.Context(), "test", wish)
	require.NoError(t, err)
	copies, err := linkstore.SafetyCopies(t.Context(), w.Store, set.ID)
	require.NoError(t, err)
	require.Len(t, copies, 1)
	kept, err := linkstore.FindSafetyCopy(t.Context(), w.Store, copies[0].ID)
	require.NoError(t, err)
	assert.Equal(t, c.People, kept.People)
	z, err := zip.NewReader(bytes.NewReader(kept.Content), int64(len(kept.Content)))
	require.NoError(t, err)
	require.Len(t, z.File, 3)
	read := func(n int) string {
		f, err := z.File[n].Open()
		require.NoError(t, err)
		text, err := io.ReadAll(f)
		require.NoError(t, err)
		return string(text)
	}
	assert.Equal(t, 1, kept.Results)
	assert.Contains(t, read(1), "PROP-A,Ada Alder,stu-001,http://p.example/check,false,true,true,0.75,",
		"a result is a row that a spreadsheet can use")
	text := read(0)
	assert.Equal(t, kept.People+c.Several+1, strings.Count(text, "\n"), "one line per enrolment and a header")
	assert.Contains(t, text, "PROP-A,Propagation A,Ada Alder,stu-001,student,")
}

// What lists hide is not proposed either, and how much that is is said.
func TestProposalsHideWhatListsDo_S9(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	require.NoError(t, w.Pairings.SetHidingRules(t.Context(), "test",
		visibility.Rules{{Name: "The third", Title: "Propagation C"}}))
	found, err := w.Linking.Proposals(t.Context(), false, false, nil)
	require.NoError(t, err)
	require.Len(t, found.List, 1)
	assert.Len(t, found.List[0].Sections, 2)
	assert.Equal(t, 1, found.Hidden)
	found, err = w.Linking.Proposals(t.Context(), false, true, nil)
	require.NoError(t, err)
	assert.Len(t, found.List[0].Sections, 3)
	assert.Zero(t, found.Hidden)

	// The terms count too: next term's sections wait until it begins, or are asked for.
	require.NoError(t, w.Pairings.SetHidingRules(t.Context(), "test", visibility.Default()))
	w.Pairings.Clock = func() time.Time { return w.Section("ORCH-B").BeginsOn.AddDate(0, 0, 1) }
	found, err = w.Linking.Proposals(t.Context(), false, false, nil)
	require.NoError(t, err)
	assert.Empty(t, found.List)
	assert.Equal(t, 3, found.Hidden)
}

// A set has one class, with a group for each section inside it. A mover changes
// groups and stays in the class; unlinking gives the class back to the lead.
func TestOneClassWithAGroupPerSection_S2(t *testing.T) {
	w, register, set := linked(t)
	workspace := w.Workspace()
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-A").ID,
		InterfaceID: workspace.ID,
	})
	require.NoError(t, err)
	assert.Equal(t, set.LeadID, p.SectionID, "pairing any of the sections pairs the set")
	assert.Equal(t, "Propagation", p.TargetName)
	cards, err := w.Pairings.Cards(t.Context(), pairings.Filter{Text: "PROP-C"})
	require.NoError(t, err)
	require.Len(t, cards, 1, "the set is one card, found by any of its sections")
	assert.Equal(t, roster.NeverRun, cards[0].State)
	_, err = w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-C").ID,
		InterfaceID: workspace.ID,
	})
	assert.ErrorContains(t, err, "is paired through")

	run := w.Sync(p.ID, false)
	require.Equal(t, runstore.NeedsPerson, run.State, run.Error)
	space := w.Standins.Workspace.Space
	assert.Len(t, space("Propagation"), run.Counts["added"])
	assert.Equal(t, []string{"Maud Marrow", "Otto Onion"},
		intersect(space("Propagation – Propagation A"), []string{"Maud Marrow", "Otto Onion", "Pia Parsley"}))
	assert.Equal(t, []string{"Otto Onion"}, intersect(space("Propagation – Propagation B"),
		[]string{"Maud Marrow", "Otto Onion", "Pia Parsley"}))
	assert.Contains(t, space("Propagation – Propagation C"), "Yann Yew")
	again := w.Sync(p.ID, false)
	assert.Zero(t, again.Counts["added"]+again.Counts["updated"]+again.Counts["removed"])

	// Yann Yew moves from C to B: out of one group, into the other, in the class all along.
	require.NoError(t, w.Standins.School.Withdraw("stu-025", "sec-prop-c"))
	require.NoError(t, w.Standins.School.Enrol("stu-025", "sec-prop-b"))
	w.Read(register, false)
	moved := w.Sync(p.ID, false)
	assert.Equal(t, 1, moved.Counts["updated"])
	assert.Zero(t, moved.Counts["added"]+moved.Counts["removed"])
	assert.NotContains(t, space("Propagation – Propagation C"), "Yann Yew")
	assert.Contains(t, space("Propagation – Propagation B"), "Yann Yew")
	assert.Contains(t, space("Propagation"), "Yann Yew")

	// What that run did can be reverted.
	back, err := w.Runs.Revert(t.Context(), moved.ID)
	require.NoError(t, err)
	r, err := w.Runs.Start(t.Context(), "test", back.ID, false)
	require.NoError(t, err)
	require.NoError(t, w.Runs.Work(t.Context(), r.ID, true))
	assert.Contains(t, space("Propagation – Propagation C"), "Yann Yew")
	assert.NotContains(t, space("Propagation – Propagation B"), "Yann Yew")
	no := false
	_, err = w.Pairings.Change(t.Context(), "test", p.ID, 0, pairings.Edit{Paused: &no})
	require.NoError(t, err)
	w.Sync(p.ID, false)

	apart, err := w.Linking.Unlinking(t.Context(), set.ID, linking.ToLead)
	require.NoError(t, err)
	require.Len(t, apart, 1)
	out := effects(apart[0].People)[roster.Removed]
	assert.Greater(t, len(out), 15)
	assert.ErrorContains(t, w.Linking.Unlink(t.Context(), "test", set.ID, 0, ""), "say what becomes of the class")
	assert.ErrorIs(t, w.Linking.Unlink(t.Context(), "test", set.ID, 9, linking.ToLead), db.ErrStale)
	require.NoError(t, w.Linking.Unlink(t.Context(), "test", set.ID, set.Version, linking.ToLead))
	assert.ErrorContains(t, w.Linking.Unlink(t.Context(), "test", set.ID, 0, linking.ToLead), "unlinked already")
	preview, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	_, err = w.Runs.Start(t.Context(), "test", preview.ID, false)
	assert.ErrorContains(t, err, "more than its guard allows", "taking the others out needs approval")
	last := w.Sync(p.ID, true)
	assert.Equal(t, len(out), last.Counts["removed"])
	assert.Contains(t, space("Propagation"), "Yann Yew")
	assert.NotContains(t, space("Propagation"), "Ada Alder")
	assert.Empty(t, space("Propagation – Propagation C"))
	assert.Empty(t, space("Propagation – Propagation B"), "the lead has the whole class again")
	done := w.Sync(p.ID, false)
	assert.Zero(t, done.Counts["updated"]+done.Counts["removed"])
}

// A section of a set that vanishes from the register takes nobody out by itself.
func TestVanishedSectionAsksFirst_S5(t *testing.T) {
	w, register, set := linked(t)
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   set.LeadID,
		InterfaceID: w.Workspace().ID,
	})
	require.NoError(t, err)
	w.Sync(p.ID, false)
	before := w.Standins.Workspace.Space("Propagation")
	w.Standins.School.Drop("sec-prop-c")
	w.Read(register, true)
	require.NoError(t, w.Runs.Auto(t.Context(), p.ID, "schedule"))
	card, err := w.Pairings.Card(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, roster.NeedsPerson, card.State)
	assert.Equal(t, before, w.Standins.Workspace.Space("Propagation"))
	today, err := (&findings.Service{Store: w.Store}).Today(t.Context(), nil)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(today, func(f findings.Finding) bool { return f.Code == finding.SectionGone }))
}

func intersect(all, some []string) (both []string) {
	for _, x := range all {
		if slices.Contains(some, x) {
			both = append(both, x)
		}
	}
	return both
}
