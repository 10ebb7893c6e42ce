package call_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/call"
)

// Strangers may be slow, hang, lie about length, send without end, lead in circles or onto this machine: each has
// its own answer, and nothing is waited for or kept beyond its bounds.
func TestStrangers(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("/fine", func(w http.ResponseWriter, r *http.Request) {
		assert.Empty(t, r.Header.Get("Authorization"))
		_, _ = io.WriteString(w, "as "+r.Header.Get("Accept"))
	})
	mux.HandleFunc("/moved", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/fine", http.StatusFound)
	})
	mux.HandleFunc("/gone", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusGone) })
	mux.HandleFunc("/down", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusBadGateway) })
	mux.HandleFunc("/circle", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/circle", http.StatusFound)
	})
	mux.HandleFunc("/cut", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		_, _ = io.WriteString(w, "short")
	})
	mux.HandleFunc("/endless", func(w http.ResponseWriter, _ *http.Request) {
		for part := strings.Repeat("x", 1<<16); ; {
			if _, err := io.WriteString(w, part); err != nil {
				return
			}
		}
	})
	mux.HandleFunc("/hangs", func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	site := httptest.NewServer(mux)
	t.Cleanup(site.Close)
	s := call.NewStrangers(20*time.Second, true)
	for _, path := range []string{"/fine", "/moved"} {
		body, err := s.Get(t.Context(), site.URL+path, "text/plain")
		require.NoError(t, err)
		assert.Equal(t, "as text/plain", string(body))
	}
	for path, want := range map[string]string{
		"/gone": "nothing at this address", "/nowhere": "nothing at this address", "/down": "answers 502",
		"/circle": "answers 302", "/cut": "broke off", "/endless": "larger than 8 MB",
	} {
		_, err := s.Get(t.Context(), site.URL+path, "*/*")
		assert.ErrorContains(t, err, want, path)
	}
	_, err := s.Get(t.Context(), site.URL+"/gone", "*/*")
	require.ErrorIs(t, err, call.ErrNothingThere)
	_, err = call.NewStrangers(50*time.Millisecond, true).Get(t.Context(), site.URL+"/hangs", "*/*")
	require.ErrorContains(t, err, "does not answer")
	_, err = call.NewStrangers(time.Second, false).Get(t.Context(), site.URL+"/fine", "*/*")
	require.ErrorContains(t, err, "private network")
	_, err = s.Get(t.Context(), "://", "*/*")
	require.ErrorContains(t, err, "is no address")
}
