package runs_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/standin/fault"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// paired is a world whose section Propagation C, with 12 learners and a teacher
// and nothing wrong about them, is paired.
func paired(t *testing.T, policy roster.Policy) (*apptest.World, connectionstore.Interface, pairingstore.Pairing) {
	t.Helper()
	return pairedWith(t, "PROP-C", policy)
}

// pairedWith is the same with another section.
func pairedWith(t *testing.T, code string, policy roster.Policy) (*apptest.World, connectionstore.Interface,
	pairingstore.Pairing,
) {
	t.Helper()
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section(code).ID,
		InterfaceID: w.Workspace().ID, Policy: &policy,
	})
	require.NoError(t, err)
	return w, register, p
}

func TestLeaversGoOnlyAsThePolicySays_R5(t *testing.T) {
	for leavers, want := range map[roster.Leavers]map[string]int{
		roster.LeaversRemove:     {"removed": 1, "in-step": 12, "left-out": 0},
		roster.LeaversDeactivate: {"removed": 1, "in-step": 12, "left-out": 0},
		roster.LeaversKeep:       {"removed": 0, "in-step": 12, "left-out": 1},
	} {
		policy := roster.DefaultPolicy()
		policy.Leavers = leavers
		w, register, p := paired(t, policy)
		first := w.Sync(p.ID, false)
		require.Equal(t, 13, first.Counts["added"])
		require.NoError(t, w.Standins.School.Withdraw("stu-025", "sec-prop-c"))
		read := w.Read(register, false)
		assert.Equal(t, 1, read.Counts["left"])
		run := w.Sync(p.ID, false)
		for name, n := range want {
			assert.Equal(t, n, run.Counts[name], "%s: %s", leavers, name)
		}
		assert.Equal(t, runstore.Finished, run.State)
		assert.Zero(t, w.Sync(p.ID, false).Counts["removed"], "once")
	}
}

func TestGuardStopsUntilApproved_R5(t *testing.T) {
	w, register, p := paired(t, roster.DefaultPolicy())
	w.Sync(p.ID, false)
	for _, id := range []string{"stu-025", "stu-026", "stu-027", "stu-028"} {
		require.NoError(t, w.Standins.School.Withdraw(id, "sec-prop-c"))
	}
	w.Read(register, false)
	preview, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	_, err = w.Runs.Start(t.Context(), "test", preview.ID, false)
	r, ok := refusal.As(err)
	require.True(t, ok, "%v", err)
	assert.Equal(t, finding.RemovalGuard, r.Code)
	assert.Contains(t, r.Detail, "take 4 people out")
	assert.Equal(t, 4, w.Sync(p.ID, true).Counts["removed"])
}

func TestARegisterThatShrinksIsNotBelieved(t *testing.T) {
	w, register, _ := paired(t, roster.DefaultPolicy())
	for _, e := range w.Standins.School.Enrolments() {
		if !e.Ended && strings.HasPrefix(e.PersonID, "stu-0") {
			_ = w.Standins.School.Withdraw(e.PersonID, e.SectionID)
		}
	}
	run := w.Read(register, false)
	assert.Equal(t, runstore.Failed, run.State)
	assert.Equal(t, string(finding.RegisterShrunk), run.ErrorCode)
	assert.Equal(t, 12, w.Section("PROP-C").Learners, "nothing was changed")
	run = w.Read(register, true)
	assert.Equal(t, runstore.Finished, run.State)
	assert.Zero(t, w.Section("PROP-C").Learners)
}

func TestOnlyWhatKanbanMadeIsUpdated(t *testing.T) {
	w, register, p := paired(t, roster.DefaultPolicy())
	w.Sync(p.ID, false)
	require.NoError(t, w.Standins.School.SetName("stu-025", "Emilia", "Elm"))
	require.NoError(t, w.Standins.School.SetName("tea-003", "Pia", "Parsnip")) // had an account of her own
	read := w.Read(register, false)
	assert.Equal(t, 2, read.Counts["changed"])
	run := w.Sync(p.ID, false)
	assert.Equal(t, 1, run.Counts["updated"])
	assert.Equal(t, 12, run.Counts["in-step"])
}

