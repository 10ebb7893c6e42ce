// Package web is the service's HTTP side: the JSON API with its description,
// sign-in, the endpoint for xAPI statements, public badge pages and the console.
package web

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/go-oauth2/oauth2/v4/server"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"kanban/internal/app/access"
	"kanban/internal/app/connections"
	"kanban/internal/core/permission"
	"kanban/internal/store/db"
	"kanban/internal/web/auth"
	"kanban/internal/web/problem"
	"kanban/internal/wiring"
)

// Server is everything the HTTP side needs. Fill every field.
type Server struct {
	*wiring.UseCases
	Store *db.Database

	// Public is the address at which people reach the service, without a slash
	// at its end.
	Public  string
	Version string
	// TrustedProxies are those whose X-Forwarded-For is believed.
	TrustedProxies []netip.Prefix
	// BodyWithin is how long a body may take to arrive, uploads aside; 30 s when zero.
	BodyWithin time.Duration
	// ReadEvery is how often registers are read by themselves, 0 for never.
	ReadEvery time.Duration
	Log       *slog.Logger
	// Console holds the built console; index.html is served for its routes.
	Console fs.FS

	auth     *auth.Auth
	declared map[string]declaration // by method and pattern of a route
	oauth    *server.Server         // gives out the tokens of wallets
	router   *chi.Mux
	live     *hub
	draining atomic.Bool
	giveUp   context.CancelFunc
}

// Handler builds the routes. ctx ends the background listening for live news.
func (s *Server) Handler(ctx context.Context) http.Handler {
	s.auth = auth.New(ctx, auth.Options{
		Access: s.Access, Store: s.Store, Public: s.Public,
		TrustedProxies: s.TrustedProxies, Log: s.Log,
	})
	s.live = newHub()
	go s.live.run(ctx, s.Store, s.Log)

	r := chi.NewRouter()
	s.router = r
	r.Use(requestID, s.logged, recovered(s.Log), s.secure, s.limited, plainPath, withoutSlash, s.endable)
	r.Get("/livez", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	r.Get("/readyz", s.ready)
	r.Handle("/metrics", auth.WithToken(s.Access, promhttp.Handler()))
	s.open(r)
	s.signInAtProviders(r)
	s.launching(r)
	s.xapi(r)
	r.Post("/reported/{id}", s.reported)
	r.Options("/reported/{id}", s.allowReports)
	r.Get("/pickup/enrolments.zip", s.pickup)
	r.Get("/approvals/{token}", s.approval)
	r.With(http.NewCrossOriginProtection().Handler).Post("/approvals/{token}", s.approval)
	r.Group(func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler, s.auth.NoteVisitor, s.auth.Sessions, s.auth.Identify,
			s.hidden, s.permitted, s.idempotent, s.conditional)
		r.Get(connections.GrantedPath, s.granted)
		r.Get("/api/v1/safety-copies/{id}", s.safetyCopy)
		r.Get("/api/v1/sheets/{file}", s.sheetFile)
		r.Get("/api/v1/interfaces/{id}/gradebook.zip", s.gradebookPackage)
		r.Get("/api/v1/score-links/{id}/unfinished.{kind}", s.unfinishedFile)
		r.Get("/api/v1/courses/{id}/outline.csv", s.outlineTable)
		r.Get("/api/v1/stage-plans/{id}/map.{form}", s.stageMap)
		r.Get("/api/v1/reports/{name}/file.{form}", s.reportFile)
		described := newAPI(r)
		s.register(described)
		s.declared = declarations(described.OpenAPI())
		s.declared["GET "+connections.GrantedPath] = declaration{act: permission.Connect}
	})
	r.NotFound(s.console().ServeHTTP)
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Allow", strings.Join(s.allowed(r.URL.Path), ", "))
		problem.Write(w, http.StatusMethodNotAllowed,
			"this address does not take "+methodLabel(r.Method)+"; the API is described at /openapi.json")
	})
	return r
}

// Routes are the addresses that the handler serves.
func (s *Server) Routes() chi.Routes { return s.router }

// allowed are the methods that an address takes.
func (s *Server) allowed(path string) (all []string) {
	for _, method := range []string{"DELETE", "GET", "HEAD", "OPTIONS", "PATCH", "POST", "PUT"} {
		if s.router.Match(chi.NewRouteContext(), method, path) {
			all = append(all, method)
		}
	}
	return all
}

// newProblem makes the problems of the API. What was sent is not repeated in them: it may
// be a secret, in its own place or in the wrong one.
func newProblem(status int, text string, errs ...error) huma.StatusError {
	problem := plainProblem(status, text, errs...)
	if m, ok := problem.(*huma.ErrorModel); ok {
		for _, d := range m.Errors {
			d.Value = nil
		}
	}
	return problem
}

var plainProblem = huma.NewError

func init() { huma.NewError = newProblem }

// newAPI prepares the API on a router and serves its description.
func newAPI(r chi.Router) huma.API {
	huma.DefaultArrayNullable = false
	config := huma.DefaultConfig("Kanban", "1")
	config.Info.Description = "Rosters, runs, events, rules and badges. Sign in with a session cookie or with a token: Authorization: Bearer kbt_…"
	config.DocsPath, config.SchemasPath, config.CreateHooks = "", "", nil
	config.OpenAPIPath = "/openapi"
	config.RejectUnknownQueryParameters = true
	config.Servers = []*huma.Server{{URL: "/", Description: "The service that gives this description"}}
	config.Info.License = &huma.License{Name: "Apache License 2.0", Identifier: "Apache-2.0"}
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer"},
		"session": {Type: "apiKey", In: "cookie", Name: "kanban_session"},
	}
	config.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	return humachi.New(r, config)
}

