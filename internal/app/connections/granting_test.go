package connections_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"kanban/internal/adapter"
	"kanban/internal/adapter/services"
	"kanban/internal/app/connections"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/standin/contacts"
	"kanban/internal/standin/signin"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/wire/call"
)

// signing is a world with an interface that is let in by signing in at the contact list.
type signing struct {
	*apptest.World
	t   *testing.T
	now time.Time
	api connectionstore.Interface
	who string // the id of Maud
}

func signs(t *testing.T, more map[string]string) *signing {
	t.Helper()
	w := apptest.New(t)
	x := &signing{World: w, t: t, now: time.Now().UTC(), who: administrator(t, w, "maud@x.example")}
	w.Connections.Clock = func() time.Time { return x.now }
	w.Findings.Clock = w.Connections.Clock
	at := w.Standins.Addresses.Contacts
	values := map[string]string{
		"address": at + "/api", "probe": "/labels", "letInBy": adapter.BySigning, "signInAt": at,
		"clientId": signin.ClientID, "clientSecret": signin.ClientSecret, "scopes": "labels.read labels.write",
	}
	for k, v := range more {
		values[k] = v
	}
	x.api = w.Connect(adapter.KindHTTP, "Plant news", values)
	return x
}

func administrator(t *testing.T, w *apptest.World, email string) string {
	t.Helper()
	a := accessstore.User{ID: db.NewID(), Name: email, Email: email, PasswordHash: "none"}
	require.NoError(t, w.Store.InTx(t.Context(), func(tx *db.Tx) error { return db.Create(tx, &a, "making one") }))
	return a.ID
}

// asks goes to a service's sign-in page as a browser does, signs in as an account, and gives where that
// leads back to.
func (x *signing) asks(address, account, answer string) url.Values {
	x.t.Helper()
	stays := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	client := &http.Client{CheckRedirect: stays}
	u, err := url.Parse(address)
	require.NoError(x.t, err)
	form := u.Query()
	form.Set("account", account)
	form.Set("answer", answer)
	u.RawQuery = ""
	resp, err := client.PostForm(u.String(), form)
	require.NoError(x.t, err)
	defer resp.Body.Close()
	require.Equal(x.t, http.StatusFound, resp.StatusCode)
	back, err := resp.Location()
	require.NoError(x.t, err)
	require.True(x.t, strings.HasPrefix(back.String(), "http://kanban.example/granted?"), back.String())
	return back.Query()
}

func (x *signing) begin() string {
	x.t.Helper()
	address, err := x.Connections.BeginSignIn(x.t.Context(), x.who, "Maud", x.api.ID)
	require.NoError(x.t, err)
	return address
}

func (x *signing) comesBack(q url.Values) (connections.Granted, error) {
	return x.Connections.EndSignIn(x.t.Context(), x.who, "Maud", connections.Returned{
		State: q.Get("state"), Code: q.Get("code"), Issuer: q.Get("iss"), HasIssuer: q.Has("iss"),
		Error:       q.Get("error"),
		Description: q.Get("error_description"),
	})
}

func (x *signing) signIn(account string) connections.Granted {
	x.t.Helper()
	g, err := x.comesBack(x.asks(x.begin(), account, "yes"))
	require.NoError(x.t, err)
	return g
}

func (x *signing) works() error {
	c, err := x.Connections.Open(x.t.Context(), x.api.ID)
	if err != nil {
		return err
	}
	for _, r := range services.New(c, apptest.Quick).Probe(x.t.Context()) {
		if r.State != adapter.Works {
			return fmt.Errorf("%s: %s", r.State, r.Detail)
		}
	}
	return nil
}

// tested gives what the last test said.
func (x *signing) tested() adapter.State {
	x.t.Helper()
	row, err := connectionstore.FindInterface(x.t.Context(), x.Store, x.api.ID)
	require.NoError(x.t, err)
	var reports []adapter.Report
	require.NoError(x.t, json.Unmarshal(row.Probe, &reports))
	require.Len(x.t, reports, 1)
	return reports[0].State
}

