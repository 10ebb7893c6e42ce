// Package identity stands in for an institution's own sign-in: an OpenID provider (OpenID Connect Core 1.0 and
// Discovery 1.0, the authorization code flow with PKCE) at which people choose who they are on a plain page. It can
// be made to lie.
package identity

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"kanban/internal/standin/page"
	"kanban/internal/standin/school"
)

// The one client that is registered.
const (
	ClientID     = "kanban-sign-in"
	ClientSecret = "potting-shed"
)

// Wrong is a way to lie.
type Wrong string

// The ways.
const (
	Right        Wrong = ""
	OtherIssuer  Wrong = "other-issuer"   // the token names another issuer
	OtherKey     Wrong = "other-key"      // it is signed with a key that is not published
	Unsigned     Wrong = "unsigned"       // its algorithm is none
	SharedSecret Wrong = "shared-secret"  // it is signed with the client's secret (HS256)
	OtherClient  Wrong = "other-client"   // it is for another client
	TwoClients   Wrong = "two-clients"    // it is for two, and does not say which asked
	OtherParty   Wrong = "other-party"    // another client asked for it
	Expired      Wrong = "expired"        // it ended an hour ago
	OfTomorrow   Wrong = "of-tomorrow"    // it was made in a day
	OtherNonce   Wrong = "other-nonce"    // it answers another question
	NoNonce      Wrong = "no-nonce"       // it answers none
	NoSubject    Wrong = "no-subject"     // it does not say who
	NoAddress    Wrong = "no-address"     // it gives no e-mail address
	Unverified   Wrong = "unverified"     // it does not vouch for the address
	Huge         Wrong = "huge"           // it holds 20,000 groups
	Broken       Wrong = "broken"         // it is no token
	OtherPerson  Wrong = "other-person"   // userinfo is about somebody else
	OtherAnswer  Wrong = "other-answer"   // the answer names another issuer (RFC 9207)
	OtherSelf    Wrong = "other-metadata" // its own description names another issuer
)

// Account is somebody who can sign in; nobody asks for a password.
type Account struct {
	Subject string
	Claims  map[string]any
}

// Name is what the page shows.
func (a Account) Name() string {
	name, _ := a.Claims["name"].(string)
	return name
}

// Server is the stand-in. Use New.
type Server struct {
	mux *http.ServeMux

	mu       sync.Mutex
	accounts []Account
	key      *rsa.PrivateKey
	keyID    int
	wrong    Wrong
	codes    map[string]code
	access   map[string]Account
	sessions int
}

// code is one that was given out.
type code struct {
	account                             Account
	nonce, challenge, redirect, session string
}

// New is a provider for the people of a school and a few beside the register.
func New(s *school.School) *Server {
	x := &Server{mux: http.NewServeMux(), codes: map[string]code{}, access: map[string]Account{}}
	for _, p := range s.People() {
		if p.Secondary || p.Role == "ext:preview" {
			continue
		}
		group := "learners"
		if p.Role == "teacher" {
			group = "staff"
		}
		x.accounts = append(x.accounts, Account{"fern-" + p.ID, map[string]any{
			"name": p.Name(), "given_name": p.GivenName, "family_name": p.FamilyName, "email": p.Email,
			"email_verified": p.Email != "", "groups": []string{group}, "school_id": p.ID,
		}})
	}
	x.accounts = append(x.accounts,
		Account{"fern-desk", map[string]any{
			"name": "Dora Desk", "email": "dora.desk@fernmoor.example", "email_verified": true,
			"groups": []string{"staff", "help-desk"},
		}},
		Account{"fern-orchard-office", map[string]any{
			"name": "Oswin Orchard", "email": "oswin.orchard@fernmoor.example", "email_verified": true,
			"groups": []string{"staff", "orchard-office"},
		}},
		Account{"fern-visitor", map[string]any{"name": "Vida Visitor", "groups": []string{}}},
	)
	x.Rotate()
	x.mux.HandleFunc("GET /.well-known/openid-configuration", x.metadata)
	x.mux.HandleFunc("GET /keys", x.keys)
	x.mux.HandleFunc("GET /authorize", x.ask)
	x.mux.HandleFunc("POST /authorize", x.answer)
	x.mux.HandleFunc("POST /token", x.token)
	x.mux.HandleFunc("GET /userinfo", x.userinfo)
	x.mux.HandleFunc("GET /sign-out", x.signOut)
	return x
}

