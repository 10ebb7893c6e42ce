// Package auth lets callers in: by a session in a cookie, or by an API token. It slows down
// who tries passwords, and ends what callers were known by.
//
//	a := auth.New(ctx, auth.Options{Access: access, Store: store, Public: "https://kanban.example"})
//	router.Use(a.NoteVisitor, a.Sessions, a.Identify)
//	caller := auth.Caller(ctx)
package auth

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"log/slog"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/alexedwards/scs/v2"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/web/problem"
)

// Options of the sign-in.
type Options struct {
	Access *access.Service
	Store  *db.Database
	// Public is the address at which people reach the service.
	Public string
	// TrustedProxies are those whose X-Forwarded-For is believed.
	TrustedProxies []netip.Prefix
	Log            *slog.Logger
}

// Auth is the sign-in of one process; sessions hold for all of them.
type Auth struct {
	Options
	sessions *scs.SessionManager
	tries    *tries
}

const (
	// cookie holds the session.
	cookie = "kanban_session"
	// sessionFor is how long one lasts, and idleFor how long without a request.
	sessionFor, idleFor = 7 * 24 * time.Hour, 24 * time.Hour
	// administrator is what a session keeps: who has signed in; and with which browser, from where.
	administrator = "administrator"
	agent         = "agent"
	beganFrom     = "address"
	// By which provider, and what that calls the session.
	enteredBy       = "by"
	providerSession = "provider-session"
	idToken         = "id-token"
	// keptPrefix stands before what is kept for a while.
	keptPrefix = "kept-"
	// longestAgent bounds what a browser may say of itself.
	longestAgent = 300
)

// New prepares it. Old sessions are removed every hour until ctx ends.
func New(ctx context.Context, o Options) *Auth {
	s := scs.New()
	s.Store = sessionStore{o.Access} // what is over is removed below
	s.HashTokenInStore = true        // whoever reads the database cannot sign in with it
	s.Lifetime, s.IdleTimeout = sessionFor, idleFor
	s.Cookie.Name, s.Cookie.HttpOnly, s.Cookie.SameSite = cookie, true, http.SameSiteLaxMode
	s.Cookie.Secure = strings.HasPrefix(o.Public, "https://")
	a := &Auth{Options: o, sessions: s, tries: newTries()}
	go a.removeOld(ctx)
	return a
}

// removeOld removes the sessions that are over, every hour.
func (a *Auth) removeOld(ctx context.Context) {
	every := time.NewTicker(time.Hour)
	defer every.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-every.C:
			if err := a.Access.RemoveOldSessions(ctx); err != nil && ctx.Err() == nil {
				a.Log.Warn("removing old sessions", "cause", err.Error())
			}
		}
	}
}

// Sessions reads and writes the session of each request.
func (a *Auth) Sessions(next http.Handler) http.Handler { return a.sessions.LoadAndSave(next) }

// open are the addresses of the API that need nobody signed in.
var open = map[string]bool{
	"/api/v1/setup": true, "/api/v1/session": true, "/api/v1/invitations": true, "/openapi.json": true,
	"/openapi.yaml": true, "/api/v1/session/ways": true, "/api/v1/session/reset": true,
}

// Open reports whether an address of the API needs nobody signed in.
func Open(path string) bool { return open[path] }

type contextKey int

const (
	keyCaller contextKey = iota
	keySign
	keyVisitor
	keyReach
	keySeen
)

// Identify finds the caller by token or session and refuses everybody else.
func (a *Auth) Identify(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var caller access.Caller
		var saw accessstore.Seen
		var err error
		sign := a.sessions.Token(r.Context())
		if token, ok := bearer(r); ok {
			caller, err = a.Access.ByToken(r.Context(), token)
			sign = tokenSign + token
		} else if id := a.sessions.GetString(r.Context(), administrator); id != "" {
			caller, saw, err = a.sees(r.Context(), sign, id)
		}
		switch {
		case err != nil && !errors.Is(err, access.ErrUnknown) && !errors.Is(err, db.ErrNotFound):
			a.Log.Error("finding the caller", "cause", err.Error())
			problem.Busy(w, "the caller could not be checked; try again")
			return
		case caller.ID == "" && !open[r.URL.Path]:
			w.Header().Set("WWW-Authenticate", "Bearer")
			problem.Write(w, http.StatusUnauthorized, "sign in first: kanban sign-in")
			return
		}
		ctx := context.WithValue(context.WithValue(r.Context(), keyCaller, caller), keySeen, saw)
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, keySign, sign)))
	})
}

