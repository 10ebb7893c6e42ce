package web_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/app/connections"
	"kanban/internal/store/eventstore"
)

// attached is a statement with an attachment of some content.
func attached(id, hash, more string) string {
	return `{"id":"` + id + `","actor":{"mbox":"mailto:ada@fernmoor.example"},
		"verb":{"id":"http://adlnet.gov/expapi/verbs/completed"},"object":{"id":"https://platform.example/q"},
		"attachments":[{"usageType":"https://x.example/photo","display":{"en":"Photo"},"contentType":"image/png","length":5,
			"sha2":"` + hash + `"` + more + `}]}`
}

func sum(content string) string {
	h := sha256.Sum256([]byte(content))
	return hex.EncodeToString(h[:])
}

// part is a part of a request.
type part struct{ kind, hash, encoding, content string }

func mixed(parts ...part) (kind, body string) {
	var out bytes.Buffer
	w := multipart.NewWriter(&out)
	for _, p := range parts {
		header := textproto.MIMEHeader{"Content-Type": {p.kind}}
		if p.hash != "" {
			header.Set("X-Experience-API-Hash", p.hash)
		}
		if p.encoding != "" {
			header.Set("Content-Transfer-Encoding", p.encoding)
		}
		part, _ := w.CreatePart(header)
		_, _ = io.WriteString(part, p.content)
	}
	_ = w.Close()
	return "multipart/mixed; boundary=" + w.Boundary(), out.String()
}

// Attachments come beside their statements, are held against their hashes, and are given out again where
// they are kept (xAPI 1.0.3, Communication 1.5.2 and 2.1.3).
func TestAttachmentsOfStatements(t *testing.T) {
	x := open(t, nil)
	const id = "9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0001"
	hash := sum("photo")
	basic := x.xapiPlatform("")[:4]
	send := func(method, path string, parts ...part) (int, string) {
		kind, body := mixed(parts...)
		resp, text := x.ask(method, path, body, append(basic, "Content-Type", kind)...)
		return resp.StatusCode, text
	}
	post := func(parts ...part) (int, string) { return send("POST", "/xapi/statements", parts...) }
	whole := part{kind: "application/json", content: attached(id, hash, "")}
	photo := part{"image/png", hash, "binary", "photo"}
	for name, c := range map[string]struct {
		parts []part
		says  string
	}{
		"content that did not come":      {[]part{whole}, "did not come"},
		"content that is another":        {[]part{whole, {"image/png", hash, "binary", "phoTo"}}, "is not what its hash says"},
		"without a hash":                 {[]part{whole, {"image/png", "", "binary", "photo"}}, "has no X-Experience-API-Hash"},
		"another encoding":               {[]part{whole, {"image/png", hash, "base64", "cGhvdG8="}}, "binary"},
		"content that nobody names":      {[]part{whole, photo, {"text/plain", sum("x"), "binary", "x"}}, "no statement names"},
		"statements last":                {[]part{photo, whole}, "first part"},
		"no statements":                  {nil, "no part with statements"},
		"a hash that is none":            {[]part{{kind: "application/json", content: attached(id, "abc", "")}}, "sha2"},
		"an attachment without its kind": {[]part{{kind: "application/json", content: strings.Replace(whole.content, `"contentType":"image/png",`, "", 1)}, photo}, "contentType"},
	} {
		status, text := post(c.parts...)
		assert.Equal(t, http.StatusBadRequest, status, name)
		assert.Contains(t, text, c.says, name)
	}
	plain := append(basic, "Content-Type", "application/json")
	resp, text := x.ask("POST", "/xapi/statements", whole.content, plain...)
	assert.Equal(t, http.StatusBadRequest, resp.StatusCode, text)
	elsewhere := attached("9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0009", hash, `,"fileUrl":"https://x.example/p"`)
	resp, text = x.ask("POST", "/xapi/statements", elsewhere, plain...)
	assert.Equal(t, http.StatusOK, resp.StatusCode, "it is to be found elsewhere: %s", text)

	read := func() (content []string) {
		resp, text := x.ask("GET", "/xapi/statements?attachments=true&statementId="+id, "", basic...)
		require.Equal(t, http.StatusOK, resp.StatusCode, text)
		kind, parameters, err := mime.ParseMediaType(resp.Header.Get("Content-Type"))
		require.NoError(t, err)
		require.Equal(t, "multipart/mixed", kind)
		parts := multipart.NewReader(strings.NewReader(text), parameters["boundary"])
		for {
			p, err := parts.NextRawPart()
			if err == io.EOF {
				return content
			}
			require.NoError(t, err)
			b, err := io.ReadAll(p)
			require.NoError(t, err)
			if len(content) > 0 {
				assert.Equal(t, sum(string(b)), p.Header.Get("X-Experience-API-Hash"))
				assert.Equal(t, "image/png", p.Header.Get("Content-Type"))
			}
			content = append(content, string(b))
		}
	}
	status, text := send("PUT", "/xapi/statements?statementId="+id, whole, photo)
	require.Equal(t, http.StatusNoContent, status, text)
	assert.Len(t, read(), 1, "dropped, as the interface says")

	all, err := x.Connections.Interfaces(t.Context())
	require.NoError(t, err)
	_, err = x.Connections.Update(t.Context(), "test", all[0].ID, 0,
		connections.Change{Values: map[string]string{"attachments": adapter.KeepAttachments}})
	require.NoError(t, err)
	for range 2 { // the same again is no other
		status, text = post(whole, photo)
		require.Equal(t, http.StatusOK, status, text)
	}
	content := read()
	require.Len(t, content, 2)
	assert.Contains(t, content[0], hash)
	assert.Equal(t, "photo", content[1])
	kept := func(content string) bool {
		found, err := eventstore.Attachments(t.Context(), x.Store, all[0].ID, []string{sum(content)})
		require.NoError(t, err)
		return len(found) > 0
	}
	other := part{"image/png", sum("other"), "binary", "other"}
	conflict := part{kind: "application/json", content: attached(id, other.hash, "")}
	status, text = post(conflict, other)
	require.Equal(t, http.StatusConflict, status, text)
	assert.False(t, kept("other"), "of what is refused nothing is kept")
	_, err = x.Connections.Update(t.Context(), "test", all[0].ID, 0,
		connections.Change{Values: map[string]string{"faulty": adapter.TakeOthers}})
	require.NoError(t, err)
	third := part{"image/png", sum("third"), "binary", "third"}
	both := part{kind: "application/json", content: "[" + conflict.content + "," +
		attached("9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0003", third.hash, "") + "]"}
	status, text = post(both, other, third)
	require.Equal(t, http.StatusBadRequest, status, text)
	assert.False(t, kept("other"), "it was left out")
	assert.True(t, kept("third"), "it was taken without the other")
	resp, _ = x.ask("GET", "/xapi/statements?statementId="+id, "", basic...)
	assert.Equal(t, "application/json", resp.Header.Get("Content-Type"), "only who asks gets them")
}
