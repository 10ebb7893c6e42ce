// Package oauth lets somebody grant access to a service by signing in there: the authorization code
// grant of OAuth 2.0 (RFC 6749 section 4.1) with proof of who began it (PKCE, RFC 7636), at a server
// that says where its addresses are (RFC 8414) or is told.
//
//	server, err := oauth.Discover(ctx, client, "https://service.example")
//	address := server.Begin(app, state, verifier)       // a person goes there and comes back with a code
//	token, err := server.Exchange(ctx, client, app, code, verifier)
package oauth

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"kanban/internal/wire/call"
)

// Server is an authorization server's metadata (RFC 8414 section 2), as far as it is needed here.
type Server struct {
	Issuer                string   `json:"issuer"`
	AuthorizationEndpoint string   `json:"authorization_endpoint"`
	TokenEndpoint         string   `json:"token_endpoint"`
	UserinfoEndpoint      string   `json:"userinfo_endpoint"`
	IntrospectionEndpoint string   `json:"introspection_endpoint"`
	RevocationEndpoint    string   `json:"revocation_endpoint"`
	ChallengeMethods      []string `json:"code_challenge_methods_supported"`
	TokenAuthMethods      []string `json:"token_endpoint_auth_methods_supported"`
	// SaysIssuer promises that answers name the issuer (RFC 9207 section 3).
	SaysIssuer bool `json:"authorization_response_iss_parameter_supported"`
}

// App is what a service knows Kanban as.
type App struct {
	ID       string
	Secret   string // empty for a public client
	Redirect string // where people come back to
	Scopes   []string
}

// Token is what was granted.
type Token struct {
	Access  string    `json:"access"`
	Refresh string    `json:"refresh,omitempty"` // empty when it cannot be renewed
	Expires time.Time `json:"expires,omitzero"`  // zero when the server does not say
	Scopes  []string  `json:"scopes,omitempty"`
}

// ErrEnded means that the server takes the grant no more (invalid_grant, RFC 6749 section 5.2):
// somebody has to sign in again.
var ErrEnded = errors.New("the sign-in has ended")

// ErrMetadata means that what a server says of itself cannot be used.
var ErrMetadata = errors.New("what the authorization server says of itself cannot be used")

// Discover asks a server for its metadata: at the address of RFC 8414 section 3, or at the one at which
// OpenID providers have it (section 5). The issuer that it names must be the one that was asked.
func Discover(ctx context.Context, client *call.Client, issuer string) (s Server, err error) {
	u, err := url.Parse(issuer)
	if err != nil || u.Host == "" {
		return s, fmt.Errorf("%w: %q is no address", ErrMetadata, issuer)
	}
	inserted := *u
	inserted.Path = "/.well-known/oauth-authorization-server" + strings.TrimSuffix(u.Path, "/")
	for _, address := range []string{
		inserted.String(), strings.TrimSuffix(issuer, "/") + "/.well-known/openid-configuration",
	} {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return s, err
		}
		answer, err := client.Do(ctx, req)
		if p, is := call.As(err); is && p.Kind == call.NotFound {
			continue
		}
		if err != nil {
			return s, fmt.Errorf("asking the authorization server for its addresses: %w", err)
		}
		if err := json.Unmarshal(answer.Body, &s); err != nil {
			return s, fmt.Errorf("%w: it is no JSON", ErrMetadata)
		}
		return s, s.check(issuer)
	}
	return s, fmt.Errorf("%w: it says nothing; enter its addresses instead", ErrMetadata)
}

// check holds metadata against the issuer that was asked, and refuses what would send secrets astray.
func (s Server) check(issuer string) error {
	if s.Issuer != strings.TrimSpace(issuer) && s.Issuer != strings.TrimSuffix(issuer, "/") {
		return fmt.Errorf("%w: it calls itself %q, not %q", ErrMetadata, s.Issuer, issuer)
	}
	why := Astray(issuer, s.ChallengeMethods, map[string]string{
		"authorization_endpoint": s.AuthorizationEndpoint, "token_endpoint": s.TokenEndpoint,
	}, map[string]string{
		"userinfo_endpoint": s.UserinfoEndpoint, "introspection_endpoint": s.IntrospectionEndpoint,
		"revocation_endpoint": s.RevocationEndpoint,
	})
	if why != "" {
		return fmt.Errorf("%w: %s", ErrMetadata, why)
	}
	return nil
}

// Astray says why secrets could go astray at a server that says of itself which addresses it has, by their names in
// its metadata, and which proofs of who began it takes (RFC 7636); empty when they cannot. Addresses that are needed
// must be there, and none may be less secure than the issuer's.
func Astray(issuer string, challenges []string, needed, others map[string]string) string {
	secure := strings.HasPrefix(issuer, "https://")
	bad := func(address string) bool {
		u, err := url.Parse(address)
		return err != nil || u.Host == "" || u.Scheme != "https" && (u.Scheme != "http" || secure)
	}
	for name, address := range needed {
		if bad(address) {
			return fmt.Sprintf("its %s is %q", name, address)
		}
	}
	for name, address := range others {
		if address != "" && bad(address) {
			return fmt.Sprintf("its %s is %q", name, address)
		}
	}
	if len(challenges) > 0 && !slices.Contains(challenges, "S256") {
		return "it does not take S256, without which a code could be stolen"
	}
	return ""
}

func (s Server) config(a App) *oauth2.Config {
	style := oauth2.AuthStyleInHeader
	if a.Secret == "" || len(s.TokenAuthMethods) > 0 && !slices.Contains(s.TokenAuthMethods, "client_secret_basic") {
		style = oauth2.AuthStyleInParams
	}
	return &oauth2.Config{
		ClientID: a.ID, ClientSecret: a.Secret, RedirectURL: a.Redirect, Scopes: a.Scopes,
		Endpoint: oauth2.Endpoint{AuthURL: s.AuthorizationEndpoint, TokenURL: s.TokenEndpoint, AuthStyle: style},
	}
}

