package oauth_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/call"
	"kanban/internal/wire/oauth"
)

var quick = call.Options{Timeout: time.Second, Retries: -1}

// says is a server that answers each path with a status and a text.
func says(t *testing.T, answers map[string]string) (at string) {
	t.Helper()
	var server *httptest.Server
	server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, there := answers[r.URL.Path]
		if !there {
			http.NotFound(w, r)
			return
		}
		_, _ = io.WriteString(w, strings.ReplaceAll(text, "{at}", server.URL))
	}))
	t.Cleanup(server.Close)
	return server.URL
}

const metadata = `{"issuer": "{at}/tenant", "authorization_endpoint": "{at}/authorize", "token_endpoint": "{at}/token"}`

// The well-known part stands between host and path (RFC 8414 section 3.1), or behind the issuer, as
// OpenID providers have it (section 5).
func TestMetadataIsFoundInBothPlaces(t *testing.T) {
	for _, path := range []string{
		"/.well-known/oauth-authorization-server/tenant", "/tenant/.well-known/openid-configuration",
	} {
		at := says(t, map[string]string{path: metadata})
		s, err := oauth.Discover(t.Context(), call.New(quick), at+"/tenant")
		require.NoError(t, err, path)
		assert.Equal(t, at+"/token", s.TokenEndpoint)
	}
	_, err := oauth.Discover(t.Context(), call.New(quick), says(t, nil))
	require.ErrorIs(t, err, oauth.ErrMetadata)
	require.ErrorContains(t, err, "enter its addresses instead")
	_, err = oauth.Discover(t.Context(), call.New(quick), "no address")
	require.ErrorIs(t, err, oauth.ErrMetadata)
	_, err = oauth.Discover(t.Context(), call.New(quick), says(t, map[string]string{
		"/.well-known/oauth-authorization-server": "<html>",
	}))
	require.ErrorIs(t, err, oauth.ErrMetadata)
	at := says(t, map[string]string{"/.well-known/oauth-authorization-server": metadata})
	_, err = oauth.Discover(t.Context(), call.New(quick), at)
	require.ErrorContains(t, err, "it calls itself", "of another issuer")
}

func TestIssuerOfAnAnswer(t *testing.T) {
	s := oauth.Server{Issuer: "https://a.example"}
	require.NoError(t, s.CheckIssuer("https://a.example", true))
	require.NoError(t, s.CheckIssuer("", false))
	require.Error(t, s.CheckIssuer("https://b.example", true))
	s.SaysIssuer = true
	require.Error(t, s.CheckIssuer("", false), "a server that promises to name itself does")
}

// Whose a token is: what people know an account by comes first.
func TestAccountIsAskedWhereTheServerSays(t *testing.T) {
	at := says(t, map[string]string{
		"/userinfo": `{"sub": "17", "email": "maud@x.example"}`, "/introspect": `{"active": true, "username": "maud", "sub": "17"}`,
	})
	app := oauth.App{ID: "app", Secret: "s"}
	ask := func(s oauth.Server) string {
		account, err := s.Account(t.Context(), call.New(quick), app, oauth.Token{Access: "t"})
		require.NoError(t, err)
		return account
	}
	assert.Equal(t, "maud@x.example", ask(oauth.Server{UserinfoEndpoint: at + "/userinfo"}))
	assert.Equal(t, "maud", ask(oauth.Server{IntrospectionEndpoint: at + "/introspect"}))
	assert.Empty(t, ask(oauth.Server{}))
	_, err := oauth.Server{UserinfoEndpoint: at + "/nothing"}.Account(t.Context(), call.New(quick), app, oauth.Token{})
	require.Error(t, err)
}

func TestCodeThatIsRefusedHasEnded(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.NoError(t, r.ParseForm())
		assert.Equal(t, "verifier", r.PostForm.Get("code_verifier"))
		id, secret, _ := r.BasicAuth()
		assert.Equal(t, "app s", id+" "+secret)
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusBadRequest)
		_, _ = w.Write([]byte(`{"error": "invalid_grant", "error_description": "It was used."}`))
	}))
	t.Cleanup(server.Close)
	_, err := oauth.Server{TokenEndpoint: server.URL}.Exchange(t.Context(), http.DefaultClient,
		oauth.App{ID: "app", Secret: "s"}, "code", "verifier")
	require.ErrorIs(t, err, oauth.ErrEnded)
	require.ErrorContains(t, err, "It was used.")
}

func ExampleServer_Begin() {
	s := oauth.Server{AuthorizationEndpoint: "https://service.example/authorize"}
	app := oauth.App{ID: "kanban", Redirect: "https://kanban.example/granted", Scopes: []string{"labels"}}
	// The verifier and its challenge of RFC 7636, appendix B.
	u, _ := url.Parse(s.Begin(app, "state", "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"))
	fmt.Println(u.Host, u.Query().Get("code_challenge_method"), u.Query().Get("code_challenge"))
	_, err := s.Exchange(context.Background(), http.DefaultClient, app, "code", "verifier")
	fmt.Println(errors.Is(err, oauth.ErrEnded))
	// Output:
	// service.example S256 E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM
	// false
}
