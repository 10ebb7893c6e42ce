// Package signin stands in for the sign-in of an outside service: an authorization server of OAuth 2
// (RFC 6749) at which people grant access on a plain page, with proof of who began it (RFC 7636), its
// addresses under /.well-known (RFC 8414) and whose a token is.
package signin

import (
	"bytes"
	"context"
	"encoding/json"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-oauth2/oauth2/v4"
	"github.com/go-oauth2/oauth2/v4/generates"
	"github.com/go-oauth2/oauth2/v4/manage"
	"github.com/go-oauth2/oauth2/v4/server"

	"kanban/internal/standin/page"
)

// The one app that is registered.
const (
	ClientID     = "kanban-app"
	ClientSecret = "seed-tray"
)

// Accounts that can sign in; nobody asks for a password.
var Accounts = []string{"newsletter@fernmoor.example", "maud@fernmoor.example"}

// Server is the stand-in. Use New.
type Server struct {
	mux     *http.ServeMux
	manager *manage.Manager
	oauth   *server.Server

	mu        sync.Mutex
	renewals  int
	withdrawn bool
}

// New is a server whose access tokens last for a while.
func New(lasts time.Duration) *Server {
	manager := manage.NewDefaultManager()
	manager.MapTokenStorage(&tokens{})
	manager.MapAccessGenerate(generates.NewAccessGenerate())
	manager.MapClientStorage(app{})
	manager.SetValidateURIHandler(func(_, redirect string) error { // any Kanban on this machine
		if u, err := url.Parse(redirect); err != nil || !strings.HasSuffix(u.Path, "/granted") {
			return http.ErrNotSupported
		}
		return nil
	})
	config := server.NewConfig()
	config.ForcePKCE = true
	config.AllowedCodeChallengeMethods = []oauth2.CodeChallengeMethod{oauth2.CodeChallengeS256}
	config.AllowedResponseTypes = []oauth2.ResponseType{oauth2.Code}
	config.AllowedGrantTypes = []oauth2.GrantType{oauth2.AuthorizationCode, oauth2.Refreshing}
	s := &Server{mux: http.NewServeMux(), manager: manager, oauth: server.NewServer(config, manager)}
	s.oauth.SetClientInfoHandler(server.ClientBasicHandler)
	s.oauth.SetUserAuthorizationHandler(func(_ http.ResponseWriter, r *http.Request) (string, error) {
		return r.FormValue("account"), nil
	})
	s.mux.HandleFunc("GET /.well-known/oauth-authorization-server", s.metadata)
	s.mux.HandleFunc("GET /oauth/authorize", s.ask)
	s.mux.HandleFunc("POST /oauth/authorize", s.grant)
	s.mux.HandleFunc("POST /oauth/token", s.token)
	s.mux.HandleFunc("GET /oauth/userinfo", s.userinfo)
	s.mux.HandleFunc("POST /oauth/revoke", s.revoke)
	s.Lasts(lasts)
	return s
}

// Lasts says how long access tokens last from now on. A token that is renewed is taken no more, and
// neither is the one by which it was renewed.
func (s *Server) Lasts(d time.Duration) {
	const renewable = 30 * 24 * time.Hour
	s.manager.SetAuthorizeCodeTokenCfg(&manage.Config{
		AccessTokenExp: d, RefreshTokenExp: renewable, IsGenerateRefresh: true,
	})
	s.manager.SetRefreshTokenCfg(&manage.RefreshingConfig{
		AccessTokenExp: d, RefreshTokenExp: renewable, IsGenerateRefresh: true, IsRemoveAccess: true,
		IsRemoveRefreshing: true,
	})
}

// ServeHTTP answers what is under /oauth and /.well-known.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.mux.ServeHTTP(w, r) }

// Renewals is how often a token was renewed.
func (s *Server) Renewals() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.renewals
}

// Withdraw makes the server take no grant any more, as when somebody withdraws it.
func (s *Server) Withdraw(yes bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.withdrawn = yes
}

// Forget makes the server take an access token no more.
func (s *Server) Forget(access string) { _ = s.manager.RemoveAccessToken(context.Background(), access) }

