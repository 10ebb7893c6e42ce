package worker_test

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/reading"
	"kanban/internal/apptest"
	"kanban/internal/store"
	"kanban/internal/store/storetest"
	"kanban/internal/worker"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// A job held by a worker that lives stays with it; one held by a worker that
// died is given back at once and carried out.
func TestOrphanedWorkIsGivenBack(t *testing.T) {
	w := apptest.New(t)
	register := w.Register()
	orphan, err := w.Reading.Start(t.Context(), "test", reading.Request{ConnectionID: register.ID})
	require.NoError(t, err)
	hold := func(kind, holder string) {
		_, err := w.Store.Pool.Exec(t.Context(), `UPDATE river_job SET state = 'running', attempt = 1, attempted_at = now(), attempted_by = ARRAY[$2] WHERE kind = $1`, kind, holder)
		require.NoError(t, err)
	}
	hold("read-register", "a worker that died")

	require.NoError(t, w.Store.InTx(t.Context(), func(tx *store.Tx) error { return tx.Enqueue(t.Context(), store.React{EventIDs: []string{}}) }))
	hold("react", "a worker that lives")
	living, err := w.Store.Pool.Acquire(t.Context())
	require.NoError(t, err)
	defer living.Release()
	_, err = living.Exec(t.Context(), `SELECT pg_advisory_lock(hashtextextended('a worker that lives', 0))`)
	require.NoError(t, err)

	x, err := worker.Start(t.Context(), w.Store, worker.Uses{Reading: w.Reading, Syncing: w.Syncing, Reacting: w.Reacting}, worker.Options{Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	defer func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		x.Stop(ctx)
	}()
	require.Eventually(t, func() bool {
		r, err := w.Store.Run(t.Context(), orphan.ID)
		return err == nil && r.State == store.Finished
	}, 20*time.Second, 50*time.Millisecond)
	var holder string
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT attempted_by[1] FROM river_job WHERE kind = 'react' AND state = 'running'`).Scan(&holder))
	assert.Equal(t, "a worker that lives", holder)
}
