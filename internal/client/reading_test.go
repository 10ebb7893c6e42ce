package client_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func serve(t *testing.T, h http.HandlerFunc) *client.Client {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return client.New(s.URL, "token")
}

// All reads every page once; a service that gives the same page again and again is noticed.
func TestAllPages(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/api/v1/lying" {
			_, _ = io.WriteString(w, `{"items": [1], "next": "1"}`)
			return
		}
		from, _ := strconv.Atoi(r.URL.Query().Get("cursor"))
		next := ""
		if from < 4 {
			next = fmt.Sprintf(`, "next": "%d"`, from+2)
		}
		assert.Equal(t, "x", r.URL.Query().Get("text"))
		_, _ = fmt.Fprintf(w, `{"items": [%d, %d]%s}`, from, from+1, next)
	})
	all, err := client.All[int](t.Context(), c, "/list?text=x")
	require.NoError(t, err)
	assert.Equal(t, []int{0, 1, 2, 3, 4, 5}, all)
	_, err = client.All[int](t.Context(), c, "/lying")
	require.ErrorContains(t, err, "the same page again")
}

// An edit carries the version that was read; who comes second is told.
func TestEditsCarryWhatWasRead(t *testing.T) {
	var mu sync.Mutex
	var sent []string
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		sent = append(sent, r.Method+" "+r.Header.Get("If-Match"))
		mu.Unlock()
		if r.Method == http.MethodGet {
			w.Header().Set("ETag", `"7"`)
			_, _ = io.WriteString(w, `{"name": "Maud"}`)
			return
		}
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusPreconditionFailed)
		_, _ = io.WriteString(w, `{"title": "Precondition Failed", "status": 412, "detail": "Somebody changed this"}`)
	}).KeepToRead()
	_, err := client.Get[api.Caller](t.Context(), c, "/rules/1")
	require.NoError(t, err)
	_, err = client.Send[api.Caller](t.Context(), c, http.MethodPut, "/rules/1", map[string]string{"name": "Otto"})
	var p *client.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, http.StatusPreconditionFailed, p.Status)
	_, _ = client.Edit[api.Caller](t.Context(), c, http.MethodPut, "/rules/2", 3, nil)
	assert.Equal(t, []string{"GET ", `PUT "7"`, `PUT "3"`}, sent)
}

// Every creation has a key of its own, and every request the token.
func TestCreationsHaveKeys(t *testing.T) {
	keys := map[string]bool{}
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer token", r.Header.Get("Authorization"))
		keys[r.Header.Get("Idempotency-Key")] = true
		_, _ = io.WriteString(w, `{}`)
	})
	for range 3 {
		_, err := client.Post[client.Empty](t.Context(), c, "/badges", map[string]string{})
		require.NoError(t, err)
	}
	assert.Len(t, keys, 3)
	assert.NotContains(t, keys, "")
}

// Answers that are none, and services that hang, end with an error.
func TestAnswersThatAreNone(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/api/v1/page":
			w.Header().Set("Content-Type", "text/html")
			w.WriteHeader(http.StatusBadGateway)
			_, _ = io.WriteString(w, "<h1>Bad gateway</h1>")
		case "/api/v1/hangs":
			<-r.Context().Done()
		default:
			_, _ = io.WriteString(w, `{"name": `)
		}
	})
	_, err := client.Get[api.Caller](t.Context(), c, "/cut")
	require.Error(t, err)
	var p *client.Problem
	_, err = client.Get[api.Caller](t.Context(), c, "/page")
	require.ErrorAs(t, err, &p)
	assert.Equal(t, []any{http.StatusBadGateway, ""}, []any{p.Status, p.Code()})
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err = client.Get[api.Caller](ctx, c, "/hangs")
	require.ErrorIs(t, err, context.DeadlineExceeded)
}

// News comes as it happens, until the stream ends.
func TestLive(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		for _, line := range []string{
			": comment", `data: {"at": "2026-09-01T08:00:00Z"}`, `data: {"topic": "run", "id": "1"}`, `data: nonsense`,
			`data: {"topic": "rule", "id": "2"}`,
		} {
			_, _ = io.WriteString(w, line+"\n\n")
		}
	})
	var heard []string
	require.NoError(t, c.Live(t.Context(), func() { heard = append(heard, "opened") },
		func(l api.Live) { heard = append(heard, l.Topic+" "+l.ID) }))
	assert.Equal(t, []string{"opened", "run 1", "rule 2"}, heard)
	refused := serve(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) })
	var p *client.Problem
	require.ErrorAs(t, refused.Live(t.Context(), func() {}, func(api.Live) {}), &p)
}

// Files go out and come in as they are.
func TestFilesGoThrough(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		switch {
		case strings.HasSuffix(r.URL.Path, "/upload"):
			assert.Equal(t, "application/zip", r.Header.Get("Content-Type"))
			assert.Equal(t, "true", r.URL.Query().Get("approved"))
			assert.Equal(t, "PK", string(body))
			_, _ = io.WriteString(w, `{"id": "r"}`)
		case strings.HasSuffix(r.URL.Path, "/cartridge"):
			assert.Equal(t, "https://p.example/", r.URL.Query().Get("prefix"))
			_, _ = io.WriteString(w, `{"modules": []}`)
		default:
			_, _ = io.WriteString(w, "a,b\n")
		}
	})
	run, err := c.Upload(t.Context(), "c", true, strings.NewReader("PK"))
	require.NoError(t, err)
	assert.Equal(t, "r", run.ID)
	_, err = c.LoadCartridge(t.Context(), "c", "https://p.example/", strings.NewReader("<manifest/>"))
	require.NoError(t, err)
	text, err := c.Download(t.Context(), "/sheet.csv")
	require.NoError(t, err)
	assert.Equal(t, "a,b\n", string(text))
}