// ServeHTTP implements http.Handler.
func (x *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { x.mux.ServeHTTP(w, r) }

// Rotate takes another key in place of the one that there was.
func (x *Server) Rotate() {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err) // the machine has no randomness
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.key, x.keyID = key, x.keyID+1
}

// Lie makes every answer from now on wrong in one way; Right ends that.
func (x *Server) Lie(how Wrong) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.wrong = how
}

// Change lets the claims of an account be others.
func (x *Server) Change(subject string, change func(claims map[string]any)) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for i, a := range x.accounts {
		if a.Subject == subject {
			x.accounts[i].Claims = maps.Clone(a.Claims)
			change(x.accounts[i].Claims)
		}
	}
}

func (x *Server) lies(how Wrong) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.wrong == how
}

func write(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func refuse(w http.ResponseWriter, status int, code, text string) {
	write(w, status, map[string]string{"error": code, "error_description": text})
}

func issuer(r *http.Request) string { return "http://" + r.Host }

func (x *Server) metadata(w http.ResponseWriter, r *http.Request) {
	at, self := issuer(r), issuer(r)
	if x.lies(OtherSelf) {
		self = "https://elsewhere.example"
	}
	write(w, http.StatusOK, map[string]any{
		"issuer": self, "authorization_endpoint": at + "/authorize", "token_endpoint": at + "/token",
		"userinfo_endpoint": at + "/userinfo", "jwks_uri": at + "/keys", "end_session_endpoint": at + "/sign-out",
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
		"id_token_signing_alg_values_supported":          []string{"RS256"},
		"scopes_supported":                               []string{"openid", "profile", "email"},
		"code_challenge_methods_supported":               []string{"S256"},
		"token_endpoint_auth_methods_supported":          []string{"client_secret_basic", "client_secret_post"},
		"authorization_response_iss_parameter_supported": true,
		"backchannel_logout_supported":                   true, "backchannel_logout_session_supported": true,
	})
}

func (x *Server) keys(w http.ResponseWriter, _ *http.Request) {
	x.mu.Lock()
	key := jose.JSONWebKey{Key: x.key.Public(), KeyID: strconv.Itoa(x.keyID), Algorithm: "RS256", Use: "sig"}
	x.mu.Unlock()
	write(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{key}})
}

var choose = template.Must(template.New("choose").Parse(`<form method="post">
{{range $k, $v := .Query}}{{range $v}}<input type="hidden" name="{{$k}}" value="{{.}}">{{end}}{{end}}
<label>Sign in as <select name="account" id="account">{{range .Accounts}}<option value="{{.Subject}}">{{.Name}}</option>{{end}}</select></label>
<button name="answer" value="yes" id="allow">Sign in</button> <button name="answer" value="no" id="refuse">Refuse</button></form>`))

// known refuses what did not come from the registered client (Core 1.0, 3.1.2.2).
func known(w http.ResponseWriter, r *http.Request) bool {
	u, err := url.Parse(r.FormValue("redirect_uri"))
	if err != nil || !strings.HasPrefix(u.Path, "/providers/") || !strings.HasSuffix(u.Path, "/back") {
		http.Error(w, "the redirect_uri is not one that is registered", http.StatusBadRequest)
		return false
	}
	scopes := strings.Fields(r.FormValue("scope"))
	if r.FormValue("client_id") != ClientID || r.FormValue("response_type") != "code" ||
		!slices.Contains(scopes, "openid") || r.FormValue("code_challenge_method") != "S256" {
		back(w, r, url.Values{
			"error":             {"unauthorized_client"},
			"error_description": {"This client is not registered, or does not use PKCE."},
		})
		return false
	}
	return true
}

