package openbadge_test

import (
	"encoding/base64"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwa"
	"github.com/lestrrat-go/jwx/v3/jwk"
	"github.com/lestrrat-go/jwx/v3/jws"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/badge"
	"kanban/internal/wire/openbadge"
)

const school = "https://s.example/issuers/1"

func built(t testing.TB, issuer string) badge.Credential {
	t.Helper()
	c, err := badge.Build(badge.Award{
		ID: "https://s.example/awards/1", Issuer: badge.Profile{ID: issuer, Name: "Example School"},
		Achievement: badge.Achievement{
			ID: "https://s.example/badges/1", Name: "Cuttings", Description: "d", Criteria: badge.Criteria{Narrative: "c"},
			Image: badge.Picture("https://s.example/badges/1/picture.png", "A leaf"),
		},
		Address: "ana@example.org", Salt: "s", At: knownTime, Note: "Well done",
		Evidence: []badge.Evidence{{ID: "https://s.example/evidence/1"}, {Narrative: "Seen at work"}},
	})
	require.NoError(t, err)
	return c
}

func newKey(t testing.TB, a openbadge.Algorithm) (private, public jwk.Key) {
	t.Helper()
	private, err := openbadge.NewKey(a)
	require.NoError(t, err)
	public, err = openbadge.Public(private)
	require.NoError(t, err)
	return private, public
}

// Both algorithms sign both forms where the standards have one, and what is read back is what was said.
func TestSignedCredentialsVerify(t *testing.T) {
	for _, algorithm := range []openbadge.Algorithm{openbadge.RS256, openbadge.EdDSA} {
		private, public := newKey(t, algorithm)
		kid := school + "/keys/" + openbadge.ID(private)
		text, err := json.Marshal(public)
		require.NoError(t, err)
		assert.NotContains(t, string(text), `"d":`, "private members never leave")
		token, err := openbadge.Sign(built(t, school), private, kid)
		require.NoError(t, err)
		header, _ := base64.RawURLEncoding.DecodeString(strings.Split(token, ".")[0])
		assert.JSONEq(t, `{"alg":"`+string(algorithm)+`","kid":"`+kid+`","typ":"JWT"}`, string(header))
		files := map[string][]byte{"JWT": []byte(token)}
		if algorithm == openbadge.EdDSA {
			files["Data Integrity"], err = openbadge.Embed(built(t, school), private, kid, knownTime)
			require.NoError(t, err)
		}
		places := fetched{kid: public, school: map[string]any{
			"id": school, "assertionMethod": []string{kid},
			"verificationMethod": []any{map[string]any{"id": kid, "controller": school, "publicKeyJwk": public}},
		}}
		for how, file := range files {
			seen := openbadge.Examine(t.Context(), file, knownTime, places)
			require.Equal(t, openbadge.Valid, seen.Verdict, "%s %s: %+v", algorithm, how, seen.Checks)
			assert.Equal(t, how, seen.Secured)
			s := seen.Seen
			assert.Equal(t, []string{"Cuttings", "d", "c", "Well done"},
				[]string{s.Achievement.Name, s.Achievement.Description, s.Achievement.Criteria, s.Narrative})
			assert.Equal(t, []openbadge.SeenEvidence{
				{ID: "https://s.example/evidence/1"}, {Narrative: "Seen at work"},
			}, s.Evidence)
		}
		parts := strings.Split(token, ".")
		payload, _ := base64.RawURLEncoding.DecodeString(parts[1])
		forged := parts[0] + "." + base64.RawURLEncoding.EncodeToString([]byte(strings.ReplaceAll(string(payload),
			"Cuttings", "Grafting"))) + "." + parts[2]
		assert.Equal(t, openbadge.Altered, openbadge.Examine(t.Context(), []byte(forged), knownTime, places).Verdict)
		unsigned := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + parts[1] + "."
		for _, bad := range []string{"a.b.c", unsigned} {
			seen := openbadge.Examine(t.Context(), []byte(bad), knownTime, places)
			assert.Equal(t, openbadge.Unchecked, seen.Verdict, "%+v", seen)
		}
	}
}

