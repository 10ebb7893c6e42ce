package hooks_test

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/binding"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
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
		if req.Method == http.MethodOptions { // it takes no part in the handshake
			w.WriteHeader(http.StatusMethodNotAllowed)
			return
		}
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
	return hooks.New(adapter.Interface{
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
	report, perMinute := hook(r.URL).Probe(t.Context(), "https://kanban.example", time.Now())
	require.Len(t, report, 1)
	assert.Zero(t, perMinute)
	assert.Equal(t, adapter.MessagesOut, report[0].Capability)
	assert.Equal(t, adapter.Works, report[0].State)
	report, _ = hook("http://127.0.0.1:1").Probe(t.Context(), "https://kanban.example", time.Now())
	assert.NotEqual(t, adapter.Works, report[0].State)
}

// A receiver of somebody else's making, which takes part in the handshake: it allows whom it
// names, so many a minute.
func TestHandshakeWithAReceiverOfSomebodyElse(t *testing.T) {
	probe := func(origin string) ([]adapter.Report, int, int64) {
		peer, err := cehttp.New(cehttp.WithDefaultOptionsHandlerFunc([]string{http.MethodPost}, 120,
			[]string{origin}, true))
		require.NoError(t, err)
		var taken atomic.Int64
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodOptions {
				peer.OptionsHandler(w, r)
				return
			}
			message := cehttp.NewMessageFromHttpRequest(r)
			e, err := binding.ToEvent(r.Context(), message)
			if assert.NoError(t, err) && assert.Equal(t, "kanban.probe", e.Type()) {
				taken.Add(1)
			}
			w.WriteHeader(http.StatusNoContent)
		}))
		defer server.Close()
		reports, perMinute := hook(server.URL).Probe(t.Context(), "https://kanban.example:8443/x", time.Now())
		return reports, perMinute, taken.Load()
	}
	reports, perMinute, taken := probe("kanban.example")
	assert.Equal(t, adapter.Works, reports[0].State, reports[0].Detail)
	assert.Contains(t, reports[0].Detail, "120 events a minute")
	assert.Equal(t, 120, perMinute)
	assert.EqualValues(t, 1, taken)
}

// A receiver that allows others only is sent nothing; one that hangs, breaks or talks nonsense when
// it is asked is sent the probe all the same.
func TestProbeOfOneThatIsAsked(t *testing.T) {
	for name, c := range map[string]struct {
		options http.HandlerFunc
		state   adapter.State
		taken   int
	}{
		"allows others": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("WebHook-Allowed-Origin", "other.example")
		}, adapter.NotAllowed, 0},
		"hangs":   {func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }, adapter.Works, 1},
		"breaks":  {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(500) }, adapter.Works, 1},
		"refuses": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(403) }, adapter.Works, 1},
		"talks nonsense": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("WebHook-Allowed-Origin", "*")
			w.Header().Set("WebHook-Allowed-Rate", "many")
		}, adapter.Works, 1},
	} {
		t.Run(name, func(t *testing.T) {
			taken := 0
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodOptions {
					assert.Equal(t, "kanban.example", r.Header.Get("WebHook-Request-Origin"))
					c.options(w, r)
					return
				}
				taken++
			}))
			defer server.Close()
			reports, perMinute := hook(server.URL).Probe(t.Context(), "https://kanban.example", time.Now())
			assert.Equal(t, c.state, reports[0].State, reports[0].Detail)
			assert.Equal(t, c.taken, taken)
			assert.Zero(t, perMinute)
		})
	}
}

// 410 says that nothing more is to be sent; other refusals do not.
func TestEndedSubscription(t *testing.T) {
	for status, ended := range map[int]bool{410: true, 404: false, 400: false, 500: false} {
		r := receive(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) })
		_, err := hook(r.URL).Send(t.Context(), joined, time.Now())
		require.Error(t, err)
		assert.Equal(t, ended, errors.Is(err, hooks.ErrEnded), status)
	}
}

// An interface that may make so many calls a minute makes no more.
func TestCallsAMinuteAreKeptTo(t *testing.T) {
	r := receive(t, func(http.ResponseWriter, *http.Request) {})
	h := hooks.New(adapter.Interface{
		ID: "limited", Kind: adapter.KindWebhook,
		Settings: map[string]string{"address": r.URL, "perMinute": "1"},
		Secret:   map[string]string{"secret": secret},
	}, quick)
	_, err := h.Send(t.Context(), joined, time.Now())
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), time.Second) // the next one has a minute to wait
	defer cancel()
	_, err = h.Send(ctx, joined, time.Now())
	require.Error(t, err)
	assert.Equal(t, 1, r.seen[joined.ID])
}
