package web_test

import (
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/connections"
)

const oneStatement = `{"id":"9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0001","actor":{"mbox":"mailto:ada@fernmoor.example"},
	"verb":{"id":"http://adlnet.gov/expapi/verbs/completed"},"object":{"id":"https://platform.example/q & a"}}`

// platform connects an xAPI interface and gives the headers of its requests.
func (x *site) xapiPlatform(origins string) []string { return x.xapiNamed("Platform", origins) }

func (x *site) xapiNamed(name, origins string) []string {
	c, made := x.ConnectMade("xapi", name, nil)
	_, err := x.Connections.Update(x.t.Context(), "test", c.ID, 0,
		connections.Change{Values: map[string]string{"origins": origins}})
	require.NoError(x.t, err)
	basic := "Basic " + base64.StdEncoding.EncodeToString([]byte(made["key"]+":"+made["secret"]))
	return []string{"Authorization", basic, "X-Experience-API-Version", "1.0.3", "Content-Type", "application/json"}
}

// HEAD answers as GET does, without the body (xAPI 1.0.3, Communication 1.1).
func TestStatementsAreHeadOf(t *testing.T) {
	x := open(t, nil)
	header := x.xapiPlatform("")
	one := strings.Replace(oneStatement, "q & a", "q", 1)
	resp, text := x.ask("POST", "/xapi/statements", one, header...)
	require.Equal(t, http.StatusOK, resp.StatusCode, text)
	for path, want := range map[string]int{
		"/xapi/statements": 200, "/xapi/about": 200,
		"/xapi/statements?statementId=9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0001": 200,
		"/xapi/statements?statementId=9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0009": 404,
		"/xapi/statements?colour=red":                                       400,
	} {
		resp, text := x.ask("HEAD", path, "", header...)
		assert.Equal(t, want, resp.StatusCode, path)
		assert.Empty(t, text)
		assert.Equal(t, "1.0.3", resp.Header.Get("X-Experience-API-Version"))
	}
	resp, _ = x.ask("HEAD", "/xapi/statements", "")
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode)
}

// A form stands for a request of any method (Communication 1.3).
func TestAlternateRequests(t *testing.T) {
	x := open(t, nil)
	header := x.xapiPlatform("")
	form := func(pairs ...string) string {
		v := url.Values{"Authorization": {header[1]}, "X-Experience-API-Version": {"1.0.3"}}
		for i := 0; i < len(pairs); i += 2 {
			v.Set(pairs[i], pairs[i+1])
		}
		return v.Encode()
	}
	send := func(method, body string) (int, string) {
		resp, text := x.ask("POST", "/xapi/statements?method="+method, body, "Content-Type", "application/x-www-form-urlencoded")
		return resp.StatusCode, text
	}
	one := strings.Replace(oneStatement, "q & a", "q", 1)
	status, text := send("PUT", form("statementId", "9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0001", "content", one))
	assert.Equal(t, http.StatusNoContent, status, text)
	status, text = send("GET", form("statementId", "9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0001"))
	require.Equal(t, http.StatusOK, status, text)
	assert.Contains(t, text, "verbs/completed")
	status, text = send("post", form("content", strings.Replace(one, "0001", "0002", 1)))
	assert.Equal(t, http.StatusOK, status, text)
	status, text = send("GET", form("limit", "1"))
	var page struct {
		Statements []any
		More       string
	}
	require.NoError(t, json.Unmarshal([]byte(text), &page))
	assert.Equal(t, []any{200, 1, true}, []any{status, len(page.Statements), page.More != ""})

	for name, c := range map[string][2]string{
		"two parameters":      {"GET&limit=1", form()},
		"method twice":        {"GET&method=PUT", form()},
		"an unknown method":   {"PATCH", form()},
		"a method of 2.0":     {"GET", form("X-Experience-API-Version", "2.0.0")},
		"no form":             {"GET", "%zz"},
		"too long":            {"POST", form("content", strings.Repeat(" ", 11<<20))},
		"an unknown argument": {"GET", form("colour", "red")},
	} {
		status, text = send(c[0], c[1])
		assert.Equal(t, http.StatusBadRequest, status, "%s: %s", name, text)
	}
	status, _ = send("GET", "statementId=9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0001")
	assert.Equal(t, http.StatusUnauthorized, status, "who it is stands in the form, too")
}

// Scripts of listed origins may report, those of others may not (Fetch standard, "CORS protocol").
func TestScriptsOfListedOrigins(t *testing.T) {
	x := open(t, nil)
	header := x.xapiPlatform("https://lessons.example https://more.example:8443")
	for origin, allowed := range map[string]bool{
		"https://lessons.example": true, "https://more.example:8443": true, "https://more.example": false,
		"https://lessons.example.evil.example": false, "null": false, "http://lessons.example": false,
	} {
		resp, _ := x.ask("OPTIONS", "/xapi/statements", "", "Origin", origin, "Access-Control-Request-Method", "POST")
		assert.Equal(t, map[bool]int{true: 204, false: 403}[allowed], resp.StatusCode, origin)
		assert.Equal(t, map[bool]string{true: origin, false: ""}[allowed],
			resp.Header.Get("Access-Control-Allow-Origin"), origin)
		resp, _ = x.ask("GET", "/xapi/statements", "", append(header, "Origin", origin)...)
		assert.Equal(t, http.StatusOK, resp.StatusCode)
		assert.Equal(t, allowed, resp.Header.Get("Access-Control-Allow-Origin") == origin, origin)
		assert.Contains(t, resp.Header.Values("Vary"), "Origin")
	}
	_, err := x.Connections.Update(t.Context(), "test", x.Connect("xapi", "Other", nil).ID, 0,
		connections.Change{Values: map[string]string{"origins": "https://lessons.example/path"}})
	require.ErrorContains(t, err, "is no origin")
}

// Each interface is a store of statements of its own: an id that came through one is free in another, is
// found by whoever reported it, and leads to nothing twice.
func TestOneIDThroughTwoInterfaces(t *testing.T) {
	x := open(t, nil)
	first := x.xapiPlatform("")
	_, made := x.ConnectMade("xapi", "Other platform", nil)
	second := append([]string{}, first...)
	second[1] = "Basic " + base64.StdEncoding.EncodeToString([]byte(made["key"]+":"+made["secret"]))
	one := strings.Replace(oneStatement, "q & a", "q", 1)
	other := strings.Replace(one, "completed", "passed", 1)
	for _, c := range []struct {
		header []string
		body   string
		status int
	}{
		{first, one, 200},
		{second, other, 200}, // theirs
		{first, one, 200},
		{first, other, 409},
		{second, one, 409},
	} {
		resp, text := x.ask("POST", "/xapi/statements", c.body, c.header...)
		assert.Equal(t, c.status, resp.StatusCode, text)
	}
	for verb, header := range map[string][]string{"completed": first, "passed": second} {
		resp, text := x.ask("GET", "/xapi/statements?statementId=9d2c0b0e-65b0-4c2e-9c0c-0d6a6f2a0001", "", header...)
		assert.Equal(t, http.StatusOK, resp.StatusCode, text)
		assert.Contains(t, text, verb)
	}
}
