// Package access decides who may use the service: the one-time set-up link of a
// new installation, passwords, and tokens for programs.
package access

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/alexedwards/argon2id"
	"golang.org/x/sync/semaphore"

	"kanban/internal/adapter/mails"
	"kanban/internal/core/clock"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/reachstore"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *db.Database
	// Mailer gives what sends mails of the service's own; nil when no mail server is connected.
	Mailer func(context.Context) (*mails.Mailer, error)
	Public string // the address at which people reach the service
	Clock  clock.Clock

	providers knownProviders
	names     knownNames
}

// MinimumPassword is the shortest password accepted, in characters.
const MinimumPassword = 12

// TokenPrefix makes tokens recognisable in logs and settings.
const TokenPrefix = "kbt_"

// ErrUnknown means wrong e-mail address, password or token. It does not tell which.
var ErrUnknown = errors.New("the e-mail address or the password is not right")

// Caller is who makes a request.
type Caller struct {
	ID       string
	Name     string
	PersonID string // who of the register they are, empty when that is not said
	// CodesNeeded says that they may nothing until they have set up one-time codes, which a role of theirs needs.
	CodesNeeded bool
	Viewing     *Viewed // as whom they look; nil where as themselves
	permission.Rights
}

// May reports whether the caller may do something somewhere. What is their own may whoever is signed in, without any
// role too.
func (c Caller) May(a permission.Act) bool {
	if a == permission.Own {
		return c.ID != ""
	}
	return c.Rights.May(a)
}

// Roles are the caller's, each once; those of their token where that has fewer.
func (c Caller) Roles() []permission.Role {
	grants := c.Grants
	if c.Limit != nil {
		grants = c.Limit
	}
	roles := []permission.Role{}
	for _, r := range permission.Roles {
		if slices.ContainsFunc(grants, func(g permission.Grant) bool { return g.Role == r }) {
			roles = append(roles, r)
		}
	}
	return roles
}

// caller says who a user is now. Whom the register has as a teacher of a section is one, for as long as it does.
func (s *Service) caller(ctx context.Context, u accessstore.User, err error) (Caller, error) {
	if err != nil {
		return Caller{}, err
	}
	c := Caller{ID: u.ID, Name: u.Name, Rights: permission.Rights{Grants: u.Granted()}}
	if u.PersonID == nil {
		return c, nil
	}
	c.PersonID = *u.PersonID
	return s.asInRegister(ctx, c)
}

// asInRegister adds to what a caller may what the person of the register may whom they are.
func (s *Service) asInRegister(ctx context.Context, c Caller) (Caller, error) {
	is, err := reachstore.FindInRegister(ctx, s.Store, c.PersonID)
	if is.Learns || !is.Teaches {
		c.Grants = append(c.Grants, permission.Grant{
			Role: permission.Learner, Scope: permission.Scope{Kind: permission.Self},
		})
	}
	if is.Teaches {
		c.Grants = append(c.Grants, permission.Grant{
			Role: permission.Teacher, Scope: permission.Scope{Kind: permission.Taught, ID: c.PersonID},
		})
	}
	return c, err
}

func hash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// SetupSecret makes the secret of a one-time set-up link while there is no
// administrator yet; empty when there is one.
func (s *Service) SetupSecret(ctx context.Context) (string, error) {
	n, err := accessstore.CountUsers(ctx, s.Store)
	if err != nil || n > 0 {
		return "", err
	}
	secret := rand.Text()
	return secret, accessstore.AddSetupLink(ctx, s.Store, hash(secret))
}

// SetUp spends a set-up link and makes the first administrator.
func (s *Service) SetUp(ctx context.Context, secret, name, email, password string) (Caller, error) {
	a := accessstore.User{ID: db.NewID()}
	if err := (Draft{Name: &name, Email: &email}).into(&a); err != nil {
		return Caller{}, err
	}
	first := accessstore.Grant{
		ID: db.NewID(), UserID: a.ID, Role: permission.Administrator, Scope: permission.Institution, MadeBy: a.Name,
	}
	if err := longEnough(password); err != nil {
		return Caller{}, err
	}
	// Hashing costs much: whoever has no link is not worth it.
	open, err := accessstore.SetupLinkOpen(ctx, s.Store, hash(secret))
	if err != nil {
		return Caller{}, err
	}
	if !open {
		return Caller{}, refusal.Forbidden(noLink)
	}
	if a.PasswordHash, err = hashOf(ctx, password); err != nil {
		return Caller{}, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := accessstore.UseSetupLink(ctx, tx, hash(secret)); err != nil {
			return err
		}
		if err := db.Create(tx, &a, "making the administrator"); err != nil {
			return err
		}
		if err := accessstore.AddGrant(ctx, tx, &first); err != nil {
			return err
		}
		return tx.Audit(ctx, a.Name, "set up", "user/"+a.ID, nil)
	})
	if errors.Is(err, db.ErrNotFound) {
		return Caller{}, refusal.Forbidden(noLink)
	}
	a.Grants = []accessstore.Grant{first}
	return s.caller(ctx, a, err)
}