// An issuer may publish its keys in several ways; a key that is not published as its own is nobody's.
func TestKeysMustBeTheIssuers(t *testing.T) {
	private, public := newKey(t, openbadge.EdDSA)
	_, stranger := newKey(t, openbadge.EdDSA)
	multibase, err := openbadge.Multibase(public)
	require.NoError(t, err)
	jwkText, err := json.Marshal(public)
	require.NoError(t, err)
	didKey, didJWK := "did:key:"+multibase, "did:jwk:"+base64.RawURLEncoding.EncodeToString(jwkText)
	kid := school + "/keys/1"
	set := map[string]any{"keys": []any{named(t, stranger, "other"), named(t, public, kid)}}
	lists := func(ids ...string) map[string]any {
		return map[string]any{"id": school, "assertionMethod": append([]string{}, ids...), "verificationMethod": []any{
			map[string]any{"id": kid, "controller": school, "publicKeyMultibase": multibase},
		}}
	}
	method := func(controller string) openbadge.Method {
		return openbadge.Method{ID: kid, Type: openbadge.Multikey, Controller: controller, Multibase: multibase}
	}
	for name, c := range map[string]struct {
		issuer, kid string
		places      fetched
		verdict     openbadge.Verdict
	}{
		"key itself": {didKey, didKey + "#" + multibase, nil, openbadge.Valid},
		"JWK itself": {didJWK, didJWK + "#0", nil, openbadge.Valid},
		"another's key": {
			"did:key:" + knownMultikey, didKey + "#" + multibase, nil,
			openbadge.UnknownIssuer,
		},
		"JWK on the issuer's host": {school, kid, fetched{kid: public}, openbadge.Valid},
		"set on the issuer's host": {school, kid, fetched{kid: set}, openbadge.Valid},
		"set without it": {
			school, kid,
			fetched{kid: map[string]any{"keys": []any{}}},
			openbadge.UnknownIssuer,
		},
		"another key there": {school, kid, fetched{kid: stranger}, openbadge.Altered},
		"JWK on another host": {
			school, "https://else.example/k",
			fetched{"https://else.example/k": public},
			openbadge.UnknownIssuer,
		},
		"listed elsewhere": {school, kid, fetched{kid: method(school), school: lists(kid)}, openbadge.Valid},
		"not listed":       {school, kid, fetched{kid: public, school: lists()}, openbadge.UnknownIssuer},
		"key with another master": {
			school, kid,
			fetched{kid: method("https://else.example"), school: lists(kid)},
			openbadge.UnknownIssuer,
		},
		"key that nobody lists": {school, kid, fetched{kid: method(school)}, openbadge.UnknownIssuer},
		"in the issuer's document": {
			school, school + "#k",
			fetched{school: map[string]any{"id": school, "assertionMethod": []any{map[string]any{
				"id": "#k", "type": "Multikey", "controller": school, "publicKeyMultibase": multibase,
			}}}},
			openbadge.Valid,
		},
		"a DID that is not known":    {"did:abc:1", "did:abc:1#1", nil, openbadge.Unchecked},
		"a host that answers slowly": {school, kid, fetched{kid: errSlow}, openbadge.Unchecked},
		"no address":                 {school, "key-1", nil, openbadge.UnknownIssuer},
	} {
		t.Run(name, func(t *testing.T) {
			token, err := openbadge.Sign(built(t, c.issuer), private, c.kid)
			require.NoError(t, err)
			seen := openbadge.Examine(t.Context(), []byte(token), knownTime, c.places)
			assert.Equal(t, c.verdict, seen.Verdict, "%+v", seen.Checks)
		})
	}
}

type slow struct{}

func (slow) Error() string { return "it did not answer in time" }

var errSlow = slow{}

func named(t testing.TB, key jwk.Key, name string) jwk.Key {
	t.Helper()
	k, err := openbadge.Named(key, name)
	require.NoError(t, err)
	return k
}

// signAs signs any claims.
func signAs(t testing.TB, key jwk.Key, kid string, claims map[string]any) []byte {
	t.Helper()
	text, err := json.Marshal(claims)
	require.NoError(t, err)
	header := jws.NewHeaders()
	if kid == "" {
		public, err := openbadge.Public(key)
		require.NoError(t, err)
		require.NoError(t, header.Set(jws.JWKKey, public))
		key, err = key.Clone()
		require.NoError(t, err)
		require.NoError(t, key.Remove(jwk.KeyIDKey))
	} else {
		key = named(t, key, kid)
	}
	token, err := jws.Sign(text, jws.WithKey(jwa.EdDSA(), key, jws.WithProtectedHeaders(header)))
	require.NoError(t, err)
	return token
}

