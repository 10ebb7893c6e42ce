package access_test

import (
	"context"
	"encoding/base32"
	"net/url"
	"testing"
	"time"

	"github.com/pquerna/otp/hotp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/storetest"
)

// coded is a service with an administrator, at a time that the test sets.
type coded struct {
	*access.Service
	t   *testing.T
	at  time.Time
	ana access.Caller
}

func newCoded(t *testing.T) *coded {
	x := &coded{t: t, at: time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC)}
	x.Service = &access.Service{
		Store: storetest.New(t), Public: "https://kanban.example:8443", Clock: func() time.Time { return x.at },
	}
	secret, err := x.SetupSecret(t.Context())
	require.NoError(t, err)
	x.ana, err = x.SetUp(t.Context(), secret, "Ana", "ana@x.example", password)
	require.NoError(t, err)
	return x
}

// signIn tries to get in with a code.
func (x *coded) signIn(code string) error {
	_, err := x.SignIn(x.t.Context(), "ana@x.example", password, access.Code{Text: code})
	return err
}

// shown is the code that an app shows some seconds from now.
func (x *coded) shown(secret string, in time.Duration) string {
	x.t.Helper()
	code, err := hotp.GenerateCode(secret, uint64(x.at.Add(in).Unix()/30))
	require.NoError(x.t, err)
	return code
}

// The codes of RFC 6238, appendix B, shortened to six digits as RFC 4226, 5.3, says.
func TestCodesOfTheStandard(t *testing.T) {
	x := newCoded(t)
	secret := base32.StdEncoding.EncodeToString([]byte("12345678901234567890"))
	sealed, err := x.Store.Seal([]byte(secret), "one-time-codes/"+x.ana.ID)
	require.NoError(t, err)
	require.NoError(t, x.Store.InTx(t.Context(), func(tx *db.Tx) error {
		return accessstore.BeginCodes(t.Context(), tx, x.ana.ID, sealed)
	}))
	x.at = time.Unix(59, 0)
	_, err = x.ConfirmCodes(t.Context(), x.ana, "287082")
	require.NoError(t, err)
	for _, v := range []struct {
		at   int64
		code string
	}{
		{1111111109, "081804"},
		{1111111111, "050471"},
		{1234567890, "005924"},
		{2000000000, "279037"},
		{20000000000, "353130"},
	} {
		x.at = time.Unix(v.at, 0)
		require.NoError(t, x.signIn(v.code), v.at)
	}
}

// Codes are set up by whoever knows the password, count from the first that is right, and each is taken once, a period
// early or late; a recovery code is taken once too.
func TestOneTimeCodes(t *testing.T) {
	x := newCoded(t)
	ctx := t.Context()
	_, err := x.BeginCodes(ctx, x.ana, "another password")
	r, ok := refusal.As(err)
	require.True(t, ok)
	assert.Equal(t, "password", r.Field)
	_, err = x.ConfirmCodes(ctx, x.ana, "123456")
	require.ErrorContains(t, err, "have not begun")
	first, err := x.BeginCodes(ctx, x.ana, password)
	require.NoError(t, err)
	begun, err := x.BeginCodes(ctx, x.ana, password)
	require.NoError(t, err)
	address, err := url.Parse(begun.Address)
	require.NoError(t, err)
	assert.Equal(t, "otpauth://totp/Kanban kanban.example 8443:ana@x.example",
		address.Scheme+"://"+address.Host+address.Path)
	assert.Equal(t, []string{begun.Secret, "30", "6"},
		[]string{address.Query().Get("secret"), address.Query().Get("period"), address.Query().Get("digits")})
	require.NoError(t, x.signIn(""), "they are not on yet")
	_, err = x.ConfirmCodes(ctx, x.ana, x.shown(first.Secret, 0))
	require.ErrorContains(t, err, "not right", "the former secret is void")
	code := x.shown(begun.Secret, 0)
	recovery, err := x.ConfirmCodes(ctx, x.ana, " "+code[:3]+" "+code[3:])
	require.NoError(t, err)
	require.Len(t, recovery, 10)

	require.ErrorIs(t, x.signIn(""), access.ErrCodeNeeded)
	require.ErrorIs(t, x.signIn(code), access.ErrCode, "it was taken already")
	x.at = x.at.Add(10 * time.Minute)
	for _, wrong := range []string{
		x.shown(begun.Secret, -time.Minute), x.shown(begun.Secret, time.Minute), "12345", "１２３４５６", "zzzz-zzzz-zzzz-zzzz",
		"1234567", "a\x00b",
	} {
		require.ErrorIs(t, x.signIn(wrong), access.ErrCode, wrong)
	}
	late, early := x.shown(begun.Secret, -30*time.Second), x.shown(begun.Secret, 30*time.Second)
	require.NoError(t, x.signIn(late))
	require.NoError(t, x.signIn(early))
	require.ErrorIs(t, x.signIn(x.shown(begun.Secret, 0)), access.ErrCode, "a later one was taken")
	require.NoError(t, x.signIn(recovery[0]))
	require.ErrorIs(t, x.signIn(recovery[0]), access.ErrCode, "each is taken once")
	state, err := x.Codes(ctx, x.ana)
	require.NoError(t, err)
	assert.Equal(t, 9, state.RecoveryLeft)

	_, err = x.BeginCodes(ctx, x.ana, password)
	require.ErrorContains(t, err, "on already")
	x.at = x.at.Add(10 * time.Minute)
	fresh, err := x.RecoveryCodes(ctx, x.ana, x.shown(begun.Secret, 0))
	require.NoError(t, err)
	require.ErrorIs(t, x.signIn(recovery[1]), access.ErrCode, "the former ones are void")
	require.ErrorContains(t, x.EndCodes(ctx, x.ana, recovery[2]), "not right")
	require.NoError(t, x.EndCodes(ctx, x.ana, fresh[0]))
	require.NoError(t, x.signIn(""))
}

