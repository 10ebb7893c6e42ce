package hooks_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/adapter/hooks"
	"kanban/internal/wire/call"
	"kanban/internal/wire/webhook"
)

const secret = "whsec_RmVybm1vb3ItR2FyZGVuLVNjaG9vbC1kZW1vLXNlY3JldA=="

var quick = call.Options{
	Timeout: 300 * time.Millisecond, Retries: 1, WaitMin: time.Millisecond,
	WaitMax: time.Millisecond,
}

// receiver takes signed events and counts them by their id.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	seen   map[string]int
	bodies []string
}

func receive(t *testing.T, answer http.HandlerFunc) *receiver {
	t.Helper()
	r := &receiver{seen: map[string]int{}}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		body, err := io.ReadAll(req.Body)
		assert.NoError(t, err)
		id, err := webhook.Verify(secret, req.Header, body)
		assert.NoError(t, err, "every attempt is signed")
		r.mu.Lock()
		r.seen[id]++
		r.bodies = append(r.bodies, string(body))
		r.mu.Unlock()
		answer(w, req)
	}))
	t.Cleanup(r.Close)
	return r
}

func hook(address string) *hooks.Hook {
	return hooks.New(adapter.Connection{
		Kind: adapter.KindWebhook, Settings: map[string]string{"address": address},
		Secret: map[string]string{"secret": secret},
	}, quick)
}

var joined = webhook.Event{
	ID: "e-1", Source: "https://kanban.example", Type: "kanban.section.joined",
	Time: time.Now(), Data: map[string]any{"role": "student"},
}

// What was sent and what came back is shown; the id is the same in every attempt.
func TestEventsAreSignedAndSent(t *testing.T) {
	r := receive(t, func(w http.ResponseWriter, _ *http.Request) {
		_,
			_ = io.WriteString(w, strings.Repeat("thanks ", 200))
	})
	h := hook(r.URL)
	for range 2 {
		sent, err := h.Send(t.Context(), joined, time.Now())
		require.NoError(t, err)
		assert.Equal(t, http.StatusOK, sent.Status)
		assert.LessOrEqual(t, len(sent.Answer), 510, "an answer is shown in part")
		assert.Contains(t, sent.Request, "section.joined")
		assert.NotContains(t, sent.Request, secret)
	}
	assert.Equal(t, map[string]int{"e-1": 2}, r.seen)
	var event map[string]any
	require.NoError(t, json.Unmarshal([]byte(r.bodies[0]), &event))
	assert.Equal(t, "1.0", event["specversion"])
}

// Counterparts that refuse, hang, are gone, or send elsewhere are told apart.
func TestWhatBecomesOfSending(t *testing.T) {
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		kind   call.Kind
	}{
		"wrong credential": {
			func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) },
			call.WrongCredential,
		},
		"not allowed": {
			func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusForbidden) },
			call.NotAllowed,
		},
		"hangs": {func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }, call.Unreachable},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := hook(receive(t, c.answer).URL).Send(t.Context(), joined, time.Now())
			p, ok := call.As(err)
			require.True(t, ok, "%v", err)
			assert.Equal(t, c.kind, p.Kind)
		})
	}
	_, err := hook("http://127.0.0.1:1").Send(t.Context(), joined, time.Now())
	p, ok := call.As(err)
	require.True(t, ok)
	assert.Equal(t, call.Unreachable, p.Kind)

	elsewhere := receive(t, func(http.ResponseWriter, *http.Request) {})
	away := receive(t, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
	})
	_, err = hook(away.URL).Send(t.Context(), joined, time.Now())
	require.Error(t, err, "a redirect is not followed")
	assert.Empty(t, elsewhere.seen)
}

func TestProbe(t *testing.T) {
	r := receive(t, func(http.ResponseWriter, *http.Request) {})
	report := hook(r.URL).Probe(t.Context(), "https://kanban.example", time.Now())
	require.Len(t, report, 1)
	assert.Equal(t, adapter.MessagesOut, report[0].Capability)
	assert.Equal(t, adapter.Works, report[0].State)
	report = hook("http://127.0.0.1:1").Probe(t.Context(), "https://kanban.example", time.Now())
	assert.NotEqual(t, adapter.Works, report[0].State)
}
