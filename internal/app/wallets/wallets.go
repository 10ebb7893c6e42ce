// Package wallets lets holders use programs in which they keep credentials: a wallet registers itself, its user allows
// it here what it asks for, and it takes their badges along or brings others (Open Badges 3.0, REST API).
package wallets

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"net"
	"net/url"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/go-oauth2/oauth2/v4/manage"

	"kanban/internal/app/badges"
	"kanban/internal/app/holders"
	"kanban/internal/core/clock"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/walletstore"
	"kanban/internal/wire/openbadge"
)

// Service is the use case. Fill every field.
type Service struct {
	Store   *db.Database
	Badges  *badges.Service
	Holders *holders.Service
	Clock   clock.Clock
	// Tokens gives out codes and tokens. Make it with Tokens.
	Tokens *manage.Manager
}

// How a wallet says who it is where it exchanges a code (RFC 7591, section 2).
const (
	AuthNone  = "none"
	AuthBasic = "client_secret_basic"
	AuthPost  = "client_secret_post"
)

// Bounds of a registration.
const (
	mostRedirects   = 10
	longestName     = 200
	longestRedirect = 1000
)

// Registration is what a wallet says about itself (RFC 7591, section 2).
type Registration struct {
	Name      string   `json:"client_name,omitempty"`
	Site      string   `json:"client_uri,omitempty"`
	Redirects []string `json:"redirect_uris"`
	Scope     string   `json:"scope,omitempty"`
	Auth      string   `json:"token_endpoint_auth_method,omitempty"`
	Grants    []string `json:"grant_types,omitempty"`
	Responses []string `json:"response_types,omitempty"`
}

// Registered is a wallet that is registered, with the secret that is shown this once.
type Registered struct {
	Registration
	ID     string
	Secret string // "" for a wallet that can keep none
}

// ErrRedirect means that a wallet wants to be sent back to an address that cannot be used.
var ErrRedirect = errors.New("redirect_uris")

// Register lets a wallet in that says what it is called and where browsers are sent back to.
func (s *Service) Register(ctx context.Context, r Registration) (Registered, error) {
	if err := r.check(); err != nil {
		return Registered{}, err
	}
	w := walletstore.Wallet{
		ID: "wallet-" + rand.Text(), Name: r.Name, Site: r.Site, Redirects: r.Redirects, Scopes: r.Scope,
		CreatedAt: s.Clock.Now(),
	}
	out := Registered{Registration: r, ID: w.ID}
	if r.Auth != AuthNone {
		out.Secret = rand.Text() + rand.Text()
		w.SecretHash = hashed(out.Secret)
	}
	return out, walletstore.Register(ctx, s.Store, w)
}

func (r *Registration) check() error {
	if len(r.Redirects) == 0 || len(r.Redirects) > mostRedirects {
		return errors.Join(ErrRedirect, refusal.Invalid("redirect_uris", "name 1 to %d addresses", mostRedirects))
	}
	for _, x := range r.Redirects {
		if !canRedirect(x) {
			return errors.Join(ErrRedirect, refusal.Invalid("redirect_uris",
				"must be https addresses without a fragment, http ones of the same machine, or those of an app with a dot in their scheme"))
		}
	}
	back, _ := url.Parse(r.Redirects[0])
	r.Name = plainName(r.Name)
	if r.Name == "" {
		r.Name = plainName(back.Host + back.Scheme)
	}
	if utf8.RuneCountInString(r.Name) > longestName {
		return refusal.Invalid("client_name", "is longer than %d letters", longestName)
	}
	if site, err := url.Parse(r.Site); err != nil || site.Scheme != "https" || len(r.Site) > longestRedirect {
		r.Site = "" // what nobody could follow safely is not shown
	}
	if r.Auth == "" {
		r.Auth = AuthBasic
	}
	if !slices.Contains([]string{AuthNone, AuthBasic, AuthPost}, r.Auth) {
		return refusal.Invalid("token_endpoint_auth_method", "can be none, client_secret_basic or client_secret_post")
	}
	known := openbadge.KnownScopes(r.Scope)
	if strings.TrimSpace(r.Scope) == "" {
		known = openbadge.Scopes
	}
	if len(known) == 0 {
		return refusal.Invalid("scope", "names none of the scopes that there are")
	}
	r.Scope = strings.Join(known, " ")
	for _, g := range r.Grants {
		if g != "authorization_code" && g != "refresh_token" {
			return refusal.Invalid("grant_types", "can be authorization_code and refresh_token")
		}
	}
	r.Grants, r.Responses = []string{"authorization_code", "refresh_token"}, []string{"code"}
	return nil
}

