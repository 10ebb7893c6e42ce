package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/storetest"
)

// What was refused is counted by day, summed up from a day on, and forgotten.
func TestRefusedReportsAreCounted(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	c := connectionstore.Interface{ID: db.NewID(), Name: "Shop", Kind: "cloudevents", Version: 1}
	tx(t, s, func(tx *db.Tx) error { return storetest.KeepInterface(tx, &c) })
	now := time.Date(2026, 10, 5, 12, 0, 0, 0, time.UTC)
	for _, x := range []struct {
		kind   eventstore.RefusedKind
		days   int
		count  int
		detail string
	}{
		{eventstore.RefusedEvent, -8, 100, "long ago"},
		{eventstore.RefusedEvent, -1, 2, "it has no type"},
		{eventstore.RefusedEvent, 0, 3, "it has no source"},
		{eventstore.RefusedEvent, 0, 4, "it has no id"},
		{eventstore.RefusedSignature, 0, 1, "another secret"},
	} {
		at := now.AddDate(0, 0, x.days).Add(time.Duration(x.count) * time.Second)
		require.NoError(t, eventstore.CountRefused(ctx, s, c.ID, x.kind, x.count, x.detail, at))
	}
	since := func(days int) []eventstore.RefusedReports {
		return must[[]eventstore.RefusedReports](t)(eventstore.RefusedSince(ctx, s, now.AddDate(0, 0, -days)))
	}
	got := since(6)
	require.Len(t, got, 2)
	assert.Equal(t, []any{eventstore.RefusedEvent, 9, "it has no id", "Shop"},
		[]any{got[0].Kind, got[0].Count, got[0].Detail, got[0].Interface})
	assert.Equal(t, []any{eventstore.RefusedSignature, 1}, []any{got[1].Kind, got[1].Count})
	assert.Equal(t, 109, since(30)[0].Count)
	require.NoError(t, eventstore.ForgetRefused(ctx, s, now.AddDate(0, 0, -2)))
	assert.Equal(t, 9, since(30)[0].Count)
	tx(t, s, func(tx *db.Tx) error { return connectionstore.RemoveInterface(ctx, tx, c.ID, "test") })
	assert.Empty(t, since(30), "of a removed interface nothing is said")
}

// A setting and a pause are kept once, and somebody who has the record open notices.
func TestWhatAServiceDoesToItsConnection(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	c := connectionstore.Interface{
		ID: db.NewID(), Name: "News", Kind: "webhook", Version: 1,
		Settings: map[string]string{"address": "https://news.example"},
	}
	tx(t, s, func(tx *db.Tx) error { return storetest.KeepInterface(tx, &c) })
	did := func(do func(tx *db.Tx) (bool, error)) (yes bool) {
		tx(t, s, func(tx *db.Tx) (err error) {
			yes, err = do(tx)
			return err
		})
		return yes
	}
	keep := func(tx *db.Tx) (bool, error) { return connectionstore.KeepSetting(ctx, tx, c.ID, "perMinute", "120") }
	assert.True(t, did(keep))
	assert.False(t, did(keep))
	pause := func(tx *db.Tx) (bool, error) { return connectionstore.PauseInterface(ctx, tx, c.ID, time.Now()) }
	assert.True(t, did(pause))
	assert.False(t, did(pause))
	got := must[connectionstore.Interface](t)(connectionstore.FindInterface(ctx, s, c.ID))
	assert.Equal(t, map[string]string{"address": "https://news.example", "perMinute": "120"}, got.Settings)
	assert.NotNil(t, got.PausedAt)
	assert.Equal(t, 3, got.Version)
}

// The same content is the same attachment of an interface.
func TestAttachmentsAreKeptOnce(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	c := connectionstore.Interface{ID: db.NewID(), Name: "Platform", Kind: "xapi", Version: 1}
	tx(t, s, func(tx *db.Tx) error { return storetest.KeepInterface(tx, &c) })
	one := eventstore.StatementAttachment{InterfaceID: c.ID, SHA2: "ab", ContentType: "image/png", Body: []byte{0, 1}}
	for range 2 {
		require.NoError(t, eventstore.KeepAttachments(ctx, s, []eventstore.StatementAttachment{one}))
	}
	require.NoError(t, eventstore.KeepAttachments(ctx, s, nil))
	read := func(hashes ...string) []eventstore.StatementAttachment {
		return must[[]eventstore.StatementAttachment](t)(eventstore.Attachments(ctx, s, c.ID, hashes))
	}
	assert.Equal(t, []eventstore.StatementAttachment{one}, read("ab", "cd"))
	assert.Empty(t, read())
	others := must[[]eventstore.StatementAttachment](t)(eventstore.Attachments(ctx, s, db.NewID(), []string{"ab"}))
	assert.Empty(t, others)
}
