package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/storetest"
)

// A session is found until it is over or ended, and one that was ended does not come back.
func TestSessionsEndForGood(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	find := func(token string) string {
		data, there, err := accessstore.FindSession(ctx, s, token)
		require.NoError(t, err)
		assert.Equal(t, there, len(data) > 0)
		return string(data)
	}
	keep := func(token, data string, lasts time.Duration) {
		require.NoError(t, accessstore.KeepSession(ctx, s, token, []byte(data), time.Now().Add(lasts),
			accessstore.SessionOf{}))
	}
	assert.Empty(t, find("a"))
	keep("a", "maud", time.Hour)
	keep("b", "over", -time.Second)
	keep("c", "ada", time.Hour)
	assert.Equal(t, "maud", find("a"))
	assert.Empty(t, find("b"))
	keep("a", "maud still", time.Hour)
	assert.Equal(t, "maud still", find("a"))
	require.NoError(t, accessstore.EndSessionOf(ctx, s, "a"))
	require.NoError(t, accessstore.EndSessionOf(ctx, s, "none"))
	keep("a", "maud again", time.Hour)
	assert.Empty(t, find("a"))
	require.NoError(t, accessstore.RemoveOldSessions(ctx, s))
	keep("a", "maud again", time.Hour)
	assert.Empty(t, find("a"), "it is remembered for longer than any request takes")
	assert.Equal(t, "ada", find("c"), "others are not touched")
}

// People see where they are signed in, and end what is not theirs.
func TestSessionsAndTokensOfUsers(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	u := accessstore.User{ID: db.NewID(), Name: "Otto", Email: "otto@fernmoor.example"}
	hash, old := []byte("hash"), time.Now().Add(-time.Minute)
	tx(t, s, func(tx *db.Tx) error {
		require.NoError(t, db.Create(tx, &u, "test"))
		for i, until := range []*time.Time{nil, &old} {
			one := accessstore.APIToken{
				ID: db.NewID(), UserID: u.ID, Name: "t", Hash: append(hash, byte('0'+i)), ExpiresAt: until,
				Role: "support", Scope: "institution",
			}
			require.NoError(t, db.Create(tx, &one, "test"))
		}
		return nil
	})
	keep := func(token string, of accessstore.SessionOf) {
		require.NoError(t, accessstore.KeepSession(ctx, s, token, []byte("x"), time.Now().Add(time.Hour), of))
	}
	mine := accessstore.SessionOf{UserID: u.ID, Agent: "browser", Address: "127.0.0.1"}
	for _, token := range []string{"a", "b", "c"} {
		keep(token, mine)
	}
	keep("other", accessstore.SessionOf{})
	keep("unknown", accessstore.SessionOf{UserID: db.NewID()})
	all := must[[]accessstore.Session](t)(accessstore.Sessions(ctx, s, u.ID))
	require.Len(t, all, 3)
	assert.Equal(t, []string{"browser", "127.0.0.1"}, []string{all[0].Agent, all[0].Address})
	assert.Equal(t, all[0].Token, must[accessstore.Session](t)(accessstore.EndSession(ctx, s, u.ID, all[0].ID)).Token)
	missing[accessstore.Session](t)(accessstore.EndSession(ctx, s, u.ID, all[0].ID))
	keep(all[0].Token, mine) // a request that began before
	missing[accessstore.Session](t)(accessstore.EndSession(ctx, s, db.NewID(), all[1].ID))
	ended := must[[]accessstore.Session](t)(accessstore.EndOtherSessions(ctx, s, u.ID, all[1].Token))
	assert.Len(t, ended, 1, "all but one")
	assert.Len(t, must[[]accessstore.Session](t)(accessstore.Sessions(ctx, s, u.ID)), 1)

	tokens := must[[]accessstore.APIToken](t)(accessstore.Tokens(ctx, s, u.ID))
	require.Len(t, tokens, 2)
	found, token, err := accessstore.UserByToken(ctx, s, []byte("hash0"))
	require.NoError(t, err)
	assert.Equal(t, []string{"Otto", "support"}, []string{found.Name, string(token.Role)})
	_, _, err = accessstore.UserByToken(ctx, s, []byte("hash1"))
	require.ErrorIs(t, err, db.ErrNotFound, "it has expired")
	tx(t, s, func(tx *db.Tx) error {
		assert.NotEmpty(t, must[[]byte](t)(accessstore.RemoveToken(ctx, tx, u.ID, tokens[0].ID)))
		_, err := accessstore.RemoveToken(ctx, tx, db.NewID(), tokens[1].ID)
		require.ErrorIs(t, err, db.ErrNotFound, "somebody else's")
		return nil
	})
}