// back sends the browser back with an answer.
func back(w http.ResponseWriter, r *http.Request, says url.Values) {
	u, err := url.Parse(r.FormValue("redirect_uri"))
	if err != nil {
		http.Error(w, "there is nowhere to go back to", http.StatusBadRequest)
		return
	}
	says.Set("state", r.FormValue("state"))
	if !says.Has("iss") {
		says.Set("iss", issuer(r))
	}
	u.RawQuery = says.Encode()
	http.Redirect(w, r, u.String(), http.StatusFound)
}

func (x *Server) ask(w http.ResponseWriter, r *http.Request) {
	if !known(w, r) {
		return
	}
	x.mu.Lock()
	accounts := slices.Clone(x.accounts)
	x.mu.Unlock()
	var body bytes.Buffer
	_ = choose.Execute(&body, map[string]any{"Query": r.URL.Query(), "Accounts": accounts})
	page.Write(w, page.Page{
		Title: "Fernmoor sign-in", About: "Stand-in for an institution's own sign-in. It speaks OpenID Connect.",
		Body: template.HTML(body.String()),
	})
}

func (x *Server) answer(w http.ResponseWriter, r *http.Request) {
	if !known(w, r) {
		return
	}
	x.mu.Lock()
	i := slices.IndexFunc(x.accounts, func(a Account) bool { return a.Subject == r.FormValue("account") })
	if r.FormValue("answer") == "no" || i < 0 {
		x.mu.Unlock()
		back(w, r, url.Values{"error": {"access_denied"}, "error_description": {"You refused."}})
		return
	}
	given := rand.Text()
	x.sessions++
	x.codes[given] = code{
		x.accounts[i], r.FormValue("nonce"), r.FormValue("code_challenge"), r.FormValue("redirect_uri"),
		fmt.Sprint("session-", x.sessions),
	}
	wrong := x.wrong
	x.mu.Unlock()
	says := url.Values{"code": {given}}
	if wrong == OtherAnswer {
		says.Set("iss", "https://elsewhere.example")
	}
	back(w, r, says)
}

