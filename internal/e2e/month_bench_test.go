package e2e_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
)

// Sizes of the month.
const (
	monthEvents     = 10_000_000
	monthDeliveries = 1_000_000
	monthRules      = 200
)

// BenchmarkMonthOfEvents prints how long the views of people and rules take, from the
// API, when the month before holds ten million events and a million deliveries: the
// slowest median of each kind, over several people and rules.
func BenchmarkMonthOfEvents(b *testing.B) {
	for b.Loop() {
		f := newFactory(b)
		for i := range monthRules {
			f.Rule(rule.Draft{
				Name: fmt.Sprintf("rule %d", i), Trigger: "activity.completed",
				Actions: []rule.Action{{
					Kind: rule.AppendRow, Sheet: "bench",
					Fields: map[string]string{"who": "person.name"},
				}},
			})
		}
		started := time.Now()
		f.fillMonth()
		b.ReportMetric(time.Since(started).Seconds(), "s-to-fill")

		var people, rules []string
		require.NoError(b, f.Store.Pool.QueryRow(b.Context(), `SELECT array_agg(id::text) FROM (SELECT id FROM people
			WHERE sourced_id IN ('p1', 'p77', 'p4001') ORDER BY id) x`).Scan(&people))
		require.NoError(b, f.Store.Pool.QueryRow(b.Context(), `SELECT array_agg(id::text) FROM (SELECT id FROM rules
			ORDER BY name LIMIT 3) x`).Scan(&rules))
		require.Len(b, people, 3)
		var deep string // a place far down in the lists
		require.NoError(b, f.Store.Pool.QueryRow(b.Context(), `SELECT id::text FROM events WHERE id > $1 ORDER BY id
			LIMIT 1`, db.FirstID(lastMonth().AddDate(0, 0, 3))).Scan(&deep))
		var ofPerson, ofRule []string
		for _, id := range people {
			ofPerson = append(ofPerson, "/people/"+id, "/events?limit=50&person="+id,
				"/deliveries?limit=50&person="+id, "/events?limit=50&person="+id+"&cursor="+deep)
		}
		for _, id := range rules {
			ofRule = append(ofRule, "/rules/"+id, "/deliveries?limit=50&rule="+id,
				"/deliveries?limit=50&state=waiting&rule="+id, "/deliveries?limit=50&rule="+id+"&cursor="+deep,
				"/rules/"+id+"/samples")
		}
		address, token := f.address, f.token
		b.ReportMetric(slices.Max(pages(b, address, token, ofPerson...)), "ms-person")
		b.ReportMetric(slices.Max(pages(b, address, token, ofRule...)), "ms-rule")
		b.ReportMetric(slices.Max(pages(b, address, token, "/rules")), "ms-rules")
		b.ReportMetric(slices.Max(pages(b, address, token, "/events?limit=50", "/events?limit=50&type=score.reported",
			"/deliveries?limit=50&state=waiting", "/deliveries?limit=50&cursor="+deep)), "ms-lists")

		// The month goes whole once nobody waits for any of it.
		_, err := f.Store.Pool.Exec(b.Context(), `UPDATE deliveries SET state = 'skipped' WHERE state = 'waiting'`)
		require.NoError(b, err)
		started = time.Now()
		require.NoError(b, eventstore.Drop(b.Context(), f.Store, time.Now()))
		b.ReportMetric(time.Since(started).Seconds(), "s-to-drop")
	}
}

func lastMonth() time.Time {
	now := time.Now().UTC()
	return time.Date(now.Year(), now.Month()-1, 1, 0, 0, 0, 0, time.UTC)
}

// fillMonth writes last month's events and deliveries: every learner has about as many,
// every rule too.
func (f *factory) fillMonth() {
	first, next := lastMonth(), lastMonth().AddDate(0, 1, 0)
	step := next.Sub(first).Milliseconds() / monthEvents
	if step < 1 {
		f.b.Fatal("more events than milliseconds")
	}
	conn, err := f.Store.Pool.Acquire(f.b.Context())
	require.NoError(f.b, err)
	defer conn.Release()
	for _, sql := range []string{
		`CREATE TEMP TABLE who AS SELECT row_number() OVER (ORDER BY p.sourced_id) - 1 AS n, p.id, x.id AS section
			FROM people p
			JOIN enrolments e ON e.interface_id = p.interface_id AND e.person = p.sourced_id
				JOIN sections x ON x.interface_id = e.interface_id AND x.sourced_id = e.section
				WHERE e.role = 'student'`,
		`CREATE INDEX ON who (n)`, `ANALYZE who`,
		`CREATE TEMP TABLE which AS SELECT row_number() OVER (ORDER BY id) - 1 AS n, id FROM rules`,
		`CREATE TABLE filling (LIKE events INCLUDING DEFAULTS)`,
		fmt.Sprintf(`INSERT INTO filling SELECT (lpad(to_hex(%d + i::bigint * %d), 12,
			'0') || '70008000' || lpad(to_hex(i), 12, '0'))::uuid,
			(ARRAY['activity.completed', 'activity.completed', 'score.reported', 'module.completed',
				'assessment.passed'])[1 + i %% 5], 'bench/' || i, w.id, w.section, '%s', 'm1',
				'https://platform.example/a1',
			'{"percent": 10}', to_timestamp((%[1]d + i::bigint * %[2]d) / 1000.0),
				to_timestamp((%[1]d + i::bigint * %[2]d) / 1000.0)
			FROM generate_series(0, %[4]d - 1) i JOIN who w ON w.n = (i::bigint * 7919) %% (SELECT count(*) FROM who)`, first.UnixMilli(), step, f.course, monthEvents),
		fmt.Sprintf(`ALTER TABLE events ATTACH PARTITION filling FOR VALUES FROM ('%s') TO ('%s')`, db.FirstID(first),
			db.FirstID(next)),
		fmt.Sprintf(`ALTER TABLE filling RENAME TO events_%s`, first.Format("2006_01")),
		fmt.Sprintf(`INSERT INTO deliveries (id, event_id, rule_id, rule_version, position, action, person_id,
			section_id, state, attempts, created_at, finished_at)
			SELECT e.id, e.id, r.id, 1, 0, '{"kind": "append-row", "sheet": "bench"}', e.person_id, e.section_id,
				CASE WHEN e.n %% 1000 = 0 THEN 'waiting' ELSE 'delivered' END, 1, e.recorded_at, e.recorded_at
			FROM (SELECT *, row_number() OVER () AS n FROM events WHERE id >= '%s' AND id < '%s'
				AND substr(natural_key, 7)::int %% %d = 0) e
			JOIN which r ON r.n = e.n %% (SELECT count(*) FROM which)`, db.FirstID(first), db.FirstID(next), monthEvents/monthDeliveries),
		`INSERT INTO rule_counts (rule_id, fired, delivered) SELECT rule_id, 1, 1 FROM deliveries LIMIT 20000`,
		`VACUUM ANALYZE`,
	} {
		_, err := conn.Exec(f.b.Context(), sql)
		require.NoError(f.b, err, sql)
	}
}
