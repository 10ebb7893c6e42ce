package web

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"kanban/internal/app/access"
	"kanban/internal/web/auth"
	"kanban/internal/web/problem"
	"kanban/internal/wire/openid"
)

const (
	// keptBegun names the sign-ins that a browser has begun at providers, and keptRefusal why it was not let in.
	keptBegun   = "begun"
	keptRefusal = "refused"
	// mostBegun is how many sign-ins a browser may have begun, in as many tabs, and begunLasts how long each takes.
	mostBegun  = 5
	begunLasts = 15 * time.Minute
)

// atProviders are the addresses for signing in at a provider: browsers go there, and providers.
var atProviders = []outsideOperation{
	{
		operation: operation{
			ID: "sign-in-at-provider", Method: http.MethodGet, Path: access.ProvidersPath + "{id}/sign-in",
			Status: http.StatusSeeOther, Tag: "sign-in",
			Summary: "Go to an OpenID provider to sign in (OpenID Connect Core 1.0, 3.1.2.1); with add=1 whoever is signed in gets one more way in",
		},
		query: []string{"then", "add"},
	},
	{
		operation: operation{
			ID: "back-from-provider", Method: http.MethodGet, Path: access.ProvidersPath + "{id}/back",
			Status: http.StatusSeeOther, Tag: "sign-in",
			Summary: "Come back from an OpenID provider (OpenID Connect Core 1.0, 3.1.2.5)",
		},
		query: []string{"code", "state", "iss", "error", "error_description"},
	},
	{
		operation: operation{
			ID: "logged-out-at-provider", Method: http.MethodPost, Path: access.ProvidersPath + "{id}/logout",
			Status: http.StatusOK, Tag: "sign-in",
			Summary: "A provider says that a session is over there (OpenID Connect Back-Channel Logout 1.0)",
		},
		takes:   []string{"application/x-www-form-urlencoded"},
		refuses: []int{400, 429, 503},
	},
}

// begunAt is a sign-in that a browser has begun at a provider.
type begunAt struct {
	openid.Begun
	Provider string    `json:"provider"`
	Then     string    `json:"then"` // the page to which it goes on
	User     string    `json:"user"` // who is signed in already and gets one more way in
	Until    time.Time `json:"until"`
}

// signInAtProviders registers the addresses for signing in at providers.
func (s *Server) signInAtProviders(r chi.Router) {
	at := access.ProvidersPath + "{id}"
	r.Group(func(r chi.Router) {
		r.Use(s.auth.NoteVisitor, s.auth.Sessions)
		r.Get(at+"/sign-in", s.goToProvider)
		r.Get(at+"/back", s.backFromProvider)
	})
	often := func(w http.ResponseWriter, _ *http.Request) {
		problem.Write(w, http.StatusTooManyRequests, "that was often; wait a minute, then try again")
	}
	r.With(slowed(120, time.Minute, s.client, often)).Post(at+"/logout", s.loggedOutAtProvider)
}

// ownPage is a page of the console that an address names; the board when it names something else.
func ownPage(then string) string {
	u, err := url.Parse(then)
	if err != nil || u.Host != "" || u.Scheme != "" || !strings.HasPrefix(then, "/") ||
		strings.HasPrefix(then, "//") || strings.ContainsAny(then, "\\\r\n\t") {
		return "/board"
	}
	return then
}

func (s *Server) goToProvider(w http.ResponseWriter, r *http.Request) {
	ctx := r.Context()
	w.Header().Set("Cache-Control", "no-store")
	one := begunAt{
		Provider: chi.URLParam(r, "id"), Then: ownPage(r.URL.Query().Get("then")), Until: time.Now().Add(begunLasts),
	}
	if r.URL.Query().Get("add") != "" {
		if one.User = s.auth.SignedIn(ctx); one.User == "" {
			http.Redirect(w, r, "/sign-in?then=/account", http.StatusSeeOther)
			return
		}
	}
	err := s.auth.AdmitElsewhere(ctx)
	if err == nil {
		one.Begun, err = s.Access.BeginAt(ctx, one.Provider)
	}
	if err != nil {
		s.notLetIn(w, r, one, err)
		return
	}
	all := append(s.begun(s.auth.Take(ctx, keptBegun)), one)
	text, err := json.Marshal(all[max(0, len(all)-mostBegun):])
	if err != nil {
		s.notLetIn(w, r, one, err)
		return
	}
	s.auth.Keep(ctx, keptBegun, string(text))
	http.Redirect(w, r, one.Address, http.StatusSeeOther)
}

