package access_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const password = "twelve letters"

func TestSetUpOnceThenSignIn(t *testing.T) {
	s := &access.Service{Store: storetest.New(t)}
	old, err := s.SetupSecret(t.Context())
	require.NoError(t, err)
	secret, err := s.SetupSecret(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, secret)

	for field, in := range map[string][3]string{
		"name":  {" ", "a@x.example", password},
		"email": {"Ana", "a at x", password}, "password": {"Ana", "a@x.example", "short"},
	} {
		_, err := s.SetUp(t.Context(), secret, in[0], in[1], in[2])
		r, ok := refusal.As(err)
		require.True(t, ok, "%v", err)
		assert.Equal(t, field, r.Field)
	}
	_, err = s.SetUp(t.Context(), old, "Eve", "eve@x.example", password)
	assert.Error(t, err, "an older link is replaced by a newer one")
	who, err := s.SetUp(t.Context(), secret, "Ana", "ana@x.example", password)
	require.NoError(t, err)
	assert.True(t, who.May(permission.Users))
	_, err = s.SetUp(t.Context(), secret, "Eve", "eve@x.example", password)
	r, ok := refusal.As(err)
	require.True(t, ok)
	assert.Equal(t, refusal.KindForbidden, r.Kind)
	none, err := s.SetupSecret(t.Context())
	require.NoError(t, err)
	assert.Empty(t, none, "there is an administrator now")

	got, err := s.SignIn(t.Context(), " ANA@x.example ", password, access.Code{})
	require.NoError(t, err)
	assert.Equal(t, who, got)
	for _, wrong := range [][2]string{
		{"ana@x.example", "another password"},
		{"nobody@x.example", password},
		{"", ""},
	} {
		_, err := s.SignIn(t.Context(), wrong[0], wrong[1], access.Code{})
		assert.ErrorIs(t, err, access.ErrUnknown)
	}
}

// A token may be allowed less than whoever made it, and ends by itself or when its maker ends it.
func TestTokensMayLessThanTheirMaker(t *testing.T) {
	store := storetest.New(t)
	s, ctx := &access.Service{Store: store}, t.Context()
	secret, err := s.SetupSecret(ctx)
	require.NoError(t, err)
	ana, err := s.SetUp(ctx, secret, "Ana", "ana@x.example", password)
	require.NoError(t, err)
	most := permission.Everywhere(permission.Reader)[0]
	token, err := s.NewToken(ctx, ana, access.TokenDraft{Name: "reports", Most: &most, Days: 30})
	require.NoError(t, err)
	who, err := s.ByToken(ctx, token)
	require.NoError(t, err)
	assert.True(t, who.May(permission.Report) && who.Everywhere(permission.Report) && who.May(permission.Own))
	assert.False(t, who.May(permission.Look) || who.Everywhere(permission.Users))
	assert.Equal(t, []permission.Role{permission.Reader}, who.Roles())
	for act, all := range map[permission.Act]bool{permission.Report: true, permission.Rosters: false} {
		reach, err := s.Reach(ctx, who, act)
		require.NoError(t, err)
		assert.Equal(t, all, reach.All)
	}
	_, err = s.NewToken(ctx, who, access.TokenDraft{Name: "more"})
	require.ErrorContains(t, err, "cannot make another one")
	reader := access.Caller{
		ID: ana.ID, Name: "Ana", Rights: permission.Rights{Grants: []permission.Grant{most}},
	}
	for text, d := range map[string]access.TokenDraft{
		"more than your own": {Name: "x", Most: &permission.Everywhere(permission.Operator)[0]},
		"come from the":      {Name: "x", Most: &permission.Everywhere(permission.Teacher)[0]},
		"cannot be had in a": {Name: "x", Most: &permission.Grant{
			Role: permission.Reader, Scope: permission.Scope{Kind: permission.Section, ID: "1"},
		}},
		"must be 1 to": {Name: "x", Days: 9999},
	} {
		_, err := s.NewToken(ctx, reader, d)
		assert.ErrorContains(t, err, text)
	}
	all, err := s.Tokens(ctx, ana)
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.NotNil(t, all[0].ExpiresAt)
	require.NoError(t, s.EndOwnToken(ctx, ana, all[0].ID))
	_, err = s.ByToken(ctx, token)
	require.ErrorIs(t, err, access.ErrUnknown)
	require.ErrorIs(t, s.EndOwnToken(ctx, ana, all[0].ID), db.ErrNotFound)
	require.ErrorIs(t, s.EndOwnSession(ctx, ana, all[0].ID), db.ErrNotFound)
}

func TestTokensStandForTheirMaker(t *testing.T) {
	store := storetest.New(t)
	s := &access.Service{Store: store}
	secret, err := s.SetupSecret(t.Context())
	require.NoError(t, err)
	who, err := s.SetUp(t.Context(), secret, "Ana", "ana@x.example", password)
	require.NoError(t, err)
	_, err = s.NewToken(t.Context(), who, access.TokenDraft{Name: "  "})
	assert.ErrorContains(t, err, "say what the token is for")
	token, err := s.NewToken(t.Context(), who, access.TokenDraft{Name: "nightly job"})
	require.NoError(t, err)
	got, err := s.ByToken(t.Context(), token)
	require.NoError(t, err)
	assert.Equal(t, who, got)
	for _, wrong := range []string{"", "kbt_", token + "x", token[:len(token)-1]} {
		_, err := s.ByToken(t.Context(), wrong)
		assert.ErrorIs(t, err, access.ErrUnknown, wrong)
	}
	var plain int
	require.NoError(t, store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM api_tokens
		WHERE encode(hash, 'escape') LIKE '%' || $1 || '%'`, token[4:]).Scan(&plain))
	assert.Zero(t, plain, "only a hash is kept")
}