// Way is how somebody got in: with a password here, when it is empty, or by a provider.
type Way struct {
	Provider string // its id
	Session  string // what the provider calls the session, when it says
	IDToken  string // by which it is told, when somebody signs out, who does
}

// longestHint bounds the ID token that is kept to sign somebody out of a provider, in bytes.
const longestHint = 8 << 10

// Came says how whoever makes a request got in.
func (a *Auth) Came(ctx context.Context) Way {
	return Way{
		Provider: a.sessions.GetString(ctx, enteredBy), Session: a.sessions.GetString(ctx, providerSession),
		IDToken: a.sessions.GetString(ctx, idToken),
	}
}

// entered finds who signed in to a session before. Whoever came with a password has one-time codes, where a role needs
// them, before they may anything.
func (a *Auth) entered(ctx context.Context, id string) (access.Caller, error) {
	if a.Came(ctx).Provider == "" {
		return a.Access.ByPassword(ctx, id)
	}
	return a.Access.ByID(ctx, id)
}

// sees finds who signed in to a session before, and what it sees: as whom of the register they look.
func (a *Auth) sees(ctx context.Context, sign, id string) (c access.Caller, saw accessstore.Seen, err error) {
	if c, err = a.entered(ctx, id); err != nil {
		return c, saw, err
	}
	if saw, err = a.Access.SeenBy(ctx, keptAs(sign)); err != nil || saw.ViewedPerson == "" {
		return c, saw, err
	}
	c, err = a.Access.Viewing(ctx, c, access.Viewed{PersonID: saw.ViewedPerson, Name: saw.ViewedName})
	return c, saw, err
}

// View lets a session look as somebody of the register, or as who it is when nil.
func (a *Auth) View(ctx context.Context, v *access.Viewed) error {
	if v == nil {
		v = &access.Viewed{}
	}
	return a.Access.KeepViewed(ctx, Kept(ctx), *v)
}

// HideNames hides names in a session from now on, or shows them again.
func (a *Auth) HideNames(ctx context.Context, hide bool) error {
	switch {
	case !hide:
		return a.Access.KeepNamesKey(ctx, Kept(ctx), "")
	case seen(ctx).NamesKey == "":
		return a.Access.KeepNamesKey(ctx, Kept(ctx), rand.Text())
	}
	return nil
}

// seen is what a session sees otherwise than its user would.
func seen(ctx context.Context) accessstore.Seen {
	s, _ := ctx.Value(keySeen).(accessstore.Seen)
	return s
}

// HideNamesHeader is the header by which a program has names hidden in one answer.
const HideNamesHeader = "Kanban-Hide-Names"

// NamesKey is by what names are made up for whoever makes a request; nil where names are shown. asked says that the
// session or the request asks for it; otherwise it is the caller's role that does not see them.
func (a *Auth) NamesKey(r *http.Request) (key []byte, asked bool) {
	if key := seen(r.Context()).NamesKey; key != "" {
		return []byte(key), true
	}
	header := r.Header.Get(HideNamesHeader)
	asked = header != "" && header != "no"
	if Caller(r.Context()).SeesNames() && !asked {
		return nil, false
	}
	// The same for all that somebody does with one token, or as a reader, and nothing from which names can be found.
	sum := sha256.Sum256([]byte("names " + Sign(r.Context())))
	return sum[:], asked
}

// SignedIn is who is signed in by a session; empty when nobody is.
func (a *Auth) SignedIn(ctx context.Context) string { return a.sessions.GetString(ctx, administrator) }

// Keep keeps a text in the session of a browser, until it is taken.
func (a *Auth) Keep(ctx context.Context, name, text string) {
	a.sessions.Put(ctx, keptPrefix+name, text)
}

// Take gives what was kept, once.
func (a *Auth) Take(ctx context.Context, name string) string {
	return a.sessions.PopString(ctx, keptPrefix+name)
}

// WithToken lets only programs in whose API token is of somebody who may look.
func WithToken(a *access.Service, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token, _ := bearer(r)
		c, err := a.ByToken(r.Context(), token)
		if err != nil {
			w.Header().Set("WWW-Authenticate", "Bearer")
			problem.Write(w, http.StatusUnauthorized, "an API token is needed")
			return
		}
		if !c.Everywhere(permission.Look) {
			problem.Write(w, http.StatusForbidden, NotAllowed(c))
			return
		}
		next.ServeHTTP(w, r)
	})
}

