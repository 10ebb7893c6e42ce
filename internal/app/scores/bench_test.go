package scores_test

import (
	"context"
	"encoding/json"
	"fmt"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"kanban/internal/app/scores"
	"kanban/internal/core/grade"
	"kanban/internal/core/schedule"
	"kanban/internal/standin/gradebook"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
)

// large is a linked set with 60 learners and 50 assignments: 3,000 final scores.
func large(b *testing.B) (*school, scorestore.Link) {
	b.Helper()
	x := openSchool(b)
	for i := 37; i <= 60; i++ {
		require.NoError(b, x.Standins.School.Enrol(fmt.Sprintf("stu-%03d", i), "sec-prop-c"))
	}
	x.Read(x.register, true)
	marks := x.Standins.Platform.Marks
	for _, l := range gradebook.All[oneroster.LineItem](marks, oneroster.FileLineItems) {
		marks.Erase(oneroster.FileLineItems, l.SourcedID)
	}
	today := time.Now().UTC().Truncate(24 * time.Hour)
	for i := range 50 {
		marks.Enter(oneroster.FileLineItems, fmt.Sprintf("item-%02d", i), oneroster.LineItem{
			Title: fmt.Sprintf("Assignment %02d", i), Class: oneroster.Ref{SourcedID: "propagation"},
			ResultValueMax: number(20), DueDate: oneroster.Moment{Time: today.AddDate(0, 0, -i)},
			Category: &oneroster.Ref{SourcedID: "work"},
		})
		for s := 1; s <= 60; s++ {
			x.mark(fmt.Sprintf("item-%02d", i), fmt.Sprintf("stu-%03d", s), oneroster.ScoreFullyGraded, float64(s%20),
				nil)
		}
	}
	return x, x.link()
}

// A set of 3,000 scores: what a preview takes, what carrying takes, and what the second run sends.
func BenchmarkScoresOfASet(b *testing.B) {
	var preview, carry, again time.Duration
	sent := 0
	for range b.N {
		x, l := large(b)
		from := time.Now()
		p := x.preview(l)
		preview += time.Since(from)
		from = time.Now()
		r := x.run(p, false)
		carry += time.Since(from)
		require.Equal(b, runstore.Finished, r.State, "%s %v", r.Error, r.Counts)
		require.Equal(b, 3000, r.Counts["scored"]+r.Counts["now-held"], r.Counts)
		from = time.Now()
		sent += x.preview(l).Plan.Counts().Changes()
		again += time.Since(from)
	}
	n := float64(b.N)
	b.ReportMetric(preview.Seconds()/n, "s/preview")
	b.ReportMetric(carry.Seconds()/n, "s/carry")
	b.ReportMetric(again.Seconds()/n, "s/second-preview")
	b.ReportMetric(float64(sent)/n, "sent-again")
}

// quiet fills both gradebooks with 2,000 classes of 10 assignments and 12 learners, which are in step, and links them.
func quiet(b *testing.B, x *school) (ids []string) {
	b.Helper()
	ctx := b.Context()
	section := x.Section("PROP-A").ID
	for _, id := range []string{x.source.ID, x.book.ID} {
		for _, sql := range []string{
			`INSERT INTO gradebook_records SELECT $1, 'lineItems', 'i-' || c || '-' || i, 'c-' || c, '',
				jsonb_build_object('sourcedId', 'i-' || c || '-' || i, 'classSourcedId', 'c-' || c, 'title',
				'Assignment ' || i, 'resultValueMax', '20'), 1, 1, NULL
				FROM generate_series(1, 2000) c, generate_series(1, 10) i`,
			`INSERT INTO gradebook_records SELECT $1, 'results', 'r-' || c || '-' || i || '-' || s, '', 'i-' || c || '-' || i,
				jsonb_build_object('sourcedId', 'r-' || c || '-' || i || '-' || s, 'lineItemSourcedId', 'i-' || c || '-' || i,
				'studentSourcedId', 'stu-0' || lpad(s::text, 2, '0'), 'score', '12', 'scoreStatus', 'fully graded'), 1, 1, NULL
				FROM generate_series(1, 2000) c, generate_series(1, 10) i, generate_series(1, 12) s`,
			`INSERT INTO gradebook_reads VALUES ($1, 1, now() - interval '15 minutes', now(), '[]', 0)
				ON CONFLICT (interface_id) DO UPDATE SET read_at = excluded.read_at, whole_at = now()`,
		} {
			_, err := db.Exec(ctx, x.Store, sql, id)
			require.NoError(b, err)
		}
	}
	policy, err := json.Marshal(scorestore.Policy{Schedule: schedule.Schedule{Kind: schedule.Every, Minutes: 15}})
	require.NoError(b, err)
	for c := 1; c <= 2000; c++ {
		id := db.NewID()
		_, err := db.Exec(ctx, x.Store, `INSERT INTO score_links (id, source_interface_id, source_class, book_interface_id,
			policy, made_by, ran_at) VALUES ($1, $2, $3, $4, $5, 'bench', now())`, id, x.source.ID, fmt.Sprintf("c-%d", c),
			x.book.ID, string(policy))
		require.NoError(b, err)
		_, err = db.Exec(ctx, x.Store, `INSERT INTO score_link_sections VALUES ($1, $2, 0, $3)`, id, section,
			fmt.Sprintf("c-%d", c))
		require.NoError(b, err)
		ids = append(ids, id)
	}
	_, err = db.Exec(ctx, x.Store, `INSERT INTO score_items (id, link_id, section_id, source_item, book_interface, book_item)
		SELECT gen_random_uuid(), l.id, s.section_id, r.remote_id, l.book_interface_id, r.remote_id FROM score_links l
		JOIN score_link_sections s ON s.link_id = l.id JOIN gradebook_records r ON r.interface_id = l.source_interface_id
		AND r.class = l.source_class WHERE l.made_by = 'bench'`)
	require.NoError(b, err)
	_, err = db.Exec(ctx, x.Store, `ANALYZE`)
	require.NoError(b, err)
	return ids
}