func TestUsers(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	u := accessstore.User{ID: db.NewID(), Name: "Otto", Email: "otto@fernmoor.example"}
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &u, "making the user") })
	tx(t, s, func(tx *db.Tx) error {
		assert.Len(t, must[[]accessstore.User](t)(accessstore.LockUsers(ctx, tx)), 1)
		u.Name = "Otto Onion"
		return accessstore.ChangeUser(ctx, tx, u)
	})
	require.NoError(t, accessstore.NoteSignIn(ctx, s, u.ID, time.Now()))
	now := must[accessstore.User](t)(accessstore.UserByEmail(ctx, s, "OTTO@fernmoor.example"))
	assert.Equal(t, "Otto Onion", now.Name)
	assert.NotNil(t, now.SignedInAt)
	first, second := []byte("first"), []byte("second")
	tx(t, s, func(tx *db.Tx) error { return accessstore.Invite(ctx, tx, u.ID, first, "Maud") })
	tx(t, s, func(tx *db.Tx) error { return accessstore.Invite(ctx, tx, u.ID, second, "Maud") })
	missing[accessstore.Invitation](t)(accessstore.FindInvitation(ctx, s, first))
	assert.Equal(t, accessstore.Invitation{UserID: u.ID},
		must[accessstore.Invitation](t)(accessstore.FindInvitation(ctx, s, second)))
	tx(t, s, func(tx *db.Tx) error { return accessstore.UseInvitation(ctx, tx, second) })
	assert.True(t, must[accessstore.Invitation](t)(accessstore.FindInvitation(ctx, s, second)).Used)
	for _, refused := range []func(*db.Tx) error{
		func(tx *db.Tx) error { return accessstore.UseInvitation(ctx, tx, second) },
		func(tx *db.Tx) error { return accessstore.ChangeUser(ctx, tx, accessstore.User{ID: db.NewID()}) },
		func(tx *db.Tx) error { return accessstore.ChoosePassword(ctx, tx, db.NewID(), "x") },
		func(tx *db.Tx) error { return accessstore.RemoveUser(ctx, tx, db.NewID()) },
	} {
		require.ErrorIs(t, s.InTx(ctx, refused), db.ErrNotFound)
	}
	tx(t, s, func(tx *db.Tx) error { return accessstore.Invite(ctx, tx, u.ID, first, "Maud") })
	_, err := s.Pool.Exec(ctx, `UPDATE invitations SET created_at = now() - interval '8 days'`)
	require.NoError(t, err)
	assert.True(t, must[accessstore.Invitation](t)(accessstore.FindInvitation(ctx, s, first)).Old)
	require.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return accessstore.UseInvitation(ctx, tx, first) }),
		db.ErrNotFound)
	tx(t, s, func(tx *db.Tx) error { return accessstore.ChoosePassword(ctx, tx, u.ID, "hash") })
	tx(t, s, func(tx *db.Tx) error { return accessstore.RemoveUser(ctx, tx, u.ID) })
	assert.Empty(t, must[[]accessstore.User](t)(accessstore.Users(ctx, s)))
}
