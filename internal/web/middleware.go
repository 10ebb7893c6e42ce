package web

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"runtime/debug"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"kanban/internal/app/access"
	"kanban/internal/store"
)

type contextKey int

const (
	keyRequest contextKey = iota
	keyCaller
)

// requestID gives each request an id, which the answer and the log carry.
func requestID(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := uuid.NewString()
		w.Header().Set("X-Request-Id", id)
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), keyRequest, id)))
	})
}

var requestSeconds = promauto.NewHistogramVec(prometheus.HistogramOpts{
	Name: "kanban_http_request_seconds", Help: "Time to answer requests, by route and status.",
	Buckets: []float64{.005, .02, .05, .1, .25, .5, 1, 2.5, 10},
}, []string{"method", "route", "status"})

// logged writes one line a request: no query, no body, nobody's name.
func (s *Server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		started := time.Now()
		seen := &statusWriter{ResponseWriter: w, status: http.StatusOK}
		next.ServeHTTP(seen, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		if route == "" || route == "/*" {
			route = "console"
		}
		took := time.Since(started)
		requestSeconds.WithLabelValues(r.Method, route, http.StatusText(seen.status)).Observe(took.Seconds())
		if route != "console" && route != "/livez" && route != "/readyz" {
			id, _ := r.Context().Value(keyRequest).(string)
			s.Log.Info("request", "method", r.Method, "route", route, "status", seen.status, "ms", took.Milliseconds(), "request", id)
		}
	})
}

type statusWriter struct {
	http.ResponseWriter
	status int
}

func (w *statusWriter) WriteHeader(status int) {
	w.status = status
	w.ResponseWriter.WriteHeader(status)
}

// Unwrap lets http.ResponseController reach the connection, for live streams.
func (w *statusWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// Flush sends what was written so far.
func (w *statusWriter) Flush() { _ = http.NewResponseController(w.ResponseWriter).Flush() }

func recovered(log *slog.Logger) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			defer func() {
				if v := recover(); v != nil {
					if v == http.ErrAbortHandler { //nolint:errorlint // the documented value itself
						panic(v)
					}
					log.Error("request panicked", "panic", v, "trace", string(debug.Stack()))
					writeProblem(w, http.StatusInternalServerError, "something went wrong on our side; it was logged")
				}
			}()
			next.ServeHTTP(w, r)
		})
	}
}

func secure(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		next.ServeHTTP(w, r)
	})
}

func limited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		most := int64(maxBody)
		if strings.HasSuffix(r.URL.Path, "/upload") {
			most = maxUpload
		}
		r.Body = http.MaxBytesReader(w, r.Body, most)
		next.ServeHTTP(w, r)
	})
}

// openPaths of the API need nobody signed in.
var openPaths = map[string]bool{"/api/v1/setup": true, "/api/v1/session": true, "/openapi.json": true, "/openapi.yaml": true}

// identify finds the caller by token or session and refuses everybody else.
func (s *Server) identify(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var caller access.Caller
		var err error
		if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
			caller, err = s.Access.ByToken(r.Context(), token)
		} else if id := s.sessions.GetString(r.Context(), "administrator"); id != "" {
			caller, err = s.Access.ByID(r.Context(), id)
		}
		switch {
		case err != nil && !errors.Is(err, access.ErrUnknown) && !errors.Is(err, store.ErrNotFound):
			s.Log.Error("finding the caller", "cause", err.Error())
			writeProblem(w, http.StatusServiceUnavailable, "the caller could not be checked; try again")
			return
		case caller.ID == "" && !openPaths[r.URL.Path]:
			w.Header().Set("WWW-Authenticate", "Bearer")
			writeProblem(w, http.StatusUnauthorized, "sign in first: in the console, or with: kanban sign-in")
			return
		case caller.ID != "" && !caller.May(r.Method+" "+r.URL.Path):
			writeProblem(w, http.StatusForbidden, "your role does not allow this")
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), keyCaller, caller)))
	})
}

// withToken lets only programs with an API token in.
func (s *Server) withToken(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if _, err := s.Access.ByToken(r.Context(), token); err != nil {
			w.Header().Set("WWW-Authenticate", "Bearer")
			writeProblem(w, http.StatusUnauthorized, "an API token is needed")
			return
		}
		next.ServeHTTP(w, r)
	})
}

func callerOf(ctx context.Context) access.Caller {
	c, _ := ctx.Value(keyCaller).(access.Caller)
	return c
}

// idempotent answers a repeated POST with the same Idempotency-Key as it did the
// first time, for a day. Doors are left out: their answers are secrets of the
// moment.
func (s *Server) idempotent(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key := r.Header.Get("Idempotency-Key")
		if r.Method != http.MethodPost || key == "" || openPaths[r.URL.Path] || r.URL.Path == "/api/v1/tokens" || strings.HasSuffix(r.URL.Path, "/upload") {
			next.ServeHTTP(w, r)
			return
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			writeProblem(w, http.StatusRequestEntityTooLarge, "the request is too large")
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		sum := sha256.Sum256([]byte(r.Method + " " + r.URL.RequestURI() + "\n" + string(body)))
		owned := callerOf(r.Context()).ID + "/" + key
		kept, err := s.Store.KeptAnswer(r.Context(), owned)
		if err == nil {
			s.repeat(w, kept, sum[:])
			return
		}
		answer := &recorder{ResponseWriter: w, status: http.StatusOK}
		next.ServeHTTP(answer, r)
		if answer.status < 300 {
			sealed, err := s.Store.Seal(append([]byte{'\n'}, answer.body.Bytes()...), "answer/"+owned)
			if err == nil {
				err = s.Store.KeepAnswer(context.WithoutCancel(r.Context()), store.KeptAnswer{Key: owned, Request: sum[:], Status: answer.status, Body: sealed})
			}
			if err != nil {
				s.Log.Warn("keeping an answer", "cause", err.Error())
			}
		}
	})
}

func (s *Server) repeat(w http.ResponseWriter, kept store.KeptAnswer, request []byte) {
	if !bytes.Equal(kept.Request, request) {
		writeProblem(w, http.StatusUnprocessableEntity, "this Idempotency-Key was used for another request; choose a new one")
		return
	}
	body, err := s.Store.Unseal(kept.Body, "answer/"+kept.Key)
	if err != nil {
		writeProblem(w, http.StatusInternalServerError, "the kept answer cannot be opened")
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Idempotent-Replay", "true")
	w.WriteHeader(kept.Status)
	_, _ = w.Write(body[1:])
}

type recorder struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

func (r *recorder) Write(p []byte) (int, error) {
	r.body.Write(p)
	return r.ResponseWriter.Write(p)
}

// writeProblem answers with an RFC 9457 problem outside the described API.
func writeProblem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"title": http.StatusText(status), "status": status, "detail": detail})
}
