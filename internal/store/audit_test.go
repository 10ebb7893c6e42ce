package store_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/personstore"
	"kanban/internal/store/storetest"
)

func TestAuditTrailIsListed(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	tx(t, s, func(tx *db.Tx) error { return tx.Audit(ctx, "Otto", "made a rule", "rule/1", map[string]int{"n": 1}) })
	tx(t, s, func(tx *db.Tx) error { return tx.Audit(ctx, "Maud", "changed 100% of a rule", "rule/2", nil) })
	tx(t, s, func(tx *db.Tx) error { return tx.Audit(ctx, "Maud", "ended", "rules", nil) })
	found := func(f accessstore.AuditFilter) (all []string) {
		f.Limit = 10
		for _, e := range must[[]accessstore.AuditEntry](t)(accessstore.AuditEntries(ctx, s, f)) {
			all = append(all, e.Who+" "+e.What)
		}
		return all
	}
	assert.Equal(t, []string{"Maud ended", "Maud changed 100% of a rule", "Otto made a rule"},
		found(accessstore.AuditFilter{}))
	assert.Equal(t, []string{"Maud changed 100% of a rule", "Otto made a rule"},
		found(accessstore.AuditFilter{Subject: "rule"}), "the kind alone")
	assert.Equal(t, []string{"Otto made a rule"}, found(accessstore.AuditFilter{Subject: "rule/1"}))
	assert.Equal(t, []string{"Otto made a rule"}, found(accessstore.AuditFilter{Text: "OTTO made"}))
	assert.Equal(t, []string{"Maud changed 100% of a rule"}, found(accessstore.AuditFilter{Text: "0%"}))
	assert.Empty(t, found(accessstore.AuditFilter{Text: "_"}), "as it is, no pattern")
	now := time.Now()
	assert.Empty(t, found(accessstore.AuditFilter{Since: now.Add(time.Hour)}))
	assert.Len(t, found(accessstore.AuditFilter{Since: now.Add(-time.Hour), Until: now.Add(time.Hour)}), 3)
	assert.Empty(t, found(accessstore.AuditFilter{Until: now.Add(-time.Hour)}))
	newest := must[[]accessstore.AuditEntry](t)(accessstore.AuditEntries(ctx, s, accessstore.AuditFilter{Limit: 3}))
	assert.Len(t, found(accessstore.AuditFilter{Before: newest[0].ID}), 2)
	assert.JSONEq(t, `{"n":1}`, string(newest[2].Detail))
	assert.Equal(t, json.RawMessage("null"), newest[0].Detail)
}

func TestEachNameIsListedOnce(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	somebody(t, s, "Otto Onion")
	var people, titles []string
	require.NoError(t, personstore.EachName(ctx, s, func(n personstore.Named) error {
		if n.Title == "" {
			people = append(people, n.Given)
		} else {
			titles = append(titles, n.Title)
		}
		return nil
	}))
	assert.Equal(t, []string{"Otto Onion"}, people)
	assert.Empty(t, titles)
}

// What a session sees is not undone by requests of it that began before and write it when they end.
func TestWhatASessionSeesIsKeptApart(t *testing.T) {
	s, ctx, until := storetest.New(t), t.Context(), time.Now().Add(time.Hour)
	of := accessstore.SessionOf{UserID: somebody(t, s, "otto").ID}
	require.NoError(t, accessstore.KeepSession(ctx, s, "token", []byte("data"), until, of))
	assert.Equal(t, accessstore.Seen{}, must[accessstore.Seen](t)(accessstore.SeenBy(ctx, s, "token")))
	require.NoError(t, accessstore.KeepNamesKey(ctx, s, "token", "key"))
	require.NoError(t, accessstore.KeepViewed(ctx, s, "token", "person", "Ada"))
	require.NoError(t, accessstore.KeepSession(ctx, s, "token", []byte("data of before"), until, of))
	assert.Equal(t, accessstore.Seen{NamesKey: "key", ViewedPerson: "person", ViewedName: "Ada"},
		must[accessstore.Seen](t)(accessstore.SeenBy(ctx, s, "token")))
	assert.Equal(t, accessstore.Seen{}, must[accessstore.Seen](t)(accessstore.SeenBy(ctx, s, "none")))
}
