package adapter_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"kanban/internal/adapter"
	"kanban/internal/wire/call"
)

// The interfaces of a connection share what their system takes at a time; another connection has its own.
func TestTheLimitOfAConnectionHoldsForItsInterfacesTogether(t *testing.T) {
	var mu sync.Mutex
	there, most := 0, 0
	arrived, leave := make(chan struct{}, 100), make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		mu.Lock()
		there++
		most = max(most, there)
		mu.Unlock()
		arrived <- struct{}{}
		<-leave
		mu.Lock()
		there--
		mu.Unlock()
	}))
	defer server.Close()
	ask := func(ctx context.Context, id, system string) error {
		c := adapter.Interface{
			ID: server.URL + id, System: adapter.System{ID: server.URL + system, AtOnce: 3},
			Settings: map[string]string{"atOnce": "2"},
		}
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, server.URL, nil)
		if err != nil {
			return err
		}
		_, err = call.New(adapter.Limited(c, call.Options{})).Do(ctx, req)
		return err
	}
	var calls errgroup.Group
	start := func(id, system string, times, begin int) {
		for range times {
			calls.Go(func() error { return ask(t.Context(), id, system) })
		}
		for range begin {
			<-arrived
		}
	}
	start("people", "one", 2, 2)
	start("groups", "one", 1, 1)
	short, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, ask(short, "groups", "one"), context.DeadlineExceeded)
	mu.Lock()
	assert.Equal(t, 3, most, "the fourth does not reach the system, though its own interface would let it")
	mu.Unlock()
	start("groups", "one", 3, 0)
	start("people elsewhere", "other", 6, 2) // only its own interface holds it back
	close(leave)
	require.NoError(t, calls.Wait())
	mu.Lock()
	defer mu.Unlock()
	assert.Equal(t, 5, most, "three of the one system, two of the other")
}

func TestTheCallsAMinuteOfAConnectionAreSharedByItsInterfaces(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer server.Close()
	ask := func(id, system string) error {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second) // less than the minute that the next one waits
		defer cancel()
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, server.URL, nil)
		require.NoError(t, err)
		_, err = call.New(adapter.Limited(adapter.Interface{
			ID: server.URL + id, System: adapter.System{ID: server.URL + system, PerMinute: 1},
		}, call.Options{})).Do(ctx, req)
		return err
	}
	require.NoError(t, ask("people", "one"))
	require.ErrorContains(t, ask("groups", "one"), "would exceed context deadline")
	require.NoError(t, ask("groups elsewhere", "other"))
}
