package lti

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwa"
	"github.com/lestrrat-go/jwx/v3/jwk"
	"github.com/lestrrat-go/jwx/v3/jws"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/wire/call"
)

func TestRolesInAContext(t *testing.T) {
	const c, sub = "http://purl.imsglobal.org/vocab/lis/v2/membership#", "http://purl.imsglobal.org/vocab/lis/v2/membership/"
	for _, x := range []struct {
		roles []string
		is    Role
	}{
		{nil, Other},
		{[]string{c + "Learner"}, Learner},
		{[]string{"Learner"}, Learner},
		{[]string{c + "Instructor"}, Teacher},
		{[]string{sub + "Instructor#TeachingAssistant"}, Teacher},
		{[]string{sub + "Learner#Instructor"}, Learner},
		{[]string{c + "Learner", c + "Instructor"}, Teacher},
		{[]string{c + "Mentor", c + "Administrator"}, Other},
		{[]string{"http://purl.imsglobal.org/vocab/lis/v2/institution/person#Instructor"}, Other},
		{[]string{"http://purl.imsglobal.org/vocab/lis/v2/system/person#Administrator"}, Other},
		{[]string{"urn:something#Learner", "", "learner"}, Other},
	} {
		assert.Equal(t, x.is, RoleIn(x.roles), x.roles)
	}
	assert.True(t, IsTestUser([]string{c + "Learner", "http://purl.imsglobal.org/vocab/lti/system/person#TestUser"}))
	assert.False(t, IsTestUser([]string{c + "Learner"}))
}

func TestWhatAContextIsAbout(t *testing.T) {
	m := Message{Custom: map[string]any{"section": " a, b ,a,", "person": "$Person.sourcedId", "n": 3.0}}
	m.Register.Person, m.Context.ID = "p-1", "c-1"
	assert.Equal(t, [][]string{{"a", "b"}, {"c-1"}}, m.Sections())
	assert.Equal(t, "p-1", m.PersonID(), "what the platform did not replace says nothing")
	assert.Empty(t, m.CustomText("n"))
	m.Custom["person"] = "p-2"
	assert.Equal(t, "p-2", m.PersonID())
}

func TestWhereABrowserIsSent(t *testing.T) {
	l := LoginOf(url.Values{
		"iss": {"https://platform.example"}, "login_hint": {"a b&c"}, "lti_message_hint": {"m"}, "target_link_uri": {"x"},
	})
	assert.Empty(t, l.Lacks())
	assert.Len(t, LoginOf(nil).Lacks(), 3)
	at, err := url.Parse(l.AddressAt(Platform{ClientID: "tool", Authorize: "https://platform.example/auth?tenant=1"},
		"https://kanban.example/lti/launch", "s", "n"))
	require.NoError(t, err)
	assert.Equal(t, url.Values{
		"tenant": {"1"}, "scope": {"openid"}, "response_type": {"id_token"}, "response_mode": {"form_post"},
		"prompt":    {"none"},
		"client_id": {"tool"}, "redirect_uri": {"https://kanban.example/lti/launch"}, "login_hint": {"a b&c"}, "state": {"s"},
		"nonce": {"n"}, "lti_message_hint": {"m"},
	}, at.Query())
}

// signer signs messages with another library than the one that checks them.
type signer struct {
	*httptest.Server
	private jwk.Key
	alg     jwa.SignatureAlgorithm
	reads   atomic.Int64
	set     atomic.Pointer[[]byte]
}

func newSigner(t *testing.T, raw any, alg jwa.SignatureAlgorithm) *signer {
	s := &signer{}
	s.rotate(t, raw, alg, "one")
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		s.reads.Add(1)
		_, _ = w.Write(*s.set.Load())
	}))
	t.Cleanup(s.Close)
	return s
}

