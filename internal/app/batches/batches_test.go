package batches_test

import (
	"context"
	"fmt"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"kanban/internal/app/connections"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter/workspaces"
	"kanban/internal/app/batches"
	"kanban/internal/app/findings"
	"kanban/internal/app/linking"
	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func world(t *testing.T) (*apptest.World, connectionstore.Interface, connectionstore.Interface) {
	t.Helper()
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	return w, register, w.Workspace()
}

func ids(w *apptest.World, codes ...string) (list []string) {
	for _, c := range codes {
		list = append(list, w.Section(c).ID)
	}
	return list
}

func item(t *testing.T, b batches.Batch, title string) batches.Item {
	t.Helper()
	i := slices.IndexFunc(b.Items, func(i batches.Item) bool { return i.Title == title })
	require.GreaterOrEqual(t, i, 0, title)
	return b.Items[i]
}

func codes(i batches.Item) (list []finding.Code) {
	for _, r := range i.Remarks {
		list = append(list, r.Code)
	}
	return list
}

// Many sections are paired with one preview and one run, the exceptions first.
func TestPairManyAtOnce_S10(t *testing.T) {
	w, _, workspace := world(t)
	_, err := w.Linking.Link(t.Context(), "test", linking.Wish{
		LeadID: w.Section("PROP-A").ID,
		Others: ids(w, "PROP-B"),
	})
	require.NoError(t, err)
	_, err = w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("SOIL-A").ID,
		InterfaceID: workspace.ID,
	})
	require.NoError(t, err)
	w.Standins.Workspace.Open("Orchard care · Orchard care A")
	order := batches.Order{Act: batches.Pair, Sections: ids(w, "GLAS-A", "SOIL-A", "PROP-A", "PROP-B", "PROP-C",
		"ORCH-A"), InterfaceID: workspace.ID, Naming: "{course} · {section}"}
	b, err := w.Batches.Prepare(t.Context(), "test", order)
	require.NoError(t, err)
	require.Len(t, b.Items, 5, "two sections of a set are one item")
	assert.Equal(t, "Soil science A", b.Items[0].Title, "what cannot be done comes first")
	assert.Equal(t, []finding.Code{finding.AlreadyPaired}, codes(b.Items[0]))
	assert.Equal(t, []finding.Code{finding.NameTaken}, codes(item(t, b, "Orchard care A")))
	assert.Equal(t, "Propagation · Propagation C", item(t, b, "Propagation C").Target)
	people, accounts, _, blocked := b.Totals()
	assert.Equal(t, 1, blocked)
	assert.Positive(t, accounts)
	pairings, err := pairingstore.Listed(t.Context(), w.Store)
	require.NoError(t, err)
	assert.Len(t, pairings, 1, "nothing happened yet")

	orchard := w.Section("ORCH-A").ID
	order.Names = map[string]string{orchard: " Orchard, first years "}
	b, err = w.Batches.Prepare(t.Context(), "test", order)
	require.NoError(t, err)
	assert.Equal(t, "Orchard, first years", item(t, b, "Orchard care A").Target, "a name can be one's own")
	assert.Empty(t, codes(item(t, b, "Orchard care A")))
	assert.Equal(t, "Propagation · Propagation C", item(t, b, "Propagation C").Target, "the others are named as before")
	order.Names = map[string]string{orchard: "propagation · propagation c"}
	twice, err := w.Batches.Prepare(t.Context(), "test", order)
	require.NoError(t, err)
	assert.Contains(t, codes(item(t, twice, "Orchard care A")), finding.NameTaken, "two of one name are said")
	order.Names = map[string]string{db.NewID(): "Nobody's"}
	_, err = w.Batches.Prepare(t.Context(), "test", order)
	require.ErrorContains(t, err, "not among the sections")

	b, err = w.DoBatch("test", b.ID, false)
	require.NoError(t, err)
	_, err = w.DoBatch("test", b.ID, false)
	assert.ErrorContains(t, err, "done already")
	require.Len(t, b.Runs, 4)
	added := 0
	for _, r := range w.WorkAll() {
		assert.Contains(t, []string{runstore.Finished, runstore.NeedsPerson}, r.State,
			"an account that another run made keeps no promise from being kept: %s", r.Error)
		added += r.Counts["added"] + r.Counts["refused"]
	}
	assert.Equal(t, people[roster.OutcomeAdd], added, "exactly what was shown")
	assert.Len(t, w.Standins.Workspace.Space("Glasshouse climate · Glasshouse climate A"), 20)
}

