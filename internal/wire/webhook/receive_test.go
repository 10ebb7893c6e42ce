package webhook_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/webhook"
)

const purchase = `{"specversion":"1.0","id":"p1","source":"http://shop.example","type":"shop.purchase","time":"2026-01-15T09:00:00Z","data":{"email":"ada@fernmoor.example"}}`

func TestEveryModeIsRead(t *testing.T) {
	for name, c := range map[string]struct {
		header http.Header
		body   string
		batch  bool
	}{
		"structured": {http.Header{"Content-Type": {"application/cloudevents+json; charset=utf-8"}}, purchase, false},
		"batch": {
			http.Header{"Content-Type": {"application/cloudevents-batch+json"}},
			"[" + purchase + "]",
			true,
		},
		"binary": {http.Header{
			"Content-Type": {"application/json"}, "Ce-Specversion": {"1.0"}, "Ce-Id": {"p1"},
			"Ce-Source": {"http://shop.example"}, "Ce-Type": {"shop%2Epurchase"},
			"Ce-Time": {"2026-01-15T09:00:00Z"},
		}, `{"email":"ada@fernmoor.example"}`, false},
	} {
		list, batch, err := webhook.Receive(c.header, []byte(c.body))
		require.NoError(t, err, name)
		require.Len(t, list, 1, name)
		assert.Equal(t, c.batch, batch, name)
		assert.NoError(t, list[0].Err, name)
		assert.Equal(t, "p1 shop.purchase http://shop.example 2026",
			list[0].ID+" "+list[0].Type+" "+list[0].Source+" "+list[0].Time.Format("2006"), name)
		assert.JSONEq(t, `{"email":"ada@fernmoor.example"}`, string(list[0].Data), name)
	}
}

func TestABadEventSpoilsOnlyItself(t *testing.T) {
	list, _, err := webhook.Receive(http.Header{"Content-Type": {"application/cloudevents-batch+json"}},
		[]byte(`[{"specversion":"1.0","id":"","source":"s","type":"t"},17,`+purchase+`]`))
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Error(t, list[0].Err)
	assert.Error(t, list[1].Err)
	assert.NoError(t, list[2].Err)
	for want, change := range map[string][2]string{"subject holds control": {
		`"id":"p1"`,
		`"id":"p1","subject":"a\u0000b"`,
	}, "id has 2001 bytes": {`"p1"`, `"` + strings.Repeat("p", 2001) + `"`}} {
		list, _, err := webhook.Receive(http.Header{"Content-Type": {"application/cloudevents+json"}},
			[]byte(strings.Replace(purchase, change[0], change[1], 1)))
		require.NoError(t, err)
		assert.ErrorContains(t, list[0].Err, want)
	}
	_, _, err = webhook.Receive(http.Header{"Content-Type": {"application/json"}}, []byte(purchase))
	assert.ErrorIs(t, err, webhook.ErrNoEvent)
	_, _, err = webhook.Receive(http.Header{"Content-Type": {"application/cloudevents-batch+json"}}, []byte(`{}`))
	assert.Error(t, err)
	list, _, err = webhook.Receive(http.Header{
		"Content-Type": {"text/plain"}, "Ce-Specversion": {"1.0"},
		"Ce-Id": {"1"}, "Ce-Source": {"s"}, "Ce-Type": {"t"},
	}, []byte("hello"))
	require.NoError(t, err)
	assert.Equal(t, `"hello"`, string(list[0].Data))
}