// Codes can be needed for a role: whoever has none then may nothing but set them up, by a session; and somebody's lost
// ones are ended by an administrator.
func TestCodesNeededForARole(t *testing.T) {
	x := newCoded(t)
	ctx := t.Context()
	err := x.EditSignInSettings(ctx, x.ana, access.SignInSettings{CodesRequired: []permission.Role{"king"}})
	require.ErrorContains(t, err, "is no role")
	require.NoError(t, x.EditSignInSettings(ctx, x.ana, access.SignInSettings{
		CodesRequired: []permission.Role{permission.Administrator, permission.Administrator},
	}))
	held, err := x.SignIn(ctx, "ana@x.example", password, access.Code{})
	require.NoError(t, err)
	assert.True(t, held.CodesNeeded)
	assert.False(t, held.May(permission.Users) || held.May(permission.Look))
	_, err = x.NewToken(ctx, held, access.TokenDraft{Name: "way around"})
	require.ErrorContains(t, err, "set them up first")
	begun, err := x.BeginCodes(ctx, held, password)
	require.NoError(t, err)
	_, err = x.ConfirmCodes(ctx, held, x.shown(begun.Secret, 0))
	require.NoError(t, err)
	free, err := x.ByPassword(ctx, x.ana.ID)
	require.NoError(t, err)
	assert.True(t, !free.CodesNeeded && free.May(permission.Users))
	require.NoError(t, x.EndCodesOf(ctx, free, x.ana.ID))
	require.ErrorContains(t, x.EndCodesOf(ctx, free, x.ana.ID), "has no one-time codes")
	held, err = x.ByPassword(ctx, x.ana.ID)
	require.NoError(t, err)
	assert.True(t, held.CodesNeeded)
}

// A code is counted against its bound only when all else is right.
func TestCodesAreCountedAfterThePassword(t *testing.T) {
	x := newCoded(t)
	begun, err := x.BeginCodes(t.Context(), x.ana, password)
	require.NoError(t, err)
	_, err = x.ConfirmCodes(t.Context(), x.ana, x.shown(begun.Secret, 0))
	require.NoError(t, err)
	tries := 0
	try := func(password string) error {
		_, err := x.SignIn(context.Background(), "ana@x.example", password,
			access.Code{Text: "000000", Admit: func() error { tries++; return nil }})
		return err
	}
	require.ErrorIs(t, try("another password"), access.ErrUnknown)
	assert.Equal(t, 0, tries)
	require.ErrorIs(t, try(password), access.ErrCode)
	assert.Equal(t, 1, tries)
}
