package store_test

import (
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/connections"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/purchasestore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/stagestore"
	"kanban/internal/store/storetest"
)

// What a released version has kept is carried over: the database after the demo's story, as
// each release left it, opens, and everything in it reads in the present words.
func TestDatabasesOfReleasesAreCarriedOver(t *testing.T) {
	files, err := filepath.Glob("testdata/releases/*.sql.gz")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".sql.gz"), func(t *testing.T) {
			ctx := t.Context()
			url := storetest.Empty(t)
			restore(t, url, file)
			key, err := os.ReadFile(strings.TrimSuffix(file, ".sql.gz") + ".key")
			require.NoError(t, err)
			s, err := db.Open(ctx, db.Options{URL: url, Keyset: key, MaxConnections: 10})
			require.NoError(t, err)
			t.Cleanup(s.Close)

			uses := connections.Service{Store: s}
			for _, c := range must[[]connectionstore.Interface](t)(connectionstore.Interfaces(ctx, s)) {
				opened, err := uses.Unlock(c)
				require.NoError(t, err, "secrets are sealed under the same key: %s", c.Name)
				assert.NotEmpty(t, opened.Kind)
			}
			sections := must[[]rosterstore.Section](t)(rosterstore.Sections(ctx, s))
			assert.GreaterOrEqual(t, len(sections), 9)
			found := must[rosterstore.FoundPeople](t)(rosterstore.People(ctx, s, "Basil Bough", 5, nil))
			assert.NotEmpty(t, found.People)
			for _, p := range must[[]*pairingstore.Pairing](t)(pairingstore.Listed(ctx, s)) {
				whole := must[pairingstore.Pairing](t)(pairingstore.FindPairing(ctx, s, p.ID))
				assert.NotEmpty(t, whole.Policy.Leavers)
				source := must[map[string]pairingstore.Pairing](t)(pairingstore.PairingsByID(ctx, s, []string{p.ID}))
				assert.Len(t, source, 1)
			}
			assert.NotEmpty(t, must[[]runstore.Run](t)(runstore.Runs(ctx, s, runstore.Wanted{Limit: 10})))
			rules := must[[]rulestore.Rule](t)(rulestore.Rules(ctx, s))
			assert.NotEmpty(t, rules)
			for _, r := range rules {
				for _, a := range r.Actions {
					assert.True(t, slices.Contains(rule.Kinds, a.Kind), "%s: %q", r.Name, a.Kind)
				}
				versions := must[[]rulestore.RuleVersion](t)(rulestore.RuleVersions(ctx, s, r.ID))
				require.NotEmpty(t, versions, r.Name)
				assert.Equal(t, r.Actions, versions[0].Draft.Actions, r.Name)
				assert.Equal(t, r.OncePerPerson, versions[0].Draft.OncePerPerson, r.Name)
			}
			deliveries := must[[]deliverystore.ListedDelivery](t)(deliverystore.Deliveries(ctx, s,
				deliverystore.DeliveryFilter{Limit: 100}))
			assert.NotEmpty(t, deliveries)
			for _, d := range deliveries {
				assert.True(t, slices.Contains(rule.Kinds, d.Action.Kind), "%q", d.Action.Kind)
			}
			assert.NotEmpty(t, must[[]eventstore.ListedEvent](t)(eventstore.Events(ctx, s,
				eventstore.EventFilter{Limit: 100})))
			awards := must[[]badgestore.ListedAward](t)(badgestore.Awards(ctx, s, badgestore.AwardFilter{Limit: 10}))
			assert.NotEmpty(t, awards)
			assert.NotEmpty(t, must[[]purchasestore.Offer](t)(purchasestore.Offers(ctx, s)))
			for _, p := range must[[]stagestore.StagePlan](t)(stagestore.StagePlans(ctx, s)) {
				people := must[[]stagestore.StagePlanPerson](t)(stagestore.StagePlanPeople(ctx, s, p,
					stagestore.StagePlanFilter{Limit: 10}))
				assert.NotEmpty(t, people, p.Name)
			}
			outlined := 0
			for _, c := range must[[]learningstore.Course](t)(learningstore.Courses(ctx, s)) {
				if o, err := learningstore.Outline(ctx, s, c.ID); err == nil && len(o.Modules) > 0 {
					outlined++
				}
			}
			assert.NotZero(t, outlined)
		})
	}
}

// restore fills an empty database with a dump.
func restore(t *testing.T, url, file string) {
	t.Helper()
	packed, err := os.Open(file)
	require.NoError(t, err)
	defer packed.Close()
	text, err := gzip.NewReader(packed)
	require.NoError(t, err)
	sql, err := io.ReadAll(text)
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	_, err = conn.PgConn().Exec(t.Context(), string(sql)).ReadAll()
	require.NoError(t, err)
}
