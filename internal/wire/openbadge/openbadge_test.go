package openbadge_test

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwk"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/badge"
	"kanban/internal/wire/openbadge"
)

func TestSignAndVerify_B3(t *testing.T) {
	key, err := openbadge.NewKey()
	require.NoError(t, err)
	at := time.Date(2026, 1, 15, 9, 0, 0, 0, time.UTC)
	credential, err := badge.Build(badge.Award{
		ID: "https://s.example/awards/1", Issuer: badge.Profile{ID: "https://s.example/issuers/1"},
		Achievement: badge.Achievement{
			ID: "https://s.example/badges/1", Name: "Cuttings", Description: "d",
			Criteria: badge.Criteria{Narrative: "c"},
		},
		Address: "ana@example.org", Salt: "s", At: at,
	})
	require.NoError(t, err)
	kid := "https://s.example/issuers/1/keys/" + openbadge.ID(key)
	token, err := openbadge.Sign(credential, key, kid)
	require.NoError(t, err)

	public, err := openbadge.Public(key)
	require.NoError(t, err)
	text, err := json.Marshal(public)
	require.NoError(t, err)
	assert.NotContains(t, string(text), `"d":`, "private members never leave")
	keyAt := func(asked string) (jwk.Key, error) {
		if asked != kid {
			return nil, errors.New("no such key")
		}
		return public, nil
	}
	got, err := openbadge.Verify(token, at, keyAt)
	require.NoError(t, err)
	assert.Equal(t, credential, got)

	header, _ := base64.RawURLEncoding.DecodeString(strings.Split(token, ".")[0])
	assert.JSONEq(t, `{"alg":"RS256","kid":"`+kid+`","typ":"JWT"}`, string(header))

	parts := strings.Split(token, ".")
	payload, _ := base64.RawURLEncoding.DecodeString(parts[1])
	forged := parts[0] + "." + base64.RawURLEncoding.EncodeToString([]byte(strings.ReplaceAll(string(payload),
		"Cuttings", "Grafting"))) + "." + parts[2]
	_, err = openbadge.Verify(forged, at, keyAt)
	assert.ErrorContains(t, err, "signature is wrong")
	_, err = openbadge.Verify(token, at.Add(-time.Hour), keyAt)
	assert.ErrorContains(t, err, "not valid before")
	unsigned := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + parts[1] + "."
	for _, bad := range []string{"", "a.b.c", unsigned} {
		_, err = openbadge.Verify(bad, at, keyAt)
		assert.ErrorIs(t, err, openbadge.ErrInvalid)
	}
}
