package worker_test

import (
	"context"
	"log/slog"
	"slices"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/batches"
	"kanban/internal/app/pairings"
	"kanban/internal/app/registers"
	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/standin/fault"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/leases"
	"kanban/internal/store/runstore"
	"kanban/internal/store/storetest"
	"kanban/internal/worker"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// A job held by a worker that lives stays with it; one held by a worker that
// died is given back at once and carried out.
func TestOrphanedWorkIsGivenBack(t *testing.T) {
	w := apptest.New(t)
	register := w.Register()
	orphan, err := w.Registers.Start(t.Context(), "test", registers.Request{InterfaceID: register.ID})
	require.NoError(t, err)
	hold := func(kind, holder string) {
		_, err := w.Store.Pool.Exec(t.Context(), `UPDATE river_job SET state = 'running', attempt = 1,
			attempted_at = now(), attempted_by = ARRAY[$2] WHERE kind = $1`, kind, holder)
		require.NoError(t, err)
	}
	hold("read-register", "a worker that died")

	require.NoError(t, w.Store.InTx(t.Context(), func(tx *db.Tx) error {
		return tx.Enqueue(t.Context(),
			jobs.React{EventIDs: []string{}})
	}))
	living, err := leases.Register(t.Context(), w.Store, time.Hour)
	require.NoError(t, err)
	hold("react", living.Worker)

	x, err := worker.Start(t.Context(), w.Store, w.UseCases, worker.Options{Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		x.Stop(ctx)
	}()
	require.Eventually(t, func() bool {
		r, err := runstore.FindRun(t.Context(), w.Store, orphan.ID)
		return err == nil && r.State == runstore.Finished
	}, 20*time.Second, 50*time.Millisecond)
	var holder string
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT attempted_by[1] FROM river_job
		WHERE kind = 'react' AND state = 'running'`).Scan(&holder))
	assert.Equal(t, living.Worker, holder)
}

// Two replicas on one database never run one pairing at the same time, however
// often it is asked for; everybody is put in once, even at a service that lists a
// member twice who is added twice.
func TestReplicasNeverRunOnePairingAtOnce(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	w.Standins.Workspace.Double()
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-C").ID,
		InterfaceID: w.Workspace().ID,
	})
	require.NoError(t, err)
	preview, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	first, err := w.Runs.Start(t.Context(), "test", preview.ID, false)
	require.NoError(t, err)
	_, err = w.Runs.Start(t.Context(), "test", preview.ID, false)
	require.ErrorContains(t, err, "at work on this pairing already")
	require.NoError(t, w.Standins.Fault("workspace", fault.Fault{Kind: fault.Latency, Millis: 20}))
	require.NoError(t, w.Store.InTx(t.Context(), func(tx *db.Tx) error {
		work := []river.JobArgs{
			jobs.WorkAsked{InterfaceID: p.InterfaceID},
			jobs.WorkAsked{InterfaceID: p.InterfaceID},
		}
		for range 4 { // the same run, and the same wish, as if their news had come several times
			work = append(work, jobs.ApplyRun{RunID: first.ID}, jobs.ApplyRun{RunID: first.ID, ByHand: true},
				jobs.RunPairing{PairingID: p.ID, Who: "schedule"}, jobs.RunPairing{
					PairingID: p.ID, Who: "Maud",
					ByHand: true,
				})
		}
		return tx.Enqueue(t.Context(), work...)
	}))
	for range 2 {
		x, err := worker.Start(t.Context(), w.Store, w.UseCases, worker.Options{Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err)
		defer x.Stop(context.Background())
	}
	require.Eventually(t, func() bool {
		var open int
		err := w.Store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM river_job
			WHERE kind IN ('apply-run', 'run-pairing', 'work-asked') AND state NOT IN ('completed', 'discarded')`).Scan(&open)
		return err == nil && open == 0
	}, 30*time.Second, 50*time.Millisecond)
	runs, err := runstore.Runs(t.Context(), w.Store, runstore.Wanted{PairingID: p.ID, Limit: 100})
	require.NoError(t, err)
	added := 0
	for i, r := range runs {
		assert.Equal(t, runstore.Finished, r.State, r.Error)
		added += r.Counts["added"]
		if i > 0 { // newest first
			assert.False(t, runs[i-1].StartedAt.Before(*r.FinishedAt), "two runs were at work at once")
		}
	}
	assert.Equal(t, 13, added)
	members := w.Standins.Workspace.Space("Propagation C")
	assert.Len(t, members, 13)
	assert.Len(t, slices.Compact(members), 13, "nobody is in it twice")
}