// Proposals are linked as one batch that says beforehand what becomes shared.
func TestLinkMany_S2(t *testing.T) {
	w, _, workspace := world(t)
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-A").ID,
		InterfaceID: workspace.ID,
	})
	require.NoError(t, err)
	found, err := w.Linking.Proposals(t.Context(), false, false, nil)
	require.NoError(t, err)
	order := batches.Order{Act: batches.Link, Sets: []linking.Wish{
		{LeadID: w.Section("SOIL-A").ID, Others: ids(w, "GLAS-A"), Name: "Of two courses"},
		{LeadID: found.List[0].Sections[0].ID, Others: ids(w, "PROP-B", "PROP-C")},
		{LeadID: w.Section("ORCH-A").ID, Others: ids(w, "PROP-B"), Reason: "one room", Name: "Twice"},
	}}
	b, err := w.Batches.Prepare(t.Context(), "test", order)
	require.NoError(t, err)
	assert.Equal(t, []finding.Code{finding.OtherCourse}, codes(item(t, b, "Of two courses")))
	assert.Contains(t, codes(item(t, b, "Twice")), finding.LinkTwice, "a section of another set of the same batch")
	i := item(t, b, "Propagation")
	assert.Contains(t, i.Says, "Propagation A, Propagation B, Propagation C become one: ")
	assert.Contains(t, i.Says, p.TargetName+", the class of Propagation A, becomes the class of all")
	sets, err := linkstore.LinkedSets(t.Context(), w.Store)
	require.NoError(t, err)
	assert.Empty(t, sets, "nothing happened yet")

	b, err = w.DoBatch("Maud", b.ID, false)
	require.NoError(t, err)
	i = item(t, b, "Propagation")
	assert.True(t, i.Done, i.Problem)
	set, err := linkstore.FindLinkedSet(t.Context(), w.Store, i.SetID)
	require.NoError(t, err)
	assert.Len(t, set.Sections, 3)
	assert.Equal(t, "Maud", set.MadeBy)
	assert.False(t, item(t, b, "Of two courses").Done)
	again, err := pairingstore.FindPairing(t.Context(), w.Store, p.ID)
	require.NoError(t, err)
	assert.Equal(t, set.ID, *again.SetID)
}

