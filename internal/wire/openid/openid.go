// Package openid lets people sign in at an OpenID provider: the authorization code flow of OpenID Connect Core 1.0,
// 3.1, with PKCE (RFC 7636), at a provider that says where its addresses are (OpenID Connect Discovery 1.0), whose
// answers name it (RFC 9207) and who says when a session is over (RP-Initiated Logout 1.0, Back-Channel Logout 1.0).
//
//	p, err := openid.Discover(ctx, http, "https://provider.example")
//	begun := p.Begin(app)                      // a person goes to begun.Address and comes back
//	who, err := p.Finish(ctx, app, begun, back, now)
package openid

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"kanban/internal/wire/oauth"
)

// Reason is why nobody could sign in at a provider.
type Reason string

// The reasons.
const (
	Unreachable Reason = "unreachable"  // it does not answer, or not in time
	NotProvider Reason = "not-provider" // what it says of itself cannot be used
	Refused     Reason = "refused"      // it, or the person, said no
	WrongClient Reason = "wrong-client" // it does not know Kanban by these values
	Misdirected Reason = "misdirected"  // the answer is not the one to what was asked, or another provider's
	WrongToken  Reason = "wrong-token"  // what it says of the person cannot be believed
	WrongClock  Reason = "wrong-clock"  // its clock and ours differ too much
)

// Error says why nobody could sign in.
type Error struct {
	Why    Reason
	Detail string
}

func (e *Error) Error() string { return e.Detail }

func failed(why Reason, format string, args ...any) error {
	return &Error{why, fmt.Sprintf(format, args...)}
}

const (
	// skew is by how much the clocks of provider and service may differ.
	skew = 2 * time.Minute
	// oldest is how long after it was made an ID token is taken: it was asked for just now.
	oldest = 10 * time.Minute
	// longestToken bounds an ID token or a logout token, in bytes.
	longestToken = 128 << 10
)

// App is what a provider knows Kanban as.
type App struct {
	ID       string
	Secret   string // empty for a public client
	Redirect string // where people come back to
	Scopes   []string
}

// Provider is one that has said where its addresses are.
type Provider struct {
	*oidc.Provider
	issuer string
	client *http.Client
	more   metadata
}

// metadata is what is needed of a provider besides what the library reads.
type metadata struct {
	EndSession       string   `json:"end_session_endpoint"`
	Userinfo         string   `json:"userinfo_endpoint"`
	Authorization    string   `json:"authorization_endpoint"`
	Token            string   `json:"token_endpoint"`
	Keys             string   `json:"jwks_uri"`
	SaysIssuer       bool     `json:"authorization_response_iss_parameter_supported"`
	ChallengeMethods []string `json:"code_challenge_methods_supported"`
	Scopes           []string `json:"scopes_supported"`
}

// Discover asks a provider for its addresses (Discovery 1.0, 4). The issuer that it names must be the one that was
// asked. The client makes all later calls to it too: it bounds their time and size.
func Discover(ctx context.Context, client *http.Client, issuer string) (*Provider, error) {
	at, err := url.Parse(issuer)
	if err != nil || at.Host == "" || at.Scheme != "https" && at.Scheme != "http" || at.RawQuery != "" {
		return nil, failed(NotProvider, "%q is no address of a provider; it looks like https://provider.example", issuer)
	}
	p, err := oidc.NewProvider(oidc.ClientContext(ctx, client), issuer)
	var other *oidc.IssuerMismatchError
	var dial *url.Error
	switch {
	case errors.As(err, &other):
		return nil, failed(NotProvider, "it calls itself %q; enter exactly that as its address, if it is the right one",
			other.Discovered)
	case errors.As(err, &dial):
		return nil, failed(Unreachable, "it does not answer at %s (%v)", issuer, dial.Err)
	case err != nil:
		return nil, failed(NotProvider, "what is at %s/.well-known/openid-configuration is not what providers say: %s",
			strings.TrimSuffix(issuer, "/"), shortened(err.Error()))
	}
	out := &Provider{Provider: p, issuer: issuer, client: client}
	if err := p.Claims(&out.more); err != nil {
		return nil, failed(NotProvider, "what it says of itself cannot be read: %s", shortened(err.Error()))
	}
	return out, out.check()
}

