package auth_test

import (
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/access"
	"kanban/internal/store/storetest"
	"kanban/internal/web/auth"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// A request that began before somebody signed out writes its session when it ends; that brings
// nobody back in.
func TestSignedOutStaysSignedOut(t *testing.T) {
	s := storetest.New(t)
	users := &access.Service{Store: s}
	secret, err := users.SetupSecret(t.Context())
	require.NoError(t, err)
	maud, err := users.SetUp(t.Context(), secret, "Maud", "maud@fernmoor.example", "grow-more-plants")
	require.NoError(t, err)
	a := auth.New(t.Context(), auth.Options{
		Access: users, Store: s, Public: "http://kanban.example", Log: slog.New(slog.DiscardHandler),
	})
	begun, release := make(chan bool), make(chan bool)
	mux := http.NewServeMux()
	mux.Handle("/in", a.Sessions(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		assert.NoError(t, a.Enter(r.Context(), maud, auth.Way{}))
	})))
	inside := func(path string, h http.HandlerFunc) { mux.Handle(path, a.Sessions(a.Identify(h))) }
	inside("/api/v1/out", func(_ http.ResponseWriter, r *http.Request) { assert.NoError(t, a.Leave(r.Context())) })
	inside("/api/v1/slow", func(http.ResponseWriter, *http.Request) { begun <- true; <-release })
	inside("/api/v1/page", func(http.ResponseWriter, *http.Request) {})
	server := httptest.NewServer(mux)
	defer server.Close()

	resp, err := http.Get(server.URL + "/in")
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	require.Len(t, resp.Cookies(), 1)
	cookie := resp.Cookies()[0]
	ask := func(path string) int {
		req, err := http.NewRequest(http.MethodGet, server.URL+path, nil)
		require.NoError(t, err)
		req.AddCookie(cookie)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		return resp.StatusCode
	}
	require.Equal(t, http.StatusOK, ask("/api/v1/page"))
	ended := make(chan int)
	go func() { ended <- ask("/api/v1/slow") }()
	<-begun
	require.Equal(t, http.StatusOK, ask("/api/v1/out"))
	require.Equal(t, http.StatusUnauthorized, ask("/api/v1/page"))
	release <- true
	require.Equal(t, http.StatusOK, <-ended)
	assert.Equal(t, http.StatusUnauthorized, ask("/api/v1/page"), "the slow request did not bring the session back")
}
