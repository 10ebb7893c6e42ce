package adapter_test

import (
	"net"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/wire/call"
)

// connections counts those that a server has.
type connections struct {
	mu           sync.Mutex
	made, closed int
	changed      *sync.Cond
}

func (c *connections) state(_ net.Conn, s http.ConnState) {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch s {
	case http.StateNew:
		c.made++
	case http.StateClosed:
		c.closed++
	}
	c.changed.Broadcast()
}

func TestWhatIsOpenToAServiceIsUsedAgain(t *testing.T) {
	seen := &connections{}
	seen.changed = sync.NewCond(&seen.mu)
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	server.Config.ConnState = seen.state
	server.Start()
	defer server.Close()
	get := func(c adapter.Interface) {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, server.URL, nil)
		require.NoError(t, err)
		_, err = call.New(adapter.Limited(c, call.Options{})).Do(t.Context(), req)
		require.NoError(t, err)
	}
	made := func() int {
		seen.mu.Lock()
		defer seen.mu.Unlock()
		return seen.made
	}
	closed := func(n int) {
		seen.mu.Lock()
		defer seen.mu.Unlock()
		for seen.closed < n {
			seen.changed.Wait()
		}
	}
	c := adapter.Interface{
		ID: "open-" + t.Name(), Settings: map[string]string{"address": server.URL},
		Secret: map[string]string{"token": "a"},
	}
	for range 5 {
		get(c)
	}
	assert.Equal(t, 1, made(), "each call makes a client, all of them use what is open")
	c.Secret = map[string]string{"token": "b"}
	get(c)
	assert.Equal(t, 2, made(), "whoever has another secret does not go on under the old one")
	closed(1)
	adapter.CloseIdle(c.ID)
	closed(2)
	get(adapter.Interface{Settings: c.Settings})
	closed(3) // nothing stays open to what is only tried out
}