func (x *signing) codes() (all []finding.Code) {
	list, err := x.Findings.Today(x.t.Context(), nil)
	require.NoError(x.t, err)
	for _, f := range list {
		all = append(all, f.Code)
	}
	return all
}

func TestSigningInGrantsAccess(t *testing.T) {
	x := signs(t, nil)
	err := x.works()
	p, is := call.As(err)
	require.True(t, is, "%v", err)
	assert.Equal(t, call.WrongCredential, p.Kind)
	assert.Contains(t, p.Detail, "nobody has signed in at the service yet")
	reports, err := x.Connections.Probe(t.Context(), x.api.ID)
	require.NoError(t, err)
	assert.Equal(t, adapter.WrongCredential, reports[0].State, "a test says so instead of failing")

	address := x.begin()
	u, err := url.Parse(address)
	require.NoError(t, err)
	assert.Equal(t, "S256", u.Query().Get("code_challenge_method"))
	assert.Equal(t, "labels.read labels.write", u.Query().Get("scope"))
	g := x.signIn(signin.Accounts[0])
	assert.False(t, g.Grant.Pending)
	assert.Equal(t, signin.Accounts[0], g.Grant.Account)
	assert.Equal(t, []string{"labels.read", "labels.write"}, g.Grant.Scopes)
	assert.True(t, g.Grant.Renews)
	require.NoError(t, x.works())
	text, err := json.Marshal(g.Grant)
	require.NoError(t, err)
	now, _, err := x.Connections.Grants(t.Context(), x.api.ID)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "access", "tokens are sealed")
	assert.NotNil(t, now.ExpiresAt)
}

// Whoever comes back must be who has begun, with what they were given, once and in time.
func TestStrangersAreNotLetIn(t *testing.T) {
	x := signs(t, nil)
	refused := func(err error, says string) {
		t.Helper()
		r, is := refusal.As(err)
		require.True(t, is, "%v", err)
		assert.Contains(t, r.Detail, says)
	}
	_, err := x.comesBack(x.asks(x.begin(), signin.Accounts[0], "no"))
	refused(err, "the service granted nothing: You refused.")
	q := x.asks(x.begin(), signin.Accounts[0], "yes")
	_, err = x.Connections.EndSignIn(t.Context(), administrator(t, x.World, "otto@x.example"), "Otto",
		connections.Returned{State: q.Get("state"), Code: q.Get("code")})
	refused(err, "was not begun by you")
	_, err = x.comesBack(q)
	refused(err, "was used already") // a state that somebody else has seen is worth nothing
	_, err = x.comesBack(url.Values{"state": {"made up"}, "code": {"made up"}})
	refused(err, "begin it again")

	q = x.asks(x.begin(), signin.Accounts[0], "yes")
	x.now = x.now.Add(16 * time.Minute)
	_, err = x.comesBack(q)
	refused(err, "is older than 15 minutes")
	q = x.asks(x.begin(), signin.Accounts[0], "yes")
	q.Set("iss", "https://another.example")
	_, err = x.comesBack(q)
	refused(err, "not from")
	code := x.asks(x.begin(), signin.Accounts[0], "yes").Get("code") // of another sign-in: its verifier does not fit
	q = x.asks(x.begin(), signin.Accounts[0], "yes")
	q.Set("code", code)
	_, err = x.comesBack(q)
	require.Error(t, err)
	now, _, err := x.Connections.Grants(t.Context(), x.api.ID)
	require.NoError(t, err)
	assert.Nil(t, now, "nothing was granted by any of it")
}