func (x *Server) token(w http.ResponseWriter, r *http.Request) {
	id, secret, basic := r.BasicAuth()
	if !basic {
		id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	if id != ClientID || secret != ClientSecret {
		w.Header().Set("WWW-Authenticate", "Basic")
		refuse(w, http.StatusUnauthorized, "invalid_client", "client or secret are not right")
		return
	}
	x.mu.Lock()
	c, there := x.codes[r.FormValue("code")]
	delete(x.codes, r.FormValue("code"))
	x.mu.Unlock()
	sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	if !there || c.redirect != r.FormValue("redirect_uri") ||
		base64.RawURLEncoding.EncodeToString(sum[:]) != c.challenge {
		refuse(w, http.StatusBadRequest, "invalid_grant", "this code is not known, was used, or is not yours")
		return
	}
	idToken, err := x.idToken(r, c)
	if err != nil {
		refuse(w, http.StatusInternalServerError, "server_error", err.Error())
		return
	}
	access := rand.Text()
	x.mu.Lock()
	x.access[access] = c.account
	x.mu.Unlock()
	write(w, http.StatusOK, map[string]any{
		"access_token": access, "token_type": "Bearer", "expires_in": 300, "id_token": idToken,
	})
}

// idToken makes one (Core 1.0, 2), wrong in the way that was asked for.
func (x *Server) idToken(r *http.Request, c code) (string, error) {
	x.mu.Lock()
	wrong := x.wrong
	x.mu.Unlock()
	now := time.Now()
	claims := map[string]any{
		"iss": issuer(r), "sub": c.account.Subject, "aud": ClientID, "nonce": c.nonce, "sid": c.session,
		"iat": now.Unix(), "exp": now.Add(5 * time.Minute).Unix(),
	}
	maps.Copy(claims, c.account.Claims)
	switch wrong {
	case OtherIssuer:
		claims["iss"] = "https://elsewhere.example"
	case OtherClient:
		claims["aud"] = "another-client"
	case TwoClients:
		claims["aud"] = []string{"another-client", ClientID}
	case OtherParty:
		claims["azp"] = "another-client"
	case Expired:
		claims["iat"], claims["exp"] = now.Add(-2*time.Hour).Unix(), now.Add(-time.Hour).Unix()
	case OfTomorrow:
		claims["iat"], claims["exp"] = now.Add(24*time.Hour).Unix(), now.Add(25*time.Hour).Unix()
	case OtherNonce:
		claims["nonce"] = "another-question"
	case NoNonce:
		delete(claims, "nonce")
	case NoSubject:
		delete(claims, "sub")
	case NoAddress:
		delete(claims, "email")
	case Unverified:
		claims["email_verified"] = false
	case Huge:
		groups := make([]string, 20_000)
		for i := range groups {
			groups[i] = fmt.Sprint("group-", i)
		}
		claims["groups"] = groups
	case Broken:
		return "this.is.none", nil
	}
	return x.signed(claims, wrong)
}

// signed signs claims, unless that is what is to be wrong.
func (x *Server) signed(claims map[string]any, wrong Wrong) (string, error) {
	x.mu.Lock()
	key, id := x.key, strconv.Itoa(x.keyID)
	x.mu.Unlock()
	sign := jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: key, KeyID: id}}
	switch wrong {
	case Unsigned:
		body, err := json.Marshal(claims)
		return base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." +
			base64.RawURLEncoding.EncodeToString(body) + ".", err
	case OtherKey:
		other, err := rsa.GenerateKey(rand.Reader, 2048)
		if err != nil {
			return "", err
		}
		sign.Key = jose.JSONWebKey{Key: other, KeyID: id}
	case SharedSecret:
		secret := sha256.Sum256([]byte(ClientSecret)) // go-jose takes no short ones
		sign = jose.SigningKey{Algorithm: jose.HS256, Key: secret[:]}
	}
	signer, err := jose.NewSigner(sign, (&jose.SignerOptions{}).WithType("JWT"))
	if err != nil {
		return "", err
	}
	return jwt.Signed(signer).Claims(claims).Serialize()
}

func (x *Server) userinfo(w http.ResponseWriter, r *http.Request) {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	x.mu.Lock()
	a, there := x.access[token]
	wrong := x.wrong
	x.mu.Unlock()
	if !there {
		w.Header().Set("WWW-Authenticate", "Bearer")
		refuse(w, http.StatusUnauthorized, "invalid_token", "this token is not known")
		return
	}
	claims := map[string]any{"sub": a.Subject}
	maps.Copy(claims, a.Claims)
	switch wrong {
	case OtherPerson:
		claims["sub"] = "somebody-else"
	case NoAddress:
		delete(claims, "email")
	case Unverified:
		claims["email_verified"] = false
	}
	write(w, http.StatusOK, claims)
}

// signOut ends the session here and goes back (RP-Initiated Logout 1.0).
func (x *Server) signOut(w http.ResponseWriter, r *http.Request) {
	if to := r.FormValue("post_logout_redirect_uri"); strings.HasSuffix(to, "/sign-in") {
		http.Redirect(w, r, to, http.StatusFound)
		return
	}
	page.Write(w, page.Page{Title: "Fernmoor sign-in", About: "You are signed out."})
}

// LogoutToken makes what says that sessions are over (Back-Channel Logout 1.0, 2.4): of somebody, or one, or both.
// change, unless it is nil, may make it wrong.
func (x *Server) LogoutToken(at, subject, session string, change func(claims map[string]any)) (string, error) {
	now := time.Now()
	claims := map[string]any{
		"iss": at, "aud": ClientID, "iat": now.Unix(), "exp": now.Add(2 * time.Minute).Unix(), "jti": rand.Text(),
		"events": map[string]any{"http://schemas.openid.net/event/backchannel-logout": map[string]any{}},
	}
	if subject != "" {
		claims["sub"] = subject
	}
	if session != "" {
		claims["sid"] = session
	}
	if change != nil {
		change(claims)
	}
	return x.signed(claims, Right)
}