// Every kind of queued work is done at the first try, by use cases that are all there: a
// panic of one would be no more than another try in the log.
func TestEveryKindOfWorkIsDone(t *testing.T) {
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	section := w.Section("PROP-A")
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   section.ID,
		InterfaceID: w.Workspace().ID,
	})
	require.NoError(t, err)
	greet := w.Rule(rule.Draft{
		Name: "Greet", Trigger: "section.joined",
		Actions: []rule.Action{{Kind: rule.OpenTask, Subject: "Greet"}},
	})
	w.Outlined()
	run, err := w.Registers.Start(t.Context(), "test", registers.Request{InterfaceID: register.ID})
	require.NoError(t, err)
	preview, err := w.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	sync, err := w.Runs.Start(t.Context(), "test", preview.ID, false)
	require.NoError(t, err)
	batch, err := w.Batches.Prepare(t.Context(), "test", batches.Order{Act: batches.Pause, Pairings: []string{p.ID}})
	require.NoError(t, err)
	work := []river.JobArgs{
		jobs.ReadRegister{RunID: run.ID},
		jobs.ApplyRun{RunID: sync.ID},
		jobs.React{EventIDs: []string{}},
		jobs.WorkAsked{InterfaceID: p.InterfaceID},
		jobs.RunPairing{PairingID: p.ID, Who: "schedule"},
		jobs.CarryOutBatch{BatchID: batch.ID},
		jobs.AskNeeds{},
		jobs.AskNeeds{RuleID: greet.ID},
		jobs.Propose{InterfaceID: register.ID},
		jobs.Tick{},
		jobs.ResolveStatements{},
		jobs.TakeWaiting{},
		jobs.PassTime{},
		jobs.TendHistory{},
		jobs.MovePeople{},
		jobs.SettleAccess{},
		jobs.SettleAccess{OfferID: db.NewID()},
		jobs.RecountCourse{CourseID: section.CourseID},
		jobs.RecountCourse{Everybody: true},
		jobs.SendLinks{Address: "nobody@fernmoor.example"},
		jobs.WorkOutStages{People: []string{}},
		jobs.WorkOutStages{StagePlanID: db.NewID()},
		jobs.ReadAll{},
	}
	require.NoError(t, w.Store.InTx(t.Context(), func(tx *db.Tx) error { return tx.Enqueue(t.Context(), work...) }))
	x, err := worker.Start(t.Context(), w.Store, w.UseCases,
		worker.Options{Log: slog.New(slog.DiscardHandler), ReadEvery: time.Hour})
	require.NoError(t, err)
	defer x.Stop(context.Background())
	kinds := map[string]bool{}
	for _, j := range work {
		kinds[j.Kind()] = true
	}
	require.Eventually(t, func() bool {
		var done int
		err := w.Store.Pool.QueryRow(t.Context(),
			`SELECT count(DISTINCT kind) FROM river_job WHERE state = 'completed'`).Scan(&done)
		return err == nil && done >= len(kinds)
	}, time.Minute, 20*time.Millisecond)
	rows, err := w.Store.Pool.Query(t.Context(), `SELECT kind || ': ' || errors[1]::text FROM river_job
		WHERE errors IS NOT NULL`)
	require.NoError(t, err)
	failed, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	assert.Empty(t, failed)
}