// SignIn lets somebody in who knows the password, and has a one-time code when theirs are on.
func (s *Service) SignIn(ctx context.Context, email, password string, code Code) (Caller, error) {
	c, err := s.known(ctx, email, password)
	if err != nil {
		return c, err
	}
	if err := s.spendCode(ctx, c.ID, code); err != nil {
		return Caller{}, err
	}
	if c, err = s.held(ctx, c, nil); err != nil {
		return Caller{}, err
	}
	return c, accessstore.NoteSignIn(ctx, s.Store, c.ID, s.Clock.Now())
}

// known checks a password.
func (s *Service) known(ctx context.Context, email, password string) (Caller, error) {
	if len(password) > longestPassword {
		return Caller{}, ErrUnknown
	}
	a, err := accessstore.UserByEmail(ctx, s.Store, strings.TrimSpace(email))
	if errors.Is(err, db.ErrNotFound) || err == nil && a.PasswordHash == "" { // who was invited has none yet
		// The same work as for a known address, so that time tells nothing.
		_, err := hashOf(ctx, password)
		return Caller{}, cmp.Or(err, ErrUnknown)
	}
	if err != nil {
		return Caller{}, err
	}
	var ok bool
	if err := costly(ctx, func() (err error) {
		ok, err = argon2id.ComparePasswordAndHash(password, a.PasswordHash)
		return err
	}); err != nil {
		return Caller{}, fmt.Errorf("checking the password: %w", err)
	}
	if !ok {
		return Caller{}, ErrUnknown
	}
	return s.caller(ctx, a, nil)
}

// longestPassword bounds what is hashed, in bytes.
const longestPassword = 1024

const noLink = "the set-up link is not valid or was used already; restart the service for a new one"

// hashing bounds how many passwords are hashed at a time: each takes 64 MiB, and all cores.
var hashing = semaphore.NewWeighted(1)

// costly does something of which only one may happen at a time, and gives its memory back before the next one
// takes as much again.
func costly(ctx context.Context, do func() error) error {
	if err := hashing.Acquire(ctx, 1); err != nil {
		return err
	}
	defer hashing.Release(1)
	defer debug.FreeOSMemory()
	return do()
}

// EndToken ends a token: nobody gets in with it any more.
func (s *Service) EndToken(ctx context.Context, token string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error { return accessstore.EndToken(ctx, tx, hash(token)) })
}

// ByID finds a caller that signed in before.
func (s *Service) ByID(ctx context.Context, id string) (Caller, error) {
	a, err := accessstore.FindUser(ctx, s.Store, id)
	return s.caller(ctx, a, err)
}

// TokenDraft is a token that is to be made.
type TokenDraft struct {
	Name string
	Most *permission.Grant // what it may do at most, besides what its maker may; nil for all that they may
	Days int               // until it expires; 0 for never
}

// longestToken is for how many days a token may be made that expires.
const longestToken = 3660

// NewToken makes a token for programs; it is returned once and never shown again.
func (s *Service) NewToken(ctx context.Context, c Caller, d TokenDraft) (secret string, err error) {
	if d.Most != nil {
		if err := s.checkMost(ctx, c, *d.Most); err != nil {
			return "", err
		}
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		secret, err = s.makeToken(ctx, tx, c, d)
		return err
	})
	return secret, err
}

// makeToken is NewToken within a transaction, and without a look at what it may at most.
func (s *Service) makeToken(ctx context.Context, tx *db.Tx, c Caller, d TokenDraft) (string, error) {
	secret := TokenPrefix + rand.Text()
	t := accessstore.APIToken{ID: db.NewID(), UserID: c.ID, Name: strings.TrimSpace(d.Name), Hash: hash(secret)}
	switch {
	case t.Name == "":
		return "", refusal.Invalid("name", "is missing: say what the token is for")
	case len([]rune(t.Name)) > 200:
		return "", refusal.Invalid("name", "has more than 200 characters")
	case c.CodesNeeded:
		return "", refusal.Forbidden("your role needs one-time codes: set them up first")
	case c.Limit != nil:
		return "", refusal.Forbidden("a token that may less than you cannot make another one")
	case d.Days < 0 || d.Days > longestToken:
		return "", refusal.Invalid("days", "must be 1 to %d, or absent for a token that does not expire", longestToken)
	case d.Days > 0:
		until := s.Clock.Now().AddDate(0, 0, d.Days)
		t.ExpiresAt = &until
	}
	if d.Most != nil {
		t.Role, t.Scope, t.ScopeID = d.Most.Role, d.Most.Scope.Kind, d.Most.Scope.ID
	}
	if err := db.Create(tx, &t, "making the token"); err != nil {
		return "", err
	}
	return secret, tx.Audit(ctx, c.Name, "made an API token", "token/"+t.ID, map[string]string{"name": t.Name})
}

// ByToken finds whom a token stands for.
func (s *Service) ByToken(ctx context.Context, token string) (Caller, error) {
	u, t, err := accessstore.UserByToken(ctx, s.Store, hash(token))
	if errors.Is(err, db.ErrNotFound) {
		return Caller{}, ErrUnknown
	}
	c, err := s.caller(ctx, u, err)
	if t.Role != "" {
		c.Limit = []permission.Grant{{Role: t.Role, Scope: permission.Scope{Kind: t.Scope, ID: t.ScopeID}}}
	}
	return c, err
}
