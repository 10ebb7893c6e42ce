package web_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zitadel/oidc/v3/example/server/exampleop"
	"github.com/zitadel/oidc/v3/example/server/storage"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/standin/fault"
	"kanban/internal/standin/identity"
	"kanban/internal/store/db"
	"kanban/internal/wire/api"
)

// visitor is a browser that reaches the service by its public name.
type visitor struct {
	*http.Client
	t *testing.T
}

func (x *site) visitor() *visitor {
	jar, err := cookiejar.New(nil)
	require.NoError(x.t, err)
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		if strings.HasPrefix(address, "kanban.example:") {
			address = x.Listener.Addr().String()
		}
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}
	t, _ := x.t.(*testing.T)
	return &visitor{&http.Client{Jar: jar, Transport: &http.Transport{DialContext: dial}}, t}
}

const kanban = "http://kanban.example"

// gets follows an address to its end.
func (v *visitor) gets(address string) (*url.URL, string) {
	v.t.Helper()
	resp, err := v.Get(address)
	require.NoError(v.t, err)
	return v.read(resp)
}

// fills sends a form and follows to its end.
func (v *visitor) fills(address string, form url.Values) (*url.URL, string) {
	v.t.Helper()
	resp, err := v.PostForm(address, form)
	require.NoError(v.t, err)
	return v.read(resp)
}

func (v *visitor) read(resp *http.Response) (*url.URL, string) {
	v.t.Helper()
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(v.t, err)
	return resp.Request.URL, string(text)
}