// A service that is down for good: the run ends as failed, says so, and goes on
// by hand from where it stopped.
func TestFailedRunIsResumed_R10(t *testing.T) {
	w, _, p := paired(t, roster.DefaultPolicy())
	preview, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	run, err := w.Runs.Start(t.Context(), "test", preview.ID, false)
	require.NoError(t, err)
	_, err = w.Runs.Start(t.Context(), "test", preview.ID, false)
	assert.ErrorContains(t, err, "is at work on this pairing already")

	require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: fault.Status, Status: 503, Method: "PATCH"}))
	require.Error(t, w.Runs.Work(t.Context(), run.ID, false), "tried again later")
	run, err = runstore.FindRun(t.Context(), w.Store, run.ID)
	require.NoError(t, err)
	assert.True(t, run.Active())
	assert.Contains(t, run.Step, "trying again")
	require.NoError(t, w.Runs.Work(t.Context(), run.ID, true), "the last try ends it")
	run, err = runstore.FindRun(t.Context(), w.Store, run.ID)
	require.NoError(t, err)
	assert.Equal(t, runstore.Failed, run.State)
	assert.Equal(t, string(finding.Broken), run.ErrorCode)
	assert.Equal(t, 0, run.Done)
	assert.Equal(t, 12, w.Standins.Workspace.Created(), "accounts were made, nobody is a member yet")
	card, err := w.Pairings.Card(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, roster.NeedsPerson, card.State)

	w.Standins.ClearFaults()
	_, err = w.Runs.Resume(t.Context(), "test", run.ID)
	require.NoError(t, err)
	require.NoError(t, w.Runs.Work(t.Context(), run.ID, true))
	run, err = runstore.FindRun(t.Context(), w.Store, run.ID)
	require.NoError(t, err)
	assert.Equal(t, runstore.Finished, run.State)
	assert.Equal(t, 13, run.Counts["added"])
	assert.Equal(t, 12, w.Standins.Workspace.Created(), "no account is made twice")
	_, err = w.Runs.Resume(t.Context(), "test", run.ID)
	assert.ErrorContains(t, err, "this one is finished")
}

func TestWrongCredentialEndsTheRunAtOnce(t *testing.T) {
	w, _, p := paired(t, roster.DefaultPolicy())
	preview, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	run, err := w.Runs.Start(t.Context(), "test", preview.ID, false)
	require.NoError(t, err)
	require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: fault.Status, Status: 401}))
	require.NoError(t, w.Runs.Work(t.Context(), run.ID, false), "trying again would not help")
	run, err = runstore.FindRun(t.Context(), w.Store, run.ID)
	require.NoError(t, err)
	assert.Equal(t, runstore.Failed, run.State)
	assert.Equal(t, string(finding.WrongCredential), run.ErrorCode)
}

func TestOnlySomePeople_P3(t *testing.T) {
	w, register, p := paired(t, roster.DefaultPolicy())
	start := func(only ...string) (runstore.Run, error) {
		preview, err := w.Runs.Preview(t.Context(), p.ID)
		require.NoError(t, err)
		r, err := w.Runs.Start(t.Context(), "test", preview.ID, false, only...)
		if err == nil {
			require.NoError(t, w.Runs.Work(t.Context(), r.ID, true))
			r, err = runstore.FindRun(t.Context(), w.Store, r.ID)
		}
		return r, err
	}
	r, err := start(w.Person("stu-025").ID, w.Person("stu-026").ID)
	require.NoError(t, err)
	assert.Equal(t, 2, r.Counts["added"])
	assert.Equal(t, 2, r.Total)
	card, err := w.Pairings.Card(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, roster.OutOfStep, card.State, "the others are still to come")
	_, err = start(w.Person("stu-025").ID)
	assert.ErrorContains(t, err, "nothing is to be done about")
	r, err = start()
	require.NoError(t, err)
	assert.Equal(t, 11, r.Counts["added"])

	// The guard looks at what the narrowed run would do.
	for _, id := range []string{"stu-025", "stu-026", "stu-027", "stu-028"} {
		require.NoError(t, w.Standins.School.Withdraw(id, "sec-prop-c"))
	}
	w.Read(register, false)
	_, err = start()
	assert.ErrorContains(t, err, "take 4 people out")
	r, err = start(w.Person("stu-025").ID)
	require.NoError(t, err)
	assert.Equal(t, 1, r.Counts["removed"])
}
