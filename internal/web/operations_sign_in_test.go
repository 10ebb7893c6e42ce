package web_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"image/png"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/oauth2"

	"kanban/internal/app/access"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/wire/api"
)

// walkSignIn walks one-time codes, programs that ask to be let in, and providers.
func walkSignIn(x *talk, _ *story) {
	t := x.site.t
	ways := get[api.WaysIn](x, "/session/ways")
	assert.Empty(t, ways.Providers)
	x.do(204, "POST", "/session/reset", api.Reset{Email: "nobody@fernmoor.example"})
	assert.Equal(t, api.Codes{}, get[api.Codes](x, "/session/codes"))
	x.do(422, "POST", "/session/codes", api.BeginCodes{Password: "not the password"})
	x.do(409, "PUT", "/session/codes", api.Code{Code: "123456"})
	begun := post[api.NewCodes](x, "/session/codes", api.BeginCodes{Password: password})
	picture, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(begun.Picture, "data:image/png;base64,"))
	require.NoError(t, err)
	_, err = png.DecodeConfig(bytes.NewReader(picture))
	require.NoError(t, err)
	x.do(422, "PUT", "/session/codes", api.Code{Code: "x"})
	shown := func(in time.Duration) string {
		code, err := totp.GenerateCode(begun.Secret, time.Now().Add(in))
		require.NoError(t, err)
		return code
	}
	first := as[api.RecoveryCodes](x, x.do(200, "PUT", "/session/codes", api.Code{Code: shown(0)}))
	require.Len(t, first.Codes, 10)
	x.do(409, "POST", "/session/codes", api.BeginCodes{Password: password})
	text := x.do(401, "POST", "/session", api.SignIn{Email: "maud@fernmoor.example", Password: password})
	assert.Contains(t, text, "body.code")
	post[api.Caller](x, "/session", api.SignIn{
		Email: "maud@fernmoor.example", Password: password, Code: first.Codes[0],
	})
	fresh := post[api.RecoveryCodes](x, "/session/codes/recovery", api.Code{Code: first.Codes[1]})
	x.do(204, "POST", "/session/codes/end", api.Code{Code: fresh.Codes[0]})
	x.do(409, "POST", "/session/codes/end", api.Code{Code: fresh.Codes[1]})
	maud := get[api.Caller](x, "/session")
	x.do(409, "DELETE", "/users/"+maud.ID+"/codes", nil)
	made[api.Invitation](x, "/users", api.NewUser{
		Name: "Cora", Email: "cora@users.example", Grant: &api.NewRoleGrant{Role: "reader"},
	})
	in, err := x.Access.Recover(t.Context(), access.Recovered{Email: "cora@users.example"})
	require.NoError(t, err)
	_, link, _ := strings.Cut(in.Link, "secret=")
	cora, err := x.Access.Accept(t.Context(), link, password, access.Code{})
	require.NoError(t, err)
	own, err := x.Access.BeginCodes(t.Context(), cora, password)
	require.NoError(t, err)
	code, err := totp.GenerateCode(own.Secret, time.Now())
	require.NoError(t, err)
	_, err = x.Access.ConfirmCodes(t.Context(), cora, code)
	require.NoError(t, err)
	x.do(204, "DELETE", "/users/"+cora.ID+"/codes", nil)
	x.do(204, "DELETE", "/users/"+cora.ID, nil)
	x.do(422, "PUT", "/sign-in-settings", api.SignInSettings{CodesRequired: []string{"king"}})
	set := as[api.SignInSettings](x, x.do(200, "PUT", "/sign-in-settings",
		api.SignInSettings{CodesRequired: []string{"operator"}}))
	assert.Equal(t, set, get[api.SignInSettings](x, "/sign-in-settings"))
	x.do(200, "PUT", "/sign-in-settings", api.SignInSettings{CodesRequired: []string{}})

	d, err := x.Access.BeginDevice(t.Context(), access.Device{Name: "a program", Address: "192.0.2.1"})
	require.NoError(t, err)
	ask := get[api.DeviceAsk](x, "/session/devices/"+strings.ToLower(d.UserCode))
	assert.Equal(t, []string{"a program", "192.0.2.1", d.UserCode}, []string{ask.Name, ask.Address, ask.Code})
	x.do(422, "GET", "/session/devices/BCDF-GHJK", nil)
	x.do(204, "PUT", "/session/devices/"+d.UserCode, api.DeviceAnswer{Allow: false})
	x.do(422, "PUT", "/session/devices/"+d.UserCode, api.DeviceAnswer{Allow: true})
	walkProviders(x)
}

