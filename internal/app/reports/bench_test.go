package reports_test

import (
	"fmt"
	"io"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/app/reports"
	"kanban/internal/apptest"
	"kanban/internal/core/learning"
	"kanban/internal/core/report"
	"kanban/internal/store/db"
	"kanban/internal/wire/sheet"
)

// The progress that ten million facts leave: 250,000 learners of 100 courses, forty activities each. How far they
// have come is counted from what is kept for each, and who stopped is written as a stream of more than 100,000 rows.
func BenchmarkReportsOnManyLearners(b *testing.B) {
	w, ctx := apptest.New(b), b.Context()
	w.LargeRegister(1000, 250)
	var o learning.Outline
	for m := range 5 {
		x := learning.Module{ID: fmt.Sprint("m", m), Title: fmt.Sprint("Module ", m)}
		for a := range 8 {
			x.Activities = append(x.Activities, learning.Activity{
				ID: fmt.Sprintf("m%d-a%d", m, a), Title: "A", Kind: learning.Lesson,
			})
		}
		o.Modules = append(o.Modules, x)
	}
	courses, err := db.Values[string](ctx, w.Store, "bench", `SELECT DISTINCT course_id::text FROM section_facts`)
	require.NoError(b, err)
	for _, c := range courses {
		require.NoError(b, w.Outlines.SetOutline(ctx, "bench", c, o))
	}
	// So many activities in their order are done; a third has not been back for a month.
	_, err = w.Store.Pool.Exec(ctx, `INSERT INTO progress (person_id, section_id, percent, done, done_bits,
			outline_version, first_at, last_at, done_at)
		SELECT person_id, section_id, far * 100 / 40, far = 40, bits, 1, now() - interval '60 days',
			now() - (n % 3) * interval '20 days', CASE WHEN far = 40 THEN now() - (n % 40) * interval '1 day' END
		FROM (SELECT person_id, section_id, n, n % 41 AS far FROM (SELECT person_id, section_id,
			row_number() OVER () AS n FROM course_learners) l) x,
			LATERAL (SELECT decode(lpad(to_hex(((1::bigint << far::int) - 1)), 10, '0'), 'hex') AS whole) y,
			LATERAL (SELECT substring(whole, 5, 1) || substring(whole, 4, 1) || substring(whole, 3, 1)
				|| substring(whole, 2, 1) || substring(whole, 1, 1) AS bits) z`)
	require.NoError(b, err)
	_, err = w.Store.Pool.Exec(ctx, `ANALYZE`)
	require.NoError(b, err)
	_, err = w.Reports.Make(ctx, report.Completion, reports.Ask{}) // the list of sections is held from here on
	require.NoError(b, err)
	for b.Loop() {
		started := time.Now()
		r, err := w.Reports.Make(ctx, report.Completion, reports.Ask{})
		require.NoError(b, err)
		require.Equal(b, 100, r.Parts[0].Total)
		b.ReportMetric(time.Since(started).Seconds(), "s/funnel")
		started = time.Now()
		_, err = w.Reports.Make(ctx, report.Completion, reports.Ask{Course: "C7"})
		require.NoError(b, err)
		b.ReportMetric(float64(time.Since(started).Milliseconds()), "ms/course")

		r, err = w.Reports.Make(ctx, report.Stopped, reports.Ask{})
		require.NoError(b, err)
		require.Greater(b, r.Parts[0].Total, 100_000)
		runtime.GC()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		started = time.Now()
		rows := 0
		require.NoError(b, sheet.Stream(io.Discard, []string{"x"}, func(yield func([]string, error) bool) {
			for row, err := range r.Parts[0].Rows {
				rows++
				if !yield([]string{fmt.Sprint(row...)}, err) {
					return
				}
			}
		}))
		b.ReportMetric(float64(rows)/time.Since(started).Seconds(), "rows/s")
		runtime.ReadMemStats(&after)
		b.ReportMetric(max(float64(after.HeapSys)-float64(before.HeapSys), 0)/(1<<20), "MB-more")
	}
}
