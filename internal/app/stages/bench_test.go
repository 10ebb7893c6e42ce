package stages_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/stage"
	"kanban/internal/store/stagestore"
)

// A plan of ten stages for the 5,000 learners of a course, each somewhere on the way: what its page asks for, which is
// the counts with their times and the first page of people, and the map.
func BenchmarkStagePlanOfManyLearners(b *testing.B) {
	w, ctx := apptest.New(b), b.Context()
	register := w.LargeRegister(10, 1000)
	var course string
	require.NoError(b, w.Store.Pool.QueryRow(ctx, `SELECT course_id::text FROM course_learners LIMIT 1`).Scan(&course))
	p := stagestore.StagePlan{Name: "Ten", CourseID: course}
	for n := range 10 {
		p.Stages = append(p.Stages, stage.Stage{
			Title: fmt.Sprint("Stage ", n), Criteria: []stage.Criterion{{Kind: stage.Approval, What: fmt.Sprint(
				"Step ", n)}},
		})
	}
	p, err := w.Stages.Save(ctx, "bench", "", 0, p)
	require.NoError(b, err)
	p, err = w.Stages.Switch(ctx, "bench", p.ID, true)
	require.NoError(b, err)
	require.NoError(b, w.Stages.WorkOut(ctx, p.ID))
	ids := make([]string, len(p.Stages))
	for i, s := range p.Stages {
		ids[i] = s.ID
	}
	_, err = w.Store.Pool.Exec(ctx, `UPDATE stage_plan_people c SET reached = x.reached, next = x.next FROM (
		SELECT person_id, coalesce((SELECT jsonb_object_agg(id, now() - (11 - i) * interval '1 day')
				FROM unnest($2::text[]) WITH ORDINALITY AS s (id, i) WHERE i <= far), '{}') AS reached,
			coalesce(($2::text[])[far + 1], '') AS next
		FROM (SELECT person_id, (row_number() OVER ())::int % 11 AS far FROM stage_plan_people) r) x
		WHERE c.person_id = x.person_id AND c.stage_plan_id = $1`, p.ID, ids)
	require.NoError(b, err)
	_, err = w.Store.Pool.Exec(ctx, `ANALYZE`)
	require.NoError(b, err)
	for b.Loop() {
		started := time.Now()
		g, err := w.Stages.GroupOf(ctx, p, "")
		require.NoError(b, err)
		require.Equal(b, 5000, g.People, register.ID)
		_, err = w.Stages.Times(ctx, p, "", 14*24*time.Hour)
		require.NoError(b, err)
		b.ReportMetric(float64(time.Since(started).Milliseconds()), "ms/group")
		started = time.Now()
		_, err = w.Stages.StagePlanPeople(ctx, p, stagestore.StagePlanFilter{Limit: 50, At: ids[7]})
		require.NoError(b, err)
		b.ReportMetric(float64(time.Since(started).Milliseconds()), "ms/people")
		started = time.Now()
		_, err = w.Stages.Map(ctx, p.ID, "")
		require.NoError(b, err)
		b.ReportMetric(float64(time.Since(started).Milliseconds()), "ms/map")
	}
}