func (s *signer) rotate(t *testing.T, raw any, alg jwa.SignatureAlgorithm, id string) {
	key, err := jwk.Import(raw)
	require.NoError(t, err)
	require.NoError(t, key.Set(jwk.KeyIDKey, id))
	public, err := key.PublicKey()
	require.NoError(t, err)
	require.NoError(t, public.Set(jwk.AlgorithmKey, alg))
	set := jwk.NewSet()
	require.NoError(t, set.AddKey(public))
	text, err := json.Marshal(set)
	require.NoError(t, err)
	s.private, s.alg = key, alg
	s.set.Store(&text)
}

func (s *signer) sign(t *testing.T, claims any) string {
	text, err := json.Marshal(claims)
	require.NoError(t, err)
	token, err := jws.Sign(text, jws.WithKey(s.alg, s.private))
	require.NoError(t, err)
	return string(token)
}

// message is the standard's own example (LTI Core 1.3, appendix), of now.
func message(now time.Time) map[string]any {
	return map[string]any{
		"iss": "https://platform.example.org", "sub": "a6d5c443", "aud": []string{"tool-1"}, "azp": "tool-1",
		"iat": float64(now.UnixMilli()) / 1000, "exp": now.Add(5 * time.Minute).Unix(), "nonce": "n-0S6_WzA2Mj",
		"name": "Ana Ruiz", "email": "ana@example.org", "https://other.example/claim": map[string]any{"x": 1},
		claim + "message_type": "LtiResourceLinkRequest", claim + "version": "1.3.0", claim + "deployment_id": "dep-1",
		claim + "target_link_uri": "https://tool.example.org/launch/7",
		claim + "resource_link": map[string]any{
			"id": "rl-200", "title": "Week 1", "validation_context": nil,
			"errors": map[string]any{},
		},
		claim + "context": map[string]any{"id": "ctx-9", "label": "MATH-9A", "title": "Maths 9A"},
		claim + "roles":   []string{"http://purl.imsglobal.org/vocab/lis/v2/membership#Learner"},
	}
}

func (s *signer) platform() Platform {
	return Platform{Issuer: "https://platform.example.org", ClientID: "tool-1", Keys: s.URL}
}

func TestMessagesOfAnotherLibrary(t *testing.T) {
	now := time.Now()
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	ecKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	for alg, raw := range map[jwa.SignatureAlgorithm]any{
		jwa.RS256(): rsaKey, jwa.PS256(): rsaKey,
		jwa.ES256(): ecKey,
	} {
		s := newSigner(t, raw, alg)
		v := NewVerifier(http.DefaultClient)
		m, err := v.Verify(t.Context(), s.platform(), s.sign(t, message(now)), "n-0S6_WzA2Mj", now)
		require.NoError(t, err, alg)
		assert.Equal(t, []any{"a6d5c443", "dep-1", "ctx-9", Learner},
			[]any{m.Subject, m.Deployment, m.Context.ID, RoleIn(m.Roles)})
		_, err = v.Verify(t.Context(), s.platform(), s.sign(t, message(now)), "n-0S6_WzA2Mj", now.Add(10*time.Minute))
		require.Error(t, err, "it has ended")
	}
	s := newSigner(t, rsaKey, jwa.RS256())
	v := NewVerifier(http.DefaultClient)
	for range 20 {
		_, err = v.Verify(t.Context(), s.platform(), s.sign(t, message(now)), "n-0S6_WzA2Mj", now)
		require.NoError(t, err)
	}
	assert.Equal(t, int64(1), s.reads.Load(), "keys are kept")
	other, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	s.rotate(t, other, jwa.RS256(), "two")
	_, err = v.Verify(t.Context(), s.platform(), s.sign(t, message(now)), "n-0S6_WzA2Mj", now)
	require.NoError(t, err, "and read again for one that is not known")
	s.Close()
	_, err = NewVerifier(http.DefaultClient).Verify(t.Context(), s.platform(), s.sign(t, message(now)),
		"n-0S6_WzA2Mj", now)
	var failed *Error
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, Unreachable, failed.Why)
}

