package web_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/oauth2"

	"kanban/internal/app/badges"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/wire/openbadge"
)

// tin is somebody with a badge, their browser, and a wallet that speaks OAuth 2 through somebody else's client.
type tin struct {
	*site
	browser *http.Client
	person  string
	award   badgestore.Award
	config  *oauth2.Config
}

const tinBack = "https://tin.example/back?app=1"

func newTin(t *testing.T) *tin {
	t.Helper()
	x := open(t, nil)
	x.Badges.Public, x.Holders.Public, x.web.Public = x.URL+"/open", x.URL, x.URL
	address := awarded(t, x)
	a, err := badgestore.FindAward(t.Context(), x.Store, address[strings.LastIndex(address, "/")+1:])
	require.NoError(t, err)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	p := &tin{site: x, person: a.PersonID, award: a, browser: &http.Client{
		Jar: jar, Timeout: 10 * time.Second,
		CheckRedirect: func(r *http.Request, _ []*http.Request) error {
			if r.URL.Host == "tin.example" {
				return http.ErrUseLastResponse // that is the wallet's
			}
			return nil
		},
	}}
	p.config = p.registered(`{"client_name": "Seed tin", "redirect_uris": ["` + tinBack + `"]}`)
	return p
}

// registered is a wallet that has registered itself by what the service says of itself.
func (p *tin) registered(about string) *oauth2.Config {
	p.t.Helper()
	var d openbadge.Discovery
	_, text := p.ask(http.MethodGet, openbadge.APIPath+"/discovery", "")
	require.NoError(p.t, json.Unmarshal([]byte(text), &d))
	scheme := d.Components.SecuritySchemes[openbadge.SchemeName]
	resp, text := p.ask(http.MethodPost, strings.TrimPrefix(scheme.Registration, p.URL), about)
	require.Equal(p.t, http.StatusCreated, resp.StatusCode, text)
	var got struct {
		ID        string   `json:"client_id"`
		Secret    string   `json:"client_secret"`
		Redirects []string `json:"redirect_uris"`
		Scope     string   `json:"scope"`
	}
	require.NoError(p.t, json.Unmarshal([]byte(text), &got))
	flow := scheme.Flows[openbadge.FlowName]
	return &oauth2.Config{
		ClientID: got.ID, ClientSecret: got.Secret, RedirectURL: got.Redirects[0], Scopes: strings.Fields(got.Scope),
		Endpoint: oauth2.Endpoint{AuthURL: flow.Authorization, TokenURL: flow.Token},
	}
}

// enter opens the page of the holder in their browser.
func (p *tin) enter() (where *url.URL) {
	p.t.Helper()
	link, err := p.Holders.LinkFor(p.t.Context(), p.person)
	require.NoError(p.t, err)
	resp, err := p.browser.PostForm(link, url.Values{"address": {p.Person("stu-001").Email}})
	require.NoError(p.t, err)
	defer resp.Body.Close()
	require.Equal(p.t, http.StatusOK, resp.StatusCode)
	return resp.Request.URL
}

// answers sends what the holder answers a wallet, and gives what the wallet gets.
func (p *tin) answers(address, answer string, scopes ...string) url.Values {
	p.t.Helper()
	resp, err := p.browser.PostForm(address, url.Values{"answer": {answer}, "scope": scopes})
	require.NoError(p.t, err)
	defer resp.Body.Close()
	require.Equal(p.t, http.StatusSeeOther, resp.StatusCode)
	to, err := resp.Location()
	require.NoError(p.t, err)
	require.Equal(p.t, "tin.example", to.Host)
	assert.Equal(p.t, "1", to.Query().Get("app"), "what the address had stays")
	assert.Equal(p.t, p.URL, to.Query().Get("iss"))
	return to.Query()
}

// token is what a wallet gets that its holder allows some of the scopes.
func (p *tin) allowed(c *oauth2.Config, scopes ...string) (code string, token *oauth2.Token) {
	p.t.Helper()
	verifier := oauth2.GenerateVerifier()
	back := p.answers(c.AuthCodeURL("st", oauth2.S256ChallengeOption(verifier)), "allow", scopes...)
	assert.Equal(p.t, "st", back.Get("state"))
	token, err := c.Exchange(p.t.Context(), back.Get("code"), oauth2.VerifierOption(verifier))
	require.NoError(p.t, err)
	return back.Get("code"), token
}

