package reports_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/store/db"
)

// Whatever happens to the progress that is kept, the night notices that it is not what was recorded, and counting it
// anew sets it right without any event.
func TestKeptProgressIsComparedAtNight(t *testing.T) {
	w, now := apptest.Clocked(t)
	w.Outlined()
	platform := w.Platform()
	for _, who := range []string{"stu-001", "stu-002", "stu-003", "stu-004"} {
		w.Completes(platform.ID, who, "one", *now)
	}
	w.Completes(platform.ID, "stu-001", "two", *now)
	progress := func() (out []string) {
		all, err := db.Values[string](t.Context(), w.Store, "test", `SELECT concat_ws(' ', person_id, percent, done,
			first_at, last_at, encode(done_bits, 'hex')) FROM progress ORDER BY person_id`)
		require.NoError(t, err)
		return all
	}
	before := progress()
	w.Reports.Clock = func() time.Time { return *now }
	wrong := func() int {
		all, err := w.Findings.Findings(t.Context(), findings.Filter{Code: finding.ProgressDiffers})
		require.NoError(t, err)
		if len(all) == 0 {
			return 0
		}
		assert.Equal(t, "Propagation", all[0].Where)
		return all[0].Count
	}
	queued := func() int {
		all, err := db.Values[string](t.Context(), w.Store, "test",
			`DELETE FROM river_job WHERE kind = 'check-progress' RETURNING kind`)
		require.NoError(t, err)
		return len(all)
	}
	require.NoError(t, w.Reports.Tick(t.Context(), *now))
	assert.Zero(t, queued(), "the first look says only when")
	c, err := w.Reports.Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "02:30", c.NextAt.UTC().Format("15:04"))
	*now = *c.NextAt
	for range 3 {
		require.NoError(t, w.Reports.Tick(t.Context(), *now))
	}
	assert.Equal(t, 1, queued(), "once a night")
	require.NoError(t, w.Reports.WorkCheck(t.Context(), false))
	c, err = w.Reports.Check(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []any{4, 0}, []any{c.Checked, c.Wrong})
	assert.Zero(t, wrong())

	for who, damage := range map[string]string{
		"stu-001": `done_bits = ''`, "stu-002": `percent = 100, done = true`, "stu-003": `last_at = last_at + interval '1 day'`,
		"stu-004": `first_at = NULL`,
	} {
		_, err := w.Store.Pool.Exec(t.Context(), `UPDATE progress SET `+damage+` WHERE person_id = $1`, w.Person(who).ID)
		require.NoError(t, err)
	}
	damaged := progress()
	require.NoError(t, w.Reports.WorkCheck(t.Context(), false))
	assert.Equal(t, 4, wrong())
	assert.Equal(t, damaged, progress(), "comparing changes nothing")
	require.NoError(t, w.Reports.StartCheck(t.Context(), "Maud", true))
	require.Error(t, w.Reports.StartCheck(t.Context(), "Maud", true), "one at a time")
	var events int
	count := func() (n int) {
		require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM events`).Scan(&n))
		return n
	}
	events = count()
	require.NoError(t, w.Reports.WorkCheck(t.Context(), true))
	assert.Zero(t, wrong())
	assert.Equal(t, before, progress())
	assert.Equal(t, events, count(), "nobody hears of it")
	require.NoError(t, w.Reports.WorkCheck(t.Context(), false))
	assert.Zero(t, wrong())
}
