package pairings_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// The states of a section through the life of its pairing.
func TestStateThroughALife_S7(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	workspace := w.Workspace()
	state := func(code string) roster.State {
		t.Helper()
		cards, err := w.Pairings.Cards(t.Context(), pairings.Filter{Text: code})
		require.NoError(t, err)
		require.Len(t, cards, 1)
		return cards[0].State
	}
	assert.Equal(t, roster.NotPaired, state("PROP-C"))
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-C").ID,
		InterfaceID: workspace.ID,
	})
	require.NoError(t, err)
	assert.Equal(t, "Propagation C", p.TargetName, "the section's title when none is given")
	assert.Equal(t, roster.NeverRun, state("PROP-C"))
	w.Sync(p.ID, false)
	assert.Equal(t, roster.InStep, state("PROP-C"))

	require.NoError(t, w.Standins.School.Enrol("stu-060", "sec-prop-c"))
	w.Read(connectionstore.Interface{ID: w.Section("PROP-C").Interface}, false)
	_, err = w.Runs.Compare(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, roster.OutOfStep, state("PROP-C"))

	paused := true
	p, err = w.Pairings.Change(t.Context(), "test", p.ID, 0, pairings.Edit{Paused: &paused})
	require.NoError(t, err)
	assert.Equal(t, roster.Paused, state("PROP-C"))
	_, err = w.Pairings.Change(t.Context(), "test", p.ID, p.Version-1, pairings.Edit{Paused: &paused})
	assert.ErrorIs(t, err, db.ErrStale)

	require.NoError(t, w.Pairings.Unpair(t.Context(), "test", p.ID))
	require.NoError(t, w.Pairings.Unpair(t.Context(), "test", p.ID), "twice is harmless")
	assert.Equal(t, roster.NotPaired, state("PROP-C"))

	w.Pairings.Clock = func() time.Time { return time.Now().AddDate(1, 0, 0) }
	assert.Equal(t, roster.Ended, state("PROP-C"))
	_, err = w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-C").ID,
		InterfaceID: workspace.ID,
	})
	assert.ErrorContains(t, err, "ended on")
}

func TestCardsAreFilteredAndOrdered(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	_, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("SOIL-A").ID,
		InterfaceID: w.Workspace().ID,
	})
	require.NoError(t, err)
	for want, f := range map[int]pairings.Filter{
		9: {}, 7: {Term: "First term"}, 2: {Teacher: "Otto Onion"}, 1: {State: roster.NeverRun},
		3: {Text: "propagation"}, 0: {Text: "propagation", Term: "Second term"},
	} {
		cards, err := w.Pairings.Cards(t.Context(), f)
		require.NoError(t, err)
		assert.Len(t, cards, want, "%+v", f)
	}
	cards, err := w.Pairings.Cards(t.Context(), pairings.Filter{})
	require.NoError(t, err)
	assert.Equal(t, "SOIL-A", cards[0].Section.Code, "what needs a run comes before what is not paired")
	assert.Equal(t, []string{"Maud Marrow", "Otto Onion"}, w.Section("PROP-A").Teachers,
		"a second account is no second teacher")
}

func TestWhatCannotBePairedIsRefusedBefore_S5(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	workspace, contacts := w.Workspace(), w.Contacts()
	section := w.Section("PROP-A").ID
	policy := func(change func(*roster.Policy)) *roster.Policy {
		p := roster.DefaultPolicy()
		change(&p)
		return &p
	}
	for field, wish := range map[string]pairings.Wish{
		"sectionId":   {SectionID: db.NewID(), InterfaceID: workspace.ID},
		"interfaceId": {SectionID: section, InterfaceID: contacts.ID},
		"target": {
			SectionID: section, InterfaceID: workspace.ID,
			TargetName: strings.Repeat("x", 121),
		},
		"policy.roles": {
			SectionID: section, InterfaceID: workspace.ID,
			Policy: policy(func(p *roster.Policy) { p.Roles = nil }),
		},
		"policy.leavers": {
			SectionID: section, InterfaceID: workspace.ID,
			Policy: policy(func(p *roster.Policy) { p.Leavers = "vanish" }),
		},
		"policy.removalShare": {
			SectionID: section, InterfaceID: workspace.ID,
			Policy: policy(func(p *roster.Policy) { p.RemovalShare = 20 }),
		},
		"policy.removalNumber": {
			SectionID: section, InterfaceID: workspace.ID,
			Policy: policy(func(p *roster.Policy) { p.RemovalNumber = -1 }),
		},
	} {
		_, err := w.Pairings.Pair(t.Context(), "test", wish)
		r, ok := refusal.As(err)
		require.True(t, ok, "%s: %v", field, err)
		assert.Equal(t, field, r.Field)
	}
	_, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{SectionID: section, InterfaceID: workspace.ID})
	require.NoError(t, err)
	_, err = w.Pairings.Pair(t.Context(), "test", pairings.Wish{SectionID: section, InterfaceID: workspace.ID})
	assert.ErrorContains(t, err, "is paired through")

	// Through another service it may be paired too; then it stands on the board twice.
	other := w.Connect("scim", "Second workspace",
		map[string]string{"address": w.Standins.Addresses.Workspace + "/scim/v2", "token": "potting-shed"})
	_, err = w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID: section, InterfaceID: other.ID,
		TargetName: "Elsewhere",
	})
	require.NoError(t, err)
	cards, err := w.Pairings.Cards(t.Context(), pairings.Filter{Text: "PROP-A"})
	require.NoError(t, err)
	assert.Len(t, cards, 2)
	cards, err = w.Pairings.Cards(t.Context(), pairings.Filter{Service: "Second workspace"})
	require.NoError(t, err)
	assert.Len(t, cards, 1)
}