// with asks the Open Badges API with a token.
func (p *tin) with(token, method, path, body string, header ...string) (*http.Response, string) {
	p.t.Helper()
	return p.ask(method, openbadge.APIPath+path, body, append([]string{"Authorization", "Bearer " + token},
		header...)...)
}

// A wallet registers itself, its holder allows it, and it takes their badges along byte for byte, until it is shut
// out.
func TestWalletTakesBadgesAlong(t *testing.T) {
	p := newTin(t)
	p.enter()
	verifier := oauth2.GenerateVerifier()
	address := p.config.AuthCodeURL("s1", oauth2.S256ChallengeOption(verifier))
	resp, err := p.browser.Get(address)
	require.NoError(t, err)
	page := text(t, resp)
	for _, says := range []string{
		"Seed tin asks for access", "nobody here has checked that", "<b>https://tin.example</b>",
		"See your badges, and take copies of them along", "Change the name under which others see you",
	} {
		assert.Contains(t, page, says)
	}
	assert.Contains(t, resp.Header.Get("Content-Security-Policy"), "form-action 'self' https://tin.example")
	assert.Equal(t, "no-store", resp.Header.Get("Cache-Control"))
	assert.Empty(t, resp.Header.Get("Access-Control-Allow-Origin"))
	assert.Equal(t, "access_denied", p.answers(address, "refuse").Get("error"))

	_, token := p.allowed(p.config, openbadge.ScopeCredentials, openbadge.ScopeProfile)
	resp, body := p.with(token.AccessToken, http.MethodGet, "/credentials?limit=1", "")
	require.Equal(t, http.StatusOK, resp.StatusCode, body)
	var got openbadge.Credentials
	require.NoError(t, json.Unmarshal([]byte(body), &got))
	require.Len(t, got.Credential, 1)
	assert.JSONEq(t, string(p.award.Document), string(got.Credential[0]))
	assert.Equal(t, openbadge.Valid, p.verdict(string(got.Credential[0])))
	assert.Equal(t, "1", resp.Header.Get("X-Total-Count"))
	assert.Contains(t, resp.Header.Get("Link"), `rel="first"`)
	assert.NotContains(t, resp.Header.Get("Link"), `rel="next"`)
	_, body = p.with(token.AccessToken, http.MethodGet, "/credentials?since=2999-01-01T00:00:00Z", "")
	assert.JSONEq(t, `{}`, body)
	for _, query := range []string{"limit=0", "limit=x", "offset=-1", "since=yesterday"} {
		resp, body = p.with(token.AccessToken, http.MethodGet, "/credentials?"+query, "")
		assert.Equal(t, http.StatusBadRequest, resp.StatusCode, query)
		assert.Contains(t, body, `"invalid_query_parameter"`)
	}
	_, body = p.with(token.AccessToken, http.MethodGet, "/profile", "")
	assert.Contains(t, body, `"email":"`+p.Person("stu-001").Email+`"`)
	resp, body = p.with(token.AccessToken, http.MethodPut, "/profile", `{"name": "A."}`)
	assert.Equal(t, http.StatusForbidden, resp.StatusCode, "it was not ticked")
	assert.Contains(t, resp.Header.Get("WWW-Authenticate"), "insufficient_scope")
	assert.Contains(t, body, `"imsx_codeMinor"`)

	resp, err = p.browser.Get(p.URL + "/open/holder")
	require.NoError(t, err)
	page = text(t, resp)
	assert.Contains(t, page, "See your badges, and take copies of them along; see your name and your e-mail address")
	assert.Contains(t, page, "used last on")
	resp, err = p.browser.PostForm(p.URL+"/open/holder/wallets", url.Values{"wallet": {p.config.ClientID}})
	require.NoError(t, err)
	assert.Contains(t, text(t, resp), "The wallet can do nothing here any more")
	resp, _ = p.with(token.AccessToken, http.MethodGet, "/credentials", "")
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode)
	assert.Contains(t, resp.Header.Get("WWW-Authenticate"), "invalid_token")
}

