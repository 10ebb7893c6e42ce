package scores_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/scores"
	"kanban/internal/core/finding"
	"kanban/internal/standin/fault"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
)

// late is a learner who has joined Propagation A in the register since it was read, with a final score.
func late(t *testing.T) (x *school, l scorestore.Link, p scorestore.Preview) {
	t.Helper()
	x, l, _ = carried(t)
	require.NoError(t, x.Standins.School.Enrol("stu-050", "sec-prop-a"))
	x.mark("cuttings-report", "stu-050", oneroster.ScoreFullyGraded, 14, nil)
	p = x.preview(l)
	e := x.entry(p, report, "stu-050")
	require.Equal(t, finding.ScoreNotInBook, e.Reason)
	require.Equal(t, 1, scores.HeldByRoster(p.Plan.Plan))
	return x, l, p
}

// workThrough works a run with all that it waits for, until it has ended; cut counts how often it was begun anew.
func (x *school) workThrough(id string) (r runstore.Run, cut int) {
	x.t.Helper()
	ctx := x.t.Context()
	for ; cut < 20; cut++ {
		err := x.Scores.Work(ctx, id, false)
		r, _ = runstore.FindRun(ctx, x.Store, id)
		if !r.Active() {
			return r, cut
		}
		wait, asked := adapter.Asked(err)
		require.True(x.t, asked, "it hands the work back: %v", err)
		assert.Less(x.t, wait, time.Minute)
		all, err := runstore.Runs(ctx, x.Store, runstore.Wanted{Active: true, Limit: 100})
		require.NoError(x.t, err)
		for _, other := range all {
			switch other.Kind {
			case runstore.RunRead:
				require.NoError(x.t, x.Registers.Work(ctx, other.ID, true))
			case runstore.RunSync:
				require.NoError(x.t, x.Runs.Work(ctx, other.ID, true))
			}
		}
	}
	x.t.Fatal("the run did not come to its end")
	return r, cut
}

// A score that waits because the roster is out of step is carried in the run that brings it in step first, and by no
// other.
func TestRosterIsBroughtInStepInTheSameRun(t *testing.T) {
	x, l, p := late(t)
	_, err := x.Scores.Start(t.Context(), "Maud", p.ID, false)
	require.Error(t, err, "there is nothing to carry without it")
	r, err := x.Scores.StartInStep(t.Context(), "Maud", p.ID, false)
	require.NoError(t, err)
	r, cut := x.workThrough(r.ID)
	require.Equal(t, runstore.Finished, r.State, r.Error)
	assert.GreaterOrEqual(t, cut, 2, "it was begun anew while it waited, as after a crash")
	assert.Equal(t, 1, r.Counts["scored"], "%v", r.Counts)
	assert.InDelta(t, 14, x.score(report, "stu-050"), 0.001)
	changes, err := x.Scores.Changes(t.Context(), r.ID)
	require.NoError(t, err)
	require.Len(t, changes, 2)
	assert.Equal(t, scorestore.AboutRoster, changes[0].What)
	assert.Contains(t, changes[0].Answer, "the register was read")
	assert.Contains(t, changes[0].Answer, "1 score can be carried now")
	assert.Zero(t, x.preview(l).Plan.Counts().Changes())
	back, err := x.Scores.Revert(t.Context(), r.ID)
	require.NoError(t, err)
	x.run(back, true)
	_, there := x.inBook(report, "stu-050")
	assert.False(t, there)
}

// A register that cannot be read keeps no score from being carried that could be carried without it.
func TestRosterThatCannotBeReadHoldsNothingElse(t *testing.T) {
	x, l, _ := late(t)
	x.mark("cuttings-report", "stu-004", oneroster.ScoreFullyGraded, 9, nil)
	require.NoError(t, x.Standins.Fault("register", fault.Fault{Kind: fault.Status, Status: 403, Path: "/users"}))
	p := x.preview(l)
	r, err := x.Scores.StartInStep(t.Context(), "Maud", p.ID, false)
	require.NoError(t, err)
	r, _ = x.workThrough(r.ID)
	require.Equal(t, runstore.Finished, r.State, r.Error)
	assert.InDelta(t, 9, x.score(report, "stu-004"), 0.001)
	changes, err := x.Scores.Changes(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Contains(t, changes[0].Answer, "a run of the roster ended as failed")
	assert.Equal(t, finding.ScoreNotInBook, x.entry(x.preview(l), report, "stu-050").Reason)
}
