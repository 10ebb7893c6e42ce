package web_test

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/badge"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/eventstore"
	"kanban/internal/wire/call"
	"kanban/internal/wire/openbadge"
)

// awarded gives the path of an award's page.
func awarded(t *testing.T, x *site) string {
	t.Helper()
	x.Read(x.Register(), false)
	i, err := x.Badges.AddIssuer(t.Context(), "test", badgestore.Issuer{Name: "Fernmoor", URL: "https://fernmoor.example"})
	require.NoError(t, err)
	b, err := x.Badges.AddBadge(t.Context(), "test", badgestore.Badge{
		IssuerID: i.ID, Name: "Cuttings", Description: "Takes cuttings.", Criteria: "Finish the module.",
	})
	require.NoError(t, err)
	person := x.Person("stu-001")
	e := x.Record(eventstore.Event{
		Type: "module.completed", NaturalKey: "k", PersonID: &person.ID, OccurredAt: time.Now(),
	})
	a, err := x.Badges.Award(t.Context(), b.ID, e, time.Now().UTC())
	require.NoError(t, err)
	return "/open/awards/" + a.ID
}

// asked gives an answer and its body; header is name, value, name, value, …
func asked(t *testing.T, method, address string, header ...string) (*http.Response, string) {
	t.Helper()
	req, err := http.NewRequest(method, address, nil)
	require.NoError(t, err)
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp, string(text)
}

// A verifier of somebody else's making, which has nothing but the issuer's key set, finds the key
// by the id that credential and status list name, and accepts both.
func TestKeySetAloneVerifies_B3(t *testing.T) {
	x := open(t, nil)
	path := awarded(t, x)
	_, token := asked(t, "GET", x.URL+path, "Accept", "application/vc+jwt")
	signed, err := jose.ParseSignedCompact(token, []jose.SignatureAlgorithm{jose.RS256})
	require.NoError(t, err)
	var credential badge.Credential
	require.NoError(t, json.Unmarshal(signed.UnsafePayloadWithoutVerification(), &credential))
	issuer := strings.TrimPrefix(credential.Issuer.ID, "http://kanban.example")

	var keys jose.JSONWebKeySet
	_, text := asked(t, "GET", x.URL+issuer+"/jwks.json")
	require.NoError(t, json.Unmarshal([]byte(text), &keys))
	payload, err := signed.Verify(&keys)
	require.NoError(t, err)
	assert.JSONEq(t, string(signed.UnsafePayloadWithoutVerification()), string(payload))

	_, token = asked(t, "GET", x.URL+strings.TrimPrefix(credential.Status[0].Credential, "http://kanban.example"))
	list, err := jose.ParseSignedCompact(token, []jose.SignatureAlgorithm{jose.RS256})
	require.NoError(t, err)
	payload, err = list.Verify(&keys)
	require.NoError(t, err)
	var status badge.StatusList
	require.NoError(t, json.Unmarshal(payload, &status))
	assert.Less(t, status.ValidFrom, time.Now().Add(-5*time.Minute), "clocks that are behind accept it")

	kid := strings.TrimPrefix(signed.Signatures[0].Header.KeyID, "http://kanban.example")
	var key jose.JSONWebKey
	_, text = asked(t, "GET", x.URL+kid)
	require.NoError(t, json.Unmarshal([]byte(text), &key))
	assert.True(t, key.IsPublic())
	_, err = signed.Verify(&key)
	require.NoError(t, err)
	resp, _ := asked(t, "GET", x.URL+kid+"x")
	assert.Equal(t, http.StatusNotFound, resp.StatusCode)
}

// Who asks gets the form that they like best (RFC 9110 section 12.5.1).
func TestAwardComesInTheFormAskedFor(t *testing.T) {
	x := open(t, nil)
	path := awarded(t, x)
	for accept, want := range map[string]string{
		"":    "text/html",
		"*/*": "text/html",
		"text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8": "text/html",
		"application/vc+jwt":                               "application/vc+jwt",
		"application/json":                                 "application/json",
		"application/ld+json":                              "application/ld+json",
		"text/html;q=0.1, application/json;q=0.9":          "application/json",
		"application/json;q=0.2, application/vc+jwt;q=0.9": "application/vc+jwt",
		"application/vc+jwt;q=0, application/json":         "application/json",
		"application/*;q=0.5, text/html;q=0.1":             "application/vc+jwt",
		"image/png":                                        "text/html",
		"nonsense;;q=x":                                    "text/html",
	} {
		resp, text := asked(t, "GET", x.URL+path, "Accept", accept)
		assert.Equal(t, http.StatusOK, resp.StatusCode, accept)
		kind, _, _ := strings.Cut(resp.Header.Get("Content-Type"), ";")
		assert.Equal(t, want, kind, accept)
		assert.Equal(t, "Accept", resp.Header.Get("Vary"))
		assert.NotEmpty(t, text)
	}
}

