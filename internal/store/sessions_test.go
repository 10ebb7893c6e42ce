package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/store/accessstore"
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
		require.NoError(t, accessstore.KeepSession(ctx, s, token, []byte(data), time.Now().Add(lasts)))
	}
	assert.Empty(t, find("a"))
	keep("a", "maud", time.Hour)
	keep("b", "over", -time.Second)
	keep("c", "ada", time.Hour)
	assert.Equal(t, "maud", find("a"))
	assert.Empty(t, find("b"))
	keep("a", "maud still", time.Hour)
	assert.Equal(t, "maud still", find("a"))
	require.NoError(t, accessstore.EndSession(ctx, s, "a"))
	require.NoError(t, accessstore.EndSession(ctx, s, "none"))
	keep("a", "maud again", time.Hour)
	assert.Empty(t, find("a"))
	require.NoError(t, accessstore.RemoveOldSessions(ctx, s))
	keep("a", "maud again", time.Hour)
	assert.Empty(t, find("a"), "it is remembered for longer than any request takes")
	assert.Equal(t, "ada", find("c"), "others are not touched")
}
