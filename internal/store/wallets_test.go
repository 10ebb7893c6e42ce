package store_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/store/db"
	"kanban/internal/store/storetest"
	"kanban/internal/store/walletstore"
)

// What a holder lets a wallet do, and the tokens for it, end together; a wallet that came to nothing is dropped.
func TestWalletsAndTheirTokens(t *testing.T) {
	s, ctx, now := storetest.New(t), t.Context(), time.Now().UTC().Truncate(time.Second)
	old := walletstore.Wallet{ID: "old", Name: "Old", Redirects: []string{"https://old.example/"}, CreatedAt: now.AddDate(0, 0, -8)}
	pocket := old
	pocket.ID, pocket.Name, pocket.SecretHash = "pocket", "Seed tin", []byte("hash")
	require.NoError(t, walletstore.Register(ctx, s, old))
	require.NoError(t, walletstore.Register(ctx, s, pocket))
	ada, bert := db.NewID(), db.NewID()
	for _, p := range []string{ada, bert} {
		tx(t, s, func(tx *db.Tx) error {
			return walletstore.KeepGrant(ctx, tx, walletstore.Grant{
				WalletID: "pocket", PersonID: p, Scopes: "a b",
				GivenAt: now,
			})
		})
	}
	fresh := pocket
	fresh.ID, fresh.CreatedAt = "fresh", now
	require.NoError(t, walletstore.Register(ctx, s, fresh))
	_, err := walletstore.Find(ctx, s, "old")
	require.ErrorIs(t, err, db.ErrNotFound, "nobody ever let it do anything")
	assert.Equal(t, []byte("hash"), must[walletstore.Wallet](t)(walletstore.Find(ctx, s, "pocket")).SecretHash)

	require.NoError(t, walletstore.NoteUse(ctx, s, "pocket", ada, now))
	require.NoError(t, walletstore.NoteUse(ctx, s, "pocket", ada, now.Add(time.Second)))
	granted := must[[]walletstore.Granted](t)(walletstore.GrantsOf(ctx, s, ada))
	require.Len(t, granted, 1)
	assert.Equal(t, "Seed tin", granted[0].Name)
	assert.True(t, now.Equal(*granted[0].UsedAt), "once a minute is enough")

	token := func(hash, kind, family, person string, ends time.Time) walletstore.Token {
		return walletstore.Token{
			Hash: []byte(hash), Kind: kind, Family: family, WalletID: "pocket", PersonID: person, Info: []byte(`{}`),
			EndsAt: ends,
		}
	}
	family, later := db.NewID(), now.Add(time.Hour)
	require.NoError(t, walletstore.KeepTokens(ctx, s, now,
		token("code", walletstore.Code, db.NewID(), ada, later),
		token("access", walletstore.Access, family, ada, later),
		token("refresh", walletstore.Refresh, family, ada, later),
		token("his", walletstore.Access, db.NewID(), bert, later),
		token("ended", walletstore.Access, db.NewID(), bert, now.Add(-25*time.Hour))))
	assert.True(t, must[bool](t)(walletstore.UseCode(ctx, s, []byte("code"), now)))
	assert.False(t, must[bool](t)(walletstore.UseCode(ctx, s, []byte("code"), now)), "once")
	assert.False(t, must[bool](t)(walletstore.DropTokens(ctx, s, walletstore.Access, []byte("refresh"))), "it is of another kind")
	assert.True(t, must[bool](t)(walletstore.DropTokens(ctx, s, walletstore.Refresh, []byte("refresh"))))
	_, err = walletstore.FindToken(ctx, s, walletstore.Access, []byte("access"))
	require.ErrorIs(t, err, db.ErrNotFound, "its family went with it")
	require.NoError(t, walletstore.KeepTokens(ctx, s, now, token("next", walletstore.Access, db.NewID(), ada, later)))
	_, err = walletstore.FindToken(ctx, s, walletstore.Access, []byte("ended"))
	require.ErrorIs(t, err, db.ErrNotFound, "what has ended goes")

	tx(t, s, func(tx *db.Tx) error { return walletstore.DropGrant(ctx, tx, "pocket", ada) })
	_, err = walletstore.FindToken(ctx, s, walletstore.Access, []byte("next"))
	require.ErrorIs(t, err, db.ErrNotFound)
	his := must[walletstore.Token](t)(walletstore.FindToken(ctx, s, walletstore.Access, []byte("his")))
	assert.Equal(t, bert, his.PersonID, "his stays")
}

// Credentials from elsewhere are kept by their names, each holder's apart.
func TestCredentialsFromElsewhere(t *testing.T) {
	s, ctx, now := storetest.New(t), t.Context(), time.Now().UTC().Truncate(time.Second)
	ada := db.NewID()
	b := walletstore.Brought{
		ID: db.NewID(), PersonID: ada, CredentialID: "urn:a", Name: "A", Issuer: "I", Content: []byte(`{"a":1}`),
		Verdict: "valid",
		Wallet:  "Seed tin", BroughtAt: now,
	}
	keep := func(b walletstore.Brought) {
		tx(t, s, func(tx *db.Tx) error { return walletstore.KeepBrought(ctx, tx, b) })
	}
	keep(b)
	b.ID, b.Content = db.NewID(), []byte(`{"a":2}`)
	keep(b)
	other := b
	other.ID, other.CredentialID, other.BroughtAt, other.JWS, other.Content = db.NewID(), "urn:b",
		now.Add(time.Second), true, []byte("a.b.c")
	keep(other)
	all := must[[]walletstore.Brought](t)(walletstore.BroughtOf(ctx, s, ada))
	require.Len(t, all, 2)
	assert.Equal(t, "urn:b", all[0].CredentialID)
	assert.Empty(t, all[0].Content, "a list holds no contents")
	assert.True(t, must[bool](t)(walletstore.Holds(ctx, s, ada, []byte(`{"a":2}`))))
	assert.False(t, must[bool](t)(walletstore.Holds(ctx, s, ada, []byte(`{"a":1}`))), "it was replaced")
	assert.False(t, must[bool](t)(walletstore.Holds(ctx, s, db.NewID(), []byte(`{"a":2}`))))
	held, total, err := walletstore.HeldBy(ctx, s, ada, time.Time{}, 1, 1)
	require.NoError(t, err)
	require.Len(t, held, 1)
	assert.Equal(t, 2, total)
	assert.True(t, held[0].JWS && bytes.Equal(held[0].Content, []byte("a.b.c")))
	_, total, err = walletstore.HeldBy(ctx, s, ada, now, 9, 0)
	require.NoError(t, err)
	assert.Equal(t, 1, total, "since then")
	require.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error {
		return walletstore.DropBrought(ctx, tx, db.NewID(),
			all[0].ID)
	}),
		db.ErrNotFound)
	tx(t, s, func(tx *db.Tx) error { return walletstore.DropBrought(ctx, tx, ada, all[0].ID) })
	assert.Len(t, must[[]walletstore.Brought](t)(walletstore.BroughtOf(ctx, s, ada)), 1)
}
