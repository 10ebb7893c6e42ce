package web

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The deadline for reading a body ends with the body, also for one that is read once more:
// what is done with it may take longer.
func TestADeadlineEndsWithItsBody(t *testing.T) {
	for name, body := range map[string]func(w http.ResponseWriter, r *http.Request) io.ReadCloser{
		"as it comes": func(w http.ResponseWriter, r *http.Request) io.ReadCloser {
			return &timed{r.Body, http.NewResponseController(w)}
		},
		"once more": func(w http.ResponseWriter, r *http.Request) io.ReadCloser {
			read, err := io.ReadAll(r.Body)
			assert.NoError(t, err)
			return again(read, w)
		},
	} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			r.Body = body(w, r)
			assert.NoError(t, http.NewResponseController(w).SetReadDeadline(time.Now().Add(100*time.Millisecond)))
			_, err := io.ReadAll(r.Body)
			assert.NoError(t, err)
			select {
			case <-r.Context().Done():
				w.WriteHeader(http.StatusServiceUnavailable)
			case <-time.After(400 * time.Millisecond): // four times the deadline
			}
		}))
		got, err := http.Post(s.URL, "application/json", strings.NewReader(`{"a":1}`))
		require.NoError(t, err, name)
		_ = got.Body.Close()
		assert.Equal(t, http.StatusOK, got.StatusCode, "%s: the request was given up", name)
		s.Close()
	}
}
