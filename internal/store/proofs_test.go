package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/proofstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
)

// A test learner who was made is in the section, is found by no search, and is forgotten whole.
func TestProofs(t *testing.T) {
	w, _ := school(t)
	s, ctx, prop := w.Store, t.Context(), w.Section("PROP-A")
	p := proofstore.Proof{
		ID: db.NewID(), SectionID: prop.ID, Made: true, Name: "Test Learner", Address: "trial@fernmoor.example",
		State: proofstore.Running, StartedBy: "Maud", StartedAt: time.Now().UTC().Truncate(time.Microsecond),
	}
	tx(t, s, func(tx *db.Tx) (err error) {
		p.PersonID, err = proofstore.MakeLearner(ctx, tx, prop.ID, "kanban-test-1", "Test", "Learner", p.Address,
			p.Address)
		if err != nil {
			return err
		}
		return proofstore.BeginProof(ctx, tx, &p)
	})
	assert.True(t, must[bool](t)(rosterstore.IsEnrolled(ctx, s, p.PersonID, prop.ID)))
	assert.Zero(t, must[rosterstore.FoundPeople](t)(rosterstore.People(ctx, s, "test learner", 9, nil)).Total)
	assert.Equal(t, p.PersonID, must[string](t)(proofstore.LearnerNow(ctx, s, []string{
		w.Person("stu-001").ID,
		p.PersonID,
	})))
	assert.Empty(t, must[string](t)(proofstore.LearnerNow(ctx, s, []string{w.Person("stu-001").ID})))
	assert.Equal(t, p.ID, must[proofstore.Proof](t)(proofstore.UnderWay(ctx, s, prop.ID)).ID)
	second := proofstore.Proof{
		ID: db.NewID(), SectionID: w.Section("PROP-B").ID, PersonID: p.PersonID, State: proofstore.Running,
	}
	err := s.InTx(ctx, func(tx *db.Tx) error { return proofstore.BeginProof(ctx, tx, &second) })
	require.ErrorIs(t, err, db.ErrTaken, "one test learner is on one way")
	_, err = proofstore.UnderWay(ctx, s, w.Section("PROP-B").ID)
	require.ErrorIs(t, err, db.ErrNotFound)
	_, err = runstore.LatestRevert(ctx, s, db.NewID())
	require.ErrorIs(t, err, db.ErrNotFound)
	assert.Zero(t, must[int](t)(proofstore.Progressed(ctx, s, p.PersonID, prop.ID)))

	e := eventstore.Event{
		Type: string(rule.SectionJoined), NaturalKey: "k", PersonID: &p.PersonID, SectionID: &prop.ID,
		OccurredAt: p.StartedAt,
	}
	tx(t, s, func(tx *db.Tx) error {
		events := []eventstore.Event{e}
		_, err := eventstore.RecordEvents(ctx, tx, events)
		e.ID = events[0].ID
		if err != nil {
			return err
		}
		_, err = deliverystore.AddDeliveries(ctx, tx, []deliverystore.Delivery{{
			ID: db.NewID(), EventID: e.ID, PersonID: &p.PersonID, State: deliverystore.DeliveryDelivered,
			Action: rule.Action{Kind: rule.OpenTask},
		}})
		return err
	})
	assert.Empty(t, must[[]eventstore.ListedEvent](t)(eventstore.Events(ctx, s, eventstore.EventFilter{Limit: 9})))
	assert.Len(t, must[[]eventstore.ListedEvent](t)(eventstore.Events(ctx, s,
		eventstore.EventFilter{PersonID: p.PersonID, Limit: 9})), 1)
	tx(t, s, func(tx *db.Tx) error {
		assert.Len(t, must[[]deliverystore.Delivery](t)(deliverystore.UndoableOf(ctx, tx, p.PersonID, p.StartedAt.Add(
			-time.Minute))), 1)
		return nil
	})

	steps := []proofstore.Step{{Kind: proofstore.Join, Title: "A", State: proofstore.Arrived}}
	tx(t, s, func(tx *db.Tx) error { return proofstore.KeepSteps(ctx, tx, p.ID, steps) })
	p.Seats = []proofstore.Seat{{PairingID: "x", Tried: true}}
	require.NoError(t, proofstore.KeepProof(ctx, s, p))
	found := must[proofstore.Proof](t)(proofstore.FindProof(ctx, s, p.ID))
	assert.Equal(t, p.Seats, found.Seats)
	assert.Equal(t, steps, found.Steps, "they are kept apart")
	_, err = proofstore.FindProof(ctx, s, "none")
	require.ErrorIs(t, err, db.ErrNotFound)
	move := func(from, to string) error {
		return s.InTx(ctx, func(tx *db.Tx) error { return proofstore.MoveProof(ctx, tx, p.ID, from, to, p.StartedAt) })
	}
	require.NoError(t, move(proofstore.Running, proofstore.Done))
	require.ErrorIs(t, move(proofstore.Running, proofstore.Done), db.ErrStale)
	assert.NotNil(t, must[proofstore.Proof](t)(proofstore.FindProof(ctx, s, p.ID)).DoneAt)
	require.NoError(t, move(proofstore.Done, proofstore.Reverting))
	require.NoError(t, move(proofstore.Reverting, proofstore.Reverted))
	p.StartedAt = p.StartedAt.Add(-time.Minute)
	tx(t, s, func(tx *db.Tx) error {
		require.NoError(t, proofstore.RevokeAwards(ctx, tx, p.PersonID, "Maud", "test"))
		require.NoError(t, proofstore.ForgetRuns(ctx, tx, []string{db.NewID()}))
		require.NoError(t, proofstore.ForgetLearner(ctx, tx, p))
		return proofstore.KeepProof(ctx, tx, p)
	})
	assert.Empty(t, must[string](t)(proofstore.LearnerNow(ctx, s, []string{p.PersonID})))
	assert.Len(t, must[[]proofstore.Proof](t)(proofstore.Proofs(ctx, s, 9)), 1)
	_, err = rosterstore.FindPerson(ctx, s, p.PersonID)
	require.ErrorIs(t, err, db.ErrNotFound)
}

// Test learners of the register are those whom it lists as such, and those of whom somebody said so.
func TestTestLearnersOfTheRegister(t *testing.T) {
	w, _ := school(t)
	s, ctx, ada := w.Store, t.Context(), w.Person("stu-001")
	names := func() (out []string) {
		for _, c := range must[[]proofstore.Candidate](t)(proofstore.Candidates(ctx, s, w.Section("PROP-A").ID)) {
			out = append(out, c.Name)
		}
		return out
	}
	preview := w.Person("stu-preview")
	assert.Equal(t, []string{"Preview Learner"}, names())
	assert.Equal(t, []string{preview.ID}, must[[]string](t)(scorestore.TestLearners(ctx, s, []string{
		ada.ID,
		preview.ID,
	})))
	tx(t, s, func(tx *db.Tx) error { return matchstore.MarkPerson(ctx, tx, ada.ID, matchstore.MarkTest, "", "Maud") })
	tx(t, s, func(tx *db.Tx) error {
		return matchstore.MarkPerson(ctx, tx, preview.ID, matchstore.MarkNeither, "", "Maud")
	})
	assert.Equal(t, []string{"Ada Alder"}, names())
	assert.Equal(t, []string{ada.ID}, must[[]string](t)(scorestore.TestLearners(ctx, s, []string{ada.ID, preview.ID})))
}