func text(t *testing.T, resp *http.Response) string {
	t.Helper()
	defer resp.Body.Close()
	all, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return string(all)
}

// Whoever is not on their page yet is asked to open it, and is then where the wallet had sent them.
func TestWalletWaitsForItsHolder(t *testing.T) {
	p := newTin(t)
	address := p.config.AuthCodeURL("s1", oauth2.S256ChallengeOption(oauth2.GenerateVerifier()))
	resp, err := p.browser.Get(address)
	require.NoError(t, err)
	page := text(t, resp)
	assert.Contains(t, page, "<b>Seed tin</b> asks for access to your badges")
	assert.Contains(t, page, "Send me a link")
	where := p.enter()
	assert.Equal(t, "/open/holder/allow", where.Path)
	assert.Equal(t, "s1", where.Query().Get("state"))
	assert.Equal(t, "/open/holder", p.enter().Path, "once")
	q := p.answers(where.String(), "allow", openbadge.ScopeProfile)
	assert.NotEmpty(t, q.Get("code"))
	resp, err = p.browser.PostForm(where.String(), url.Values{"answer": {"allow"}})
	require.NoError(t, err)
	assert.Equal(t, http.StatusUnprocessableEntity, resp.StatusCode, "nothing is ticked")
	assert.Contains(t, text(t, resp), "tick what the wallet may do")
}

// A token is renewed once: of many who try with the same at once, one is given another. A code that is used twice ends
// everything.
func TestWalletTokensAreUsedOnce(t *testing.T) {
	p := newTin(t)
	p.enter()
	code, token := p.allowed(p.config, openbadge.Scopes...)
	var given atomic.Value
	var n atomic.Int32
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			next, err := p.config.TokenSource(context.Background(),
				&oauth2.Token{RefreshToken: token.RefreshToken}).Token()
			if err == nil {
				n.Add(1)
				given.Store(next)
			}
		})
	}
	all.Wait()
	require.Equal(t, int32(1), n.Load())
	next := given.Load().(*oauth2.Token)
	resp, _ := p.with(token.AccessToken, http.MethodGet, "/profile", "")
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode, "the former one")
	resp, _ = p.with(next.AccessToken, http.MethodGet, "/profile", "")
	assert.Equal(t, http.StatusOK, resp.StatusCode)

	more := url.Values{"grant_type": {"refresh_token"}, "refresh_token": {next.RefreshToken}}
	ask := func(c *oauth2.Config, form url.Values) (*http.Response, string) {
		form.Set("client_id", c.ClientID)
		form.Set("client_secret", c.ClientSecret)
		return p.ask(http.MethodPost, openbadge.APIPath+"/token", form.Encode(), "Content-Type", "application/x-www-form-urlencoded")
	}
	other := p.registered(`{"client_name": "Other", "redirect_uris": ["` + tinBack + `"]}`)
	resp, body := ask(other, more)
	assert.Equal(t, http.StatusBadRequest, resp.StatusCode, "another wallet's")
	assert.Contains(t, body, `"invalid_grant"`)
	resp, body = ask(&oauth2.Config{ClientID: p.config.ClientID, ClientSecret: "x"}, more)
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode)
	assert.Contains(t, body, `"invalid_client"`)
	_, reads := p.allowed(other, openbadge.ScopeProfile)
	resp, body = ask(other, url.Values{
		"grant_type": {"refresh_token"}, "refresh_token": {reads.RefreshToken}, "scope": {openbadge.ScopeUpsert},
	})
	assert.Equal(t, http.StatusBadRequest, resp.StatusCode, "more than it was given")
	assert.Contains(t, body, `"invalid_scope"`)

	_, err := p.config.Exchange(t.Context(), code, oauth2.VerifierOption(oauth2.GenerateVerifier()))
	require.Error(t, err)
	resp, _ = p.with(next.AccessToken, http.MethodGet, "/profile", "")
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode, "two had the code")
	resp, _ = p.with(reads.AccessToken, http.MethodGet, "/profile", "")
	assert.Equal(t, http.StatusOK, resp.StatusCode, "the other wallet is not concerned")
	form := url.Values{
		"token": {reads.AccessToken}, "client_id": {other.ClientID},
		"client_secret": {other.ClientSecret},
	}
	for range 2 { // RFC 7009: one that is not known any more is as good as ended
		resp, _ = p.ask(http.MethodPost, openbadge.APIPath+"/revoke", form.Encode(), "Content-Type", "application/x-www-form-urlencoded")
		assert.Equal(t, http.StatusOK, resp.StatusCode)
	}
	for _, kept := range []string{reads.AccessToken, reads.RefreshToken, "", "x", strings.ToUpper(next.AccessToken)} {
		resp, _ = p.with(kept, http.MethodGet, "/profile", "")
		assert.Equal(t, http.StatusUnauthorized, resp.StatusCode, kept)
	}
}