func walkProviders(x *talk) {
	t := x.site.t
	for field, bad := range map[string]api.EditProvider{
		"name":      {Issuer: "https://id.example", ClientID: "kanban"},
		"issuer":    {Name: "School", Issuer: "id.example", ClientID: "kanban"},
		"clientId":  {Name: "School", Issuer: "https://id.example"},
		"personKey": {Name: "School", Issuer: "https://id.example", ClientID: "kanban", PersonClaim: "number"},
		"mappings[0]": {
			Name: "School", Issuer: "https://id.example", ClientID: "kanban",
			Mappings: []api.ProviderMapping{
				{Claim: "groups", Grant: api.NewRoleGrant{Role: "reader", Scope: "section", ScopeID: "x"}},
			},
		},
	} {
		assert.Contains(t, x.do(422, "POST", "/providers", bad), field)
	}
	p := x.provided(nil)
	assert.True(t, p.HasSecret)
	x.do(409, "POST", "/providers", api.EditProvider{
		Name: "FERNMOOR sign-in", Issuer: "https://id.example",
		ClientID: "k",
	})
	at := "/providers/" + p.ID
	p = as[api.Provider](x, x.changes("PUT", at, api.EditProvider{
		Name: p.Name, Issuer: p.Issuer, ClientID: p.ClientID, On: true, Believes: "verified", Admits: "mapped",
		PersonClaim: p.PersonClaim, PersonKey: p.PersonKey, Mappings: append(p.Mappings, api.ProviderMapping{
			Claim: "groups", Value: "staff", Grant: api.NewRoleGrant{Role: "reader"},
		}),
	}))
	assert.True(t, p.HasSecret, "it stays when none is given")
	assert.Equal(t, []string{"Fernmoor sign-in"}, []string{get[api.Page[api.Provider]](x, "/providers").Items[0].Name})
	assert.Len(t, get[api.WaysIn](x, "/session/ways").Providers, 1)
	assert.True(t, post[api.ProviderCheck](x, at+"/check", nil).OK)
	trial := post[api.ClaimsTrial](x, at+"/trial", api.TryClaims{Claims: map[string]any{
		"sub": "new", "email": "new@fernmoor.example", "email_verified": true, "groups": []string{"staff"},
	}})
	assert.Equal(t, []any{true, "new@fernmoor.example", false, true},
		[]any{trial.New, trial.User, trial.Mappings[0].Holds, trial.Mappings[1].Holds})
	assert.Equal(t, "the claim groups is staff", trial.Mappings[0].Why)
	trial = post[api.ClaimsTrial](x, at+"/trial", api.TryClaims{Claims: map[string]any{"groups": "none"}})
	assert.Contains(t, trial.Refused, "gives you a role here")
	assert.Empty(t, get[api.Page[api.OwnProvider]](x, "/session/providers").Items[0].SignedInAt)
	x.do(404, "DELETE", "/session/providers/"+p.ID, nil)
	require.NoError(t, x.Store.InTx(t.Context(), func(tx *db.Tx) error {
		return accessstore.KeepProviderUser(t.Context(), tx, accessstore.ProviderUser{
			ProviderID: p.ID, Subject: "maud", UserID: get[api.Caller](x, "/session").ID, LinkedAt: time.Now(),
			SignedInAt: time.Now(),
		})
	}))
	x.do(204, "DELETE", "/session/providers/"+p.ID, nil)
	x.do(204, "DELETE", at, nil)
	x.do(404, "GET", at, nil)
}

