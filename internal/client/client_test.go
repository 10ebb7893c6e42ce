package client_test

import (
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// A service that is busy for a moment is asked again; what it refuses is said at once.
func TestBusyServicesAreAskedAgain(t *testing.T) {
	var asked atomic.Int32
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch n := asked.Add(1); {
		case r.URL.Path == "/api/v1/refused":
			w.WriteHeader(http.StatusForbidden)
			_, _ = w.Write([]byte(`{"detail":"not yours","errors":[{"location":"code","message":"not-allowed"}]}`))
		case n <= 2:
			w.WriteHeader(http.StatusServiceUnavailable)
		default:
			_ = json.NewEncoder(w).Encode(api.Caller{Name: "Maud Marrow"})
		}
	}))
	defer s.Close()
	c := client.New(s.URL+"/", "token")
	got, err := client.Get[api.Caller](t.Context(), c, "/caller")
	require.NoError(t, err)
	assert.Equal(t, "Maud Marrow", got.Name)
	assert.EqualValues(t, 3, asked.Load())

	asked.Store(0)
	_, err = client.Get[api.Caller](t.Context(), c, "/refused")
	var p *client.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, http.StatusForbidden, p.Status)
	assert.Equal(t, "not-allowed", p.Code())
	assert.EqualValues(t, 1, asked.Load())

	// What changes something is not sent again.
	asked.Store(0)
	_, err = client.Post[api.Caller](t.Context(), c, "/runs", nil)
	require.ErrorAs(t, err, &p)
	assert.Equal(t, http.StatusServiceUnavailable, p.Status)
	assert.EqualValues(t, 1, asked.Load())
}

// Waiting for a run goes on over a restart of the service.
func TestWaitingOutlastsARestart(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	state := func(name string) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			run := api.Run{ID: "r", State: name}
			if at := time.Now(); name == "finished" {
				run.FinishedAt = &at
			}
			_ = json.NewEncoder(w).Encode(run)
		})
	}
	first := &http.Server{Handler: state("running")}
	go func() { _ = first.Serve(l) }()
	seen := make(chan string, 1)
	ended := make(chan error, 1)
	go func() {
		r, err := client.New("http://"+address, "token").Wait(t.Context(), "r", func(r api.Run) {
			select {
			case seen <- r.State:
			default:
			}
		})
		assert.Equal(t, "finished", r.State)
		ended <- err
	}()
	assert.Equal(t, "running", <-seen)
	require.NoError(t, first.Close())
	_, err = client.Get[api.Run](t.Context(), client.New("http://"+address, "token"), "/runs/r")
	require.ErrorIs(t, err, client.ErrUnreachable, "a command that has begun nothing says so at once")
	l, err = net.Listen("tcp", address)
	require.NoError(t, err)
	second := &http.Server{Handler: state("finished")}
	go func() { _ = second.Serve(l) }()
	require.NoError(t, <-ended)
	require.NoError(t, second.Close())
}