// Templates name classes and carry policy; what can give no name is refused.
func TestTemplates_S6(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	workspace := w.Workspace()
	held := roster.DefaultPolicy()
	held.Hold = true
	usual := pairings.Template{Name: "Usual", Target: "{course} · {teacher}", Policy: roster.DefaultPolicy()}
	for field, list := range map[string][]pairings.Template{
		"templates": nil,
		"0.name":    {{Target: "{section}", Policy: held}},
		"1.name":    {usual, usual},
		"0.target":  {{Name: "x", Target: "Class", Policy: held}},
		"1.target":  {usual, {Name: "y", Target: "{nothing}", Policy: held}},
	} {
		r, ok := refusal.As(w.Pairings.SetTemplates(t.Context(), "test", list))
		require.True(t, ok, field)
		assert.Equal(t, field, r.Field)
	}
	long := "{section} " + strings.Repeat("x", 119)
	require.NoError(t, w.Pairings.SetTemplates(t.Context(), "test",
		[]pairings.Template{
			usual,
			{Name: "Held", Target: "{code}", Policy: held},
			{Name: "Long", Target: long, Policy: held},
		}))
	list, err := w.Pairings.PreviewAll(t.Context(), []pairings.Wish{
		{SectionID: w.Section("SOIL-A").ID, InterfaceID: workspace.ID},
		{SectionID: w.Section("GLAS-A").ID, InterfaceID: workspace.ID, Template: "held"},
		{SectionID: w.Section("ORCH-A").ID, InterfaceID: workspace.ID, Template: "Long"},
		{
			SectionID: w.Section("PROP-B").ID, InterfaceID: workspace.ID,
			Naming: "soil science · Vilma Vanilla {organisation}",
		},
	})
	require.NoError(t, err)
	assert.Equal(t, "Soil science · Vilma Vanilla", list[0].Name)
	assert.Equal(t, "GLAS-A", list[1].Name)
	assert.True(t, list[1].Policy.Hold)
	assert.True(t, list[2].Blocked())
	assert.Equal(t, finding.NameUnfit, list[2].Remarks[0].Code)
	_, err = w.Pairings.PreviewAll(t.Context(), []pairings.Wish{{
		SectionID:   w.Section("SOIL-A").ID,
		InterfaceID: workspace.ID, Template: "none",
	}})
	assert.ErrorContains(t, err, "there are: Usual, Held, Long")
}

// Lists are narrowed by everything that people look for.
func TestFilters_S1(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	most := 12
	for want, f := range map[int]pairings.Filter{
		4: {AtMost: &most}, 5: {AtLeast: 15}, 2: {Course: "ORCH"}, 1: {Role: "ext:preview"},
		9: {Organisation: "Fernmoor Garden School", Hidden: pairings.Everything}, 0: {Service: "Workspace"},
	} {
		list, err := w.Pairings.List(t.Context(), pairings.Filter{
			Text: f.Text, AtMost: f.AtMost, AtLeast: f.AtLeast,
			Course: f.Course, Role: f.Role, Organisation: f.Organisation, Service: f.Service,
			Hidden: pairings.Everything,
		})
		require.NoError(t, err)
		assert.Len(t, list.Cards, want, "%+v", f)
		assert.Equal(t, []string{"First term", "Second term"}, list.Choices.Terms)
	}
}

// Sections with the same title and code are marked, so that lists show what tells them apart.
func TestSectionsThatLookAlikeAreMarked_S4(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	alike := func() (titles []string) {
		cards, err := w.Pairings.Cards(t.Context(), pairings.Filter{})
		require.NoError(t, err)
		for _, c := range cards {
			if c.Alike {
				titles = append(titles, c.Title())
			}
		}
		return titles
	}
	_, err := w.Store.Pool.Exec(t.Context(), `UPDATE section_facts SET title = 'Soil science A', code = 'SOIL-A'
		WHERE code = 'GLAS-A'`)
	require.NoError(t, err)
	_, err = w.Store.Pool.Exec(t.Context(), `UPDATE sections SET title = 'Soil science A', code = 'SOIL-A',
		changed_at = now() WHERE code = 'GLAS-A'`)
	require.NoError(t, err)
	assert.Equal(t, []string{"Soil science A", "Soil science A"}, alike())
}
