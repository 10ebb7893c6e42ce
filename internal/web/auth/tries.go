package auth

import (
	"context"
	"encoding/base64"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/httprate"

	"kanban/internal/app/access"
)

// tries slows down whoever tries passwords or set-up links one after the other. Nobody
// can use up anybody else's tries: they are counted for each address that requests come
// from, and for each account at each address. An account as a whole has a bound as well,
// because addresses are cheap; it does not hold for browsers from which somebody signed in
// to that account before, which carry a cookie that says so.
//
// One-time codes are few: how many are tried for an account has a bound of its own, which only somebody reaches who
// knows its password or is signed in. Links for new passwords are mails to somebody who may not have asked.
type tries struct {
	address, pair, account, known, code, reset, elsewhere *httprate.RateLimiter
}

func newTries() *tries {
	return &tries{
		address: httprate.NewRateLimiter(60, time.Minute),
		pair:    httprate.NewRateLimiter(10, time.Minute),
		account: httprate.NewRateLimiter(100, time.Hour),
		known:   httprate.NewRateLimiter(30, time.Hour),
		code:    httprate.NewRateLimiter(20, time.Hour),
		reset:   httprate.NewRateLimiter(3, time.Hour),
		// Nothing can be guessed at a provider, and a whole school may come from one address.
		elsewhere: httprate.NewRateLimiter(600, time.Minute),
	}
}

// visitor is who asks to be let in.
type visitor struct {
	address string
	before  string // the account to which this browser signed in before
	w       http.ResponseWriter
	r       *http.Request
}

const (
	knownCookie = "kanban_browser"
	knownFor    = 365 * 24 * time.Hour
	knownOwner  = "known-browser"
)

// NoteVisitor notes, for Admit, where a request that asks to be let in comes from.
func (a *Auth) NoteVisitor(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		guess := strings.HasPrefix(r.URL.Path, access.ProvidersPath) || r.Method == http.MethodPost &&
			open[r.URL.Path] || r.URL.Path == passwordPath ||
			strings.HasPrefix(r.URL.Path, codesPath) || strings.HasPrefix(r.URL.Path, devicesPath)
		if !guess {
			next.ServeHTTP(w, r)
			return
		}
		c := visitor{address: ClientAddress(r, a.TrustedProxies), w: w, r: r}
		if cookie, err := r.Cookie(knownCookie); err == nil {
			if sealed, err := base64.RawURLEncoding.DecodeString(cookie.Value); err == nil {
				text, _ := a.Store.Unseal(sealed, knownOwner)
				c.before = string(text)
			}
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), keyVisitor, c)))
	})
}

// passwordPath is where a password is changed by whoever knows it, codesPath where one-time codes are minded, and
// devicesPath where programs are let in by codes that they show.
const (
	passwordPath = "/api/v1/session/password"
	codesPath    = "/api/v1/session/codes"
	devicesPath  = "/api/v1/session/devices"
)

// AdmitCode counts a try of a one-time code of an account, and refuses it when there were too many.
func (a *Auth) AdmitCode(ctx context.Context, account string) error {
	c, _ := ctx.Value(keyVisitor).(visitor)
	if !a.tries.code.OnLimit(c.w, c.r, accountKey(account)) {
		return nil
	}
	return huma.ErrorWithHeaders(
		huma.Error429TooManyRequests("too many one-time codes were tried; wait an hour and try again"),
		http.Header{"Retry-After": {"3600"}})
}

// AdmitReset counts that a new password was asked for, and refuses it when it was asked for too often.
func (a *Auth) AdmitReset(ctx context.Context, account string) error {
	c, _ := ctx.Value(keyVisitor).(visitor)
	if err := a.Admit(ctx, ""); err != nil || !a.tries.reset.OnLimit(c.w, c.r, accountKey(account)) {
		return err
	}
	return huma.ErrorWithHeaders(
		huma.Error429TooManyRequests("this was asked for three times already; look into the mailbox, or wait an hour"),
		http.Header{"Retry-After": {"3600"}})
}

// AdmitElsewhere counts that somebody signs in at a provider, and refuses it when far too many do from one address.
func (a *Auth) AdmitElsewhere(ctx context.Context) error {
	c, _ := ctx.Value(keyVisitor).(visitor)
	if !a.tries.elsewhere.OnLimit(c.w, c.r, c.address) {
		return nil
	}
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests("too many sign in at once; wait a minute and try again"),
		http.Header{"Retry-After": {"60"}})
}

// accountKey is by what tries at an account are counted.
func accountKey(account string) string {
	account = strings.ToLower(strings.TrimSpace(account))
	return account[:min(len(account), 254)]
}

// Admit counts a try at an account ("" for a set-up link) and refuses it when there were
// too many.
func (a *Auth) Admit(ctx context.Context, account string) error {
	c, _ := ctx.Value(keyVisitor).(visitor)
	account = accountKey(account)
	over := a.tries.address.OnLimit(c.w, c.r, c.address) || a.tries.pair.OnLimit(c.w, c.r, account+" "+c.address)
	switch {
	case over || account == "":
	case c.before == account:
		over = a.tries.known.OnLimit(c.w, c.r, account)
	default:
		over = a.tries.account.OnLimit(c.w, c.r, account)
	}
	if !over {
		return nil
	}
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests("too many tries; wait a minute and try again"),
		http.Header{"Retry-After": {"60"}})
}

// Remember lets this browser be known at an account.
func (a *Auth) Remember(ctx context.Context, account string) {
	c, ok := ctx.Value(keyVisitor).(visitor)
	sealed, err := a.Store.Seal([]byte(strings.ToLower(strings.TrimSpace(account))), knownOwner)
	if !ok || err != nil {
		return
	}
	http.SetCookie(c.w, &http.Cookie{
		Name: knownCookie, Value: base64.RawURLEncoding.EncodeToString(sealed), Path: "/api/v1/session",
		MaxAge:   int(knownFor.Seconds()),
		HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: strings.HasPrefix(a.Public, "https://"),
	})
}
