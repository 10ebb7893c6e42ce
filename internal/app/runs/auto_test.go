package runs_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/core/schedule"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
)

// queued counts the jobs of a kind that wait, and takes them out of the queue.
func queued(t *testing.T, w *apptest.World, kind string) (n int) {
	t.Helper()
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `WITH gone AS (DELETE FROM river_job WHERE kind = $1
		RETURNING 1) SELECT count(*) FROM gone`, kind).Scan(&n))
	return n
}

// asked counts the pairings that are to be brought in step, and answers for them.
func asked(t *testing.T, w *apptest.World) (n int) {
	t.Helper()
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `WITH gone AS (UPDATE pairings
		SET asked_at = NULL, asked_run = false WHERE asked_at IS NOT NULL RETURNING 1 AS one), were AS
		(SELECT 1 FROM pairings WHERE asked_run AND asked_at IS NOT NULL) SELECT count(*) FROM were`).Scan(&n))
	return n
}

// auto lets a pairing run by itself and gives the run, if there was one.
func auto(t *testing.T, w *apptest.World, pairingID string) *runstore.Run {
	t.Helper()
	before, err := runstore.Runs(t.Context(), w.Store, runstore.Wanted{PairingID: pairingID, Limit: 1})
	require.NoError(t, err)
	require.NoError(t, w.Runs.Auto(t.Context(), pairingID, "schedule"))
	after, err := runstore.Runs(t.Context(), w.Store, runstore.Wanted{PairingID: pairingID, Limit: 1})
	require.NoError(t, err)
	if len(after) == 0 || len(before) > 0 && before[0].ID == after[0].ID {
		return nil
	}
	require.NoError(t, w.Runs.Work(t.Context(), after[0].ID, true))
	r, err := runstore.FindRun(t.Context(), w.Store, after[0].ID)
	require.NoError(t, err)
	return &r
}

// By the clock, and once for whatever was missed; never before the first run by
// hand, never while paused.
func TestScheduledRuns_R4(t *testing.T) {
	policy := roster.DefaultPolicy()
	policy.Schedule = schedule.Schedule{Kind: schedule.Every, Minutes: 30}
	w, _, p := paired(t, policy)
	require.NotNil(t, p.NextAt)
	late := time.Now().Add(26 * time.Hour) // it was down for a day
	require.NoError(t, w.Runs.Tick(t.Context(), late))
	assert.Zero(t, asked(t, w), "the first run is by hand")
	w.Sync(p.ID, false)
	require.NoError(t, w.Runs.Tick(t.Context(), late.Add(time.Hour)))
	require.NoError(t, w.Runs.Tick(t.Context(), late.Add(time.Hour)))
	assert.Equal(t, 1, asked(t, w), "once for all that was missed")
	assert.Nil(t, auto(t, w, p.ID), "nothing to do makes no run")
	kept, err := pairingstore.FindPairing(t.Context(), w.Store, p.ID)
	require.NoError(t, err)
	assert.True(t, kept.NextAt.After(late.Add(time.Hour)))

	paused := true
	_, err = w.Pairings.Change(t.Context(), "test", p.ID, 0, pairings.Edit{Paused: &paused})
	require.NoError(t, err)
	require.NoError(t, w.Runs.Tick(t.Context(), late.Add(9*time.Hour)))
	assert.Zero(t, asked(t, w))
}

// After a read only the pairings whose people changed run.
func TestReadStartsRunsOfWhatChanged_R4(t *testing.T) {
	policy := roster.DefaultPolicy()
	policy.Schedule.Kind = schedule.AfterRead
	w, register, p := paired(t, policy)
	w.Sync(p.ID, false)
	w.Read(register, false)
	assert.Zero(t, queued(t, w, "run-pairing"), "nothing changed")
	require.NoError(t, w.Standins.School.Enrol("stu-001", "sec-prop-c"))
	require.NoError(t, w.Standins.School.Enrol("stu-001", "sec-prop-b"))
	w.Read(register, false)
	require.NoError(t, w.Runs.WorkAsked(t.Context(), p.InterfaceID))
	assert.Equal(t, 1, queued(t, w, "run-pairing"))
	assert.Zero(t, asked(t, w))
	r := auto(t, w, p.ID)
	require.NotNil(t, r)
	assert.Equal(t, 1, r.Counts["added"])
	assert.Equal(t, "schedule", r.RequestedBy)
}

// Removals above the guard wait for a person while additions go on.
func TestGuardHoldsOnlyRemovalsBack_R5(t *testing.T) {
	w, register, p := paired(t, roster.DefaultPolicy())
	w.Sync(p.ID, false)
	for _, id := range []string{"stu-025", "stu-026", "stu-027", "stu-028"} {
		require.NoError(t, w.Standins.School.Withdraw(id, "sec-prop-c"))
	}
	require.NoError(t, w.Standins.School.Enrol("stu-001", "sec-prop-c"))
	w.Read(register, false)
	r := auto(t, w, p.ID)
	require.NotNil(t, r)
	assert.Equal(t, 1, r.Counts["added"])
	assert.Zero(t, r.Counts["removed"])
	assert.Nil(t, auto(t, w, p.ID), "what waits is not tried again and again")
	today, err := (&findings.Service{Store: w.Store}).Today(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, today, 1)
	assert.Equal(t, finding.RemovalGuard, today[0].Code)
	assert.Contains(t, today[0].Detail, "4 people")
	card, err := w.Pairings.Card(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, roster.NeedsPerson, card.State)
	assert.Equal(t, 4, w.Sync(p.ID, true).Counts["removed"], "approved by hand")
}