// What cannot be granted is said to the wallet; whoever is none is told to the holder, and nobody is sent there.
func TestWalletsThatAskWrongly(t *testing.T) {
	p := newTin(t)
	p.enter()
	challenge := oauth2.S256ChallengeOption(oauth2.GenerateVerifier())
	for name, c := range map[string]struct{ address, says string }{
		"no challenge": {p.config.AuthCodeURL("s"), "invalid_request"},
		"plain challenge": {
			p.config.AuthCodeURL("s", oauth2.SetAuthURLParam("code_challenge", strings.Repeat("a", 43))),
			"invalid_request",
		},
		"a token": {p.config.AuthCodeURL("s", challenge, oauth2.SetAuthURLParam("response_type", "token")), "unsupported_response_type"},
		"other scopes": {
			p.config.AuthCodeURL("s", challenge, oauth2.SetAuthURLParam("scope", "everything")),
			"invalid_scope",
		},
	} {
		assert.Equal(t, c.says, p.answers(c.address, "allow", openbadge.Scopes...).Get("error"), name)
	}
	for name, option := range map[string]oauth2.AuthCodeOption{
		"unknown":   oauth2.SetAuthURLParam("client_id", "wallet-x"),
		"elsewhere": oauth2.SetAuthURLParam("redirect_uri", "https://tin.example/back?app=2"),
		"a part":    oauth2.SetAuthURLParam("redirect_uri", "https://tin.example/back"),
	} {
		resp, err := p.browser.PostForm(p.config.AuthCodeURL("s", challenge, option), url.Values{"answer": {"allow"}})
		require.NoError(t, err)
		assert.Equal(t, http.StatusBadRequest, resp.StatusCode, name)
		assert.Contains(t, text(t, resp), "does not come from a wallet that is registered here")
	}
	for name, about := range map[string]string{
		"no address":     `{"client_name": "X"}`,
		"a script":       `{"redirect_uris": ["javascript:alert(1)"]}`,
		"data":           `{"redirect_uris": ["data:text/html,x"]}`,
		"open http":      `{"redirect_uris": ["http://tin.example/"]}`,
		"a fragment":     `{"redirect_uris": ["https://tin.example/#x"]}`,
		"somebody's":     `{"redirect_uris": ["https://maud@tin.example/"]}`,
		"not one of all": `{"redirect_uris": ["https://tin.example/", "ftp://tin.example/"]}`,
		"a secret key":   `{"redirect_uris": ["https://tin.example/"], "token_endpoint_auth_method": "private_key_jwt"}`,
		"a password":     `{"redirect_uris": ["https://tin.example/"], "grant_types": ["password"]}`,
		"other scopes":   `{"redirect_uris": ["https://tin.example/"], "scope": "openid"}`,
		"a long name":    `{"redirect_uris": ["https://tin.example/"], "client_name": "` + strings.Repeat("x", 201) + `"}`,
		"no JSON":        `redirect_uris`,
		"too much":       `{"client_name": "` + strings.Repeat(" ", 70<<10) + `"}`,
	} {
		resp, body := p.ask(http.MethodPost, openbadge.APIPath+"/register", about)
		assert.Equal(t, http.StatusBadRequest, resp.StatusCode, name)
		assert.Contains(t, body, `"error":"invalid_`, name)
	}
	app := p.registered(`{"client_name": "  An\u0000 app\n", "redirect_uris": ["example.app:/back", "http://127.0.0.1:9/b"],
		"token_endpoint_auth_method": "none", "client_uri": "http://no.example"}`)
	assert.Empty(t, app.ClientSecret, "it can keep none")
	resp, err := p.browser.Get(app.AuthCodeURL("s", challenge))
	require.NoError(t, err)
	page := text(t, resp)
	assert.Contains(t, page, "<h1>An app asks for access</h1>")
	assert.NotContains(t, page, "no.example")
}