// calls makes a request to the API in the browser's session.
func (v *visitor) calls(method, path, body string) (int, string) {
	v.t.Helper()
	req, err := http.NewRequest(method, kanban+"/api/v1"+path, strings.NewReader(body))
	require.NoError(v.t, err)
	req.Header.Set("Content-Type", "application/json")
	resp, err := v.Do(req)
	require.NoError(v.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(v.t, err)
	return resp.StatusCode, string(text)
}

// who is who is signed in; empty for nobody.
func (v *visitor) who() (c api.Caller) {
	v.t.Helper()
	if status, text := v.calls("GET", "/session", ""); status == 200 {
		require.NoError(v.t, json.Unmarshal([]byte(text), &c))
	}
	return c
}

// refused is why the browser was not let in.
func (v *visitor) refused() string {
	v.t.Helper()
	_, text := v.calls("GET", "/session/ways", "")
	var ways api.WaysIn
	require.NoError(v.t, json.Unmarshal([]byte(text), &ways))
	return ways.Refused
}

// signsIn goes to the stand-in provider and signs in as somebody.
func (v *visitor) signsIn(p api.Provider, account string) *url.URL {
	v.t.Helper()
	at, _ := v.gets(kanban + "/providers/" + p.ID + "/sign-in?then=/sections")
	if at.Host == "kanban.example" {
		return at
	}
	form := at.Query()
	form.Set("account", account)
	form.Set("answer", "yes")
	at, _ = v.fills("http://"+at.Host+"/authorize", form)
	return at
}

// provided adds the stand-in provider, changed.
func (x *talk) provided(change func(*api.EditProvider)) api.Provider {
	x.site.t.Helper()
	secret := identity.ClientSecret
	e := api.EditProvider{
		Name: "Fernmoor sign-in", Issuer: x.Standins.Addresses.Identity, ClientID: identity.ClientID, Secret: &secret,
		On: true, Believes: "verified", Admits: "mapped", PersonClaim: "school_id", PersonKey: "identifier",
		Mappings: []api.ProviderMapping{{
			Claim: "groups", Value: "help-desk", Grant: api.NewRoleGrant{Role: "support"},
		}},
	}
	if change != nil {
		change(&e)
	}
	return made[api.Provider](x, "/providers", e)
}

// Somebody signs in at an institution's own sign-in: somebody of the register teaches and learns as it says, whoever
// its groups give a role has that, and whoever neither holds for is told so.
func TestSignInAtAProvider(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	x.World.Read(x.Register(), false)
	p := x.provided(nil)
	assert.Equal(t, kanban+"/providers/"+p.ID+"/back", p.BackTo)

	teacher := x.visitor()
	assert.Equal(t, kanban+"/sections", teacher.signsIn(p, "fern-tea-002").String())
	who := teacher.who()
	assert.Equal(t, []string{"teacher"}, who.Roles)
	assert.Equal(t, x.Person("tea-002").ID, who.PersonID)
	again := x.visitor()
	again.signsIn(p, "fern-tea-002")
	assert.Equal(t, who, again.who(), "the same one the second time")
	status, _ := again.calls("DELETE", "/session/providers/"+p.ID, "")
	assert.Equal(t, 409, status, "it is their only way in")

	desk := x.visitor()
	desk.signsIn(p, "fern-desk")
	assert.Equal(t, []string{"support"}, desk.who().Roles)
	x.Standins.Identity.Change("fern-desk", func(c map[string]any) { c["groups"] = []string{"staff"} })
	other := x.visitor()
	other.signsIn(p, "fern-desk")
	assert.Contains(t, other.refused(), "gives you a role here any more")
	assert.Empty(t, other.refused(), "it is said once")
	assert.Equal(t, []string{"support"}, desk.who().Roles, "each sign-in that is let in gives the roles anew")
	x.Standins.Identity.Change("fern-desk", func(c map[string]any) { c["groups"] = "help-desk" })
	desk.signsIn(p, "fern-desk")
	assert.Equal(t, []string{"support"}, desk.who().Roles)

	visitor := x.visitor()
	assert.Equal(t, "/sign-in", visitor.signsIn(p, "fern-visitor").Path)
	assert.Contains(t, visitor.refused(), "nothing that it says of you gives you a role here")
	assert.Empty(t, visitor.who().ID)

	users := map[string]api.User{}
	for _, u := range get[api.Page[api.User]](x, "/users").Items {
		users[u.Name] = u
	}
	assert.Len(t, users, 3)
	assert.Equal(t, []string{"active", "Fernmoor sign-in"}, []string{
		users["Dora Desk"].State,
		users["Dora Desk"].Providers[0],
	})
	assert.Equal(t, "Fernmoor sign-in", users["Dora Desk"].Grants[0].Provider)

	_, text := desk.calls("DELETE", "/session", "")
	assert.Contains(t, text, x.Standins.Addresses.Identity+"/sign-out?client_id="+identity.ClientID)
	assert.Contains(t, text, "id_token_hint=")
	assert.Empty(t, desk.who().ID)

	refusals := 0
	require.NoError(t, db.Into(t.Context(), x.Store, &refusals,
		`SELECT count(*) FROM audit_entries WHERE what = 'refused a sign-in'`))
	assert.Equal(t, 2, refusals, "those of whom the provider says who they are")
	x.visitor().gets(p.BackTo + "?state=made-up&code=x")
	require.NoError(t, db.Into(t.Context(), x.Store, &refusals,
		`SELECT count(*) FROM audit_entries WHERE what = 'refused a sign-in'`))
	assert.Equal(t, 2, refusals, "nobody fills the trail who is nobody")
	x.do(204, "DELETE", "/providers/"+p.ID, nil)
	assert.Empty(t, teacher.who().ID, "what was begun there ends")
	assert.Empty(t, get[api.Page[api.Provider]](x, "/providers").Items)
}

// Whatever a provider says that is not true lets nobody in, makes nobody, and is said in words.
func TestALyingProviderLetsNobodyIn(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	x.World.Read(x.Register(), false)
	p := x.provided(nil)
	for lie, says := range map[identity.Wrong]string{
		identity.OtherIssuer: "different provider", identity.OtherKey: "cannot be believed",
		identity.Unsigned: "cannot be believed", identity.SharedSecret: "cannot be believed",
		identity.OtherClient: "cannot be believed", identity.TwoClients: "made for another client",
		identity.OtherParty: "made for another client", identity.Expired: "ended at", identity.OfTomorrow: "it is",
		identity.OtherNonce: "nonce differs", identity.NoNonce: "nonce differs",
		identity.NoSubject: "does not say who",
		identity.Huge:      "say less", identity.Broken: "cannot be believed", identity.OtherPerson: "somebody else",
		identity.OtherAnswer: `from "https://elsewhere.example"`,
	} {
		x.Standins.Identity.Lie(lie)
		v := x.visitor()
		at := v.signsIn(p, "fern-desk")
		assert.Equal(t, "/sign-in", at.Path, lie)
		assert.Contains(t, v.refused(), says, lie)
		assert.Empty(t, v.who().ID, lie)
	}
	x.Standins.Identity.Lie(identity.NoAddress)
	v := x.visitor()
	v.signsIn(p, "fern-desk")
	assert.Contains(t, v.refused(), "gives no e-mail address of yours that is believed")
	x.Standins.Identity.Lie(identity.Right)
	require.Len(t, get[api.Page[api.User]](x, "/users").Items, 1, "nobody was made")

	v.signsIn(p, "fern-desk")
	require.Equal(t, "Dora Desk", v.who().Name)
	x.Standins.Identity.Rotate()
	v = x.visitor()
	v.signsIn(p, "fern-desk")
	require.Equal(t, "Dora Desk", v.who().Name, "its keys may change")

	for f, says := range map[fault.Fault]string{
		{Kind: fault.Status, Status: 500, Path: "/token"}: "500", {Kind: fault.Cut, Path: "/token"}: "does not answer",
		{Kind: fault.Truncate, Path: "/token"}:             "does not answer",
		{Kind: fault.Status, Status: 404, Path: "/token"}:  "404",
		{Kind: fault.Status, Status: 429, Path: "/token"}:  "429",
		{Kind: fault.Status, Status: 302, Path: "/token"}:  "302",
		{Kind: fault.Swallow, Path: "/token"}:              "does not answer",
		{Kind: fault.Truncate, Path: "/keys"}:              "keys",
		{Kind: fault.Status, Status: 503, Path: "/keys"}:   "keys",
		{Kind: fault.Latency, Millis: 300, Path: "/token"}: "",
		{Kind: fault.Cut, Path: "/userinfo"}:               "",
	} {
		if f.Path == "/keys" {
			x.Standins.Identity.Rotate() // so that they are asked for
		}
		require.NoError(t, x.Standins.Fault("identity", f))
		v := x.visitor()
		v.signsIn(p, "fern-desk")
		if says == "" {
			assert.Equal(t, "Dora Desk", v.who().Name, f)
		} else {
			assert.Contains(t, v.refused(), says, f)
			assert.Empty(t, v.who().ID, f)
		}
		x.Standins.ClearFaults()
	}
	for f, says := range map[fault.Fault]string{
		{Kind: fault.Status, Status: 500, Path: "openid-configuration"}: "not what providers say",
		{Kind: fault.Cut, Path: "openid-configuration"}:                 "does not answer",
		{Kind: fault.Truncate, Path: "openid-configuration"}:            "does not answer",
	} {
		require.NoError(t, x.Standins.Fault("identity", f))
		check := post[api.ProviderCheck](x, "/providers/"+p.ID+"/check", nil)
		assert.False(t, check.OK, f)
		assert.Contains(t, check.Trouble, says, f)
		x.Standins.ClearFaults()
	}
	x.Standins.Identity.Lie(identity.OtherSelf)
	assert.Contains(t, post[api.ProviderCheck](x, "/providers/"+p.ID+"/check", nil).Trouble,
		`it calls itself "https://elsewhere.example"`)
	x.Standins.Identity.Lie(identity.Right)
	assert.True(t, post[api.ProviderCheck](x, "/providers/"+p.ID+"/check", nil).OK)
	require.Len(t, get[api.Page[api.User]](x, "/users").Items, 2, "one user, however often it was tried")
}

// What a browser comes back with counts once, in the browser that began, for what it began.
func TestAnswersOfAProviderAreTakenOnce(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	p := x.provided(nil)
	begin := func(v *visitor) *url.URL {
		at, _ := v.gets(kanban + "/providers/" + p.ID + "/sign-in?then=//evil.example/x")
		return at
	}
	answered := func(v *visitor, at *url.URL) string { // the address to come back to, without going there
		form := at.Query()
		form.Set("account", "fern-desk")
		still := *v.Client
		still.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
		resp, err := still.PostForm("http://"+at.Host+"/authorize", form)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		return resp.Header.Get("Location")
	}
	v, thief := x.visitor(), x.visitor()
	first, second := begin(v), begin(v) // two tabs
	back := answered(v, first)
	thief.gets(back)
	assert.Contains(t, thief.refused(), "another question than this browser asked")
	assert.Empty(t, thief.who().ID)
	end, _ := v.gets(back)
	assert.Equal(t, kanban+"/board", end.String(), "another site is no page of ours; the code was not spent by the thief")
	assert.Equal(t, "Dora Desk", v.who().Name)
	end, _ = v.gets(back)
	assert.Equal(t, "/board", end.Path, "Back does no harm")
	v.gets(answered(v, second))
	assert.Equal(t, "Dora Desk", v.who().Name, "the other tab")
	late := x.visitor()
	late.gets(strings.Replace(answered(late, begin(late)), "code=", "code=x", 1))
	assert.Contains(t, late.refused(), "does not take the code")
	form := begin(late).Query()
	form.Set("answer", "no")
	late.fills(x.Standins.Addresses.Identity+"/authorize", form)
	assert.Contains(t, late.refused(), "You refused")
}

// Somebody who signs in with a password gets one more way in, and is one user by both; an address alone makes nobody
// somebody else unless it is believed.
func TestOnePersonWithTwoWaysIn(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	x.World.Read(x.Register(), false)
	p := x.provided(func(e *api.EditProvider) { e.Believes, e.Admits = "none", "invited" })
	support := permission.Everywhere(permission.Support)[0]
	maud, err := x.Access.ByToken(t.Context(), x.token)
	require.NoError(t, err)
	name, email := "Dora", "DORA.DESK@fernmoor.example"
	in, err := x.Access.Invite(t.Context(), maud, access.Draft{Name: &name, Email: &email}, &support)
	require.NoError(t, err)
	v := x.visitor()
	_, secret, _ := strings.Cut(in.Link, "secret=")
	status, text := v.calls("POST", "/invitations", fmt.Sprintf(`{"secret":%q,"password":%q}`, secret, password))
	require.Equal(t, 200, status, text)

	stranger := x.visitor()
	stranger.signsIn(p, "fern-desk")
	assert.Contains(t, stranger.refused(), "add Fernmoor sign-in under Account")
	assert.Equal(t, "/sign-in", func() string {
		at, _ := x.visitor().gets(kanban + "/providers/" + p.ID + "/sign-in?add=1")
		return at.Path
	}())
	at, _ := v.gets(kanban + "/providers/" + p.ID + "/sign-in?then=/account&add=1")
	form := at.Query()
	form.Set("account", "fern-desk")
	at, _ = v.fills(x.Standins.Addresses.Identity+"/authorize", form)
	assert.Equal(t, "/account", at.Path)
	stranger.signsIn(p, "fern-desk")
	assert.Equal(t, in.User.ID, stranger.who().ID)
	other := x.visitor()
	status, _ = other.calls("POST", "/session", fmt.Sprintf(`{"email":"maud@fernmoor.example","password":%q}`, password))
	require.Equal(t, 200, status)
	at, _ = other.gets(kanban + "/providers/" + p.ID + "/sign-in?then=/account&add=1")
	form = at.Query()
	form.Set("account", "fern-desk")
	other.fills(x.Standins.Addresses.Identity+"/authorize", form)
	assert.Contains(t, other.refused(), "somebody else signs in here by this account")
	assert.Equal(t, "Maud", other.who().Name)

	status, _ = v.calls("DELETE", "/session/providers/"+p.ID, "")
	assert.Equal(t, 204, status)
	assert.Empty(t, stranger.who().ID, "what was begun there ends")
	assert.Equal(t, "Dora", v.who().Name, "the session with the password stays")
	p = as[api.Provider](x, x.do(200, "PUT", "/providers/"+p.ID, api.EditProvider{
		Name: p.Name, Issuer: p.Issuer, ClientID: p.ClientID, On: true, Believes: "verified",
	}))
	x.Standins.Identity.Lie(identity.Unverified)
	stranger.signsIn(p, "fern-desk")
	assert.Contains(t, stranger.refused(), "not believed")
	x.Standins.Identity.Lie(identity.Right)
	stranger.signsIn(p, "fern-desk")
	assert.Equal(t, in.User.ID, stranger.who().ID, "a verified address is believed")

	// Whoever fits two users is asked about.
	nobody, ada := x.visitor(), x.Person("stu-001")
	for mail, person := range map[string]string{"one@users.example": ada.ID, "two@users.example": ada.ID} {
		_, err := x.Access.Invite(t.Context(), maud, access.Draft{Name: &mail, Email: &mail, PersonID: &person}, nil)
		require.NoError(t, err)
	}
	x.do(200, "PUT", "/providers/"+p.ID, api.EditProvider{
		Name: p.Name, Issuer: p.Issuer, ClientID: p.ClientID, On: true, Believes: "verified", Admits: "mapped",
		PersonClaim: "school_id", PersonKey: "identifier",
	})
	nobody.signsIn(p, "fern-stu-001")
	assert.Contains(t, nobody.refused(), "you fit more than one user")
}

// A provider that says that a session is over ends it here, once for each message.
func TestBackChannelLogout(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	p := x.provided(nil)
	say := func(token string) int {
		resp, err := http.PostForm(x.URL+"/providers/"+p.ID+"/logout", url.Values{"logout_token": {token}})
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		return resp.StatusCode
	}
	token := func(subject, session string, change func(map[string]any)) string {
		text, err := x.Standins.Identity.LogoutToken(p.Issuer, subject, session, change)
		require.NoError(t, err)
		return text
	}
	one, two := x.visitor(), x.visitor()
	one.signsIn(p, "fern-desk")
	two.signsIn(p, "fern-desk")
	for what, change := range map[string]func(map[string]any){
		"no event":       func(c map[string]any) { delete(c, "events") },
		"a nonce":        func(c map[string]any) { c["nonce"] = "x" },
		"another client": func(c map[string]any) { c["aud"] = "another" },
		"another issuer": func(c map[string]any) { c["iss"] = "https://elsewhere.example" },
		"old":            func(c map[string]any) { c["iat"] = time.Now().Add(-time.Hour).Unix() },
		"nobody":         func(c map[string]any) { delete(c, "sub") },
	} {
		assert.Equal(t, 400, say(token("fern-desk", "", change)), what)
	}
	assert.Equal(t, 400, say("this.is.none"))
	assert.Equal(t, 400, say(""))
	assert.Equal(t, 200, say(token("fern-somebody-else", "", nil)), "who was never here has no session here")
	require.NotEmpty(t, one.who().ID)
	first := token("fern-desk", "session-1", nil)
	assert.Equal(t, 200, say(first))
	assert.Empty(t, one.who().ID)
	assert.NotEmpty(t, two.who().ID, "the other session is another one")
	assert.Equal(t, 200, say(token("fern-desk", "", nil)))
	assert.Empty(t, two.who().ID)
	one.signsIn(p, "fern-desk")
	assert.Equal(t, 200, say(first), "it came already")
	assert.NotEmpty(t, one.who().ID)
}

// growers are the users of an independent provider.
type growers struct{ storage.UserStore }

// GetUserByID implements storage.UserStore.
func (growers) GetUserByID(id string) *storage.User {
	if id != "grower-1" {
		return nil
	}
	return &storage.User{
		ID: id, Username: "pia", Password: "pears-and-plums", FirstName: "Pia", LastName: "Pear",
		Email: "pia.pear@fernmoor.example", EmailVerified: true,
	}
}

// GetUserByUsername implements storage.UserStore.
func (g growers) GetUserByUsername(name string) *storage.User {
	if name != "pia" {
		return nil
	}
	return g.GetUserByID("grower-1")
}

// Somebody else's implementation of an OpenID provider lets people in, and out.
func TestAnIndependentProvider(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	var handler http.Handler
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request,
	) {
		handler.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	secret := "pear-tree"
	p := x.provided(func(e *api.EditProvider) {
		e.Name, e.Issuer, e.ClientID, e.Secret = "Growers", server.URL, "kanban-peer", &secret
		e.PersonClaim, e.PersonKey = "", ""
		e.Mappings = []api.ProviderMapping{{
			Claim: "email_verified", Value: "true",
			Grant: api.NewRoleGrant{Role: "reader"},
		}}
	})
	storage.RegisterClients(storage.WebClient("kanban-peer", secret, p.BackTo))
	handler = exampleop.SetupServer(server.URL, storage.NewStorage(growers{storage.NewUserStore(server.URL)}), nil,
		false)
	check := post[api.ProviderCheck](x, "/providers/"+p.ID+"/check", nil)
	require.True(t, check.OK, check.Trouble)

	v := x.visitor()
	at, page := v.gets(kanban + "/providers/" + p.ID + "/sign-in?then=/reports")
	require.Equal(t, server.URL+"/login/username", "http://"+at.Host+at.Path, page)
	wrong, _ := v.fills(at.String(), url.Values{
		"username": {"pia"}, "password": {"no"},
		"id": {at.Query().Get("authRequestID")},
	})
	require.Equal(t, at.Host, wrong.Host)
	at, page = v.fills(at.String(), url.Values{
		"username": {"pia"}, "password": {"pears-and-plums"}, "id": {at.Query().Get("authRequestID")},
	})
	require.Equal(t, kanban+"/reports", at.String(), "%s %s", page, v.refused())
	who := v.who()
	assert.Equal(t, []string{"Pia Pear", "reader"}, []string{who.Name, who.Roles[0]})
	_, text := v.calls("DELETE", "/session", "")
	next := regexp.MustCompile(`"next":"([^"]+)"`).FindStringSubmatch(text)
	require.Len(t, next, 2, text)
	var address string
	require.NoError(t, json.Unmarshal([]byte(`"`+next[1]+`"`), &address))
	out, err := url.Parse(address)
	require.NoError(t, err)
	q := out.Query()
	assert.Equal(t, p.SignedOut, q.Get("post_logout_redirect_uri"))
	q.Del("post_logout_redirect_uri") // this one registers none for its clients
	out.RawQuery = q.Encode()
	_, page = v.gets(out.String())
	assert.Equal(t, "signed out successfully", page)
	assert.Empty(t, v.who().ID)
}