// Description is the OpenAPI 3.1 description of the API. It needs no database.
func Description() ([]byte, error) {
	r := chi.NewRouter()
	s := &Server{live: newHub()}
	a := newAPI(r)
	s.register(a)
	return a.OpenAPI().MarshalJSON()
}

func (s *Server) register(a huma.API) {
	s.signInAndOut(a)
	s.own(a)
	s.hidingNames(a)
	s.viewing(a)
	s.codes(a)
	s.devices(a)
	s.providers(a)
	s.aboutItself(a)
	s.connections(a)
	s.interfaces(a)
	s.coursePlatforms(a)
	s.operations(a)
	s.matching(a)
	s.sections(a)
	s.linkedSets(a)
	s.peopleLists(a)
	s.people(a)
	s.why(a)
	s.pairings(a)
	s.batches(a)
	s.runs(a)
	s.scores(a)
	s.courses(a)
	s.events(a)
	s.rules(a)
	s.deliveries(a)
	s.tasks(a)
	s.teaching(a)
	s.sheets(a)
	s.offers(a)
	s.badges(a)
	s.holderSettings(a)
	s.stagePlans(a)
	s.reports(a)
	s.reportMails(a)
	s.progressCheck(a)
	s.proofs(a)
	s.persons(a)
	s.users(a)
	s.audit(a)
	s.findings(a)
	s.settings(a)
	s.config(a)
	s.granting(a)
	s.stream(a)
	describeConditions(a)
	describeRefusals(a)
	describeStream(a)
	describeOutside(a)
}

// Drain makes the service say that it takes no new work.
func (s *Server) Drain() { s.draining.Store(true) }

// GiveUp ends the requests that are still under way: they are answered that they may be
// tried again.
func (s *Server) GiveUp() {
	if s.giveUp != nil {
		s.giveUp()
	}
}

// endable lets requests under way end when the service gives up waiting for them.
func (s *Server) endable(next http.Handler) http.Handler {
	ctx, cancel := context.WithCancel(context.Background())
	s.giveUp = cancel
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		own, done := context.WithCancel(r.Context())
		defer done()
		defer context.AfterFunc(ctx, done)()
		next.ServeHTTP(w, r.WithContext(own))
	})
}

func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	if s.draining.Load() {
		http.Error(w, "the service is stopping", http.StatusServiceUnavailable)
		return
	}
	ctx, cancel := context.WithTimeout(r.Context(), 3*time.Second)
	defer cancel()
	if err := s.Store.Ready(ctx); err != nil {
		http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
		return
	}
	_, _ = w.Write([]byte("ok\n"))
}

// plainPath lets addresses be matched as they read, however they were escaped. Only a
// slash that is part of a name stays escaped: it separates nothing.
func plainPath(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.Contains(strings.ToLower(r.URL.RawPath), "%2f") {
			r.URL.RawPath = ""
		}
		next.ServeHTTP(w, r)
	})
}

// withoutSlash takes the endpoints that services call with a slash at their end too.
func withoutSlash(next http.Handler) http.Handler {
	strip := middleware.StripSlashes(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for _, p := range []string{"/xapi/", "/reported/", "/pickup/"} {
			if strings.HasPrefix(r.URL.Path, p) {
				strip.ServeHTTP(w, r)
				return
			}
		}
		next.ServeHTTP(w, r)
	})
}

// console serves the built files, and index.html for every route of its own: to whoever
// asks for a page. Whatever else is not there is a problem.
func (s *Server) console() http.Handler {
	files := http.FileServerFS(s.Console)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		path := strings.TrimPrefix(r.URL.Path, "/")
		if slices.ContainsFunc(noPages, func(p string) bool { return strings.HasPrefix(r.URL.Path+"/", p) }) {
			problem.Write(w, http.StatusNotFound,
				"there is nothing at this address; the API is described at /openapi.json")
			return
		}
		file := false
		if path != "" && path != "index.html" {
			info, err := fs.Stat(s.Console, path)
			file = err == nil && !info.IsDir()
		}
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			status := http.StatusNotFound
			if file || path == "" {
				status = http.StatusMethodNotAllowed
				w.Header().Set("Allow", "GET, HEAD")
			}
			problem.Write(w, status,
				"there is nothing at this address that takes "+methodLabel(r.Method)+"; the API is described at /openapi.json")
			return
		}
		if file {
			if strings.HasPrefix(path, "assets/") {
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			files.ServeHTTP(w, r)
			return
		}
		if strings.HasPrefix(path, "assets/") || path != "" &&
			!strings.Contains(r.Header.Get("Accept"), "text/html") {
			problem.Write(w, http.StatusNotFound,
				"there is nothing at this address; the API is described at /openapi.json")
			return
		}
		page, err := fs.ReadFile(s.Console, "index.html")
		if err != nil {
			http.Error(w, "The console is not built into this binary. Build it with: make console",
				http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		_, _ = w.Write(page)
	})
}

// noPages are the parts of the service that have no pages of the console.
var noPages = []string{
	"/api/", "/xapi/", "/open/", "/pickup/", "/reported/", "/approvals/", "/metrics/", "/livez/",
	"/readyz/", "/openapi/", "/lti/", access.ProvidersPath,
}

// HealthOnly is the HTTP side of a process that only works.
func (s *Server) HealthOnly() http.Handler {
	r := chi.NewRouter()
	r.Get("/livez", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	r.Get("/readyz", s.ready)
	r.Handle("/metrics", auth.WithToken(s.Access, promhttp.Handler()))
	return r
}
