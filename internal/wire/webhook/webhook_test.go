package webhook_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/webhook"
)

func TestKnownAnswer(t *testing.T) {
	body := []byte(`{"type":"roster.changed","timestamp":"2026-01-15T09:00:00Z","data":{"id":"c1"}}`)
	h, err := webhook.Sign("whsec_AAECAwQFBgcICQoLDA0ODxAREhMUFRYX", "msg_01", time.Unix(1768467600, 0), body)
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
	h, err := webhook.Sign(secret, "d1", at, body)
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
	old, err := webhook.Sign(secret, "d1", at.Add(-10*time.Minute), body)
	require.NoError(t, err)
	_, err = webhook.Verify(secret, old, body)
	assert.Error(t, err, "replayed")
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
