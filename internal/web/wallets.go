package web

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-oauth2/oauth2/v4"
	oautherrors "github.com/go-oauth2/oauth2/v4/errors"
	"github.com/go-oauth2/oauth2/v4/server"

	"kanban/internal/app/holders"
	"kanban/internal/app/wallets"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/wire/openbadge"
)

var allowPage = template.Must(template.ParseFS(pages, "pages/allow.html", "pages/parts.html"))

// The addresses by which wallets ask for access. A holder allows it beside their page, where their browser is known.
const (
	allowPath    = holders.Path + "/allow"
	tokenPath    = openbadge.APIPath + "/token"
	revokePath   = openbadge.APIPath + "/revoke"
	registerPath = openbadge.APIPath + "/register"
)

// scopeSays puts into words what a wallet may do.
var scopeSays = map[string]string{
	openbadge.ScopeCredentials: "See your badges, and take copies of them along",
	openbadge.ScopeUpsert:      "Put badges here that you got elsewhere",
	openbadge.ScopeProfile:     "See your name and your e-mail address",
	openbadge.ScopeEditProfile: "Change the name under which others see you",
}

// mayDo puts a list of scopes into words.
func mayDo(scopes string) string {
	var all []string
	for _, x := range openbadge.KnownScopes(scopes) {
		says := scopeSays[x]
		if len(all) > 0 {
			says = strings.ToLower(says[:1]) + says[1:]
		}
		all = append(all, says)
	}
	return strings.Join(all, "; ")
}

// wallets registers the Open Badges API and what wallets need to be let in.
func (s *Server) wallets(r chi.Router) {
	s.oauth = s.walletTokens()
	r.Group(func(r chi.Router) {
		r.Use(fromWallets)
		often := func(w http.ResponseWriter, _ *http.Request) {
			apiProblem(w, http.StatusTooManyRequests, "", "that was often; wait a minute, then try again")
		}
		get := func(path string, h http.HandlerFunc) {
			r.Get(path, h)
			r.Options(path, nothingMore)
		}
		get("/.well-known/oauth-authorization-server", s.walletMetadata)
		get(openbadge.APIPath+"/discovery", s.walletDiscovery)
		get(openbadge.APIPath+"/credentials", s.forWallet(openbadge.ScopeCredentials, s.givenCredentials))
		r.Post(openbadge.APIPath+"/credentials", s.forWallet(openbadge.ScopeUpsert, s.broughtCredential))
		get(openbadge.APIPath+"/profile", s.forWallet(openbadge.ScopeProfile, s.givenProfile))
		r.Put(openbadge.APIPath+"/profile", s.forWallet(openbadge.ScopeEditProfile, s.changedProfile))
		for path, h := range map[string]http.HandlerFunc{tokenPath: s.walletToken, revokePath: s.walletRevoke} {
			r.With(slowed(300, time.Minute, s.client, often)).Post(path, h)
			r.Options(path, nothingMore)
		}
		r.With(slowed(30, time.Minute, s.client, often)).Post(registerPath, s.walletRegister)
		r.With(slowed(30, time.Minute, s.client, often)).Post(devicePath, s.beginDevice)
		r.Options(registerPath, nothingMore)
	})
	r.Group(func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler, unsought)
		r.Get(allowPath, s.askHolder)
		r.Post(allowPath, s.holderAllows)
		r.Post(holders.Path+"/wallets", s.holderDoes(s.shutWallet))
		r.Post(holders.Path+"/brought", s.holderDoes(s.dropBrought))
	})
}

// oauthProblem answers as RFC 6749, 5.2, says.
func oauthProblem(w http.ResponseWriter, status int, code, text string) {
	writeJSON(w, status, map[string]string{"error": code, "error_description": text})
}

// nothingMore is for what fromWallets has answered already.
func nothingMore(http.ResponseWriter, *http.Request) {}

