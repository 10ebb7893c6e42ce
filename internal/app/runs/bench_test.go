package runs_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
)

// BenchmarkManyPairings prints the figures of an institution of 11,112 sections with
// 20 learners each: all of its pairings due in the same minute on unchanged data,
// what a list of them costs, and what needs a person.
func BenchmarkManyPairings(b *testing.B) {
	w := apptest.New(b)
	_, workspace, paired := w.Large(11_112, 20)
	ctx := b.Context()
	for b.Loop() {
		_, err := w.Store.Pool.Exec(ctx, `UPDATE pairings SET next_at = now()`)
		require.NoError(b, err)
		started := time.Now()
		require.NoError(b, w.Runs.Tick(ctx, time.Now().Add(time.Second)))
		ticked := time.Since(started)
		require.NoError(b, w.Runs.WorkAsked(ctx, workspace.ID))
		b.ReportMetric(time.Since(started).Seconds(), "s-all-compared")
		b.ReportMetric(ticked.Seconds(), "s-tick")
		b.ReportMetric(float64(paired), "pairings")
		var left, jobs int
		require.NoError(b, w.Store.Pool.QueryRow(ctx, `SELECT (SELECT count(*) FROM pairings
			WHERE asked_at IS NOT NULL OR compared_at < now() - interval '2 minutes'), (SELECT count(*) FROM river_job
			WHERE kind = 'run-pairing')`).Scan(&left, &jobs))
		require.Zero(b, left, "all were compared")
		require.Zero(b, jobs, "nothing had changed")

		started = time.Now()
		list, err := w.Pairings.List(ctx, pairings.Filter{})
		require.NoError(b, err)
		require.Len(b, list.Cards, 11_112)
		b.ReportMetric(float64(time.Since(started).Milliseconds()), "ms-list")
		started = time.Now()
		_, err = (&findings.Service{Store: w.Store}).Today(ctx, nil)
		require.NoError(b, err)
		b.ReportMetric(float64(time.Since(started).Milliseconds()), "ms-today")
	}
}
