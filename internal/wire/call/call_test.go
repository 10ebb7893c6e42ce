package call_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/call"
)

var quick = call.Options{
	Timeout: 200 * time.Millisecond, Retries: 2, WaitMin: time.Millisecond,
	WaitMax: 5 * time.Millisecond, MaxBody: 100,
}

func TestProblemsAreSortedByCause_C2(t *testing.T) {
	for want, c := range map[call.Kind]struct {
		answer  http.HandlerFunc
		passing bool
		tries   int
	}{
		call.WrongCredential: {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(401) }, false, 1},
		call.NotAllowed:      {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(403) }, false, 1},
		call.NotFound:        {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(404) }, false, 1},
		call.NotEnabled:      {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(501) }, false, 1},
		// not followed, and it stays so
		call.Refused: {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(302) }, false, 1},
		call.Broken:  {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(500) }, true, 3},
		call.Unreachable: {
			func(http.ResponseWriter, *http.Request) { time.Sleep(300 * time.Millisecond) }, true,
			3,
		},
		call.Throttled: {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Retry-After", "60") // longer than the client waits: the caller plans
			w.WriteHeader(429)
		}, true, 1},
	} {
		var tries atomic.Int32
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
			r *http.Request,
		) {
			tries.Add(1)
			c.answer(w, r)
		}))
		req, err := http.NewRequest(http.MethodPost, s.URL, strings.NewReader("body"))
		require.NoError(t, err)
		_, err = call.New(quick).Do(t.Context(), req)
		p, ok := call.As(err)
		require.True(t, ok, "%v", err)
		assert.Equal(t, want, p.Kind)
		assert.Equal(t, c.passing, p.Passing(), want)
		assert.EqualValues(t, c.tries, tries.Load(), want)
		if want == call.Throttled {
			assert.Equal(t, time.Minute, p.RetryAfter)
		}
		s.CloseClientConnections()
		s.Close()
	}
}

func TestAnswersAreBounded(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_,
			_ = w.Write(make([]byte, 101))
	}))
	defer s.Close()
	req, err := http.NewRequest(http.MethodGet, s.URL, nil)
	require.NoError(t, err)
	_, err = call.New(quick).Do(t.Context(), req)
	assert.ErrorContains(t, err, "longer than 100 bytes")
}
