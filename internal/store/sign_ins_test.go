package store_test

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/permission"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/storetest"
)

// errUndo undoes a transaction.
var errUndo = errors.New("undone")

// somebody makes a user.
func somebody(t *testing.T, s *db.Database, name string) accessstore.User {
	t.Helper()
	u := accessstore.User{ID: db.NewID(), Name: name, Email: name + "@users.example"}
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &u, "test") })
	return u
}

func TestOneTimeCodesAreKept(t *testing.T) {
	s, ctx, now := storetest.New(t), t.Context(), time.Now().UTC().Truncate(time.Second)
	u := somebody(t, s, "otto")
	_, err := accessstore.FindCodes(ctx, s, u.ID)
	require.ErrorIs(t, err, db.ErrNotFound)
	tx(t, s, func(tx *db.Tx) error { return accessstore.BeginCodes(ctx, tx, u.ID, []byte("first")) })
	tx(t, s, func(tx *db.Tx) error { return accessstore.BeginCodes(ctx, tx, u.ID, []byte("second")) })
	assert.Empty(t, must[map[string]bool](t)(accessstore.WithCodes(ctx, s)))
	tx(t, s, func(tx *db.Tx) error {
		have := must[accessstore.Codes](t)(accessstore.LockCodes(ctx, tx, u.ID))
		assert.Equal(t, []byte("second"), have.Sealed)
		assert.Nil(t, have.OnSince)
		require.NoError(t, accessstore.TakeCode(ctx, tx, u.ID, 7, now))
		require.ErrorIs(t, accessstore.TakeCode(ctx, tx, u.ID, 7, now), db.ErrNotFound)
		require.NoError(t, accessstore.KeepRecoveryCodes(ctx, tx, u.ID, [][]byte{[]byte("a"), []byte("b")}))
		require.NoError(t, accessstore.UseRecoveryCode(ctx, tx, u.ID, []byte("a"), now))
		require.ErrorIs(t, accessstore.UseRecoveryCode(ctx, tx, u.ID, []byte("a"), now), db.ErrNotFound)
		return nil
	})
	err = s.InTx(ctx, func(tx *db.Tx) error { return accessstore.BeginCodes(ctx, tx, u.ID, []byte("third")) })
	require.ErrorIs(t, err, db.ErrTaken)
	have := must[accessstore.Codes](t)(accessstore.FindCodes(ctx, s, u.ID))
	assert.Equal(t, []any{1, int64(7), true}, []any{have.RecoveryLeft, have.LastStep, have.OnSince.Equal(now)})
	assert.Equal(t, map[string]bool{u.ID: true}, must[map[string]bool](t)(accessstore.WithCodes(ctx, s)))
	tx(t, s, func(tx *db.Tx) error {
		assert.True(t, must[bool](t)(accessstore.RemoveCodes(ctx, tx, u.ID)))
		assert.False(t, must[bool](t)(accessstore.RemoveCodes(ctx, tx, u.ID)))
		return nil
	})
}

func TestLinksForNewPasswordsAreKept(t *testing.T) {
	s, ctx := storetest.New(t), t.Context()
	u := somebody(t, s, "otto")
	tx(t, s, func(tx *db.Tx) error {
		require.NoError(t, accessstore.Invite(ctx, tx, u.ID, []byte("invited"), "Maud"))
		require.NoError(t, accessstore.AddReset(ctx, tx, u.ID, []byte("one"), "test"))
		return accessstore.AddReset(ctx, tx, u.ID, []byte("two"), "test")
	})
	assert.Equal(t, accessstore.Invitation{UserID: u.ID, Reset: true},
		must[accessstore.Invitation](t)(accessstore.FindInvitation(ctx, s, []byte("one"))), "a second mail voids nothing")
	must[int64](t)(db.Exec(ctx, s, `UPDATE invitations SET created_at = now() - interval '61 minutes'`))
	assert.True(t, must[accessstore.Invitation](t)(accessstore.FindInvitation(ctx, s, []byte("two"))).Old)
	assert.False(t, must[accessstore.Invitation](t)(accessstore.FindInvitation(ctx, s, []byte("invited"))).Old)
	err := s.InTx(ctx, func(tx *db.Tx) error { return accessstore.UseInvitation(ctx, tx, []byte("one")) })
	require.ErrorIs(t, err, db.ErrNotFound)
	tx(t, s, func(tx *db.Tx) error { return accessstore.UseInvitation(ctx, tx, []byte("invited")) })
	_, err = accessstore.FindInvitation(ctx, s, []byte("two"))
	require.ErrorIs(t, err, db.ErrNotFound, "the others are void then")
	assert.True(t, must[accessstore.Invitation](t)(accessstore.FindInvitation(ctx, s, []byte("invited"))).Used)
}

