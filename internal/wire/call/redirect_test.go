package call

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAddressesEverybodyCanReach(t *testing.T) {
	for _, private := range []string{
		"127.0.0.1:80", "10.1.2.3:80", "172.16.0.1:80", "192.168.1.1:443",
		"169.254.169.254:80", "100.64.0.1:80", "0.0.0.0:80", "[::1]:80", "[fe80::1]:80", "[fd00::1]:80",
		"[::ffff:127.0.0.1]:80", "[::ffff:10.0.0.1]:80",
	} {
		var refused *PrivateRedirect
		assert.ErrorAs(t, onlyPublic("tcp", private, nil), &refused, private)
	}
	for _, public := range []string{"198.51.100.7:443", "[2001:db8::1]:443", "172.32.0.1:80", "100.128.0.1:80"} {
		assert.NoError(t, onlyPublic("tcp", public, nil), public)
	}
}

func TestRedirectsThatWouldChangeTheCall(t *testing.T) {
	hits := map[string]int{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		hits[r.Method+" "+r.URL.Path]++
		switch r.URL.Path {
		case "/becomes-get":
			http.Redirect(w, r, "/there", http.StatusFound)
		case "/round":
			http.Redirect(w, r, "/round", http.StatusTemporaryRedirect)
		case "/moved":
			http.Redirect(w, r, "/there", http.StatusPermanentRedirect)
		}
	}))
	defer s.Close()
	c := New(Options{Redirects: AllRedirects})
	for path, refused := range map[string]bool{"/becomes-get": true, "/round": true, "/moved": false} {
		req, err := http.NewRequest(http.MethodPost, s.URL+path, strings.NewReader("body"))
		require.NoError(t, err)
		_, err = c.Do(t.Context(), req)
		if p, ok := As(err); refused {
			require.True(t, ok, "%s: %v", path, err)
			assert.Equal(t, Refused, p.Kind, path)
		} else {
			assert.NoError(t, err, path)
		}
	}
	assert.Equal(t, map[string]int{
		"POST /becomes-get": 1, "POST /round": most + 1, "POST /moved": 1,
		"POST /there": 1,
	}, hits)
}
