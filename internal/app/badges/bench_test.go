package badges_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/app/badges"
	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
)

// A thousand awards from a file, with their credentials, their events and the jobs by which a rule reacts to each.
// Then a public page's check, again and again.
func BenchmarkAwardsFromFile(b *testing.B) {
	w := apptest.New(b)
	w.Read(w.Register(), false)
	i, err := w.Badges.AddIssuer(b.Context(), "test", badgestore.Issuer{Name: "Fernmoor"})
	require.NoError(b, err)
	given, err := w.Badges.AddBadge(b.Context(), "test",
		badgestore.Badge{IssuerID: i.ID, Name: "Cuttings", Description: "d", Criteria: "c"})
	require.NoError(b, err)
	w.Rule(rule.Draft{Name: "Tell", Trigger: string(rule.BadgeAwarded), Actions: []rule.Action{{
		Kind: rule.OpenTask, Subject: "Print {{.event.badge}}", Owner: "maud@fernmoor.example",
	}}})
	var columns string // those that are not worked out by the database
	require.NoError(
		b,
		w.Store.Pool.QueryRow(b.Context(), `SELECT string_agg(column_name, ', ') FROM information_schema.columns
		WHERE table_name = 'people' AND is_generated = 'NEVER'`).Scan(&columns),
	)
	_, err = w.Store.Pool.Exec(b.Context(), `INSERT INTO people (`+columns+`) SELECT `+columns+` FROM (
		SELECT (jsonb_populate_record(p, jsonb_build_object('sourced_id', 'x-' || n, 'identifier', 'x-' || n,
			'user_name', 'x-' || n, 'email', 'x' || n || '@fernmoor.example', 'email_key', 'x' || n || '@fernmoor.example'))).*
		FROM people p, generate_series(1, 1000) n WHERE p.identifier = 'stu-001') x`)
	require.NoError(b, err)
	var file strings.Builder
	file.WriteString("person,note\n")
	for n := range 1000 {
		fmt.Fprintf(&file, "x-%d,well done\n", n+1)
	}
	for b.Loop() {
		started := time.Now()
		rows, err := w.Badges.AwardFromFile(b.Context(), badges.Anybody("Maud"), given.ID, []byte(file.String()), true)
		require.NoError(b, err)
		require.Len(b, rows, 1000)
		require.Equal(b, "awarded", rows[999].Outcome, rows[999].Because)
		b.ReportMetric(time.Since(started).Seconds(), "s/1000-awards")
		started = time.Now()
		for range 100 {
			_, err := w.Badges.Check(b.Context(), rows[7].AwardID)
			require.NoError(b, err)
		}
		b.ReportMetric(float64(time.Since(started).Milliseconds())/100, "ms/check")
	}
}