func TestRequestsOfProgramsAreKept(t *testing.T) {
	s, ctx, now := storetest.New(t), t.Context(), time.Now().UTC().Truncate(time.Second)
	u := somebody(t, s, "otto")
	d := accessstore.DeviceRequest{
		DeviceHash: []byte("device"), UserCode: "BCDFGHJK", Name: "a program", AskedAt: now,
		ExpiresAt: now.Add(time.Minute), Every: 5,
	}
	tx(t, s, func(tx *db.Tx) error { return accessstore.AddDeviceRequest(ctx, tx, &d) })
	same := d
	same.DeviceHash = []byte("other")
	err := s.InTx(ctx, func(tx *db.Tx) error { return accessstore.AddDeviceRequest(ctx, tx, &same) })
	require.ErrorIs(t, err, db.ErrTaken)
	assert.Equal(t, "a program",
		must[accessstore.DeviceRequest](t)(accessstore.FindDeviceRequest(ctx, s, "BCDFGHJK", now)).Name)
	_, err = accessstore.FindDeviceRequest(ctx, s, "BCDFGHJK", now.Add(time.Hour))
	require.ErrorIs(t, err, db.ErrNotFound)
	tx(t, s, func(tx *db.Tx) error {
		require.NoError(t, accessstore.NotePoll(ctx, tx, d.DeviceHash, now, 10))
		require.NoError(t, accessstore.AnswerDeviceRequest(ctx, tx, "BCDFGHJK", u.ID, true, now))
		require.ErrorIs(t, accessstore.AnswerDeviceRequest(ctx, tx, "BCDFGHJK", u.ID, false, now), db.ErrNotFound)
		have := must[accessstore.DeviceRequest](t)(accessstore.LockDeviceRequest(ctx, tx, d.DeviceHash))
		assert.Equal(t, []any{u.ID, true, 10, true}, []any{
			*have.UserID, have.Allowed, have.Every,
			have.PolledAt.Equal(now),
		})
		return accessstore.RemoveDeviceRequest(ctx, tx, d.DeviceHash)
	})
	tx(t, s, func(tx *db.Tx) error {
		_, err := accessstore.LockDeviceRequest(ctx, tx, d.DeviceHash)
		require.ErrorIs(t, err, db.ErrNotFound)
		return nil
	})
}

