package access_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
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

	got, err := s.SignIn(t.Context(), " ANA@x.example ", password)
	require.NoError(t, err)
	assert.Equal(t, who, got)
	for _, wrong := range [][2]string{
		{"ana@x.example", "another password"},
		{"nobody@x.example", password},
		{"", ""},
	} {
		_, err := s.SignIn(t.Context(), wrong[0], wrong[1])
		assert.ErrorIs(t, err, access.ErrUnknown)
	}
}

func TestTokensStandForTheirMaker(t *testing.T) {
	db := storetest.New(t)
	s := &access.Service{Store: db}
	secret, err := s.SetupSecret(t.Context())
	require.NoError(t, err)
	who, err := s.SetUp(t.Context(), secret, "Ana", "ana@x.example", password)
	require.NoError(t, err)
	_, err = s.NewToken(t.Context(), who, "  ")
	assert.ErrorContains(t, err, "say what the token is for")
	token, err := s.NewToken(t.Context(), who, "nightly job")
	require.NoError(t, err)
	got, err := s.ByToken(t.Context(), token)
	require.NoError(t, err)
	assert.Equal(t, who, got)
	for _, wrong := range []string{"", "kbt_", token + "x", token[:len(token)-1]} {
		_, err := s.ByToken(t.Context(), wrong)
		assert.ErrorIs(t, err, access.ErrUnknown, wrong)
	}
	var plain int
	require.NoError(t, db.Pool.QueryRow(t.Context(), `SELECT count(*) FROM api_tokens
		WHERE encode(hash, 'escape') LIKE '%' || $1 || '%'`, token[4:]).Scan(&plain))
	assert.Zero(t, plain, "only a hash is kept")
}
