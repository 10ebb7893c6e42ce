package webhook_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/webhook"
)

func TestKnownAnswer(t *testing.T) {
	body := []byte(`{"type":"roster.changed","timestamp":"2026-01-15T09:00:00Z","data":{"id":"c1"}}`)
	h, err := webhook.Sign("msg_01", time.Unix(1768467600, 0), body, "whsec_AAECAwQFBgcICQoLDA0ODxAREhMUFRYX")
	require.NoError(t, err)
	assert.Equal(t, "v1,gFzv2k8WpETzKo6ygZ25BxoI4cpjBM49RYGxI9N/YyI=", h.Get("webhook-signature"))
}

func TestSignedEventIsAcceptedOnlyUnchanged(t *testing.T) {
	secret, at := webhook.NewSecret(), time.Now()
	body, err := webhook.Encode(webhook.Event{
		ID: "d1", Source: "https://kanban.example", Type: "section.joined",
		Subject: "people/1", Time: at, Data: map[string]any{"email": "ana@example.org"},
	})
	require.NoError(t, err)
	h, err := webhook.Sign("d1", at, body, secret)
	require.NoError(t, err)
	id, err := webhook.Verify(secret, h, body)
	require.NoError(t, err)
	assert.Equal(t, "d1", id)
	event, data, err := webhook.Decode(body)
	require.NoError(t, err)
	assert.Equal(t, "section.joined", event.Type)
	assert.JSONEq(t, `{"email":"ana@example.org"}`, string(data))

	_, err = webhook.Verify(webhook.NewSecret(), h, body)
	assert.Error(t, err, "another secret")
	_, err = webhook.Verify(secret, h, append(body, ' '))
	assert.Error(t, err, "another body")
	old, err := webhook.Sign("d1", at.Add(-10*time.Minute), body, secret)
	require.NoError(t, err)
	_, err = webhook.Verify(secret, old, body)
	assert.Error(t, err, "replayed")
}

// While a secret is changed, a receiver with either of the two takes the message; this asks the
// standard's own library.
func TestTwoSecretsSign(t *testing.T) {
	now, before, other := webhook.NewSecret(), webhook.NewSecret(), webhook.NewSecret()
	body := []byte(`{}`)
	h, err := webhook.Sign("d1", time.Now(), body, now, before)
	require.NoError(t, err)
	assert.Len(t, strings.Fields(h.Get("webhook-signature")), 2)
	for secret, taken := range map[string]bool{now: true, before: true, other: false} {
		peer, err := standardwebhooks.NewWebhook(secret)
		require.NoError(t, err)
		assert.Equal(t, taken, peer.Verify(body, h) == nil)
	}
	h, err = webhook.Sign("d1", time.Now(), body, now, "")
	require.NoError(t, err)
	assert.Len(t, strings.Fields(h.Get("webhook-signature")), 1)
	_, err = webhook.Sign("d1", time.Now(), body, "", before)
	require.ErrorIs(t, err, webhook.ErrSecret, "the present one must be there")
	_, err = webhook.Sign("d1", time.Now(), body, now, "whsec_short")
	require.ErrorIs(t, err, webhook.ErrSecret)
	for _, id := range []string{"", "a.b", "."} {
		_, err = webhook.Sign(id, time.Now(), body, now)
		require.ErrorIs(t, err, webhook.ErrID, id)
	}
}

// What a receiver answers to the question whether it may be sent events.
func TestAllowance(t *testing.T) {
	for name, c := range map[string]struct {
		origins []string
		rate    string
		want    webhook.Allowance
	}{
		"says nothing":        {nil, "", webhook.Allowance{}},
		"a rate alone":        {nil, "10", webhook.Allowance{}},
		"everybody":           {[]string{"*"}, "*", webhook.Allowance{}},
		"us":                  {[]string{"Kanban.example"}, "120", webhook.Allowance{PerMinute: 120}},
		"us among others":     {[]string{"a.example, kanban.example"}, "", webhook.Allowance{}},
		"us on a second line": {[]string{"a.example", "kanban.example"}, "", webhook.Allowance{}},
		"others": {[]string{"a.example"}, "9", webhook.Allowance{
			Refused: true, PerMinute: 9,
		}},
		"nonsense": {[]string{""}, "-3", webhook.Allowance{Refused: true}},
	} {
		h := http.Header{}
		for _, o := range c.origins {
			h.Add("WebHook-Allowed-Origin", o)
		}
		if c.rate != "" {
			h.Set("WebHook-Allowed-Rate", c.rate)
		}
		assert.Equal(t, c.want, webhook.Allowed(h, "kanban.example"), name)
	}
	assert.Equal(t, "kanban.example", webhook.Origin("https://kanban.example:8443/base"))
}

func TestSecretsThatCannotBe(t *testing.T) {
	for _, bad := range []string{"", "whsec_", "AAECAwQFBgcICQoLDA0ODxAREhMUFRYX", "whsec_AAECAwQ=", "whsec_***"} {
		assert.ErrorIs(t, webhook.CheckSecret(bad), webhook.ErrSecret, bad)
	}
}

func TestEventNeedsItsAttributes(t *testing.T) {
	_, err := webhook.Encode(webhook.Event{ID: "1", Source: "s"})
	assert.ErrorContains(t, err, "type")
}
