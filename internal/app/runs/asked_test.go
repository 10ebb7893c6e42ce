package runs_test

import (
	"fmt"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/schedule"
	"kanban/internal/standin/fault"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
)

// Many pairings are compared with one look at the service, and only those about
// which something is to be done get a run.
func TestManyAreComparedWithOneLook_R4(t *testing.T) {
	w := apptest.New(t)
	_, workspace, pairings := w.Large(60, 8)
	ctx := t.Context()
	require.NoError(t, w.Runs.Tick(ctx, time.Now().Add(2*time.Hour))) // no pairing has a time yet
	all, err := pairingstore.Listed(ctx, w.Store)
	require.NoError(t, err)
	require.Len(t, all, pairings)
	for _, id := range []string{"s3", "s4"} { // somebody at the workspace takes people out
		_, err := w.Store.Pool.Exec(ctx,
			`UPDATE pairings SET target_ref = 'gone' || target_ref WHERE target_ref = $1`, id)
		require.NoError(t, err)
	}
	_, err = w.Store.Pool.Exec(ctx, `DELETE FROM enrolments WHERE section = 's5' AND sourced_id = 'e40'`)
	require.NoError(t, err)
	n, err := w.Runs.SyncNow(ctx, "Maud", "", "", nil)
	require.NoError(t, err)
	assert.Equal(t, pairings, n)
	require.NoError(t, w.Runs.WorkAsked(ctx, workspace.ID))
	assert.Equal(t, 1, queued(t, w, "run-pairing"), "the one that somebody left")
	today, err := (&findings.Service{Store: w.Store}).Today(ctx, nil)
	require.NoError(t, err)
	assert.Len(t, today, 2, "two classes are gone")
	for _, f := range today {
		assert.Equal(t, finding.TargetGone, f.Code)
	}

	// While the service does not answer everything stays asked for, and is said.
	_, err = w.Runs.SyncNow(ctx, "Maud", "", "", nil)
	require.NoError(t, err)
	require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: "status", Status: 503}))
	require.Error(t, w.Runs.WorkAsked(ctx, workspace.ID))
	today, err = (&findings.Service{Store: w.Store}).Today(ctx, nil)
	require.NoError(t, err)
	assert.Equal(t, "comparing", today[0].Subject)
	w.Standins.ClearFaults()
	require.NoError(t, w.Runs.WorkAsked(ctx, workspace.ID))
	_, total, err := pairingstore.AskedPairings(ctx, w.Store, workspace.ID, 1)
	require.NoError(t, err)
	assert.Zero(t, total)
}

// All pairings are compared on a schedule of their own, and nothing is due while
// everything is paused.
func TestFullComparisonAndMaintenance(t *testing.T) {
	w, _, p := paired(t, roster.DefaultPolicy())
	w.Sync(p.ID, false)
	ctx := t.Context()
	at := time.Date(2026, 11, 24, 3, 0, 0, 0, time.UTC)
	w.Runs.Clock = func() time.Time { return at }
	require.NoError(t, w.Runs.SetFullComparison(ctx, "test", schedule.Schedule{Kind: schedule.Daily, At: "03:30"}))
	asked := func() int {
		_, n, err := pairingstore.AskedPairings(ctx, w.Store, p.InterfaceID, 1)
		require.NoError(t, err)
		return n
	}
	require.NoError(t, w.Runs.Tick(ctx, at))
	assert.Zero(t, asked())
	require.NoError(t, w.Runs.Pause(ctx, "Maud", "moving", true))
	require.NoError(t, w.Runs.Tick(ctx, at.Add(time.Hour)))
	assert.Zero(t, asked(), "everything is paused")
	_, err := w.Runs.Preview(ctx, p.ID)
	require.NoError(t, err, "looking is allowed")
	assert.Equal(t, roster.Paused, state(t, w, p.ID))
	require.NoError(t, w.Runs.Pause(ctx, "Maud", "", false))
	require.NoError(t, w.Runs.Tick(ctx, at.Add(50*time.Hour)))
	require.NoError(t, w.Runs.Tick(ctx, at.Add(50*time.Hour)))
	assert.Equal(t, 1, asked(), "once, for all that was missed")
	require.NoError(t, w.Runs.WorkAsked(ctx, p.InterfaceID))
	assert.Zero(t, queued(t, w, "run-pairing"), "it runs by hand only")
	_, ok := refusal.As(w.Runs.SetFullComparison(ctx, "test", schedule.Schedule{Kind: schedule.AfterRead}))
	assert.True(t, ok)
}

func state(t *testing.T, w *apptest.World, pairingID string) roster.State {
	t.Helper()
	card, err := w.Pairings.Card(t.Context(), pairingID)
	require.NoError(t, err)
	return card.State
}

// Removals above the guard are announced by mail, once, with a link that approves
// exactly what it shows, once.
func TestApprovalByMail_R5(t *testing.T) {
	w, register, p := paired(t, roster.DefaultPolicy())
	ctx := t.Context()
	w.Mail()
	link, err := w.Access.SetupSecret(ctx)
	require.NoError(t, err)
	_, err = w.Access.SetUp(ctx, link, "Maud Marrow", "maud@fernmoor.example", "grow-more-plants")
	require.NoError(t, err)
	w.Sync(p.ID, false)
	for n := 25; n < 30; n++ {
		require.NoError(t, w.Standins.School.Withdraw(fmt.Sprintf("stu-%03d", n), "sec-prop-c"))
	}
	w.Read(register, false)
	for range 2 {
		require.NoError(t, w.Runs.Auto(ctx, p.ID, "schedule"))
	}
	mails := w.Standins.Inbox.Mails()
	require.Len(t, mails, 1, "the same is said once")
	assert.Equal(t, "maud@fernmoor.example", mails[0].To)
	assert.Contains(t, mails[0].Text, "Yann Yew")
	token := regexp.MustCompile(`http://kanban\.example/approvals/(\w+)`).FindStringSubmatch(mails[0].Text)
	require.Len(t, token, 2)

	shown, err := w.Runs.Approvable(ctx, token[1])
	require.NoError(t, err)
	assert.Len(t, shown.Removals, 5)
	_, err = w.Runs.Approve(ctx, token[1], db.NewID())
	assert.ErrorContains(t, err, "is not the one that this link is about")
	r, err := w.Runs.Approve(ctx, token[1], shown.Preview.ID)
	require.NoError(t, err)
	assert.Equal(t, "Maud Marrow, by mail", r.ApprovedBy)
	require.NoError(t, w.Runs.Work(ctx, r.ID, true))
	r, err = runstore.FindRun(ctx, w.Store, r.ID)
	require.NoError(t, err)
	assert.Equal(t, 5, r.Counts["removed"])
	_, err = w.Runs.Approvable(ctx, token[1])
	assert.ErrorIs(t, err, db.ErrNotFound, "it works once")
	_, err = w.Runs.Approve(ctx, "made-up", shown.Preview.ID)
	assert.ErrorIs(t, err, db.ErrNotFound)
}