// shortened bounds what somebody else's words add to a message.
func shortened(text string) string {
	if runes := []rune(strings.ToValidUTF8(text, "?")); len(runes) > 300 {
		return string(runes[:300]) + "…"
	}
	return text
}

// check refuses addresses that are missing or would send secrets astray, and a provider without proof of who began.
func (p *Provider) check() error {
	why := oauth.Astray(p.issuer, p.more.ChallengeMethods, map[string]string{
		"authorization_endpoint": p.more.Authorization, "token_endpoint": p.more.Token, "jwks_uri": p.more.Keys,
	}, map[string]string{"userinfo_endpoint": p.more.Userinfo, "end_session_endpoint": p.more.EndSession})
	if why != "" {
		return failed(NotProvider, "%s", shortened(why))
	}
	return nil
}

// CheckKeys asks for the provider's keys, and says whether there are any.
func (p *Provider) CheckKeys(ctx context.Context) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, p.more.Keys, nil)
	if err != nil {
		return err
	}
	resp, err := p.client.Do(req)
	if err != nil {
		return failed(Unreachable, "its keys cannot be read: %s", shortened(err.Error()))
	}
	defer resp.Body.Close()
	var set struct {
		Keys []json.RawMessage `json:"keys"`
	}
	if err := json.NewDecoder(resp.Body).Decode(&set); err != nil || resp.StatusCode != http.StatusOK ||
		len(set.Keys) == 0 {
		return failed(NotProvider, "there are no keys at %s", shortened(p.more.Keys))
	}
	return nil
}

// Lacks gives those of some scopes that the provider does not say it knows; none where it says nothing of scopes.
func (p *Provider) Lacks(scopes []string) []string {
	if len(p.more.Scopes) == 0 {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(scopes), func(s string) bool { return slices.Contains(p.more.Scopes, s) })
}

// Begun is a sign-in that somebody has begun.
type Begun struct {
	State    string `json:"state"`
	Nonce    string `json:"nonce"`
	Verifier string `json:"verifier"`
	Address  string `json:"-"` // to which the browser goes
}

func (p *Provider) config(a App) *oauth2.Config {
	at := p.Endpoint()
	if a.Secret == "" {
		at.AuthStyle = oauth2.AuthStyleInParams
	}
	return &oauth2.Config{
		ClientID: a.ID, ClientSecret: a.Secret, Endpoint: at, RedirectURL: a.Redirect, Scopes: scopesOf(a),
	}
}

// scopesOf are those that are asked for; openid is always one (Core 1.0, 3.1.2.1).
func scopesOf(a App) []string {
	if slices.Contains(a.Scopes, oidc.ScopeOpenID) {
		return a.Scopes
	}
	return append([]string{oidc.ScopeOpenID}, a.Scopes...)
}

// Begin makes the address at which somebody signs in.
func (p *Provider) Begin(a App) Begun {
	b := Begun{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier()}
	b.Address = p.config(a).AuthCodeURL(b.State, oidc.Nonce(b.Nonce), oauth2.S256ChallengeOption(b.Verifier))
	return b
}

// Back is what the browser comes back with (RFC 6749, 4.1.2; RFC 9207).
type Back struct {
	State, Code, Error, Description string
	Issuer                          string
	SaysIssuer                      bool // iss was there, whatever it holds
}

// BackFrom reads it from the query of the address.
func BackFrom(q url.Values) Back {
	return Back{
		State: q.Get("state"), Code: q.Get("code"), Error: q.Get("error"), Description: q.Get("error_description"),
		Issuer: q.Get("iss"), SaysIssuer: q.Has("iss"),
	}
}

// Identity is who signed in, as the provider says.
type Identity struct {
	Subject  string
	Session  string // of the provider, empty when it does not say
	Name     string
	Email    string
	Verified bool // the provider says that the address is the person's
	Claims   map[string]any
	IDToken  string
}