// A program is let in by somebody in a browser, once; it is told to wait, and when it is refused. The client is
// somebody else's implementation of RFC 8628.
func TestProgramsAreLetInWithABrowser(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	app := oauth2.Config{ClientID: "kanban", Endpoint: oauth2.Endpoint{
		DeviceAuthURL: x.URL + "/device-authorization", TokenURL: x.URL + "/ims/ob/v3p0/token",
		AuthStyle: oauth2.AuthStyleInParams,
	}}
	_, text := x.ask("GET", "/.well-known/oauth-authorization-server", "")
	assert.Contains(t, text, `"device_authorization_endpoint":"http://kanban.example/device-authorization"`)
	begun, err := app.DeviceAuth(t.Context(), oauth2.SetAuthURLParam("device_name", "a shell\x01\n of Maud"))
	require.NoError(t, err)
	assert.Equal(t, "http://kanban.example/device?code="+begun.UserCode, begun.VerificationURIComplete)
	assert.Equal(t, int64(5), begun.Interval)
	poll := func(code string) (int, map[string]any) {
		resp, err := http.PostForm(x.URL+"/ims/ob/v3p0/token", map[string][]string{
			"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"}, "client_id": {"kanban"}, "device_code": {code},
		})
		require.NoError(t, err)
		defer resp.Body.Close()
		var out map[string]any
		require.NoError(t, json.NewDecoder(resp.Body).Decode(&out))
		return resp.StatusCode, out
	}
	for _, wanted := range []string{"authorization_pending", "slow_down"} {
		status, answer := poll(begun.DeviceCode)
		assert.Equal(t, []any{400, wanted}, []any{status, answer["error"]})
	}
	got := make(chan *oauth2.Token, 1)
	begun.Interval = 1 // it does not wait as long as it was told
	go func() {
		token, err := app.DeviceAccessToken(t.Context(), begun)
		assert.NoError(t, err)
		got <- token
	}()
	ask := get[api.DeviceAsk](x, "/session/devices/"+begun.UserCode)
	assert.Equal(t, "a shell of Maud", ask.Name)
	x.do(204, "PUT", "/session/devices/"+begun.UserCode, api.DeviceAnswer{Allow: true})
	token := <-got
	require.NotNil(t, token)
	resp, text := x.ask("GET", "/api/v1/session", "", "Authorization", "Bearer "+token.AccessToken)
	assert.Equal(t, 200, resp.StatusCode, text)
	assert.Contains(t, text, `"Maud"`)
	status, answer := poll(begun.DeviceCode)
	assert.Equal(t, []any{400, "invalid_grant"}, []any{status, answer["error"]}, "once")
	found := false
	for _, k := range get[api.Page[api.OwnToken]](x, "/tokens").Items {
		found = found || k.Name == "a shell of Maud" && k.ExpiresAt.After(time.Now().AddDate(0, 0, 89))
	}
	assert.True(t, found)

	refused, err := app.DeviceAuth(t.Context())
	require.NoError(t, err)
	x.do(204, "PUT", "/session/devices/"+refused.UserCode, api.DeviceAnswer{Allow: false})
	refused.Interval = 1
	_, err = app.DeviceAccessToken(t.Context(), refused)
	var e *oauth2.RetrieveError
	require.True(t, errors.As(err, &e), "%v", err)
	assert.Equal(t, "access_denied", e.ErrorCode)

	x.Access.Clock = func() time.Time { return time.Now().Add(-time.Hour) }
	old, err := app.DeviceAuth(t.Context())
	require.NoError(t, err)
	x.Access.Clock = nil
	status, answer = poll(old.DeviceCode)
	assert.Equal(t, []any{400, "expired_token"}, []any{status, answer["error"]})
	x.do(422, "PUT", "/session/devices/"+old.UserCode, api.DeviceAnswer{Allow: true})
	other := app
	other.ClientID = "another"
	_, err = other.DeviceAuth(t.Context())
	require.True(t, errors.As(err, &e), "%v", err)
	assert.Equal(t, "invalid_client", e.ErrorCode)
}

// Whoever has a role that needs one-time codes may nothing in a session by password until they are set up, and tokens
// that there are go on; a code cannot be guessed for long, and nobody who lacks the password uses up the tries.
func TestCodesInTheWayIn(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	x.do(200, "PUT", "/sign-in-settings", api.SignInSettings{CodesRequired: []string{"administrator"}})
	v := x.visitor()
	in := `{"email":"maud@fernmoor.example","password":"` + password + `"`
	status, text := v.calls("POST", "/session", in+"}")
	require.Equal(t, 200, status)
	assert.Contains(t, text, `"codesNeeded":true`)
	for path, want := range map[string]int{
		"/sections": 403, "/users": 403, "/session/page": 403, "/tokens": 403, "/session": 200, "/session/codes": 200,
	} {
		status, text := v.calls("GET", path, "")
		assert.Equal(t, want, status, path)
		if want == 403 {
			assert.Contains(t, text, "needs one-time codes", path)
		}
	}
	status, _ = v.calls("POST", "/tokens", `{"name":"way around"}`)
	assert.Equal(t, 403, status)
	x.do(200, "GET", "/sections", nil) // the token of somebody who has it already
	_, text = v.calls("POST", "/session/codes", `{"password":"`+password+`"}`)
	var begun api.NewCodes
	require.NoError(t, json.Unmarshal([]byte(text), &begun))
	code, err := totp.GenerateCode(begun.Secret, time.Now())
	require.NoError(t, err)
	status, text = v.calls("PUT", "/session/codes", `{"code":"`+code+`"}`)
	require.Equal(t, 200, status, text)
	var recovery api.RecoveryCodes
	require.NoError(t, json.Unmarshal([]byte(text), &recovery))
	status, _ = v.calls("GET", "/sections", "")
	assert.Equal(t, 200, status)

	wrong := func(password, code string) int {
		status, _ := x.visitor().calls("POST", "/session",
			`{"email":"maud@fernmoor.example","password":"`+password+`","code":"`+code+`"}`)
		return status
	}
	for range 4 {
		assert.Equal(t, 401, wrong("not-the-password", "000000"))
	}
	for range 4 {
		assert.Equal(t, 401, wrong(password, "000000"))
	}
	assert.Equal(t, 200, wrong(password, recovery.Codes[0]))
}