func TestAnotherAccountIsAskedAbout(t *testing.T) {
	x := signs(t, nil)
	x.signIn(signin.Accounts[0])
	g := x.signIn(signin.Accounts[1])
	require.True(t, g.Grant.Pending)
	assert.Contains(t, g.Grant.Trouble, "another account than before ("+signin.Accounts[0]+")")
	now, pending, err := x.Connections.Grants(t.Context(), x.api.ID)
	require.NoError(t, err)
	assert.Equal(t, signin.Accounts[0], now.Account, "the former one counts")
	require.NotNil(t, pending)
	require.NoError(t, x.works())
	assert.Contains(t, x.codes(), finding.SignInPending)

	require.NoError(t, x.Connections.DecidePending(t.Context(), "Maud", x.api.ID, false))
	assert.NotContains(t, x.codes(), finding.SignInPending)
	require.Error(t, x.Connections.DecidePending(t.Context(), "Maud", x.api.ID, true), "nothing waits")
	x.signIn(signin.Accounts[1])
	require.NoError(t, x.Connections.DecidePending(t.Context(), "Maud", x.api.ID, true))
	now, pending, err = x.Connections.Grants(t.Context(), x.api.ID)
	require.NoError(t, err)
	assert.Equal(t, signin.Accounts[1], now.Account)
	assert.Nil(t, pending)
	require.NoError(t, x.works())
}

// A grant is renewed in time, by one of many that need it: the service takes the former token no more.
func TestGrantIsRenewedOnce(t *testing.T) {
	x := signs(t, nil)
	x.signIn(signin.Accounts[0])
	x.now = x.now.Add(time.Hour)
	x.Standins.Contacts.SignIn.Lasts(5 * time.Hour)
	var all errgroup.Group
	for range 12 {
		all.Go(x.works)
	}
	require.NoError(t, all.Wait())
	assert.Equal(t, 1, x.Standins.Contacts.SignIn.Renewals())
	now, _, err := x.Connections.Grants(t.Context(), x.api.ID)
	require.NoError(t, err)
	assert.True(t, now.Renews)
	assert.Equal(t, []string{"labels.read", "labels.write"}, now.Scopes)
}

// A service may take a token no more before its time; whoever calls with it is let in all the same, with
// a new one, and those who begin meanwhile too.
func TestTokenThatIsRefusedIsRenewed(t *testing.T) {
	x := signs(t, nil)
	x.signIn(signin.Accounts[0])
	opened, err := x.Connections.Open(t.Context(), x.api.ID)
	require.NoError(t, err)
	service := services.New(opened, apptest.Quick)
	former, err := opened.Bearer(t.Context(), "")
	require.NoError(t, err)
	next, err := opened.Bearer(t.Context(), former) // another process was refused, and has renewed it
	require.NoError(t, err)
	require.NotEqual(t, former, next)
	again, err := opened.Bearer(t.Context(), former)
	require.NoError(t, err)
	assert.Equal(t, next, again, "that one is new enough")
	x.Standins.Contacts.SignIn.Forget(next)
	var all errgroup.Group
	for range 8 {
		all.Go(func() error {
			for _, r := range service.Probe(t.Context()) {
				if r.State != adapter.Works {
					return fmt.Errorf("%s: %s", r.State, r.Detail)
				}
			}
			return nil
		})
	}
	require.NoError(t, all.Wait())
	assert.Equal(t, 2, x.Standins.Contacts.SignIn.Renewals())
}

func TestGrantThatWasWithdrawnIsSaidSo(t *testing.T) {
	x := signs(t, nil)
	x.signIn(signin.Accounts[0])
	x.Standins.Contacts.SignIn.Withdraw(true)
	x.now = x.now.Add(time.Hour)
	err := x.works()
	p, is := call.As(err)
	require.True(t, is, "%v", err)
	assert.Equal(t, call.WrongCredential, p.Kind)
	assert.Contains(t, p.Detail, "The grant was withdrawn.")
	assert.Contains(t, x.codes(), finding.SignInEnded)
	x.Standins.Contacts.SignIn.Withdraw(false)
	require.Error(t, x.works(), "it is not asked again and again")
	x.signIn(signin.Accounts[0])
	require.NoError(t, x.works())
	assert.NotContains(t, x.codes(), finding.SignInEnded)

	require.NoError(t, x.Connections.EndGrant(t.Context(), "Maud", x.api.ID))
	require.Error(t, x.works())
	require.Error(t, x.Connections.EndGrant(t.Context(), "Maud", x.api.ID))
}