// Finish takes what the browser came back with, and gives who signed in (Core 1.0, 3.1.3).
func (p *Provider) Finish(ctx context.Context, a App, begun Begun, back Back, now time.Time) (Identity, error) {
	switch {
	case back.State == "" || back.State != begun.State:
		return Identity{}, failed(Misdirected, "the answer is to another question than this browser asked")
	case (back.SaysIssuer || p.more.SaysIssuer) && back.Issuer != p.issuer:
		return Identity{}, failed(Misdirected, "the answer says it is from %q", shortened(back.Issuer))
	case back.Error == "access_denied" || back.Error == "login_required" || back.Error == "consent_required":
		return Identity{}, failed(Refused, "%s", shortened(orElse(back.Description, back.Error)))
	case back.Error == "unauthorized_client" || back.Error == "invalid_scope" || back.Error == "invalid_request":
		return Identity{}, failed(WrongClient, "%s", shortened(orElse(back.Description, back.Error)))
	case back.Error != "":
		return Identity{}, failed(Unreachable, "%s", shortened(orElse(back.Description, back.Error)))
	case back.Code == "":
		return Identity{}, failed(Misdirected, "the answer holds no code")
	}
	ctx = oidc.ClientContext(ctx, p.client)
	token, err := p.config(a).Exchange(ctx, back.Code, oauth2.VerifierOption(begun.Verifier))
	if err != nil {
		return Identity{}, exchangeFailed(err)
	}
	raw, _ := token.Extra("id_token").(string)
	who, err := p.verified(ctx, a, raw, begun.Nonce, now)
	if err != nil {
		return who, err
	}
	return p.filledIn(ctx, who, token)
}

func orElse(text, other string) string {
	if text != "" {
		return text
	}
	return other
}

// exchangeFailed sorts why a code was not exchanged (RFC 6749, 5.2).
func exchangeFailed(err error) error {
	var refused *oauth2.RetrieveError
	if !errors.As(err, &refused) {
		return failed(Unreachable, "it does not answer: %s", shortened(err.Error()))
	}
	text := shortened(orElse(refused.ErrorDescription, orElse(refused.ErrorCode, refused.Response.Status)))
	switch {
	case refused.ErrorCode == "invalid_client" || refused.ErrorCode == "unauthorized_client" ||
		refused.Response.StatusCode == http.StatusUnauthorized:
		return failed(WrongClient, "it does not take the client or its secret: %s", text)
	case refused.ErrorCode == "invalid_grant":
		return failed(Misdirected, "it does not take the code (any more): %s", text)
	case refused.Response.StatusCode >= http.StatusInternalServerError, refused.ErrorCode == "":
		return failed(Unreachable, "it answers %s", text)
	}
	return failed(WrongClient, "%s", text)
}

// verifier checks tokens of the provider. The library asks for its keys again when a token names one that is not
// known.
func (p *Provider) verifier(a App, now time.Time) *oidc.IDTokenVerifier {
	return p.Verifier(&oidc.Config{ClientID: a.ID, Now: func() time.Time { return now.Add(-skew) }})
}

// verified checks an ID token (Core 1.0, 3.1.3.7).
func (p *Provider) verified(ctx context.Context, a App, raw, nonce string, now time.Time) (who Identity, err error) {
	switch {
	case raw == "":
		return who, failed(WrongToken, "it gave no ID token: is this an OpenID client there?")
	case len(raw) > longestToken:
		return who, failed(WrongToken, "its ID token has more than %d bytes: have it say less, such as fewer groups",
			longestToken)
	}
	token, err := p.verifier(a, now).Verify(ctx, raw)
	var expired *oidc.TokenExpiredError
	if errors.As(err, &expired) {
		return who, failed(WrongClock, "its ID token ended at %s, and it is %s here", expired.Expiry.UTC().Format(time.RFC3339),
			now.UTC().Format(time.RFC3339))
	}
	if err != nil {
		if away := p.CheckKeys(ctx); away != nil { // without its keys nothing is known of the token
			return who, away
		}
		return who, failed(WrongToken, "its ID token cannot be believed: %s", shortened(err.Error()))
	}
	party := struct {
		Party string `json:"azp"`
	}{}
	if err := token.Claims(&party); err != nil {
		return who, failed(WrongToken, "its ID token cannot be read: %s", shortened(err.Error()))
	}
	switch {
	case token.Subject == "" || len(token.Subject) > 255:
		return who, failed(WrongToken, "its ID token does not say who signed in")
	case token.Nonce != nonce:
		return who, failed(WrongToken, "its ID token is for another sign-in: the nonce differs")
	case party.Party != "" && party.Party != a.ID, len(token.Audience) > 1 && party.Party == "":
		return who, failed(WrongToken, "its ID token was made for another client")
	case token.IssuedAt.IsZero() || token.IssuedAt.Before(now.Add(-oldest)) || token.IssuedAt.After(now.Add(skew)):
		return who, failed(WrongClock, "its ID token is of %s, and it is %s here", token.IssuedAt.UTC().Format(time.RFC3339),
			now.UTC().Format(time.RFC3339))
	}
	who = Identity{Subject: token.Subject, IDToken: raw}
	if err := token.Claims(&who.Claims); err != nil {
		return who, failed(WrongToken, "its ID token cannot be read: %s", shortened(err.Error()))
	}
	who.read()
	return who, nil
}