// bearer is the token of a request (RFC 6750, section 2.1).
func bearer(r *http.Request) (string, bool) {
	return strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
}

// Caller is who makes a request; its ID is empty when nobody is signed in.
func Caller(ctx context.Context) access.Caller {
	c, _ := ctx.Value(keyCaller).(access.Caller)
	return c
}

// NotAllowed says to a caller that their roles do not allow something.
func NotAllowed(c access.Caller) string {
	if c.CodesNeeded {
		return "your role needs one-time codes: set them up under Account first"
	}
	roles := c.Roles()
	if len(roles) == 0 {
		return "you have no role here"
	}
	text := make([]string, len(roles))
	for i, r := range roles {
		text[i] = string(r)
	}
	return "your role (" + strings.Join(text, ", ") + ") does not allow this"
}

// Within gives a context in which the caller reaches only some sections.
func Within(ctx context.Context, r permission.Reach) context.Context {
	return context.WithValue(ctx, keyReach, r)
}

// Reach says to which sections the caller may do what they ask for. It reaches nothing where nobody has asked.
func Reach(ctx context.Context) permission.Reach {
	r, _ := ctx.Value(keyReach).(permission.Reach)
	return r
}

// tokenSign stands before a token, to tell it from a session.
const tokenSign = "token "

// Sign is what a caller is known by: the session's value or a token, marked as one.
func Sign(ctx context.Context) string {
	sign, _ := ctx.Value(keySign).(string)
	return sign
}

// Hash names what a caller is known by to other processes without giving it away.
func Hash(sign string) string {
	sum := sha256.Sum256([]byte(strings.TrimPrefix(sign, tokenSign)))
	return hex.EncodeToString(sum[:])
}

// Enter begins a session for somebody who has proved who they are.
func (a *Auth) Enter(ctx context.Context, c access.Caller, way Way) error {
	if err := a.sessions.RenewToken(ctx); err != nil {
		return err
	}
	a.sessions.Put(ctx, administrator, c.ID)
	a.sessions.Put(ctx, enteredBy, way.Provider)
	a.sessions.Put(ctx, providerSession, way.Session)
	if len(way.IDToken) > longestHint {
		way.IDToken = ""
	}
	a.sessions.Put(ctx, idToken, way.IDToken)
	if v, ok := ctx.Value(keyVisitor).(visitor); ok {
		a.sessions.Put(ctx, agent, strings.ToValidUTF8(v.r.UserAgent()[:min(len(v.r.UserAgent()), longestAgent)], ""))
		a.sessions.Put(ctx, beganFrom, v.address)
	}
	return nil
}

// Leave ends what the caller is known by. Pages that listen under it stop, whichever process
// they are at.
func (a *Auth) Leave(ctx context.Context) error {
	ended := Sign(ctx)
	if token, ok := strings.CutPrefix(ended, tokenSign); ok {
		if err := a.Access.EndToken(ctx, token); err != nil {
			return err
		}
	} else if err := a.sessions.Destroy(ctx); err != nil {
		return err
	}
	return a.Access.Announce(ctx, access.TopicSignedOut, Hash(ended))
}

// Kept is by what the database knows the session that a caller has; empty for one who came with a token.
func Kept(ctx context.Context) string {
	sign := Sign(ctx)
	if sign == "" || strings.HasPrefix(sign, tokenSign) {
		return ""
	}
	return keptAs(sign)
}

// keptAs is by what the database knows the session with a value.
func keptAs(sign string) string {
	sum := sha256.Sum256([]byte(sign))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// StillIn reports whether what a caller is known by still lets them in; when that cannot be
// told it does.
func (a *Auth) StillIn(ctx context.Context, sign string) bool {
	if token, ok := strings.CutPrefix(sign, tokenSign); ok {
		_, err := a.Access.ByToken(ctx, token)
		return !errors.Is(err, access.ErrUnknown)
	}
	again, err := a.sessions.Load(ctx, sign)
	if err != nil {
		return true
	}
	_, err = a.Access.ByID(ctx, a.sessions.GetString(again, administrator))
	return !errors.Is(err, db.ErrNotFound)
}