// A wallet brings credentials from elsewhere: its holder's own, unaltered, each once.
func TestWalletBringsCredentials(t *testing.T) {
	p := newTin(t)
	p.enter()
	_, token := p.allowed(p.config, openbadge.Scopes...)
	theirs := strings.TrimSpace(peer(t, "issue"))
	post := func(content, kind string) (int, string) {
		resp, body := p.with(token.AccessToken, http.MethodPost, "/credentials", content, "Content-Type", kind)
		return resp.StatusCode, body
	}
	status, body := post(theirs, "application/json")
	assert.Equal(t, http.StatusBadRequest, status, "it is somebody else's")
	assert.Contains(t, body, "was not awarded to the e-mail address")
	_, err := db.Exec(t.Context(), p.Store, `UPDATE people SET email = 'Ana@example.org' WHERE id = $1`, p.person)
	require.NoError(t, err)
	status, body = post(theirs, "application/json")
	assert.Equal(t, http.StatusCreated, status, body)
	assert.Equal(t, theirs, body, "it is echoed")
	status, _ = post("\n"+theirs+" ", "application/vc")
	assert.Equal(t, http.StatusNotModified, status)
	status, body = post(strings.Replace(theirs, "Another garden", "Another  garden", 1), "application/json")
	assert.Equal(t, http.StatusBadRequest, status)
	assert.Contains(t, body, "does not hold")
	again := strings.TrimSpace(peer(t, "issue")) // the same, signed by another key
	status, body = post(again, "application/json")
	assert.Equal(t, http.StatusOK, status, body)
	status, _ = post(string(p.award.Document), "application/json")
	assert.Equal(t, http.StatusNotModified, status, "of this service")

	var asked atomic.Int32
	listening := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked.Add(1) }))
	t.Cleanup(listening.Close)
	for name, c := range map[string]struct {
		content, kind string
		want          int
	}{
		"an address":  {listening.URL + "/badge.json", "text/plain", 400},
		"nothing":     {" ", "application/json", 400},
		"half":        {theirs[:len(theirs)/2], "application/json", 400},
		"an array":    {"[" + theirs + "]", "application/json", 400},
		"another":     {`{"id": "urn:x", "type": ["VerifiableCredential"]}`, "application/json", 400},
		"no proof":    {theirs[:strings.Index(theirs, `"proof"`)] + `"x": 1}`, "application/json", 400},
		"three words": {"a.b.c", "text/plain", 400},
		"a picture":   {"\x89PNG", "image/png", 415},
		"too much":    {`{"x": "` + strings.Repeat("x", 300<<10) + `"}`, "application/json", 413},
	} {
		status, body := post(c.content, c.kind)
		assert.Equal(t, c.want, status, "%s: %s", name, body)
		assert.Contains(t, body, `"imsx_severity":"error"`, name)
	}
	assert.Zero(t, asked.Load(), "an address is not followed")

	resp, err := p.browser.Get(p.URL + "/open/holder")
	require.NoError(t, err)
	page := text(t, resp)
	assert.Contains(t, page, "Another garden, brought by Seed tin")
	assert.Contains(t, page, "Valid then")
	_, body = p.with(token.AccessToken, http.MethodGet, "/credentials", "")
	var got openbadge.Credentials
	require.NoError(t, json.Unmarshal([]byte(body), &got))
	require.Len(t, got.Credential, 2)
	assert.JSONEq(t, again, string(got.Credential[1]), "what came last")
	all, err := p.Wallets.Brought(t.Context(), p.person)
	require.NoError(t, err)
	resp, err = p.browser.PostForm(p.URL+"/open/holder/brought", url.Values{"credential": {all[0].ID}})
	require.NoError(t, err)
	assert.Contains(t, text(t, resp), "Removed.")
}

