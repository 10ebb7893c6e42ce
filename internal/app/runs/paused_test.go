package runs_test

import (
	"fmt"
	"testing"
	"time"

	"kanban/internal/app/connections"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/schedule"
	"kanban/internal/standin/fault"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
)

// What was due while a pairing or its interface was paused happens once after that, however
// often it would have been due.
func TestWhatWasDueWhilePausedHappensOnce_C6(t *testing.T) {
	for _, kind := range []schedule.Kind{schedule.Every, schedule.Daily, schedule.AfterRead} {
		for _, what := range []string{"pairing", "interface"} {
			t.Run(string(kind)+", "+what, func(t *testing.T) {
				w := apptest.New(t)
				register := w.Register()
				w.Read(register, false)
				c := w.Workspace()
				p, err := w.Pairings.Pair(t.Context(), "test",
					pairings.Wish{SectionID: w.Section("PROP-C").ID, InterfaceID: c.ID})
				require.NoError(t, err)
				now := time.Now()
				w.Runs.Clock = func() time.Time { return now }
				w.Pairings.Clock = w.Runs.Clock
				w.Sync(p.ID, false)
				policy := p.Policy
				policy.Schedule = schedule.Schedule{Kind: kind, Minutes: 30, At: "03:30"}
				_, err = w.Pairings.Change(t.Context(), "test", p.ID, 0, pairings.Edit{Policy: &policy})
				require.NoError(t, err)
				pause := func(on bool) {
					if what == "pairing" {
						_, err = w.Pairings.Change(t.Context(), "test", p.ID, 0, pairings.Edit{Paused: &on})
					} else {
						_, err = w.Connections.Update(t.Context(), "test", c.ID, 0, connections.Change{Paused: &on})
					}
					require.NoError(t, err)
				}
				settle := func() { // as the worker would
					require.NoError(t, w.Runs.Tick(t.Context(), now))
					require.NoError(t, w.Runs.WorkAsked(t.Context(), c.ID))
					jobs := 0
					require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `WITH gone AS (DELETE FROM river_job
						WHERE kind = 'run-pairing' RETURNING 1) SELECT count(*) FROM gone`).Scan(&jobs))
					for range jobs {
						require.NoError(t, w.Runs.Auto(t.Context(), p.ID, "the clock"))
					}
					w.WorkAll()
				}
				settle()
				runs := func() int {
					all, err := runstore.Runs(t.Context(), w.Store, runstore.Wanted{PairingID: p.ID, Limit: 100})
					require.NoError(t, err)
					return len(all)
				}
				require.Equal(t, 1, runs())
				pause(true)
				require.NoError(t, w.Standins.School.Enrol("stu-001", "sec-prop-c"))
				w.Read(register, false)
				for range 5 { // five days
					now = now.Add(24 * time.Hour)
					settle()
				}
				require.Equal(t, 1, runs(), "nothing while it is paused")
				pause(false)
				settle()
				assert.Equal(t, 2, runs(), "once")
				assert.Len(t, w.Standins.Workspace.Space("Propagation C"), 14)
				settle()
				assert.Equal(t, 2, runs())
			})
		}
	}
}

// Opening says whom it lets in; a time that has passed is asked about; an opening can be moved
// and cancelled.
func TestOpeningIsSaidMovedAndCancelled_R7(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	c := w.Workspace()
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-C").ID,
		InterfaceID: c.ID,
	})
	require.NoError(t, err)
	require.NoError(t, w.Runs.HoldClass(t.Context(), "test", p.ID))
	w.Sync(p.ID, false)
	o, err := w.Runs.Opening(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, 12, o.Learners, "the teacher is in")
	assert.Equal(t, 12, o.NewAccounts)

	past := time.Now().Add(-time.Hour)
	r, _ := refusal.As(w.Runs.OpenClass(t.Context(), "test", p.ID, &past))
	require.NotNil(t, r)
	assert.Equal(t, "at", r.Field)
	at := func() *time.Time {
		now, err := pairingstore.FindPairing(t.Context(), w.Store, p.ID)
		require.NoError(t, err)
		return now.OpensAt
	}
	r, _ = refusal.As(w.Runs.CancelOpening(t.Context(), "test", p.ID))
	require.NotNil(t, r, "there is none to cancel")
	for _, hours := range []time.Duration{2, 5} {
		when := time.Now().Add(hours * time.Hour).Truncate(time.Second)
		require.NoError(t, w.Runs.OpenClass(t.Context(), "test", p.ID, &when))
		assert.WithinDuration(t, when, *at(), 0)
	}
	require.NoError(t, w.Runs.CancelOpening(t.Context(), "test", p.ID))
	assert.Nil(t, at())
	require.NoError(t, w.Runs.Tick(t.Context(), time.Now().Add(6*time.Hour)))
	now, err := pairingstore.FindPairing(t.Context(), w.Store, p.ID)
	require.NoError(t, err)
	assert.True(t, now.Policy.Hold)
	require.Nil(t, now.EndedAt)
	assert.NotEqual(t, runstore.Failed, now.LastFailed)
}

// One administrator's mail that fails is tried again; the others do not get theirs again.
func TestApprovalMailsComeOnceToEach(t *testing.T) {
	w, register, p := paired(t, roster.DefaultPolicy())
	w.Mail()
	link, err := w.Access.SetupSecret(t.Context())
	require.NoError(t, err)
	_, err = w.Access.SetUp(t.Context(), link, "Maud Marrow", "maud@fernmoor.example", "grow-more-plants")
	require.NoError(t, err)
	_, err = w.Store.Pool.Exec(t.Context(), `INSERT INTO users SELECT (json_populate_record(a,
		json_build_object('id', gen_random_uuid(), 'email', 'otto@fernmoor.example', 'name', 'Otto Onion'))).*
		FROM users a`)
	require.NoError(t, err)
	_, err = w.Store.Pool.Exec(t.Context(), `INSERT INTO user_grants (id, user_id, role, scope)
		SELECT gen_random_uuid(), id, 'operator', 'institution' FROM users WHERE email = 'otto@fernmoor.example'`)
	require.NoError(t, err)
	w.Sync(p.ID, false)
	for n := 25; n < 30; n++ {
		require.NoError(t, w.Standins.School.Withdraw(fmt.Sprintf("stu-%03d", n), "sec-prop-c"))
	}
	w.Read(register, false)
	require.NoError(t, w.Standins.Fault("inbox", fault.Fault{Kind: fault.Status, Status: 451, Count: 1}))
	require.NoError(t, w.Runs.Auto(t.Context(), p.ID, "schedule"))
	require.Len(t, w.Standins.Inbox.Mails(), 1, "the other one's went through")
	first := w.Standins.Inbox.Mails()[0].To
	for range 3 {
		require.NoError(t, w.Runs.Auto(t.Context(), p.ID, "schedule"))
	}
	mails := w.Standins.Inbox.Mails()
	require.Len(t, mails, 2, "each of the two has one")
	assert.NotEqual(t, first, mails[0].To)
}