// 2,000 score links with nothing new: they are compared by two reads of changes.
func BenchmarkScoreLinksWithNothingNew(b *testing.B) {
	x := openSchool(b)
	ids := quiet(b, x)
	var before, after runtime.MemStats
	for b.Loop() {
		runtime.GC()
		runtime.ReadMemStats(&before)
		require.NoError(b, x.Scores.Look(context.WithoutCancel(b.Context()), ids))
		runtime.ReadMemStats(&after)
	}
	runs, err := runstore.Runs(b.Context(), x.Store, runstore.Wanted{Limit: 10, Active: true})
	require.NoError(b, err)
	require.Empty(b, runs, "nothing is sent")
	counts, err := db.Map[string, int](b.Context(), x.Store, "counting", `SELECT o.key, sum(o.value::int)::int AS value
		FROM score_links l, jsonb_each_text(l.counts) o WHERE l.made_by = 'bench' AND o.key <> 'mismatches' GROUP BY 1`)
	require.NoError(b, err)
	require.Equal(b, map[string]int{grade.Unchanged.String(): 240_000}, counts)
	b.ReportMetric(float64(after.Sys)/(1<<20), "MB-of-the-system")
}

// 500 sets whose runs were asked for at once, by two people: how long until the last has been carried, how far the
// second person's are behind the first's, and how many scores arrive.
func BenchmarkManySetsAtOnce(b *testing.B) {
	const sets = 500
	for b.Loop() {
		b.StopTimer()
		x := openSchool(b)
		runs := x.manyLinks(b, sets)
		b.StartTimer()
		from := time.Now()
		var group errgroup.Group
		group.SetLimit(4)
		for _, id := range runs {
			group.Go(func() error { return x.Scores.Work(context.WithoutCancel(b.Context()), id, true) })
		}
		require.NoError(b, group.Wait())
		b.ReportMetric(time.Since(from).Seconds(), "s/500-sets")
		b.StopTimer()
		arrived := 0
		for _, r := range gradebook.All[oneroster.Result](x.Standins.Register.Book, oneroster.FileResults) {
			if r.Score != nil {
				arrived++
			}
		}
		require.Equal(b, sets, arrived, "one score of each set, none twice")
		b.StartTimer()
	}
}

// manyLinks links so many classes with one final score each, and asks for a run of each.
func (x *school) manyLinks(b *testing.B, sets int) (runs []string) {
	b.Helper()
	ctx := b.Context()
	marks := x.Standins.Platform.Marks
	today := time.Now().UTC().Truncate(24 * time.Hour)
	for i := range sets {
		class := fmt.Sprintf("class-%03d", i)
		marks.Enter(oneroster.FileLineItems, "item-"+class, oneroster.LineItem{
			Title: "Assignment " + class, Class: oneroster.Ref{SourcedID: class}, ResultValueMax: number(20),
			DueDate: oneroster.Moment{Time: today.AddDate(0, 0, -3)}, Category: &oneroster.Ref{SourcedID: "work"},
		})
		x.mark("item-"+class, "stu-002", oneroster.ScoreFullyGraded, 12, nil)
	}
	section := x.Section("PROP-A").ID
	policy := scores.UsualPolicy()
	policy.Makes = true
	text, err := json.Marshal(policy)
	require.NoError(b, err)
	for i := range sets {
		id := db.NewID()
		_, err := db.Exec(ctx, x.Store, `INSERT INTO score_links (id, source_interface_id, source_class, book_interface_id,
			policy, made_by) VALUES ($1, $2, $3, $4, $5, 'bench')`, id, x.source.ID, fmt.Sprintf("class-%03d", i), x.book.ID,
			string(text))
		require.NoError(b, err)
		_, err = db.Exec(ctx, x.Store, `INSERT INTO score_link_sections VALUES ($1, $2, 0, 'sec-prop-a')`, id, section)
		require.NoError(b, err)
		p, err := x.Scores.Preview(ctx, id, time.Minute)
		require.NoError(b, err)
		r, err := x.Scores.Start(ctx, fmt.Sprint("person-", i%2), p.ID, false)
		require.NoError(b, err)
		runs = append(runs, r.ID)
	}
	return runs
}