// Whoever goes on after a stop does nothing twice, and leaves nothing out.
func TestABatchGoesOnWhereItStopped(t *testing.T) {
	for name, order := range map[string]func(w *apptest.World, workspace string) batches.Order{
		"pair": func(w *apptest.World, workspace string) batches.Order {
			return batches.Order{
				Act: batches.Pair, Sections: ids(w, "GLAS-A", "SOIL-A", "PROP-C", "ORCH-A"),
				InterfaceID: workspace,
			}
		},
		"link": func(w *apptest.World, _ string) batches.Order {
			return batches.Order{Act: batches.Link, Sets: []linking.Wish{
				{LeadID: w.Section("PROP-A").ID, Others: ids(w, "PROP-B")},
				{
					LeadID: w.Section("SOIL-A").ID,
					Others: ids(w, "GLAS-A"), Reason: "one room", Name: "Beds",
				},
				{LeadID: w.Section("ORCH-A").ID, Others: ids(w, "ORCH-B"), Reason: "both terms"},
			}}
		},
	} {
		t.Run(name, func(t *testing.T) {
			w, _, workspace := world(t)
			b, err := w.Batches.Prepare(t.Context(), "test", order(w, workspace.ID))
			require.NoError(t, err)
			_, err = w.Batches.Do(t.Context(), "test", b.ID, false)
			require.NoError(t, err)
			stops := 0
			for looks := int64(20); ; looks += 35 { // each time it comes a little further
				ctx := endAfter(t.Context(), looks)
				err := w.Batches.CarryOut(ctx, b.ID)
				if ctx.Err() == nil {
					require.NoError(t, err)
					break
				}
				stops++
				after, err := w.Batches.Batch(t.Context(), b.ID)
				require.NoError(t, err)
				for _, i := range after.Items {
					assert.Empty(t, i.Problem, "a stop is no problem of an item")
				}
			}
			assert.Greater(t, stops, 3)
			b, err = w.Batches.Batch(t.Context(), b.ID)
			require.NoError(t, err)
			require.NotNil(t, b.EndedAt)
			for _, i := range b.Items {
				assert.True(t, i.Done, "%s: %s", i.Title, i.Problem)
			}
			require.NoError(t, w.Batches.CarryOut(t.Context(), b.ID), "once more changes nothing")
			made := map[string]int{
				"pairings": 0, "linked_sets": 0, "safety_copies": 0,
				"runs WHERE batch_id IS NOT NULL": 0,
			}
			for table := range made {
				var n int
				require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM `+table).Scan(&n))
				made[table] = n
			}
			want := map[string]map[string]int{
				"pair": {"pairings": 4, "linked_sets": 0, "safety_copies": 0, "runs WHERE batch_id IS NOT NULL": 4},
				"link": {"pairings": 0, "linked_sets": 3, "safety_copies": 3, "runs WHERE batch_id IS NOT NULL": 0},
			}
			assert.Equal(t, want[name], made)
		})
	}
}

// endingContext ends after it was looked at so often.
type endingContext struct {
	context.Context
	left *atomic.Int64
	stop context.CancelFunc
}

func endAfter(ctx context.Context, looks int64) context.Context {
	ctx, stop := context.WithCancel(ctx)
	left := new(atomic.Int64)
	left.Store(looks)
	return endingContext{ctx, left, stop}
}

func (c endingContext) Done() <-chan struct{} {
	if c.left.Add(-1) < 0 {
		c.stop()
	}
	return c.Context.Done()
}

// Removals above a guard are done only with approval; the others are not kept back.
func TestRunManyExactly_S10(t *testing.T) {
	w, register, workspace := world(t)
	b, err := w.Batches.Prepare(t.Context(), "test", batches.Order{
		Act:      batches.Pair,
		Sections: ids(w, "GLAS-A", "PROP-C", "ORCH-A"), InterfaceID: workspace.ID,
	})
	require.NoError(t, err)
	b, err = w.DoBatch("test", b.ID, false)
	require.NoError(t, err)
	w.WorkAll()
	var pairedNow []string
	for _, i := range b.Items {
		pairedNow = append(pairedNow, i.PairingID)
	}
	for n := 25; n < 31; n++ {
		require.NoError(t, w.Standins.School.Withdraw(fmt.Sprintf("stu-%03d", n), "sec-prop-c"))
	}
	require.NoError(t, w.Standins.School.Enrol("stu-001", "sec-glass-a"))
	w.Read(register, false)
	b, err = w.Batches.Prepare(t.Context(), "test", batches.Order{Act: batches.Run, Pairings: pairedNow})
	require.NoError(t, err)
	assert.Equal(t, "Propagation C", b.Items[0].Title)
	assert.Equal(t, 6, b.Items[0].Guard)
	b, err = w.DoBatch("test", b.ID, false)
	require.NoError(t, err)
	assert.Contains(t, b.Items[0].Problem, "6 people out, which nobody approved")
	assert.Len(t, w.WorkAll(), 2)
	assert.Contains(t, w.Standins.Workspace.Space("Glasshouse climate A"), "Ada Alder")
	b, err = w.Batches.Prepare(t.Context(), "test", batches.Order{Act: batches.Run, Pairings: pairedNow})
	require.NoError(t, err)
	_, err = w.DoBatch("Maud", b.ID, true)
	require.NoError(t, err)
	runs := w.WorkAll()
	require.Len(t, runs, 3)
	assert.True(t, slices.ContainsFunc(runs, func(r runstore.Run) bool {
		return r.Counts["removed"] == 6 &&
			r.ApprovedBy == "Maud"
	}))

	for _, c := range []struct {
		act     batches.Act
		blocked bool
		state   roster.State
	}{{batches.Pause, false, roster.Paused}, {batches.Pause, true, roster.Paused}, {
		batches.Run, true,
		roster.Paused,
	}, {batches.Resume, false, roster.InStep}, {batches.Hold, false, roster.Held}, {
		batches.Open,
		false, roster.InStep,
	}, {batches.Open, true, roster.InStep}, {
		batches.Template, false,
		roster.InStep,
	}, {batches.End, false, roster.NotPaired}} {
		b, err := w.Batches.Prepare(t.Context(), "test", batches.Order{Act: c.act, Pairings: pairedNow})
		require.NoError(t, err, c.act)
		for _, i := range b.Items {
			assert.Equal(t, c.blocked, i.Blocked(), "%s %s %v", c.act, i.Title, i.Remarks)
		}
		_, err = w.DoBatch("test", b.ID, false)
		require.NoError(t, err)
		cards, err := w.Pairings.Cards(t.Context(), pairings.Filter{Text: "GLAS-A"})
		require.NoError(t, err)
		assert.Equal(t, c.state, cards[0].State, c.act)
	}
	_, err = w.Batches.Prepare(t.Context(), "test", batches.Order{Act: batches.Run, Pairings: pairedNow})
	_, refused := refusal.As(err)
	assert.True(t, refused, "what has ended is no pairing any more")
}

// A class goes on to the next term's section; nobody is taken out unasked.
func TestNextTerm_S8(t *testing.T) {
	w, _, workspace := world(t)
	b, err := w.Batches.Prepare(t.Context(), "test", batches.Order{
		Act:      batches.Pair,
		Sections: ids(w, "ORCH-A", "PROP-C"), InterfaceID: workspace.ID, Naming: "{course}",
	})
	require.NoError(t, err)
	b, err = w.DoBatch("test", b.ID, false)
	require.NoError(t, err)
	w.WorkAll()
	orchard, propagation := item(t, b, "Orchard care A").PairingID, item(t, b, "Propagation C").PairingID
	before := w.Standins.Workspace.Space("Orchard care")
	require.Contains(t, before, "Rolf Rhubarb")

	moves, _, err := w.Batches.Proposals(t.Context(), nil, 30)
	require.NoError(t, err)
	assert.Empty(t, moves, "its term goes on for longer than that")
	moves, pairingOf, err := w.Batches.Proposals(t.Context(), nil, 90)
	require.NoError(t, err)
	require.Len(t, moves, 2)
	assert.Equal(t, "ORCH-B", moves[0].To.Code)
	assert.Equal(t, orchard, pairingOf[moves[0].From.ID])
	assert.Empty(t, moves[1].To.ID, "Propagation C ends too, and nothing follows it")
	assert.Equal(t, propagation, pairingOf[moves[1].From.ID])

	w.Pairings.Clock = func() time.Time { return time.Now().AddDate(0, 0, 70) } // the first term is over
	cards, err := w.Pairings.Cards(t.Context(), pairings.Filter{Text: "ORCH-A"})
	require.NoError(t, err)
	assert.Equal(t, roster.Ended, cards[0].State)
	b, err = w.Batches.Prepare(t.Context(), "test", batches.Order{
		Act:      batches.NextTerm,
		Pairings: []string{orchard, propagation},
	})
	require.NoError(t, err)
	assert.Equal(t, []finding.Code{finding.OtherTerm}, codes(item(t, b, "Propagation C")), "no section follows it")
	i := item(t, b, "Orchard care A")
	assert.Equal(t, "Orchard care B", i.ToTitle)
	assert.Equal(t, 18, i.Guard,
		"the learners of the first term come out (one is disabled and never was in), the teacher stays")
	b, err = w.DoBatch("test", b.ID, true)
	require.NoError(t, err)
	runs := w.WorkAll()
	require.Len(t, runs, 1)
	require.Equal(t, runstore.Finished, runs[0].State, runs[0].Error)
	after := w.Standins.Workspace.Space("Orchard care")
	assert.Contains(t, after, "Rolf Rhubarb")
	assert.Contains(t, after, "Mika Mallow")
	assert.NotContains(t, after, "Uma Ulmo")
	assert.True(t, item(t, b, "Orchard care A").Done)
	card, err := w.Pairings.Card(t.Context(), orchard)
	require.NoError(t, err)
	assert.Equal(t, "ORCH-B", card.Section.Code)
	assert.Equal(t, roster.InStep, card.State)
}

// Everything that cannot be mended later is refused beforehand, or at least said.
func TestPreconditionsOfExistingClasses_S5(t *testing.T) {
	w, _, workspace := world(t)
	right := w.Standins.Workspace.Open("Soil science, First term", "Vilma Vanilla", "Wanda Walnut")
	wrong := w.Standins.Workspace.Open("Soil science A", "Maud Marrow", "Pia Parsley", "Sia Spinach")
	list, err := w.Pairings.Candidates(t.Context(), w.Section("SOIL-A").ID, workspace.ID)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, right, list[0].Ref, "people and teacher say more than the name")
	assert.Equal(t, finding.TargetStrangers, list[0].Remarks[0].Code)
	assert.Equal(t, finding.PoorOverlap, list[1].Remarks[0].Code)

	wish := pairings.Wish{SectionID: w.Section("SOIL-A").ID, InterfaceID: workspace.ID, TargetRef: right}
	p, err := w.Pairings.Pair(t.Context(), "test", wish)
	require.NoError(t, err)
	assert.Equal(t, "Soil science, First term", p.TargetName)
	run := w.Sync(p.ID, false)
	assert.Equal(t, 1, run.Counts["left-out"]-1,
		"Wanda Walnut, whom Kanban did not put in, stays; somebody disabled is left out")
	assert.Contains(t, w.Standins.Workspace.Space("Soil science, First term"), "Wanda Walnut")
	_, err = w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-C").ID,
		InterfaceID: workspace.ID, TargetRef: right,
	})
	r, _ := refusal.As(err)
	require.NotNil(t, r)
	assert.Equal(t, finding.TargetPaired, r.Code)

	limit := func(values map[string]string) {
		_, err := w.Connections.Update(t.Context(), "test", workspace.ID, 0, connections.Change{Values: values})
		require.NoError(t, err)
	}
	limit(map[string]string{"emptyOnly": "yes", "mostMembers": "12"})
	for ref, code := range map[string]finding.Code{wrong: finding.TargetNotEmpty, "": finding.TargetTooSmall} {
		section := map[string]string{wrong: "BEES-A", "": "PROP-C"}[ref]
		if ref == wrong {
			limit(map[string]string{"mostMembers": "50"})
		} else {
			limit(map[string]string{"mostMembers": "12"})
		}
		_, err = w.Pairings.Pair(t.Context(), "test", pairings.Wish{
			SectionID:   w.Section(section).ID,
			InterfaceID: workspace.ID, TargetRef: ref,
		})
		r, _ := refusal.As(err)
		require.NotNil(t, r, "%s: %v", code, err)
		assert.Equal(t, code, r.Code)
	}

	// Another name at the service changes nothing, and is told.
	opened, err := w.Connections.Open(t.Context(), workspace.ID)
	require.NoError(t, err)
	require.NoError(t, workspaces.New(opened, apptest.Quick).Rename(t.Context(), right, "Soil people"))
	w.Sync(p.ID, false)
	told, err := (&findings.Service{Store: w.Store}).Findings(t.Context(),
		findings.Filter{Code: finding.TargetRenamed})
	require.NoError(t, err)
	require.Len(t, told, 1)
	assert.Contains(t, told[0].Detail, "Soil people")
	require.NoError(t, workspaces.New(opened, apptest.Quick).Rename(t.Context(), right, "Soil science, First term"))

	// A class that is deleted at the service is not made again behind anybody's back.
	w.Standins.Workspace.Close("Soil science, First term")
	require.NoError(t, w.Runs.Auto(t.Context(), p.ID, "schedule"))
	card, err := w.Pairings.Card(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, roster.NeedsPerson, card.State)
	assert.True(t, card.Pairing.TargetLost)
	require.NoError(t, w.Runs.Renew(t.Context(), "test", p.ID))
	w.Sync(p.ID, false)
	assert.Contains(t, w.Standins.Workspace.Space("Soil science, First term"), "Vilma Vanilla")
	assert.ErrorContains(t, w.Runs.Renew(t.Context(), "test", p.ID), "nothing to make anew")
}

// After a batch its page says what was done, people for whom accounts are made count once,
// and what was done is listed.
func TestWhatABatchDidIsSaid_S7(t *testing.T) {
	w, _, workspace := world(t)
	b, err := w.Batches.Prepare(t.Context(), "test", batches.Order{
		Act:      batches.Pair,
		Sections: ids(w, "PROP-A", "SOIL-A", "GLAS-A"), InterfaceID: workspace.ID,
	})
	require.NoError(t, err)
	people, sum := map[string]bool{}, 0
	for _, i := range b.Items {
		sum += len(i.NewPeople)
		for _, id := range i.NewPeople {
			people[id] = true
		}
	}
	_, accounts, _, _ := b.Totals()
	require.Greater(t, sum, len(people), "some are in two of the sections")
	assert.Equal(t, len(people), accounts)
	listed, err := w.Batches.Batches(t.Context(), "", 10)
	require.NoError(t, err)
	assert.Empty(t, listed, "it was only looked at")
	b, err = w.DoBatch("Maud", b.ID, false)
	require.NoError(t, err)
	did, _, _ := b.Done()
	assert.Empty(t, did, "nothing is claimed before it is done")
	cards, err := w.Pairings.Cards(t.Context(), pairings.Filter{Text: "PROP-A"})
	require.NoError(t, err)
	assert.True(t, cards[0].Running, "it is being run, whatever its state was")
	w.WorkAll()
	b, err = w.Batches.Batch(t.Context(), b.ID)
	require.NoError(t, err)
	did, done, total := b.Done()
	assert.Positive(t, did["added"])
	assert.Positive(t, did["refused"]+did["needs-person"])
	assert.Equal(t, total, done)
	listed, err = w.Batches.Batches(t.Context(), "", 10)
	require.NoError(t, err)
	require.Len(t, listed, 1)
	assert.Equal(t, []any{"pair", len(b.Items), len(b.Runs), 0},
		[]any{listed[0].Act, listed[0].Items, listed[0].Runs, listed[0].Active})
}
