package web

import (
	"cmp"
	"context"
	"log/slog"
	"net/http"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"kanban/internal/web/problem"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/google/uuid"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
)

type contextKey int

const (
	keyRequest contextKey = iota
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
		seen := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(seen, r)
		status := cmp.Or(seen.Status(), http.StatusOK)
		route := chi.RouteContext(r.Context()).RoutePattern()
		if route == "" || route == "/*" {
			route = "console"
		}
		took := time.Since(started)
		requestSeconds.WithLabelValues(methodLabel(r.Method), route, statusLabel(status)).Observe(took.Seconds())
		if route != "console" && route != "/livez" && route != "/readyz" {
			id, _ := r.Context().Value(keyRequest).(string)
			s.Log.Info("request", "method", methodLabel(r.Method), "route", route, "status", status, "ms",
				took.Milliseconds(), "request", id)
		}
	})
}

func recovered(log *slog.Logger) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			defer func() {
				if v := recover(); v != nil {
					if v == http.ErrAbortHandler { //nolint:errorlint // the documented value itself
						panic(v)
					}
					log.Error("request panicked", "panic", v, "trace", string(debug.Stack()))
					if seen, ok := w.(middleware.WrapResponseWriter); !ok || seen.Status() == 0 {
						problem.Write(w, http.StatusInternalServerError,
							"something went wrong on our side; it was logged")
					}
				}
			}()
			next.ServeHTTP(w, r)
		})
	}
}

// personal are the parts of the service whose answers are about people or hold secrets.
var personal = []string{"/api/", "/xapi/", "/pickup/", "/approvals/", "/reported/", "/metrics", "/open/holder"}

// secure sets what every answer carries. Nothing about people is kept on the way.
func (s *Server) secure(next http.Handler) http.Handler {
	overTLS := strings.HasPrefix(s.Public, "https://")
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		if slices.ContainsFunc(personal, func(p string) bool { return strings.HasPrefix(r.URL.Path, p) }) {
			h.Set("Cache-Control", "no-store")
		}
		if overTLS {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		next.ServeHTTP(w, r)
	})
}