// begun reads which sign-ins a browser has begun that are not too old.
func (s *Server) begun(text string) (left []begunAt) {
	var all []begunAt
	if text != "" && json.Unmarshal([]byte(text), &all) != nil {
		return nil
	}
	for _, b := range all {
		if b.Until.After(time.Now()) {
			left = append(left, b)
		}
	}
	return left
}

func (s *Server) backFromProvider(w http.ResponseWriter, r *http.Request) {
	ctx, back := r.Context(), openid.BackFrom(r.URL.Query())
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer")
	one, left := begunAt{Provider: chi.URLParam(r, "id"), Then: "/board"}, []begunAt{}
	for _, b := range s.begun(s.auth.Take(ctx, keptBegun)) {
		if b.Provider == one.Provider && b.State == back.State {
			one = b
		} else {
			left = append(left, b)
		}
	}
	if text, err := json.Marshal(left); err == nil && len(left) > 0 {
		s.auth.Keep(ctx, keptBegun, string(text))
	}
	if one.State == "" && s.auth.SignedIn(ctx) != "" { // Back, or a second look at the same address
		http.Redirect(w, r, one.Then, http.StatusSeeOther)
		return
	}
	if one.User != "" && one.User != s.auth.SignedIn(ctx) {
		s.notLetIn(w, r, one, &access.NotLetIn{Detail: "somebody else is signed in here by now; begin again"})
		return
	}
	if err := s.auth.AdmitElsewhere(ctx); err != nil {
		s.notLetIn(w, r, one, err)
		return
	}
	c, who, err := s.Access.EndAt(ctx, one.Provider, one.Begun, back, one.User)
	if err == nil && one.User == "" {
		err = s.auth.Enter(ctx, c, auth.Way{Provider: one.Provider, Session: who.Session, IDToken: who.IDToken})
	}
	if err != nil {
		s.notLetIn(w, r, one, err)
		return
	}
	http.Redirect(w, r, one.Then, http.StatusSeeOther)
}

// notLetIn sends a browser to the page at which somebody signs in, which says why they were not let in.
func (s *Server) notLetIn(w http.ResponseWriter, r *http.Request, one begunAt, err error) {
	provider, text := "", "something went wrong on our side; it was logged"
	var no *access.NotLetIn
	if errors.As(err, &no) {
		provider, text = no.Provider, no.Detail
	} else if status := problemOf(err); status != nil {
		text = status.Error()
	}
	s.Log.Warn("somebody from a provider was not let in", "provider", one.Provider, "cause", err.Error())
	s.auth.Keep(r.Context(), keptRefusal, provider+"\n"+text)
	page := "/sign-in?then=" + url.QueryEscape(one.Then)
	if one.User != "" {
		page = one.Then
	}
	http.Redirect(w, r, page, http.StatusSeeOther)
}

func (s *Server) loggedOutAtProvider(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store") // Back-Channel Logout 1.0, 2.8
	r.Body = http.MaxBytesReader(w, r.Body, 256<<10)
	token := r.PostFormValue("logout_token")
	err := s.Access.LoggedOutAt(r.Context(), chi.URLParam(r, "id"), token)
	var failed *openid.Error
	var no *access.NotLetIn
	switch {
	case err == nil:
		w.WriteHeader(http.StatusOK)
	case errors.As(err, &failed) && failed.Why != openid.Unreachable:
		oauthProblem(w, http.StatusBadRequest, "invalid_request", failed.Detail)
	case errors.As(err, &no):
		oauthProblem(w, http.StatusBadRequest, "invalid_request", no.Detail)
	default:
		s.Log.Error("a provider said that a session is over", "cause", err.Error())
		oauthProblem(w, http.StatusServiceUnavailable, "temporarily_unavailable", "try again")
	}
}