// Learners wait until the class opens, by hand or at its time; late ones too;
// after that they go straight in, and an opening can be cancelled.
func TestHoldAndOpen_R7(t *testing.T) {
	policy := roster.DefaultPolicy()
	policy.Hold = true
	w, register, p := paired(t, policy)
	run := w.Sync(p.ID, false)
	assert.Equal(t, 1, run.Counts["added"], "the teacher goes in at once")
	assert.Equal(t, 12, run.Counts["waiting"])
	require.NoError(t, w.Standins.School.Enrol("stu-001", "sec-prop-c"))
	w.Read(register, false)
	assert.Nil(t, auto(t, w, p.ID), "who comes late waits too")

	at := time.Now().Add(time.Hour)
	require.NoError(t, w.Runs.OpenClass(t.Context(), "test", p.ID, &at))
	require.NoError(t, w.Runs.Tick(t.Context(), at.Add(-time.Minute)))
	assert.Zero(t, asked(t, w))
	require.NoError(t, w.Runs.Tick(t.Context(), at))
	assert.Equal(t, roster.OutOfStep, state(t, w, p.ID), "open, but nobody is in yet")
	assert.Equal(t, 1, asked(t, w))
	r := auto(t, w, p.ID)
	require.NotNil(t, r)
	assert.Equal(t, 13, r.Counts["added"])
	assert.Equal(t, roster.InStep, state(t, w, p.ID))
	assert.ErrorContains(t, w.Runs.OpenClass(t.Context(), "test", p.ID, nil), "open already")

	require.NoError(t, w.Runs.HoldClass(t.Context(), "test", p.ID))
	require.NoError(t, w.Standins.School.Enrol("stu-002", "sec-prop-c"))
	w.Read(register, false)
	assert.Nil(t, auto(t, w, p.ID), "who is in stays in, newcomers wait")
	assert.ErrorContains(t, w.Runs.HoldClass(t.Context(), "test", p.ID), "held back already")
	require.NoError(t, w.Runs.OpenClass(t.Context(), "test", p.ID, nil))
	assert.Equal(t, 1, queued(t, w, "run-pairing"))
}

func TestSyncNowForMany_R4(t *testing.T) {
	w, _, p := paired(t, roster.DefaultPolicy())
	n, err := w.Runs.SyncNow(t.Context(), "test", "", "", nil)
	require.NoError(t, err)
	assert.Zero(t, n, "the first run is by hand")
	w.Sync(p.ID, false)
	for _, q := range [][2]string{{"", ""}, {w.Section("PROP-C").CourseID, ""}, {"", p.InterfaceID}} {
		n, err = w.Runs.SyncNow(t.Context(), "test", q[0], q[1], nil)
		require.NoError(t, err)
		assert.Equal(t, 1, n)
	}
	n, err = w.Runs.SyncNow(t.Context(), "test", w.Section("SOIL-A").CourseID, "", nil)
	require.NoError(t, err)
	assert.Zero(t, n)
	assert.Equal(t, 3, queued(t, w, "run-pairing"))
}

// Ending a pairing takes out whom Kanban put in, leaves everybody else, and the
// section can be paired again.
func TestEndingTakesOnlyOursOut_S8(t *testing.T) {
	policy := roster.DefaultPolicy()
	policy.Leavers = roster.LeaversKeep
	w, _, p := paired(t, policy)
	w.Sync(p.ID, false)
	paused := true
	_, err := w.Pairings.Change(t.Context(), "test", p.ID, 0, pairings.Edit{Paused: &paused})
	require.NoError(t, err)
	preview, err := w.Runs.Ending(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, roster.Counts{roster.OutcomeRemove: 13}, preview.Plan.Counts())
	r, err := w.Runs.Start(t.Context(), "test", preview.ID, false)
	require.NoError(t, err)
	require.NoError(t, w.Runs.Work(t.Context(), r.ID, true))
	r, err = runstore.FindRun(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	assert.Equal(t, runstore.Finished, r.State, r.Error)
	assert.Equal(t, 13, r.Counts["removed"])
	ended, err := pairingstore.FindPairing(t.Context(), w.Store, p.ID)
	require.NoError(t, err)
	assert.NotNil(t, ended.EndedAt)
	_, err = w.Runs.Ending(t.Context(), p.ID)
	assert.ErrorContains(t, err, "has ended already")
	_, err = w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID: p.SectionID, InterfaceID: p.InterfaceID,
		TargetName: "Again",
	})
	assert.NoError(t, err)
}

// Whoever was switched off on leaving is switched on again on coming back; an
// account that somebody else switched off is left alone.
func TestWhoComesBackIsSwitchedOnAgain_R5(t *testing.T) {
	policy := roster.DefaultPolicy()
	policy.Leavers = roster.LeaversDeactivate
	w, register, p := paired(t, policy)
	w.Sync(p.ID, false)
	require.NoError(t, w.Standins.School.Withdraw("stu-025", "sec-prop-c"))
	w.Read(register, false)
	assert.Equal(t, 1, w.Sync(p.ID, false).Counts["removed"])
	require.NoError(t, w.Standins.School.Enrol("stu-025", "sec-prop-c"))
	w.Read(register, false)
	r := w.Sync(p.ID, false)
	assert.Equal(t, 1, r.Counts["added"])
	assert.Equal(t, 12, r.Counts["in-step"])
	assert.Equal(t, 12, w.Standins.Workspace.Created(), "with the account they had")
	changes, err := runstore.Changes(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	for _, c := range changes {
		if c.State == runstore.ChangeDone {
			assert.Equal(t, finding.AccountReturns, c.Entry.Reason)
		}
	}
	first, err := w.Runs.Revert(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, first.Plan.Counts().Changes())
}