// Neither what was entered nor what was granted is sent to another host.
func TestGrantIsNotSentToAnotherHost(t *testing.T) {
	x := signs(t, nil)
	x.signIn(signin.Accounts[0])
	_, err := x.Connections.Update(t.Context(), "Maud", x.api.ID, 0, connections.Change{Values: map[string]string{
		"address": "https://elsewhere.example/api", "clientSecret": signin.ClientSecret,
	}})
	require.NoError(t, err)
	now, _, err := x.Connections.Grants(t.Context(), x.api.ID)
	require.NoError(t, err)
	assert.Nil(t, now)
}

// lying is an authorization server that does as a test says, behind the real one's addresses.
func lying(t *testing.T, x *signing, token http.HandlerFunc, metadata map[string]any) (at string) {
	t.Helper()
	mux := http.NewServeMux()
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	mux.HandleFunc("/.well-known/oauth-authorization-server", func(w http.ResponseWriter, _ *http.Request) {
		m := map[string]any{
			"issuer": server.URL, "authorization_endpoint": x.Standins.Addresses.Contacts + "/oauth/authorize",
			"token_endpoint": server.URL + "/token",
		}
		for k, v := range metadata {
			m[k] = v
		}
		_ = json.NewEncoder(w).Encode(m)
	})
	mux.HandleFunc("/token", token)
	_, err := x.Connections.Update(t.Context(), "Maud", x.api.ID, 0, connections.Change{Values: map[string]string{
		"signInAt": server.URL, "clientSecret": signin.ClientSecret,
	}})
	require.NoError(t, err)
	return server.URL
}

func TestServersThatLieAreRefused(t *testing.T) {
	x := signs(t, nil)
	for says, metadata := range map[string]map[string]any{
		`it calls itself "https://other.example"`:       {"issuer": "https://other.example"},
		`does not take S256`:                            {"code_challenge_methods_supported": []string{"plain"}},
		`its token_endpoint is ""`:                      {"token_endpoint": ""},
		`its authorization_endpoint is "javascript:x"`:  {"authorization_endpoint": "javascript:x"},
		`its userinfo_endpoint is "file:///etc/passwd"`: {"userinfo_endpoint": "file:///etc/passwd"},
	} {
		lying(t, x, http.NotFound, metadata)
		_, err := x.Connections.BeginSignIn(t.Context(), x.who, "Maud", x.api.ID)
		refused, is := refusal.As(err)
		require.True(t, is, "%v", err)
		assert.Contains(t, refused.Detail, says)
	}
}

// A token endpoint that is slow, hangs, breaks, throttles or answers nonsense: nothing is granted, and
// each call is made once.
func TestTokensOfServicesThatFail(t *testing.T) {
	for name, answer := range map[string]http.HandlerFunc{
		"breaks":    func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusInternalServerError) },
		"throttles": func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTooManyRequests) },
		"empty":     func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(`{}`)) },
		"nonsense":  func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(`<html>`)) },
		"leads on": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "/elsewhere", http.StatusTemporaryRedirect)
		},
		"cut":   func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) },
		"hangs": func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() },
	} {
		t.Run(name, func(t *testing.T) {
			x := signs(t, nil)
			var calls atomic.Int32
			lying(t, x, func(w http.ResponseWriter, r *http.Request) {
				calls.Add(1)
				_ = r.ParseForm() // a body that is not read hides that the caller has gone
				answer(w, r)
			}, nil)
			_, err := x.comesBack(x.asks(x.begin(), signin.Accounts[0], "yes"))
			require.Error(t, err)
			assert.EqualValues(t, 1, calls.Load(), "a code is used once")
			now, _, err := x.Connections.Grants(t.Context(), x.api.ID)
			require.NoError(t, err)
			assert.Nil(t, now)
		})
	}
}