// FromClaims is who would have signed in of whom a provider says some claims.
func FromClaims(claims map[string]any) Identity {
	who := Identity{Claims: claims}
	who.Subject, _ = claims["sub"].(string)
	who.read()
	return who
}

// read takes out of the claims what every provider calls the same (Core 1.0, 5.1).
func (who *Identity) read() {
	text := func(name string) string {
		s, _ := who.Claims[name].(string)
		return strings.TrimSpace(s)
	}
	who.Session, who.Email = text("sid"), text("email")
	who.Name = orElse(text("name"), strings.TrimSpace(text("given_name")+" "+text("family_name")))
	who.Name = orElse(who.Name, text("preferred_username"))
	switch v := who.Claims["email_verified"].(type) { // some say it as text
	case bool:
		who.Verified = v
	case string:
		who.Verified = v == "true"
	}
}

// filledIn asks the provider for what its ID token does not say of the person (Core 1.0, 5.3). What the token says
// counts; without an answer it is what there is.
func (p *Provider) filledIn(ctx context.Context, who Identity, token *oauth2.Token) (Identity, error) {
	if p.more.Userinfo == "" {
		return who, nil
	}
	info, err := p.UserInfo(ctx, oauth2.StaticTokenSource(token))
	if err != nil {
		return who, nil // what is missing then is said where it is missed
	}
	if info.Subject != who.Subject { // Core 1.0, 5.3.2
		return Identity{}, failed(WrongToken, "what it says of the person is about somebody else")
	}
	more := map[string]any{}
	if err := info.Claims(&more); err != nil {
		return who, failed(WrongToken, "what it says of the person cannot be read: %s", shortened(err.Error()))
	}
	for name, value := range more {
		if _, there := who.Claims[name]; !there {
			who.Claims[name] = value
		}
	}
	who.read()
	return who, nil
}

// EndSession is the address at which somebody is signed out of the provider too (RP-Initiated Logout 1.0, 2); empty
// when it has none.
func (p *Provider) EndSession(a App, idToken, back string) string {
	u, err := url.Parse(p.more.EndSession)
	if err != nil || p.more.EndSession == "" {
		return ""
	}
	q := u.Query()
	q.Set("client_id", a.ID)
	q.Set("post_logout_redirect_uri", back)
	if idToken != "" {
		q.Set("id_token_hint", idToken)
	}
	u.RawQuery = q.Encode()
	return u.String()
}

// Ended says whose session is over at a provider: one of them may be empty.
type Ended struct {
	Subject, Session, Token string // Token is the id of what said so
}

// LoggedOut checks what a provider sends when a session is over there (Back-Channel Logout 1.0, 2.6).
func (p *Provider) LoggedOut(ctx context.Context, a App, raw string, now time.Time) (Ended, error) {
	if len(raw) > longestToken {
		return Ended{}, failed(WrongToken, "the logout token has more than %d bytes", longestToken)
	}
	token, err := p.verifier(a, now).VerifyLogout(oidc.ClientContext(ctx, p.client), raw)
	if err != nil {
		return Ended{}, failed(WrongToken, "the logout token cannot be believed: %s", shortened(err.Error()))
	}
	if token.IssuedAt.Before(now.Add(-oldest)) || token.IssuedAt.After(now.Add(skew)) {
		return Ended{}, failed(WrongClock, "the logout token is of %s", token.IssuedAt.UTC().Format(time.RFC3339))
	}
	return Ended{token.Subject, token.SessionID, token.TokenID}, nil
}