// plainName is a name on one line, without what cannot be seen.
func plainName(name string) string {
	name = strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) {
			return ' '
		}
		if !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, strings.ToValidUTF8(name, ""))
	return strings.Join(strings.Fields(name), " ")
}

// canRedirect reports whether browsers may be sent to an address (RFC 8252, section 7).
func canRedirect(address string) bool {
	u, err := url.Parse(address)
	if err != nil || len(address) > longestRedirect || u.Fragment != "" || strings.Contains(address, "#") ||
		u.User != nil || strings.ContainsFunc(address, func(r rune) bool { return !unicode.IsPrint(r) }) {
		return false
	}
	switch u.Scheme {
	case "https":
		return u.Host != ""
	case "http":
		ip := net.ParseIP(u.Hostname())
		return u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
	}
	return strings.Contains(u.Scheme, ".") // of an app; never javascript, data and the like
}

// hashed is the SHA-256 by which a secret is kept; the secrets are long and random.
func hashed(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// Known finds a wallet by the client_id and the secret that it gives; ErrNotFound when they are not of any.
func (s *Service) Known(ctx context.Context, id, secret string) (walletstore.Wallet, error) {
	w, err := walletstore.Find(ctx, s.Store, id)
	if err == nil && len(w.SecretHash) > 0 && subtle.ConstantTimeCompare(hashed(secret), w.SecretHash) != 1 {
		err = db.ErrNotFound
	}
	return w, err
}

// Asked is what a wallet asks a holder for.
type Asked struct {
	Wallet   walletstore.Wallet
	Redirect *url.URL
	Scopes   []string
}

// Ask finds what a wallet asks for. The error is ErrNotFound for an unknown wallet and ErrRedirect for an address that
// is not its own: browsers are not sent there. Scopes is empty when it asks for nothing that it may ask for.
func (s *Service) Ask(ctx context.Context, walletID, redirect, scope string) (a Asked, err error) {
	if a.Wallet, err = walletstore.Find(ctx, s.Store, walletID); err != nil {
		return a, err
	}
	if redirect == "" && len(a.Wallet.Redirects) == 1 {
		redirect = a.Wallet.Redirects[0]
	}
	if !slices.Contains(a.Wallet.Redirects, redirect) {
		return a, ErrRedirect
	}
	if a.Redirect, err = url.Parse(redirect); err != nil {
		return a, ErrRedirect
	}
	a.Scopes = openbadge.KnownScopes(a.Wallet.Scopes)
	if strings.TrimSpace(scope) != "" {
		asked := openbadge.KnownScopes(scope)
		a.Scopes = slices.DeleteFunc(a.Scopes, func(x string) bool { return !slices.Contains(asked, x) })
	}
	return a, nil
}

// Allow notes that a holder lets a wallet do something.
func (s *Service) Allow(ctx context.Context, personID string, w walletstore.Wallet, scopes []string) error {
	if len(scopes) == 0 {
		return refusal.Conflict("", "tick what the wallet may do, or refuse")
	}
	g := walletstore.Grant{
		WalletID: w.ID, PersonID: personID, Scopes: strings.Join(scopes, " "), GivenAt: s.Clock.Now(),
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := walletstore.KeepGrant(ctx, tx, g); err != nil {
			return err
		}
		return tx.Audit(ctx, "the holder", "let a wallet in", "person/"+personID,
			map[string]any{"wallet": w.Name, "may": scopes})
	})
}

// ShutOut ends what a holder lets a wallet do. What it has taken along stays with it.
func (s *Service) ShutOut(ctx context.Context, personID, walletID string) error {
	w, err := walletstore.Find(ctx, s.Store, walletID)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := walletstore.DropGrant(ctx, tx, walletID, personID); err != nil {
			return err
		}
		return tx.Audit(ctx, "the holder", "shut a wallet out", "person/"+personID, map[string]any{"wallet": w.Name})
	})
}

// Of lists the wallets that a holder lets do something.
func (s *Service) Of(ctx context.Context, personID string) ([]walletstore.Granted, error) {
	return walletstore.GrantsOf(ctx, s.Store, personID)
}

// Used notes that a wallet did something for a holder.
func (s *Service) Used(ctx context.Context, walletID, personID string) error {
	return walletstore.NoteUse(ctx, s.Store, walletID, personID, s.Clock.Now())
}