// Allows reports whether a request carries a token that was granted here.
func (s *Server) Allows(r *http.Request) bool {
	s.mu.Lock()
	withdrawn := s.withdrawn
	s.mu.Unlock()
	_, err := s.oauth.ValidationBearerToken(r)
	return err == nil && !withdrawn
}

func write(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func (s *Server) metadata(w http.ResponseWriter, r *http.Request) {
	at := "http://" + r.Host
	write(w, http.StatusOK, map[string]any{
		"issuer": at, "authorization_endpoint": at + "/oauth/authorize", "token_endpoint": at + "/oauth/token",
		"userinfo_endpoint": at + "/oauth/userinfo", "revocation_endpoint": at + "/oauth/revoke",
		"response_types_supported": []string{"code"}, "code_challenge_methods_supported": []string{"S256"},
		"token_endpoint_auth_methods_supported": []string{"client_secret_basic"},
	})
}

var consent = template.Must(template.New("consent").Parse(`<form method="post">
{{range $k, $v := .Query}}{{range $v}}<input type="hidden" name="{{$k}}" value="{{.}}">{{end}}{{end}}
<p>An app called <b>{{.App}}</b> asks for: {{range .Scopes}}<code>{{.}}</code> {{else}}everything{{end}}</p>
<label>Sign in as <select name="account" id="account">{{range .Accounts}}<option>{{.}}</option>{{end}}</select></label>
<button name="answer" value="yes" id="allow">Allow</button> <button name="answer" value="no" id="refuse">Refuse</button></form>`))

func (s *Server) ask(w http.ResponseWriter, r *http.Request) {
	if _, err := s.oauth.ValidationAuthorizeRequest(r); err != nil {
		http.Error(w, "this request cannot be used: "+err.Error(), http.StatusBadRequest)
		return
	}
	var body bytes.Buffer
	_ = consent.Execute(&body, map[string]any{
		"Query": r.URL.Query(), "App": r.FormValue("client_id"), "Scopes": strings.Fields(r.FormValue("scope")),
		"Accounts": Accounts,
	})
	page.Write(w, page.Page{
		Title: "Plant news: sign in", About: "Stand-in for a service's sign-in. It speaks OAuth 2 with PKCE.",
		Body: template.HTML(body.String()),
	})
}

func (s *Server) grant(w http.ResponseWriter, r *http.Request) {
	if r.FormValue("answer") == "no" || !slices.Contains(Accounts, r.FormValue("account")) {
		back, err := url.Parse(r.FormValue("redirect_uri"))
		if err != nil {
			http.Error(w, "there is nowhere to go back to", http.StatusBadRequest)
			return
		}
		back.RawQuery = url.Values{
			"error": {"access_denied"}, "error_description": {"You refused."}, "state": {r.FormValue("state")},
		}.Encode()
		http.Redirect(w, r, back.String(), http.StatusFound)
		return
	}
	if err := s.oauth.HandleAuthorizeRequest(w, r); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
	}
}

func (s *Server) token(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	withdrawn := s.withdrawn
	s.mu.Unlock()
	if r.FormValue("grant_type") == "refresh_token" {
		if withdrawn {
			write(w, http.StatusBadRequest, map[string]string{
				"error": "invalid_grant", "error_description": "The grant was withdrawn.",
			})
			return
		}
		s.mu.Lock()
		s.renewals++
		s.mu.Unlock()
	}
	if err := s.oauth.HandleTokenRequest(w, r); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
	}
}

func (s *Server) userinfo(w http.ResponseWriter, r *http.Request) {
	t, err := s.oauth.ValidationBearerToken(r)
	if err != nil {
		write(w, http.StatusUnauthorized, map[string]string{"error": "invalid_token"})
		return
	}
	write(w, http.StatusOK, map[string]string{"sub": t.GetUserID(), "email": t.GetUserID()})
}

// revoke ends a grant (RFC 7009).
func (s *Server) revoke(w http.ResponseWriter, r *http.Request) {
	token := r.FormValue("token")
	if t, err := s.manager.LoadRefreshToken(r.Context(), token); err == nil {
		_ = s.manager.RemoveAccessToken(r.Context(), t.GetAccess())
		_ = s.manager.RemoveRefreshToken(r.Context(), token)
	}
	w.WriteHeader(http.StatusOK)
}