func TestProvidersAreKept(t *testing.T) {
	w, _ := school(t)
	s, ctx, now := w.Store, t.Context(), time.Now().UTC().Truncate(time.Second)
	u, ada := somebody(t, s, "otto"), w.Person("stu-001")
	p := accessstore.Provider{
		ID: db.NewID(), Name: "School", Issuer: "https://id.example", ClientID: "kanban", Scopes: []string{"email"},
		Active: true, Believes: "none", Admits: "invited", Version: 1, CreatedAt: now,
		Mappings: []accessstore.ProviderMapping{{
			Claim: "groups", Value: "staff", Role: permission.Support, Scope: "section", ScopeID: "x", IssuerID: "y",
		}},
	}
	assert.Equal(t, permission.Mapping{Claim: "groups", Value: "staff", Grant: permission.Grant{
		Role: permission.Support, Scope: permission.Scope{Kind: permission.Section, ID: "x"}, Issuer: "y",
	}}, p.Mappings[0].Mapping())
	named := []accessstore.ProviderMapping{
		{Scope: permission.Section, ScopeID: w.Section("PROP-A").ID}, {Scope: permission.Section, ScopeID: db.NewID()},
	}
	require.NoError(t, accessstore.NameMappings(ctx, s, named))
	assert.Equal(t, []string{"Propagation A", ""}, []string{named[0].ScopeName, named[1].ScopeName})
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &p, "test") })
	link := accessstore.ProviderUser{
		ProviderID: p.ID, Subject: "sub", UserID: u.ID, Email: "o@x.example", LinkedAt: now, SignedInAt: now,
	}
	given := permission.Grant{Role: permission.Support, Scope: permission.Scope{Kind: permission.Institution}}
	one := accessstore.GrantOf(u.ID, given, "School")
	one.ProviderID = &p.ID
	assert.Equal(t, given, one.Granted())
	tx(t, s, func(tx *db.Tx) error {
		require.NoError(t, accessstore.KeepProviderUser(ctx, tx, link))
		require.NoError(t, accessstore.AddGrant(ctx, tx, &one))
		return accessstore.KeepProviderUser(ctx, tx, link)
	})
	second := link
	second.Subject = "other"
	err := s.InTx(ctx, func(tx *db.Tx) error { return accessstore.KeepProviderUser(ctx, tx, second) })
	require.ErrorIs(t, err, db.ErrTaken)
	found := must[accessstore.Provider](t)(accessstore.FindProvider(ctx, s, p.ID))
	assert.Equal(t, 1, found.Users)
	assert.Equal(t, p.Mappings, found.Mappings)
	assert.Len(t, must[[]accessstore.Provider](t)(accessstore.Providers(ctx, s)), 1)
	at, there, err := accessstore.FindProviderUser(ctx, s, p.ID, "sub")
	require.NoError(t, err)
	assert.Equal(t, []any{true, u.ID, "School"}, []any{there, at.UserID, at.Provider})
	_, there, err = accessstore.FindProviderUser(ctx, s, p.ID, "nobody")
	require.NoError(t, err)
	assert.False(t, there)
	assert.Len(t, must[[]accessstore.ProviderUser](t)(accessstore.ProviderUsers(ctx, s)), 1)
	assert.Empty(t, must[[]accessstore.ProviderUser](t)(accessstore.ProviderUsers(ctx, s, ada.ID)))
	assert.Equal(t, "School", must[accessstore.User](t)(accessstore.FindUser(ctx, s, u.ID)).Grants[0].Provider)

	u.PersonID = &ada.ID
	tx(t, s, func(tx *db.Tx) error { return accessstore.ChangeUser(ctx, tx, u) })
	assert.Equal(t, u.ID, must[[]accessstore.User](t)(accessstore.UsersOfPerson(ctx, s, ada.ID))[0].ID)
	of := accessstore.SessionOf{UserID: u.ID, ProviderID: p.ID, ProviderSession: "s1"}
	until := now.Add(time.Hour)
	require.NoError(t, accessstore.KeepSession(ctx, s, "token", []byte("data"), until, of))
	assert.Empty(t, must[[]accessstore.Session](t)(accessstore.EndProviderSessions(ctx, s, p.ID, u.ID, "s2")))
	assert.Len(t, must[[]accessstore.Session](t)(accessstore.EndProviderSessions(ctx, s, p.ID, u.ID, "s1")), 1)
	for _, fresh := range []bool{true, false} {
		tx(t, s, func(tx *db.Tx) error {
			assert.Equal(t, fresh, must[bool](t)(accessstore.NoteLogout(ctx, tx, p.ID, "jti", now)))
			return nil
		})
	}
	tx(t, s, func(tx *db.Tx) error {
		return db.Create(tx, &accessstore.APIToken{ID: db.NewID(), UserID: u.ID, Name: "x", Hash: []byte("x")}, "test")
	})
	_, _, err = accessstore.UserByToken(ctx, s, []byte("x"))
	require.NoError(t, err)
	found.Name, found.Active = "The school", false
	stale := found
	tx(t, s, func(tx *db.Tx) error { return accessstore.UpdateProvider(ctx, tx, &found) })
	assert.Equal(t, 2, found.Version)
	err = s.InTx(ctx, func(tx *db.Tx) error { return accessstore.UpdateProvider(ctx, tx, &stale) })
	require.ErrorIs(t, err, db.ErrStale)
	_, _, err = accessstore.UserByToken(ctx, s, []byte("x"))
	require.ErrorIs(t, err, db.ErrNotFound, "their only way in is switched off")
	tx(t, s, func(tx *db.Tx) error { return accessstore.ChoosePassword(ctx, tx, u.ID, "one") })
	_, _, err = accessstore.UserByToken(ctx, s, []byte("x"))
	require.NoError(t, err, "they have a password as well")
	tx(t, s, func(tx *db.Tx) error { return accessstore.ChoosePassword(ctx, tx, u.ID, "") })
	removed := s.InTx(ctx, func(tx *db.Tx) error {
		require.NoError(t, accessstore.RemoveProvider(ctx, tx, p.ID))
		assert.Empty(t, must[[]accessstore.APIToken](t)(accessstore.Tokens(ctx, tx, u.ID)), "they had no other way in")
		return errUndo
	})
	require.ErrorIs(t, removed, errUndo)
	tx(t, s, func(tx *db.Tx) error { return accessstore.RemoveProviderUser(ctx, tx, p.ID, u.ID) })
	assert.Empty(t, must[accessstore.User](t)(accessstore.FindUser(ctx, s, u.ID)).Grants)
	err = s.InTx(ctx, func(tx *db.Tx) error { return accessstore.RemoveProviderUser(ctx, tx, p.ID, u.ID) })
	require.ErrorIs(t, err, db.ErrNotFound)
	tx(t, s, func(tx *db.Tx) error { return accessstore.RemoveProvider(ctx, tx, p.ID) })
	err = s.InTx(ctx, func(tx *db.Tx) error { return accessstore.RemoveProvider(ctx, tx, p.ID) })
	require.ErrorIs(t, err, db.ErrNotFound)
	require.NoError(t, accessstore.KeepSession(ctx, s, "token", []byte("data"), until, of))
	_, there, err = accessstore.FindSession(ctx, s, "token")
	require.NoError(t, err)
	assert.False(t, there, "a session that ended does not come back, its provider gone or not")
}