// fromWallets lets wallets that are pages of other origins call (Fetch standard, "CORS protocol"): what they may do
// depends on a token alone, never on a cookie.
func fromWallets(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Access-Control-Allow-Origin", "*")
		h.Set("Access-Control-Expose-Headers", "Link, WWW-Authenticate, X-Total-Count")
		h.Set("Cache-Control", "no-store")
		if r.Method == http.MethodOptions {
			h.Set("Access-Control-Allow-Methods", "GET, POST, PUT")
			h.Set("Access-Control-Allow-Headers", "Authorization, Content-Type, Accept")
			h.Set("Access-Control-Max-Age", "600")
			w.WriteHeader(http.StatusNoContent)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// walletTokens is the part of OAuth 2 that gives out tokens (RFC 6749, RFC 7636).
func (s *Server) walletTokens() *server.Server {
	c := server.NewConfig()
	c.ForcePKCE = true
	c.AllowedCodeChallengeMethods = []oauth2.CodeChallengeMethod{oauth2.CodeChallengeS256}
	c.AllowedResponseTypes = []oauth2.ResponseType{oauth2.Code}
	c.AllowedGrantTypes = []oauth2.GrantType{oauth2.AuthorizationCode, oauth2.Refreshing}
	o := server.NewServer(c, s.Wallets.Tokens)
	o.SetClientInfoHandler(s.whichWallet)
	o.SetRefreshingScopeHandler(func(t *oauth2.TokenGenerateRequest, old string) (bool, error) {
		had := strings.Fields(old)
		for _, x := range strings.Fields(t.Scope) {
			if !slices.Contains(had, x) {
				return false, nil
			}
		}
		return true, nil
	})
	o.SetInternalErrorHandler(func(err error) *oautherrors.Response {
		s.Log.Error("giving out a token", "cause", err.Error())
		return nil
	})
	o.SetResponseErrorHandler(func(re *oautherrors.Response) { // RFC 6749, section 5.2
		if re.StatusCode == http.StatusUnauthorized && !errors.Is(re.Error, oautherrors.ErrInvalidClient) {
			re.StatusCode = http.StatusBadRequest
		}
	})
	return o
}

// whichWallet finds who exchanges a code or renews a token, by header or form; whoever has a secret must give it.
func (s *Server) whichWallet(r *http.Request) (id, secret string, err error) {
	id, secret, ok := r.BasicAuth()
	if ok { // RFC 6749, section 2.3.1: both are form-encoded there
		id, _ = url.QueryUnescape(id)
		secret, _ = url.QueryUnescape(secret)
	} else {
		id, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	if _, err := s.Wallets.Known(r.Context(), id, secret); errors.Is(err, db.ErrNotFound) {
		return "", "", oautherrors.ErrInvalidClient
	} else if err != nil {
		return "", "", err
	}
	return id, secret, nil
}

func (s *Server) walletToken(w http.ResponseWriter, r *http.Request) {
	if r.PostFormValue("grant_type") == deviceGrant {
		s.deviceToken(w, r)
		return
	}
	gt, ask, err := s.oauth.ValidationTokenRequest(r)
	if err == nil && gt == oauth2.Refreshing {
		err = s.renewsOwn(r.Context(), ask)
	}
	var given oauth2.TokenInfo
	if err == nil {
		given, err = s.oauth.GetAccessToken(r.Context(), gt, ask)
	}
	if err != nil {
		body, status, _ := s.oauth.GetErrorData(err)
		if status == http.StatusUnauthorized {
			w.Header().Set("WWW-Authenticate", `Basic realm="Kanban"`)
		}
		writeJSON(w, status, body)
		return
	}
	writeJSON(w, http.StatusOK, s.oauth.GetTokenData(given))
}

// renewsOwn makes sure that a wallet renews a token of its own.
func (s *Server) renewsOwn(ctx context.Context, ask *oauth2.TokenGenerateRequest) error {
	had, err := s.Wallets.Tokens.LoadRefreshToken(ctx, ask.Refresh)
	switch {
	case errors.Is(err, oautherrors.ErrInvalidRefreshToken), errors.Is(err, oautherrors.ErrExpiredRefreshToken):
		return oautherrors.ErrInvalidGrant
	case err != nil:
		return err
	case had.GetClientID() != ask.ClientID:
		return oautherrors.ErrInvalidGrant
	}
	return nil
}

// walletRevoke ends a token with its family (RFC 7009); one that is not known is as good as ended.
func (s *Server) walletRevoke(w http.ResponseWriter, r *http.Request) {
	id, _, err := s.whichWallet(r)
	if errors.Is(err, oautherrors.ErrInvalidClient) {
		body, status, _ := s.oauth.GetErrorData(err)
		writeJSON(w, status, body)
		return
	}
	if err == nil {
		err = s.Wallets.Revoke(r.Context(), id, r.PostFormValue("token"))
	}
	if err != nil {
		s.Log.Error("ending a token", "cause", err.Error())
		oauthProblem(w, http.StatusServiceUnavailable, "temporarily_unavailable", "try again")
		return
	}
	w.WriteHeader(http.StatusOK)
}

// walletRegister registers a wallet (RFC 7591).
func (s *Server) walletRegister(w http.ResponseWriter, r *http.Request) {
	wrong := func(code, why string) {
		oauthProblem(w, http.StatusBadRequest, code, why)
	}
	var asked wallets.Registration
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&asked); err != nil {
		wrong("invalid_client_metadata", "the body is not a JSON object as RFC 7591 has it")
		return
	}
	got, err := s.Wallets.Register(r.Context(), asked)
	refused, is := refusal.As(err)
	switch {
	case errors.Is(err, wallets.ErrRedirect):
		wrong("invalid_redirect_uri", refused.Error())
	case is:
		wrong("invalid_client_metadata", refused.Error())
	case err != nil:
		s.Log.Error("registering a wallet", "cause", err.Error())
		oauthProblem(w, http.StatusInternalServerError, "server_error", "try again")
	default:
		writeJSON(w, http.StatusCreated, struct {
			wallets.Registration
			ID     string `json:"client_id"`
			Secret string `json:"client_secret,omitempty"`
			Issued int64  `json:"client_id_issued_at"`
			Ends   *int   `json:"client_secret_expires_at,omitempty"`
		}{got.Registration, got.ID, got.Secret, time.Now().Unix(), neverEnds(got.Secret)})
	}
}

// neverEnds says of a secret, if there is one, that it does not end (RFC 7591, section 3.2.1).
func neverEnds(secret string) *int {
	if secret == "" {
		return nil
	}
	return new(int)
}

// walletMetadata says where access is asked for (RFC 8414).
func (s *Server) walletMetadata(w http.ResponseWriter, _ *http.Request) {
	writeJSON(w, http.StatusOK, map[string]any{
		"issuer": s.Public, "authorization_endpoint": s.Public + allowPath, "token_endpoint": s.Public + tokenPath,
		"registration_endpoint": s.Public + registerPath, "revocation_endpoint": s.Public + revokePath,
		"scopes_supported": openbadge.Scopes, "response_types_supported": []string{"code"},
		"device_authorization_endpoint":    s.Public + devicePath,
		"grant_types_supported":            []string{"authorization_code", "refresh_token", deviceGrant},
		"code_challenge_methods_supported": []string{"S256"},
		"token_endpoint_auth_methods_supported": []string{
			wallets.AuthBasic, wallets.AuthPost, wallets.AuthNone,
		},
		"authorization_response_iss_parameter_supported": true,
	})
}

// askHolder shows a holder what a wallet asks for. Whoever is not on their page yet opens it first.
func (s *Server) askHolder(w http.ResponseWriter, r *http.Request) {
	asked, ok := s.asked(w, r)
	if !ok {
		return
	}
	if s.visitor(r) == "" {
		http.SetCookie(w, s.waitingCookie(base64.RawURLEncoding.EncodeToString([]byte(r.URL.RawQuery)), 3600))
		s.holderAnswer(w, http.StatusOK, map[string]any{"Ask": true, "Waiting": asked.Wallet.Name})
		return
	}
	s.allowAnswer(w, r, asked, http.StatusOK, "")
}

func (s *Server) allowAnswer(w http.ResponseWriter, r *http.Request, asked wallets.Asked, status int, problem string) {
	_, holder, err := s.Holders.Who(r.Context(), s.visitor(r))
	if err != nil {
		s.missing(w, err)
		return
	}
	type scope struct{ Value, Says string }
	all := make([]scope, len(asked.Scopes))
	for i, x := range asked.Scopes {
		all[i] = scope{x, scopeSays[x]}
	}
	to := asked.Redirect.Scheme + ":"
	if asked.Redirect.Host != "" {
		to = asked.Redirect.Scheme + "://" + asked.Redirect.Host
	}
	// The answer leads back to the wallet, and what a form leads to is bound (CSP 3, section 6.4.1).
	policy := w.Header().Get("Content-Security-Policy")
	w.Header().Set("Content-Security-Policy", strings.Replace(policy, "form-action 'self'", "form-action 'self' "+to, 1))
	s.ownPage(w, allowPage, status, map[string]any{
		"Wallet": asked.Wallet, "Back": strings.TrimSuffix(to, ":"), "Scopes": all, "Name": holder.ShownName,
		"Problem": problem,
	})
}

// asked reads what a wallet asks for and answers what cannot be: to the wallet if it is known where it is, to the
// holder otherwise.
func (s *Server) asked(w http.ResponseWriter, r *http.Request) (wallets.Asked, bool) {
	q := r.URL.Query()
	asked, err := s.Wallets.Ask(r.Context(), q.Get("client_id"), q.Get("redirect_uri"), q.Get("scope"))
	switch {
	case errors.Is(err, db.ErrNotFound), errors.Is(err, wallets.ErrRedirect):
		s.holderAnswer(w, http.StatusBadRequest, map[string]any{
			"Problem": "This link does not come from a wallet that is registered here. Start again in your wallet.",
		})
		return asked, false
	case err != nil:
		s.missing(w, err)
		return asked, false
	}
	back := func(code, why string) (wallets.Asked, bool) {
		s.backToWallet(w, r, asked, url.Values{"error": {code}, "error_description": {why}})
		return asked, false
	}
	switch {
	case q.Get("response_type") != "code":
		return back("unsupported_response_type", "use code")
	case q.Get("code_challenge_method") != "S256", len(q.Get("code_challenge")) != 43:
		return back("invalid_request", "a code_challenge with the method S256 is needed (RFC 7636)")
	case len(asked.Scopes) == 0:
		return back("invalid_scope", "none of the scopes can be given to this wallet")
	}
	return asked, true
}

// backToWallet sends a browser back to a wallet (RFC 6749, section 4.1.2; RFC 9207).
func (s *Server) backToWallet(w http.ResponseWriter, r *http.Request, asked wallets.Asked, says url.Values) {
	to := *asked.Redirect
	q := to.Query()
	for name := range says {
		q.Set(name, says.Get(name))
	}
	q.Set("iss", s.Public)
	if state := r.URL.Query().Get("state"); state != "" {
		q.Set("state", state)
	}
	to.RawQuery = q.Encode()
	http.Redirect(w, r, to.String(), http.StatusSeeOther)
}

// holderAllows lets a wallet do what its holder ticked, or sends it away.
func (s *Server) holderAllows(w http.ResponseWriter, r *http.Request) {
	asked, ok := s.asked(w, r)
	if !ok {
		return
	}
	person := s.visitor(r)
	switch {
	case person == "":
		s.askHolder(w, r)
		return
	case r.PostFormValue("answer") != "allow":
		s.backToWallet(w, r, asked, url.Values{"error": {"access_denied"}, "error_description": {"The holder refused."}})
		return
	}
	scopes := slices.DeleteFunc(slices.Clone(asked.Scopes), func(x string) bool {
		return !slices.Contains(r.PostForm["scope"], x)
	})
	err := s.Wallets.Allow(r.Context(), person, asked.Wallet, scopes)
	if refused, is := refusal.As(err); is {
		s.allowAnswer(w, r, asked, http.StatusUnprocessableEntity, refused.Detail)
		return
	}
	if err != nil {
		s.missing(w, err)
		return
	}
	q := r.URL.Query()
	code, err := s.oauth.GetAuthorizeToken(r.Context(), &server.AuthorizeRequest{
		ResponseType: oauth2.Code, ClientID: asked.Wallet.ID, RedirectURI: asked.Redirect.String(), UserID: person,
		Scope: strings.Join(scopes, " "), State: q.Get("state"), CodeChallenge: q.Get("code_challenge"),
		CodeChallengeMethod: oauth2.CodeChallengeS256, Request: r,
	})
	if err != nil {
		s.missing(w, err)
		return
	}
	s.backToWallet(w, r, asked, url.Values{"code": {code.GetCode()}})
}

// waitingCookie keeps what a wallet asked for until its holder has opened their page.
func (s *Server) waitingCookie(value string, age int) *http.Cookie {
	c := s.holderCookie(value, age)
	c.Name = "kanban_wallet"
	return c
}

// entered is where somebody goes who has opened their page: back to what a wallet asked for, if one waits.
func (s *Server) entered(w http.ResponseWriter, r *http.Request) string {
	c, err := r.Cookie("kanban_wallet")
	if err != nil {
		return holders.Path
	}
	http.SetCookie(w, s.waitingCookie("", -1))
	query, err := base64.RawURLEncoding.DecodeString(c.Value)
	if err != nil {
		return holders.Path
	}
	asked, err := url.ParseQuery(string(query))
	if err != nil {
		return holders.Path
	}
	return allowPath + "?" + asked.Encode()
}

func (s *Server) shutWallet(ctx context.Context, person string, form url.Values) (string, error) {
	return "wallet", s.Wallets.ShutOut(ctx, person, form.Get("wallet"))
}

func (s *Server) dropBrought(ctx context.Context, person string, form url.Values) (string, error) {
	return "brought", s.Wallets.RemoveBrought(ctx, person, form.Get("credential"))
}