// NewVerifier makes the secret by which whoever began a sign-in proves it (RFC 7636 section 4.1).
func NewVerifier() string { return oauth2.GenerateVerifier() }

// Begin is the address to which somebody goes to sign in (RFC 6749 section 4.1.1, RFC 7636 section 4.3).
func (s Server) Begin(a App, state, verifier string) string {
	return s.config(a).AuthCodeURL(state, oauth2.S256ChallengeOption(verifier))
}

// CheckIssuer reports why an answer is not that of the server (RFC 9207 section 2.4); given is the
// parameter iss, if there was one.
func (s Server) CheckIssuer(given string, there bool) error {
	if there && s.Issuer != "" && given != s.Issuer || !there && s.SaysIssuer {
		return fmt.Errorf("the answer comes from %q, not from %q", given, s.Issuer)
	}
	return nil
}

// Exchange trades a code for a token (RFC 6749 section 4.1.3). It is made once: a code that was used is
// refused.
func (s Server) Exchange(ctx context.Context, client *http.Client, a App, code, verifier string) (Token, error) {
	t, err := s.config(a).Exchange(context.WithValue(ctx, oauth2.HTTPClient, client), code,
		oauth2.VerifierOption(verifier))
	return tokenOf(t, a, err)
}

// Refresh renews a token (RFC 6749 section 6). A server may give another refresh token with it, and takes
// the former one no more then.
func (s Server) Refresh(ctx context.Context, client *http.Client, a App, former Token) (Token, error) {
	source := s.config(a).TokenSource(context.WithValue(ctx, oauth2.HTTPClient, client),
		&oauth2.Token{RefreshToken: former.Refresh})
	t, err := source.Token()
	next, err := tokenOf(t, a, err)
	if err == nil && t.Extra("scope") == nil {
		next.Scopes = former.Scopes // the same as before (RFC 6749 section 6)
	}
	return next, err
}

func tokenOf(t *oauth2.Token, a App, err error) (Token, error) {
	var refused *oauth2.RetrieveError
	switch {
	case errors.As(err, &refused) && refused.ErrorCode == "invalid_grant":
		return Token{}, fmt.Errorf("%w: %s", ErrEnded, orCode(refused))
	case err != nil:
		return Token{}, call.TokenProblem(err)
	}
	out := Token{Access: t.AccessToken, Refresh: t.RefreshToken, Expires: t.Expiry, Scopes: a.Scopes}
	if scope, ok := t.Extra("scope").(string); ok { // only said when it is another one (RFC 6749 section 5.1)
		out.Scopes = strings.Fields(scope)
	}
	return out, nil
}

func orCode(e *oauth2.RetrieveError) string {
	if e.ErrorDescription != "" {
		return e.ErrorDescription
	}
	return e.ErrorCode
}

// Account asks whose a token is: at the userinfo endpoint (OpenID Connect Core 5.3) or by introspection
// (RFC 7662). It is empty when the server does not say.
func (s Server) Account(ctx context.Context, client *call.Client, a App, t Token) (string, error) {
	var req *http.Request
	var err error
	switch {
	case s.UserinfoEndpoint != "":
		req, err = http.NewRequestWithContext(ctx, http.MethodGet, s.UserinfoEndpoint, nil)
		if err == nil {
			req.Header.Set("Authorization", "Bearer "+t.Access)
		}
	case s.IntrospectionEndpoint != "" && a.Secret != "":
		req, err = http.NewRequestWithContext(ctx, http.MethodPost, s.IntrospectionEndpoint,
			strings.NewReader(url.Values{"token": {t.Access}}.Encode()))
		if err == nil {
			req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			req.SetBasicAuth(url.QueryEscape(a.ID), url.QueryEscape(a.Secret)) // RFC 6749 section 2.3.1
		}
	default:
		return "", nil
	}
	if err != nil {
		return "", err
	}
	answer, err := client.Do(ctx, req)
	if err != nil {
		return "", fmt.Errorf("asking whose the grant is: %w", err)
	}
	var who struct {
		Email    string `json:"email"`
		Name     string `json:"preferred_username"`
		Username string `json:"username"`
		Subject  string `json:"sub"`
	}
	if err := json.Unmarshal(answer.Body, &who); err != nil {
		return "", fmt.Errorf("asking whose the grant is: %w", err)
	}
	for _, name := range []string{who.Email, who.Name, who.Username, who.Subject} {
		if name = strings.TrimSpace(name); name != "" {
			return string([]rune(name)[:min(len([]rune(name)), longestAccount)]), nil
		}
	}
	return "", nil
}

// longestAccount bounds what is kept of an account's name, in characters.
const longestAccount = 200

// Revoke tells the server that a token is used no more (RFC 7009), where it takes that.
func (s Server) Revoke(ctx context.Context, client *call.Client, a App, t Token) error {
	if s.RevocationEndpoint == "" {
		return nil
	}
	values := url.Values{"token": {t.Refresh}, "token_type_hint": {"refresh_token"}}
	if t.Refresh == "" {
		values = url.Values{"token": {t.Access}}
	}
	if a.Secret == "" {
		values.Set("client_id", a.ID)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.RevocationEndpoint,
		strings.NewReader(values.Encode()))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if a.Secret != "" {
		req.SetBasicAuth(url.QueryEscape(a.ID), url.QueryEscape(a.Secret))
	}
	_, err = client.Do(ctx, req)
	return err
}