// What anyone may read is there for HEAD, and is not sent again to whoever has it.
func TestOpenRecordsHaveEntityTags(t *testing.T) {
	x := open(t, nil)
	path := awarded(t, x)
	_, text := asked(t, "GET", x.URL+path, "Accept", "application/json")
	var c badge.Credential
	require.NoError(t, json.Unmarshal([]byte(text), &c))
	here := func(address string) string { return strings.TrimPrefix(address, "http://kanban.example") }
	for _, path := range []string{
		path, here(c.Issuer.ID), here(c.Issuer.ID) + "/jwks.json", here(c.Subject.Achievement.ID),
		here(c.Status[0].Credential),
	} {
		resp, body := asked(t, "GET", x.URL+path)
		tag := resp.Header.Get("ETag")
		require.NotEmpty(t, tag, path)
		assert.Equal(t, "*", resp.Header.Get("Access-Control-Allow-Origin"), path)
		head, nothing := asked(t, "HEAD", x.URL+path)
		assert.Equal(t, http.StatusOK, head.StatusCode, path)
		assert.Empty(t, nothing)
		assert.Equal(t, tag, head.Header.Get("ETag"), path)
		assert.EqualValues(t, len(body), head.ContentLength, path)
		again, nothing := asked(t, "GET", x.URL+path, "If-None-Match", `"other", `+tag)
		assert.Equal(t, http.StatusNotModified, again.StatusCode, path)
		assert.Empty(t, nothing)
		fresh, _ := asked(t, "GET", x.URL+path, "If-None-Match", `"other"`)
		assert.Equal(t, http.StatusOK, fresh.StatusCode, path)
	}
	resp, _ := asked(t, "HEAD", x.URL+"/open/awards/none")
	assert.Equal(t, http.StatusNotFound, resp.StatusCode)
}

// An award is had as a picture that carries it, and a picture that was altered says so.
func TestAwardsAreBaked(t *testing.T) {
	x := open(t, nil)
	path := awarded(t, x)
	for form, kind := range map[string]string{"png": "image/png", "svg": "image/svg+xml"} {
		resp, picture := asked(t, "GET", x.URL+path+"?form="+form)
		assert.Equal(t, kind, resp.Header.Get("Content-Type"))
		assert.Contains(t, resp.Header.Get("Content-Disposition"), "badge."+form)
		assert.Equal(t, openbadge.Valid, x.verdict(picture))
		altered := strings.Replace(picture, "Takes cuttings.", "Takes kuttings.", 1)
		require.NotEqual(t, picture, altered)
		assert.NotEqual(t, openbadge.Valid, x.verdict(altered))
	}
	resp, _ := asked(t, "GET", x.URL+"/open/awards/none?form=png")
	assert.Equal(t, http.StatusNotFound, resp.StatusCode)
}

func (x *site) verdict(file string) openbadge.Verdict {
	x.t.Helper()
	seen, err := x.Badges.CheckFile(x.t.Context(), []byte(file))
	require.NoError(x.t, err)
	return seen.Verdict
}

// One installation checks the badge of another over the network, by its address and as a file, while the other
// answers, says that it is suspended, breaks off, and is gone.
func TestBadgesOfAnotherInstallation(t *testing.T) {
	theirs, ours := open(t, nil), open(t, nil)
	theirs.Badges.Public = theirs.URL + "/open"
	ours.Badges.Strangers = call.NewStrangers(5*time.Second, true)
	address := theirs.URL + awarded(t, theirs)
	_, picture := asked(t, "GET", address+"?form=png")
	for _, file := range []string{address, " " + address + "?form=jwt\n", address + "?form=svg", picture} {
		assert.Equal(t, openbadge.Valid, ours.verdict(file))
	}
	id := address[strings.LastIndex(address, "/")+1:]
	_, err := theirs.Badges.Suspend(t.Context(), "Maud", id, "Being looked into")
	require.NoError(t, err)
	assert.Equal(t, openbadge.Suspended, ours.verdict(picture))
	_, err = theirs.Badges.RotateKeys(t.Context(), "Maud", theirs.issuerOf(id))
	require.NoError(t, err)
	assert.Equal(t, openbadge.Suspended, ours.verdict(address))
	for _, nothing := range []string{theirs.URL + "/open/awards/none", theirs.URL + "/open/check"} {
		assert.Equal(t, openbadge.Unchecked, ours.verdict(nothing))
	}
	ours.Badges.Strangers = call.NewStrangers(5*time.Second, false)
	seen, err := ours.Badges.CheckFile(t.Context(), []byte(address))
	require.NoError(t, err)
	assert.Contains(t, seen.Why, "address in a private network")
	theirs.Close()
	ours.Badges.Strangers = call.NewStrangers(5*time.Second, true)
	assert.Equal(t, openbadge.Unchecked, ours.verdict(picture))
}

// Asked under a name that it had before, the service answers with that name's documents, so that what was signed then
// verifies for strangers.
func TestFormerAddressesAnswer(t *testing.T) {
	x := open(t, nil)
	require.NoError(t, x.Badges.NoteAddress(t.Context()))
	path := awarded(t, x)
	_, token := asked(t, "GET", x.URL+path+"?form=jwt")
	x.Badges.Public = "https://new.example/open"
	require.NoError(t, x.Badges.NoteAddress(t.Context()))
	_, again := asked(t, "GET", x.URL+path+"?form=jwt")
	assert.Equal(t, token, again, "byte for byte")
	signed, err := jose.ParseSignedCompact(token, []jose.SignatureAlgorithm{jose.RS256})
	require.NoError(t, err)
	kid := signed.Signatures[0].Header.KeyID
	issuer := kid[:strings.Index(kid, "/keys/")]
	for host, base := range map[string]string{
		"kanban.example": "http://kanban.example", "new.example": "https://new.example", "else.example": "https://new.example",
	} {
		req, err := http.NewRequest(http.MethodGet, x.URL+strings.TrimPrefix(issuer, "http://kanban.example"), nil)
		require.NoError(t, err)
		req.Host = host
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		var document struct{ ID string }
		require.NoError(t, json.NewDecoder(resp.Body).Decode(&document))
		require.NoError(t, resp.Body.Close())
		assert.Equal(t, base+strings.TrimPrefix(issuer, "http://kanban.example"), document.ID)
	}
}
