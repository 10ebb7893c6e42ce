package scores_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/proofs"
	"kanban/internal/standin/fault"
	"kanban/internal/standin/gradebook"
	"kanban/internal/store/db"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/proofstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
)

// scored is the score step of a proof.
func (x *school) scored(id string) proofstore.Step {
	x.t.Helper()
	p, err := x.Proofs.Find(x.t.Context(), id)
	require.NoError(x.t, err)
	for _, step := range p.Steps {
		if step.Kind == proofstore.Scored {
			return step
		}
	}
	x.t.Fatal("there is no step about scores")
	return proofstore.Step{}
}

// carried lets every run that carries scores come to its end, and gives how many there were.
func (x *school) carried() (n int) {
	x.t.Helper()
	all, err := runstore.Runs(x.t.Context(), x.Store, runstore.Wanted{Limit: 100})
	require.NoError(x.t, err)
	for _, r := range all {
		if r.Kind == runstore.RunScores {
			n++
			if r.Active() {
				require.NoError(x.t, x.Scores.Work(x.t.Context(), r.ID, true))
			}
		}
	}
	return n
}

// The scores of the register's test learner are carried alone, are seen in the book, count nowhere and are put back.
func TestATestLearnersScoresAreProven(t *testing.T) {
	x := open(t)
	l := x.link()
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 17, nil)
	x.preview(l) // as it is compared any day
	before, err := scorestore.FindLink(t.Context(), x.Store, l.ID)
	require.NoError(t, err)
	require.NoError(t, x.Store.InTx(t.Context(), func(tx *db.Tx) error {
		return matchstore.MarkPerson(t.Context(), tx, x.Person("stu-006").ID, matchstore.MarkTest, "", "Maud")
	}))
	w := proofs.Wish{SectionID: x.Section("PROP-A").ID, PersonID: "stu-006"}
	p, err := x.Proofs.Start(t.Context(), "Maud", w)
	require.NoError(t, err)
	work := func() {
		t.Helper()
		_, err := x.Proofs.Work(t.Context(), p.ID, false)
		require.NoError(t, err)
		x.carried()
	}
	work()
	assert.Equal(t, proofstore.Waits, x.scored(p.ID).State)
	assert.Contains(t, x.scored(p.ID).Detail, "give them one there")

	x.mark("cuttings-report", "stu-006", oneroster.ScoreFullyGraded, 11, nil)
	require.NoError(t, x.Standins.Fault("platform", fault.Fault{Kind: fault.Status, Status: 500, Count: 20}))
	require.NoError(t, x.Proofs.Again(t.Context(), "Maud", p.ID))
	work()
	assert.Equal(t, proofstore.Failed, x.scored(p.ID).State, "the source does not answer")
	x.Standins.ClearFaults()
	require.NoError(t, x.Proofs.Again(t.Context(), "Maud", p.ID))
	work()
	assert.Equal(t, []string{proofstore.Arrived, "1 score carried"},
		[]string{x.scored(p.ID).State, x.scored(p.ID).Detail})
	got, there := x.inBook(report, "stu-006")
	require.True(t, there)
	assert.InDelta(t, 11, float64(*got.Score), 0.001)
	_, there = x.inBook(report, "stu-002")
	assert.False(t, there, "nobody else's is carried")
	x.preview(l)
	now, err := scorestore.FindLink(t.Context(), x.Store, l.ID)
	require.NoError(t, err)
	before.Counts["makes"]-- // the assignment is there now
	assert.Equal(t, before.Counts, now.Counts, "they count nowhere")
	require.NoError(t, x.Proofs.Again(t.Context(), "Maud", p.ID))
	work()
	assert.Equal(t, 1, x.carried(), "what has arrived is not carried again")

	require.NoError(t, x.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	work()
	work()
	ended, err := x.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, proofstore.Reverted, ended.State, ended.Remains)
	assert.Equal(t, []string{
		"the category Tests that was made in Office scores", "the assignment Report on cuttings that was made in Office scores",
	}, ended.Remains)
	_, there = x.inBook(report, "stu-006")
	assert.False(t, there)
	assert.Zero(t, x.carried(), "their runs are gone too")
	for _, table := range []string{"score_changes", "score_carried"} {
		var n int
		require.NoError(t, x.Store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM `+table).Scan(&n))
		assert.Zero(t, n, table)
	}
	assert.Equal(t, "Finn Fennel", x.Person("stu-006").Name(), "the register still has them")
}

// What the book has already needs no carrying: it has arrived.
func TestATestLearnersScoresAreThereAlready(t *testing.T) {
	x := open(t)
	l := x.link()
	x.mark("cuttings-report", "stu-006", oneroster.ScoreFullyGraded, 11, nil)
	x.run(x.preview(l), true)
	runs := x.carried()
	require.NoError(t, x.Store.InTx(t.Context(), func(tx *db.Tx) error {
		return matchstore.MarkPerson(t.Context(), tx, x.Person("stu-006").ID, matchstore.MarkTest, "", "Maud")
	}))
	p, err := x.Proofs.Start(t.Context(), "Maud", proofs.Wish{SectionID: x.Section("PROP-A").ID, PersonID: "stu-006"})
	require.NoError(t, err)
	work := func() {
		t.Helper()
		_, err := x.Proofs.Work(t.Context(), p.ID, false)
		require.NoError(t, err)
	}
	work()
	assert.Equal(t, []string{proofstore.Arrived, "the book has what the source has"},
		[]string{x.scored(p.ID).State, x.scored(p.ID).Detail})
	assert.Equal(t, runs, x.carried(), "nothing was carried")
	require.NoError(t, x.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	work()
	_, there := x.inBook(report, "stu-006")
	assert.True(t, there, "what was there before stays")
	ended, err := x.Proofs.Find(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, proofstore.Reverted, ended.State, ended.Remains)
}

// A conflict about somebody else is in nobody's way; what a book did not put back is, until it is reverted again.
func TestRevertingIsAboutTheTestLearnersScores(t *testing.T) {
	x, l, _ := carried(t)
	fourteen := 14.0
	x.setInBook(report, "stu-002", &fourteen)
	x.mark("cuttings-report", "stu-006", oneroster.ScoreFullyGraded, 11, nil)
	require.NoError(t, x.Store.InTx(t.Context(), func(tx *db.Tx) error {
		return matchstore.MarkPerson(t.Context(), tx, x.Person("stu-006").ID, matchstore.MarkTest, "", "Maud")
	}))
	x.preview(l)
	counts := func() map[string]int {
		now, err := scorestore.FindLink(t.Context(), x.Store, l.ID)
		require.NoError(t, err)
		return now.Counts
	}
	before := counts()
	require.Equal(t, 1, before["conflict"])
	p, err := x.Proofs.Start(t.Context(), "Maud", proofs.Wish{SectionID: x.Section("PROP-A").ID, PersonID: "stu-006"})
	require.NoError(t, err)
	work := func() proofs.Proof {
		t.Helper()
		for again := time.Second; again > 0; {
			var err error
			again, err = x.Proofs.Work(t.Context(), p.ID, false)
			require.NoError(t, err)
			x.carried()
		}
		now, err := x.Proofs.Find(t.Context(), p.ID)
		require.NoError(t, err)
		return now
	}
	work()
	assert.Equal(t, proofstore.Arrived, x.scored(p.ID).State)
	assert.Equal(t, before, counts(), "a run about a test learner counts nobody either")

	x.Standins.Register.Book.Set(func(rules *gradebook.Rules) { rules.NoDelete = true })
	require.NoError(t, x.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	stuck := work()
	assert.Equal(t, proofstore.Reverting, stuck.State)
	require.Len(t, stuck.Remains, 1)
	assert.Contains(t, stuck.Remains[0], "was not put back")
	x.Standins.Register.Book.Set(func(rules *gradebook.Rules) { rules.NoDelete = false })
	require.NoError(t, x.Proofs.Revert(t.Context(), "Maud", p.ID, false))
	ended := work()
	assert.Equal(t, proofstore.Reverted, ended.State, ended.Remains)
	_, there := x.inBook(report, "stu-006")
	assert.False(t, there)
	assert.Equal(t, before, counts())
}
