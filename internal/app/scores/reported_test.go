package scores_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/reports"
	core "kanban/internal/core/report"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
)

// The report on scores says what was carried and put back, what work is not done, and how old drafts are.
func TestScoresAreReported(t *testing.T) {
	x := open(t)
	l := x.link()
	now := time.Now().UTC()
	x.mark("cuttings-report", "stu-002", oneroster.ScoreFullyGraded, 17, nil)
	x.mark("cuttings-report", "stu-003", oneroster.ScoreFullyGraded, 11, nil)
	for days, who := range map[int]string{2: "stu-004", 12: "stu-005", 40: "stu-006"} {
		x.mark("cuttings-report", who, oneroster.ScorePartiallyGraded, 5, func(r *oneroster.Result) {
			r.ScoreDate = oneroster.Moment{Time: now.AddDate(0, 0, -days).Truncate(time.Second)}
		})
	}
	x.mark("cuttings-report", "stu-007", oneroster.ScoreNotSubmitted, 0, func(r *oneroster.Result) { r.Score = nil })
	r := x.run(x.preview(l), true)
	rows := func(a reports.Ask, title string) (out []core.Row) {
		t.Helper()
		made, err := x.Reports.Make(t.Context(), core.Scores, a)
		require.NoError(t, err)
		for _, p := range made.Parts {
			if p.Title == title {
				for row, err := range p.Rows {
					require.NoError(t, err)
					out = append(out, row)
				}
				return out
			}
		}
		t.Fatalf("no table %q", title)
		return nil
	}
	day := rows(reports.Ask{}, "By day")
	require.Len(t, day, 1)
	assert.Equal(t, core.Row{now.Format(time.DateOnly), 3, 0}, day[0], "that nothing was handed in is carried too")
	assert.Empty(t, rows(reports.Ask{To: now.AddDate(0, 0, -1).Format(time.DateOnly)}, "By day"))
	ages := rows(reports.Ask{}, "Not final, by age")
	require.Len(t, ages, 1)
	assert.Equal(t, core.Row{"Propagation", 3, 1, 1, 1, 0}, ages[0][:6])
	open := rows(reports.Ask{}, "Work that is not done")
	require.Len(t, open, 1)
	total := 0
	for _, n := range open[0][2:] {
		total += n.(int)
	}
	assert.Equal(t, []any{"Propagation", "Propagation A", 4}, []any{open[0][0], open[0][1], total})

	back, err := x.Scores.Revert(t.Context(), r.ID)
	require.NoError(t, err)
	x.run(back, true)
	assert.Equal(t, core.Row{now.Format(time.DateOnly), 3, 3}, rows(reports.Ask{}, "By day")[0])
	later := now.Add(time.Hour)
	none, err := scorestore.CountCarried(t.Context(), x.Store, &later, nil)
	require.NoError(t, err)
	assert.Empty(t, none)
}
