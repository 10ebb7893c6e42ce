package web_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/web"
)

// Whatever services can call is in the description, and nothing that they cannot call.
func TestEveryRouteIsDescribed(t *testing.T) {
	x := open(t, nil)
	text, err := web.Description()
	require.NoError(t, err)
	var description struct {
		Servers []struct{ URL string }
		Paths   map[string]map[string]json.RawMessage
	}
	require.NoError(t, json.Unmarshal(text, &description))
	assert.NotEmpty(t, description.Servers)
	described := map[string]bool{}
	for path, item := range description.Paths {
		for method := range item {
			described[strings.ToUpper(method)+" "+path] = true
		}
	}
	// For people and for whoever runs the service; HEAD is GET without a body.
	others := []string{"/livez", "/readyz", "/metrics", "/approvals/", "/granted", "/openapi"}
	see := func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		for _, o := range others {
			if strings.HasPrefix(route, o) {
				return nil
			}
		}
		// Scripts ask first, and in the alternate syntax everything is a POST.
		if method == http.MethodOptions && (strings.HasPrefix(route, "/ims/") || strings.HasPrefix(route,
			"/.well-known/")) {
			return nil
		}
		if strings.HasPrefix(route, "/xapi/") && (method == http.MethodOptions ||
			method == http.MethodPost && route != "/xapi/statements" && !described["POST "+route]) {
			return nil
		}
		if method != http.MethodHead {
			assert.True(t, described[method+" "+route], "%s %s is not described", method, route)
			delete(described, method+" "+route)
		}
		return nil
	}
	require.NoError(t, chi.Walk(x.web.Routes(), see))
	assert.Empty(t, described, "described, and not there")
}

// What is not known is refused: a filter that was misspelt must not look like one that fits everything.
func TestUnknownParametersAreRefused(t *testing.T) {
	x := open(t, nil)
	for _, path := range []string{
		"/sections?stat=held", "/deliveries?connection=x", "/connections?limit=3", "/session?x=1",
	} {
		resp, text := x.ask(http.MethodGet, "/api/v1"+path, "", x.bearer()...)
		assert.Equal(t, http.StatusUnprocessableEntity, resp.StatusCode, path)
		_, query, _ := strings.Cut(path, "?")
		name, _, _ := strings.Cut(query, "=")
		assert.Contains(t, text, name)
	}
	resp, _ := x.ask(http.MethodGet, "/api/v1/sections?state=held", "", x.bearer()...)
	assert.Equal(t, http.StatusOK, resp.StatusCode)
}

// A method that an address does not take is answered with those that it takes.
func TestMethodsThatAreNotTaken(t *testing.T) {
	x := open(t, nil)
	for _, c := range []struct{ method, path, allow string }{
		{"DELETE", "/api/v1/sections", "GET"},
		{"PUT", "/api/v1/connections", "GET, POST"},
		{"DELETE", "/xapi/statements", "GET, HEAD, OPTIONS, POST, PUT"},
		{"GET", "/reported/x", "OPTIONS, POST"},
		{"POST", "/open/awards/x", "GET, HEAD"},
		{"TRACE", "/api/v1/session", "DELETE, GET, POST"},
	} {
		resp, text := x.ask(c.method, c.path, "", x.bearer()...)
		assert.Equal(t, http.StatusMethodNotAllowed, resp.StatusCode, "%s %s", c.method, c.path)
		assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"), c.path)
		assert.Contains(t, text, "openapi.json")
		assert.Equal(t, c.allow, resp.Header.Get("Allow"), c.path)
	}
}

// What has an ETag and is as it was is not given again.
func TestUnchangedIsNotGivenAgain(t *testing.T) {
	x := open(t, nil)
	c := x.Workspace()
	for _, path := range []string{
		"/connections/" + c.ConnectionID, "/interfaces/" + c.ID, "/templates", "/score-templates", "/maintenance",
	} {
		resp, _ := x.ask(http.MethodGet, "/api/v1"+path, "", x.bearer()...)
		tag := resp.Header.Get("ETag")
		require.NotEmpty(t, tag, path)
		for header, want := range map[string]int{tag: 304, `"x", W/` + tag: 304, "*": 304, `"x"`: 200, "": 200} {
			resp, text := x.ask(http.MethodGet, "/api/v1"+path, "", append(x.bearer(), "If-None-Match", header)...)
			assert.Equal(t, want, resp.StatusCode, "%s %s", path, header)
			assert.Equal(t, tag, resp.Header.Get("ETag"))
			assert.Equal(t, want == 304, text == "", "%s %s", path, header)
		}
	}
	resp, _ := x.ask(http.MethodGet, "/api/v1/sections", "", append(x.bearer(), "If-None-Match", "*")...)
	assert.Equal(t, http.StatusOK, resp.StatusCode, "a list has no ETag")
}
