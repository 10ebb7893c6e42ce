package web

import (
	"context"
	"encoding/base64"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/httprate"
)

// doorman slows down whoever tries passwords or set-up links one after the other. Nobody
// can use up anybody else's tries: they are counted for each address that requests come
// from, and for each account at each address. An account as a whole has a bound as well,
// because addresses are cheap; it does not hold for browsers from which somebody signed in
// to that account before, which carry a cookie that says so.
type doorman struct {
	address, pair, account, known *httprate.RateLimiter
}

func newDoorman() *doorman {
	return &doorman{
		address: httprate.NewRateLimiter(60, time.Minute),
		pair:    httprate.NewRateLimiter(10, time.Minute),
		account: httprate.NewRateLimiter(100, time.Hour),
		known:   httprate.NewRateLimiter(30, time.Hour),
	}
}

// visitor is who stands at the door.
type visitor struct {
	address string
	before  string // the account to which this browser signed in before
	w       http.ResponseWriter
	r       *http.Request
}

type visitorKey struct{}

const (
	knownCookie = "kanban_browser"
	knownFor    = 365 * 24 * time.Hour
	knownOwner  = "known-browser"
)

// noteVisitor notes for the handlers of doors where a request comes from.
func (s *Server) noteVisitor(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodPost || !openPaths[r.URL.Path] {
			next.ServeHTTP(w, r)
			return
		}
		c := visitor{address: clientAddress(r, s.TrustedProxies), w: w, r: r}
		if cookie, err := r.Cookie(knownCookie); err == nil {
			if sealed, err := base64.RawURLEncoding.DecodeString(cookie.Value); err == nil {
				text, _ := s.Store.Unseal(sealed, knownOwner)
				c.before = string(text)
			}
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), visitorKey{}, c)))
	})
}

// admit counts a try at an account ("" for a set-up link) and refuses it when there were
// too many.
func (d *doorman) admit(ctx context.Context, account string) error {
	c, _ := ctx.Value(visitorKey{}).(visitor)
	account = strings.ToLower(strings.TrimSpace(account))
	if len(account) > 254 {
		account = account[:254]
	}
	over := d.address.OnLimit(c.w, c.r, c.address) || d.pair.OnLimit(c.w, c.r, account+" "+c.address)
	switch {
	case over || account == "":
	case c.before == account:
		over = d.known.OnLimit(c.w, c.r, account)
	default:
		over = d.account.OnLimit(c.w, c.r, account)
	}
	if !over {
		return nil
	}
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests("too many tries; wait a minute and try again"), http.Header{"Retry-After": {"60"}})
}

// remember lets this browser be known at an account.
func (s *Server) remember(ctx context.Context, account string) {
	c, ok := ctx.Value(visitorKey{}).(visitor)
	sealed, err := s.Store.Seal([]byte(strings.ToLower(strings.TrimSpace(account))), knownOwner)
	if !ok || err != nil {
		return
	}
	http.SetCookie(c.w, &http.Cookie{
		Name: knownCookie, Value: base64.RawURLEncoding.EncodeToString(sealed), Path: "/api/v1/session", MaxAge: int(knownFor.Seconds()),
		HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: strings.HasPrefix(s.Public, "https://"),
	})
}