// The pages of many credentials hold each once; a profile's name is corrected once the terms are accepted.
func TestWalletReadsPagesAndProfile(t *testing.T) {
	p := newTin(t)
	p.enter()
	ctx := t.Context()
	all, err := p.Badges.Badges(ctx, nil)
	require.NoError(t, err)
	for _, name := range []string{"Pots", "Seeds", "Soil", "Tools"} {
		b, err := p.Badges.AddBadge(ctx, "Maud", badgestore.Badge{
			IssuerID: all[0].IssuerID, Name: name, Description: "D.", Criteria: "C.",
		})
		require.NoError(t, err)
		_, err = p.Badges.AwardByHand(ctx, badges.Anybody("Maud"), b.ID, []string{p.person}, badges.Wish{}, true)
		require.NoError(t, err)
	}
	_, token := p.allowed(p.config, openbadge.Scopes...)
	seen := map[string]int{}
	for address := openbadge.APIPath + "/credentials?limit=2"; address != ""; {
		resp, body := p.ask(http.MethodGet, address, "", "Authorization", "Bearer "+token.AccessToken)
		assert.Equal(t, "5", resp.Header.Get("X-Total-Count"))
		var got openbadge.Credentials
		require.NoError(t, json.Unmarshal([]byte(body), &got))
		for _, c := range got.Credential {
			var x struct{ Name string }
			require.NoError(t, json.Unmarshal(c, &x))
			seen[x.Name]++
		}
		address = ""
		for _, link := range strings.Split(resp.Header.Get("Link"), ", ") {
			if to, ok := strings.CutSuffix(link, `>; rel="next"`); ok {
				address = strings.TrimPrefix(to, "<"+p.URL)
			}
		}
	}
	assert.Equal(t, map[string]int{"Cuttings": 1, "Pots": 1, "Seeds": 1, "Soil": 1, "Tools": 1}, seen)

	resp, _ := p.with(token.AccessToken, http.MethodPut, "/profile", `{"name": "Ada K."}`)
	assert.Equal(t, http.StatusForbidden, resp.StatusCode, "the terms are not accepted")
	terms, err := p.Holders.Terms(ctx)
	require.NoError(t, err)
	require.NoError(t, p.Holders.Accept(ctx, p.person, terms.Version, "Ada"))
	resp, body := p.with(token.AccessToken, http.MethodPut, "/profile", `{"type": ["Profile"], "name": "Ada K.", "phone": "1"}`)
	assert.Equal(t, http.StatusOK, resp.StatusCode, body)
	assert.Contains(t, body, `"name":"Ada K."`)
	for _, wrong := range []string{`{"name": ""}`, `{"name": "Ada", "email": "else@example.org"}`, `[]`, `{"name": 7}`} {
		resp, body = p.with(token.AccessToken, http.MethodPut, "/profile", wrong)
		assert.Equal(t, http.StatusBadRequest, resp.StatusCode, "%s: %s", wrong, body)
	}
	resp, _ = p.ask(http.MethodOptions, openbadge.APIPath+"/credentials", "", "Origin", "https://tin.example",
		"Access-Control-Request-Method", "GET")
	assert.Equal(t, http.StatusNoContent, resp.StatusCode)
	assert.Equal(t, "*", resp.Header.Get("Access-Control-Allow-Origin"))
	assert.Contains(t, resp.Header.Get("Access-Control-Allow-Headers"), "Authorization")
	_, body = p.ask(http.MethodGet, "/.well-known/oauth-authorization-server", "")
	var metadata map[string]any
	require.NoError(t, json.Unmarshal([]byte(body), &metadata))
	assert.Equal(t, p.URL, metadata["issuer"])
	assert.Equal(t, p.config.Endpoint.TokenURL, metadata["token_endpoint"])
}