// However a message is damaged, it is believed only as it was signed, and nothing ends with it.
func TestDamagedMessages(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	s, now := newSigner(t, key, jwa.RS256()), time.Now()
	v := NewVerifier(http.DefaultClient)
	good := s.sign(t, message(now))
	rapid.Check(t, func(r *rapid.T) {
		text := []byte(good)
		switch at := rapid.IntRange(0, len(text)-1).Draw(r, "at"); rapid.IntRange(0, 3).Draw(r, "how") {
		case 0:
			text = text[:at]
		case 1:
			text[at] ^= byte(1 << rapid.IntRange(0, 6).Draw(r, "bit"))
		case 2:
			text = append(text[:at:at], append([]byte(rapid.String().Draw(r, "more")), text[at:]...)...)
		case 3:
			text[at] = '.'
		}
		m, err := v.Verify(context.Background(), s.platform(), string(text), "n-0S6_WzA2Mj", now)
		if err == nil && m.Subject != "a6d5c443" {
			r.Fatalf("believed: %+v", m)
		}
	})
	// A member of another shape is refused in words, whichever it is.
	for name := range message(now) {
		for _, odd := range []any{nil, 7, true, "x", []any{1}, map[string]any{"a": []any{}}, strings.Repeat("é",
			300)} {
			claims := message(now)
			claims[name] = odd
			_, err := v.Verify(context.Background(), s.platform(), s.sign(t, claims), "n-0S6_WzA2Mj", now)
			if err != nil {
				var failed *Error
				require.ErrorAs(t, err, &failed, "%s: %v", name, odd)
				assert.LessOrEqual(t, len(failed.Detail), 1000)
			}
		}
	}
}

func TestConfigurationsOfPlatforms(t *testing.T) {
	client := call.New(call.Options{Retries: -1, MaxBody: 1 << 20, Detail: RefusalIn})
	said := map[string]any{}
	platform := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/tools" {
			_, _ = w.Write([]byte(`{"client_id":""}`))
			return
		}
		_ = json.NewEncoder(w).Encode(said)
	}))
	t.Cleanup(platform.Close)
	whole := func() map[string]any {
		return map[string]any{
			"issuer": platform.URL, "authorization_endpoint": platform.URL + "/a", "token_endpoint": platform.URL + "/t",
			"jwks_uri": platform.URL + "/k", "registration_endpoint": platform.URL + "/tools",
		}
	}
	read := func() (Configuration, error) {
		return ReadConfiguration(t.Context(), client, platform.URL+"/c")
	}
	said = whole()
	c, err := read()
	require.NoError(t, err)
	_, err = Join(t.Context(), client, c, "", Tool{Base: "https://kanban.example"})
	require.ErrorContains(t, err, "did not say the client id")
	for name := range whole() {
		for _, odd := range []any{"", "nothing", "ftp://x.example", "https://user:pw@x.example"} {
			said = whole()
			said[name] = odd
			_, err := read()
			require.ErrorContains(t, err, name)
		}
	}
	for says, odd := range map[string]map[string]any{
		"another host":          {"issuer": "https://other.example"},
		"by their keys":         {"token_endpoint_auth_methods_supported": []string{"client_secret_basic"}},
		"does not offer links":  {platformDescription: map[string]any{"messages_supported": []any{map[string]any{"type": "Other"}}}},
		"is not what platforms": {"issuer": 7},
	} {
		said = whole()
		for name, v := range odd {
			said[name] = v
		}
		_, err := read()
		require.ErrorContains(t, err, says)
	}
	said = map[string]any{"x": strings.Repeat("x", 1<<20)}
	_, err = read()
	require.ErrorContains(t, err, "longer than")
	require.ErrorContains(t, CheckKeys(t.Context(), client, platform.URL+"/k"), "longer than")
	said = whole()
	require.ErrorContains(t, CheckKeys(t.Context(), client, platform.URL+"/k"), "are no keys")
}