// A renewal that fails keeps what holds; one that the service refuses ends it.
func TestRenewalsThatFail(t *testing.T) {
	x := signs(t, nil)
	var mu sync.Mutex
	status, body := http.StatusOK, `{"access_token":"first","token_type":"bearer","expires_in":600,"refresh_token":"r1"}`
	var refreshed []string
	lying(t, x, func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if token := r.FormValue("refresh_token"); token != "" {
			refreshed = append(refreshed, token)
		}
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_, _ = w.Write([]byte(body))
	}, nil)
	says := func(s int, text string) {
		mu.Lock()
		defer mu.Unlock()
		status, body = s, text
	}
	token := func() string {
		c, err := x.Connections.Open(t.Context(), x.api.ID)
		if err != nil {
			return "none: " + err.Error()
		}
		token, err := c.Bearer(t.Context(), "")
		require.NoError(t, err)
		return token
	}
	x.signIn(signin.Accounts[0])
	mu.Lock()
	refreshed = nil // the test of it, in which the service does not take the first token
	mu.Unlock()
	assert.Equal(t, "first", token())
	says(http.StatusServiceUnavailable, "later")
	x.now = x.now.Add(600*time.Second - 30*time.Second)
	assert.Equal(t, "first", token(), "it holds for half a minute more")
	x.now = x.now.Add(time.Minute)
	assert.Contains(t, token(), "none: getting an access token: broken (503)")
	says(http.StatusOK, `{"access_token":"second","token_type":"bearer","expires_in":3000,"refresh_token":"r2"}`)
	assert.Equal(t, "second", token())
	x.now = x.now.Add(45 * time.Minute)
	says(http.StatusOK, `{"access_token":"third","token_type":"bearer","expires_in":6000}`)
	assert.Equal(t, "third", token(), "a refresh token that is not replaced stays")
	x.now = x.now.Add(time.Hour)
	says(http.StatusBadRequest, `{"error":"invalid_grant"}`)
	assert.Contains(t, token(), "the sign-in has ended: invalid_grant; sign in again")
	assert.Contains(t, token(), "sign in again")
	assert.Equal(t, []string{"r1", "r1", "r1", "r1", "r2", "r2"}, refreshed, "asked for when it is needed, and not again once it has ended")
}

// An interface that has a token already turns to signing in; from then on its client secret stays where it
// was entered for.
func TestInterfaceWithATokenTurnsToSigningIn(t *testing.T) {
	x := signs(t, map[string]string{
		"letInBy": "", "signInAt": "", "clientId": "", "clientSecret": "", "scopes": "", "token": contacts.Token,
	})
	require.NoError(t, x.works())
	_, err := x.Connections.Update(t.Context(), "Maud", x.api.ID, 0, connections.Change{Values: map[string]string{
		"letInBy": adapter.BySigning, "signInAt": x.Standins.Addresses.Contacts, "clientId": signin.ClientID,
		"clientSecret": signin.ClientSecret, "scopes": "labels.read labels.write",
	}})
	require.NoError(t, err)
	x.signIn(signin.Accounts[0])
	assert.Equal(t, adapter.Works, x.tested(), "it is tested by itself")

	for _, name := range []string{"signInAt", "authorizeAt", "tokenAt"} {
		_, err = x.Connections.Update(t.Context(), "Maud", x.api.ID, 0, connections.Change{
			Values: map[string]string{name: "https://elsewhere.example/token"},
		})
		var refused *refusal.Error
		require.ErrorAs(t, err, &refused, name)
		assert.Equal(t, "values.clientSecret", refused.Field, name)
	}
	now, _, err := x.Connections.Grants(t.Context(), x.api.ID)
	require.NoError(t, err)
	assert.NotNil(t, now)
}