// Claims mirror members; older tokens wrap the credential; a token may bring its key.
func TestTokensOfOthers(t *testing.T) {
	private, public := newKey(t, openbadge.EdDSA)
	kid := school + "/keys/1"
	places := fetched{kid: public, "https://s.example/.well-known/jwks.json": map[string]any{"keys": []any{public}}}
	plain := func(change func(map[string]any)) map[string]any {
		text, err := json.Marshal(built(t, school))
		require.NoError(t, err)
		var c map[string]any
		require.NoError(t, json.Unmarshal(text, &c))
		c["iss"], c["jti"], c["nbf"] = school, c["id"], knownTime.Unix()
		change(c)
		return c
	}
	same := func(map[string]any) {}
	for name, c := range map[string]struct {
		kid     string
		claims  map[string]any
		verdict openbadge.Verdict
	}{
		"as it should be": {kid, plain(same), openbadge.Valid},
		"its own key":     {"", plain(same), openbadge.Valid},
		"another issuer": {
			kid, plain(func(c map[string]any) { c["iss"] = "https://else.example" }),
			openbadge.Altered,
		},
		"another id": {
			kid, plain(func(c map[string]any) { c["jti"] = "https://else.example" }),
			openbadge.Altered,
		},
		"another time": {kid, plain(func(c map[string]any) { c["nbf"] = 7 }), openbadge.Altered},
		"ended": {
			kid, plain(func(c map[string]any) {
				c["validUntil"], c["exp"] = knownTime.Add(-time.Second).Format(time.RFC3339), knownTime.Unix()-1
			}), openbadge.Expired,
		},
		"an end":            {kid, plain(func(c map[string]any) { c["exp"] = knownTime.Unix() }), openbadge.Altered},
		"a time in words":   {kid, plain(func(c map[string]any) { c["nbf"] = "soon" }), openbadge.Altered},
		"a date in words":   {kid, plain(func(c map[string]any) { c["validUntil"] = "soon" }), openbadge.Unchecked},
		"without an issuer": {kid, plain(func(c map[string]any) { delete(c, "issuer") }), openbadge.Unchecked},
		"of the older model": {kid, map[string]any{
			"iss": school, "jti": "https://s.example/c", "nbf": knownTime.Unix(), "exp": knownTime.Unix() + 5,
			"vc": map[string]any{
				"@context": []string{"https://www.w3.org/2018/credentials/v1"}, "type": []string{"VerifiableCredential", "OpenBadgeCredential"},
				"credentialSubject": map[string]any{"achievement": map[string]any{"name": "Old"}},
			},
		}, openbadge.Valid},
	} {
		t.Run(name, func(t *testing.T) {
			seen := openbadge.Examine(t.Context(), signAs(t, private, c.kid, c.claims), knownTime, places)
			assert.Equal(t, c.verdict, seen.Verdict, "%+v", seen.Checks)
		})
	}
	withResult := plain(func(c map[string]any) {
		subject := c["credentialSubject"].(map[string]any)
		subject["result"] = map[string]any{"resultDescription": "#r", "value": "82.5"}
		achievement := subject["achievement"].(map[string]any)
		achievement["resultDescription"] = map[string]any{"id": "#r", "name": "Score"}
		achievement["criteria"] = map[string]any{"id": "https://s.example/criteria"}
	})
	read := openbadge.Examine(t.Context(), signAs(t, private, kid, withResult), knownTime, places).Seen
	assert.Equal(t, []openbadge.SeenResult{{Name: "Score", Value: "82.5"}}, read.Results)
	assert.Equal(t, "https://s.example/criteria", read.Achievement.Criteria)
	other, _ := newKey(t, openbadge.EdDSA)
	seen := openbadge.Examine(t.Context(), signAs(t, other, "", plain(same)), knownTime, places)
	assert.Equal(t, openbadge.UnknownIssuer, seen.Verdict, "a key of its own that its issuer does not have")
	plainJSON, err := openbadge.Plain(string(signAs(t, private, kid, plain(same))))
	require.NoError(t, err)
	text, err := json.Marshal(built(t, school))
	require.NoError(t, err)
	assert.JSONEq(t, string(text), string(plainJSON))
}
