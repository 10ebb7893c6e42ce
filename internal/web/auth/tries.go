package auth

import (
	"context"
	"encoding/base64"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/httprate"
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

// visitor is who makes a request.
type visitor struct {
	address string
	w       http.ResponseWriter
	r       *http.Request
}

const (
	knownCookie = "kanban_browser"
	knownFor    = 365 * 24 * time.Hour
	knownOwner  = "known-browser"
)

// NoteVisitor notes, for what bounds tries, where a request comes from.
func (a *Auth) NoteVisitor(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := visitor{address: ClientAddress(r, a.TrustedProxies), w: w, r: r}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), keyVisitor, c)))
	})
}

// before is the account to which a browser signed in before, as its cookie says; empty for none.
func (a *Auth) before(c visitor) string {
	cookie, err := c.r.Cookie(knownCookie)
	if err != nil {
		return ""
	}
	sealed, err := base64.RawURLEncoding.DecodeString(cookie.Value)
	if err != nil {
		return ""
	}
	text, err := a.Store.Unseal(sealed, knownOwner)
	if err != nil {
		return "" // it is none of ours
	}
	return string(text)
}

// AdmitCode counts a try of a one-time code of an account, and refuses it when there were too many.
func (a *Auth) AdmitCode(ctx context.Context, account string) error {
	c, _ := ctx.Value(keyVisitor).(visitor)
	if !a.tries.code.OnLimit(c.w, c.r, accountKey(account)) {
		return nil
	}
	return often("too many one-time codes were tried; wait an hour and try again", time.Hour)
}

// AdmitReset counts that a new password was asked for, and refuses it when it was asked for too often.
func (a *Auth) AdmitReset(ctx context.Context, account string) error {
	c, _ := ctx.Value(keyVisitor).(visitor)
	if err := a.Admit(ctx, ""); err != nil || !a.tries.reset.OnLimit(c.w, c.r, accountKey(account)) {
		return err
	}
	return often("this was asked for three times already; look into the mailbox, or wait an hour", time.Hour)
}

// AdmitElsewhere counts that somebody signs in at a provider, and refuses it when far too many do from one address.
func (a *Auth) AdmitElsewhere(ctx context.Context) error {
	c, _ := ctx.Value(keyVisitor).(visitor)
	if !a.tries.elsewhere.OnLimit(c.w, c.r, c.address) {
		return nil
	}
	return often("too many sign in at once; wait a minute and try again", time.Minute)
}

// often refuses what was tried too often, for a while.
func often(text string, wait time.Duration) error {
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests(text),
		http.Header{"Retry-After": {strconv.Itoa(int(wait / time.Second))}})
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
	case a.before(c) == account:
		over = a.tries.known.OnLimit(c.w, c.r, account)
	default:
		over = a.tries.account.OnLimit(c.w, c.r, account)
	}
	if !over {
		return nil
	}
	return often("too many tries; wait a minute and try again", time.Minute)
}

// Remember lets this browser be known at an account.
func (a *Auth) Remember(ctx context.Context, account string) {
	c, ok := ctx.Value(keyVisitor).(visitor)
	sealed, err := a.Store.Seal([]byte(accountKey(account)), knownOwner)
	if !ok || err != nil {
		return
	}
	http.SetCookie(c.w, &http.Cookie{
		Name: knownCookie, Value: base64.RawURLEncoding.EncodeToString(sealed), Path: "/api/v1/session",
		MaxAge:   int(knownFor.Seconds()),
		HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: strings.HasPrefix(a.Public, "https://"),
	})
}
