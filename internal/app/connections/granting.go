package connections

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oauth"
)

const (
	// signInWithin is how long somebody may take to sign in at a service.
	signInWithin = 15 * time.Minute
	// renewBefore is how long before its end an access token is renewed.
	renewBefore = time.Minute
	// renewWithin bounds the call that renews one.
	renewWithin = 20 * time.Second
)

// GrantedPath is where people come back to from a service, behind the installation's address.
const GrantedPath = "/granted"

func (s *Service) app(c adapter.Interface) oauth.App {
	return oauth.App{
		ID: c.Settings["clientId"], Secret: c.Secret["clientSecret"], Redirect: s.Source + GrantedPath,
		Scopes: strings.Fields(c.Settings["scopes"]),
	}
}

// server finds the authorization server of an interface.
func (s *Service) server(ctx context.Context, c adapter.Interface) (oauth.Server, *call.Client, error) {
	o := s.Call
	o.Retries = 1                                   // somebody waits
	client := call.New(adapter.WithTransport(c, o)) // not limited: a call that has its turn may wait for it
	if c.Settings["signInAt"] == "" {
		return oauth.Server{
			AuthorizationEndpoint: c.Settings["authorizeAt"], TokenEndpoint: c.Settings["tokenAt"],
		}, client, nil
	}
	server, err := oauth.Discover(ctx, client, c.Settings["signInAt"])
	if errors.Is(err, oauth.ErrMetadata) {
		return server, client, refusal.Invalid("values.signInAt", "%v", err)
	}
	return server, client, err
}

// BeginSignIn gives the address at which somebody grants an interface access by signing in there.
func (s *Service) BeginSignIn(ctx context.Context, userID, who, id string) (address string, err error) {
	row, err := connectionstore.FindInterface(ctx, s.Store, id)
	if err != nil {
		return "", err
	}
	if !adapter.SignsIn(row.Settings) {
		return "", refusal.Conflict("", "%s is let in by a token; choose signing in as its credential first", row.Name)
	}
	c, err := s.Unlock(row)
	if err != nil {
		return "", err
	}
	server, _, err := s.server(ctx, c)
	if err != nil {
		return "", err
	}
	state, verifier := rand.Text(), oauth.NewVerifier()
	sealed, err := s.Store.Seal([]byte(verifier), "sign-in/"+id)
	if err != nil {
		return "", err
	}
	now := s.Clock.Now()
	hash := sha256.Sum256([]byte(state))
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.KeepSignIn(ctx, tx, connectionstore.SignIn{
			State: hash[:], InterfaceID: id, UserID: userID, Verifier: sealed, BeganAt: now,
		}, now.Add(-signInWithin)); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "began to sign in at a service", "interface/"+id, map[string]string{"name": row.Name})
	})
	return server.Begin(s.app(c), state, verifier), err
}

// Returned is what somebody comes back with from a service.
type Returned struct {
	State, Code string
	Issuer      string // of the answer (RFC 9207)
	HasIssuer   bool
	Error       string // why nothing was granted, a code of RFC 6749 section 4.1.2.1
	Description string
}

// Granted is what came of signing in at a service.
type Granted struct {
	Interface connectionstore.Interface
	Grant     connectionstore.Grant
}

// EndSignIn takes what somebody comes back with from a service. What is another account's than before, or
// does not work where the former one did, waits until somebody says that it is meant.
func (s *Service) EndSignIn(ctx context.Context, userID, who string, r Returned) (g Granted, err error) {
	hash := sha256.Sum256([]byte(r.State))
	var begun connectionstore.SignIn
	err = s.Store.InTx(ctx, func(tx *db.Tx) (err error) {
		begun, err = connectionstore.TakeSignIn(ctx, tx, hash[:])
		return err
	})
	switch {
	case errors.Is(err, db.ErrNotFound), err == nil && s.Clock.Now().Sub(begun.BeganAt) > signInWithin,
		err == nil && begun.UserID != userID:
		return g, refusal.Conflict("", "this sign-in was not begun by you in this browser, was used already, or is older than %d minutes; begin it again", int(signInWithin.Minutes()))
	case err != nil:
		return g, err
	}
	if g.Interface, err = connectionstore.FindInterface(ctx, s.Store, begun.InterfaceID); err != nil {
		return g, err
	}
	if r.Error != "" {
		return g, refusal.Conflict("", "the service granted nothing: %s", cmp.Or(r.Description, r.Error))
	}
	token, account, err := s.exchange(ctx, g.Interface, begun, r)
	if err != nil {
		return g, err
	}
	g.Grant = connectionstore.Grant{
		InterfaceID: g.Interface.ID, Account: account, GrantedAt: s.Clock.Now(), GrantedBy: who,
	}
	if err := s.sealGrant(&g.Grant, token); err != nil {
		return g, err
	}
	now, _, err := connectionstore.Grants(ctx, s.Store, g.Interface.ID)
	if err != nil {
		return g, err
	}
	if g.Grant.Trouble, err = s.doubt(ctx, g.Interface, now, token, account); err != nil {
		return g, err
	}
	g.Grant.Pending = g.Grant.Trouble != ""
	if err := s.keepGrant(ctx, who, g.Interface, g.Grant); err != nil {
		return g, err
	}
	if g.Grant.Pending {
		return g, nil
	}
	return g, s.testAnew(ctx, g.Interface.ID)
}

// testAnew tests an interface whose grant is another one now.
func (s *Service) testAnew(ctx context.Context, id string) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if _, err := s.Probe(ctx, id); err != nil && ctx.Err() == nil {
		return err
	}
	return nil // a test that takes too long is made again later
}

// exchange trades a code for a token, and asks whose it is.
func (s *Service) exchange(ctx context.Context, row connectionstore.Interface, begun connectionstore.SignIn,
	r Returned,
) (token oauth.Token, account string, err error) {
	c, err := s.Unlock(row)
	if err != nil {
		return token, "", err
	}
	server, client, err := s.server(ctx, c)
	if err != nil {
		return token, "", err
	}
	if err := server.CheckIssuer(r.Issuer, r.HasIssuer); err != nil {
		return token, "", refusal.Conflict("", "nothing was taken: %v", err)
	}
	verifier, err := s.Store.Unseal(begun.Verifier, "sign-in/"+row.ID)
	if err != nil {
		return token, "", err
	}
	app := s.app(c)
	token, err = server.Exchange(ctx, client.PlainHTTP(), app, r.Code, string(verifier))
	if errors.Is(err, oauth.ErrEnded) {
		return token, "", refusal.Conflict("", "the service does not take the code that it gave: %v; begin again", err)
	}
	if err != nil {
		return token, "", err
	}
	account, err = server.Account(ctx, client, app, token)
	if _, outside := call.As(err); outside {
		err = nil // whose it is stays unknown; the grant holds all the same
	}
	return token, account, err
}

// doubt says why a grant may not be meant: it is another account's than before, or what worked would not
// work any more. It is empty for one that is taken.
func (s *Service) doubt(ctx context.Context, row connectionstore.Interface, before *connectionstore.Grant,
	token oauth.Token, account string,
) (string, error) {
	if before != nil && !strings.EqualFold(before.Account, account) {
		return fmt.Sprintf("that is another account than before (%s)", cmp.Or(before.Account, "unknown")), nil
	}
	c, err := s.Unlock(row)
	if err != nil {
		return "", err
	}
	c.ID, c.Secret["token"] = "", token.Access // it is only being tried out
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	reports, _, err := s.look(ctx, c)
	if err != nil {
		return "", err
	}
	var was []adapter.Report
	_ = json.Unmarshal(row.Probe, &was) // nothing was tested yet
	for _, r := range reports {
		if r.State != adapter.Works && slices.ContainsFunc(was, func(o adapter.Report) bool {
			return o.Capability == r.Capability && o.State == adapter.Works
		}) {
			return fmt.Sprintf("with it %s would not work any more: %s", r.Capability, strings.TrimRight(r.Detail, ".")), nil
		}
	}
	return "", nil
}

func (s *Service) sealGrant(g *connectionstore.Grant, token oauth.Token) error {
	text, err := json.Marshal(token)
	if err != nil {
		return err
	}
	g.Token, err = s.Store.Seal(text, "grant/"+g.InterfaceID)
	g.Scopes, g.Renews, g.ExpiresAt = append([]string{}, token.Scopes...), token.Refresh != "", nil
	if !token.Expires.IsZero() {
		at := token.Expires.UTC()
		g.ExpiresAt = &at
	}
	return err
}

func (s *Service) keepGrant(ctx context.Context, who string, row connectionstore.Interface,
	g connectionstore.Grant,
) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.KeepGrant(ctx, tx, g); err != nil {
			return err
		}
		tx.Due = true // deliveries that waited for it
		if err := tx.Audit(ctx, who, "signed in at a service", "interface/"+row.ID,
			map[string]any{"account": g.Account, "scopes": g.Scopes, "pending": g.Pending}); err != nil {
			return err
		}
		return tx.Announce(ctx, "interface", row.ID)
	})
}

// Grants gives what was granted to an interface: what counts, and what is pending.
func (s *Service) Grants(ctx context.Context, id string) (now, pending *connectionstore.Grant, err error) {
	return connectionstore.Grants(ctx, s.Store, id)
}

// DecidePending takes a pending grant, or drops it.
func (s *Service) DecidePending(ctx context.Context, who, id string, take bool) error {
	row, err := connectionstore.FindInterface(ctx, s.Store, id)
	if err != nil {
		return err
	}
	_, pending, err := connectionstore.Grants(ctx, s.Store, id)
	if err != nil {
		return err
	}
	if pending == nil {
		return refusal.Conflict("", "no grant of %s is waiting for a decision", row.Name)
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.DropGrant(ctx, tx, id, true); err != nil {
			return err
		}
		what := "dropped a grant that was pending"
		if take {
			what = "took a grant that was pending"
			pending.Pending, pending.Trouble, tx.Due = false, "", true
			if err := connectionstore.KeepGrant(ctx, tx, *pending); err != nil {
				return err
			}
		}
		if err := tx.Audit(ctx, who, what, "interface/"+id,
			map[string]string{"account": pending.Account}); err != nil {
			return err
		}
		return tx.Announce(ctx, "interface", id)
	})
	if err != nil || !take {
		return err
	}
	return s.testAnew(ctx, id)
}

// EndGrant gives up what was granted, and tells the service so where it takes that.
func (s *Service) EndGrant(ctx context.Context, who, id string) error {
	row, err := connectionstore.FindInterface(ctx, s.Store, id)
	if err != nil {
		return err
	}
	now, _, err := connectionstore.Grants(ctx, s.Store, id)
	if err != nil {
		return err
	}
	if now == nil {
		return refusal.Conflict("", "nobody has signed in for %s", row.Name)
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := dropGrants(ctx, tx, id); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "gave up what was granted", "interface/"+id,
			map[string]string{"account": now.Account}); err != nil {
			return err
		}
		return tx.Announce(ctx, "interface", id)
	})
	if err != nil {
		return err
	}
	if c, err := s.Unlock(row); err == nil { // it is given up here, whatever the service says to that
		if token, err := s.unsealGrant(*now); err == nil {
			if server, client, err := s.server(ctx, c); err == nil {
				_ = server.Revoke(ctx, client, s.app(c), token)
			}
		}
	}
	return nil
}

func dropGrants(ctx context.Context, tx *db.Tx, id string) error {
	return errors.Join(connectionstore.DropGrant(ctx, tx, id, false), connectionstore.DropGrant(ctx, tx, id, true))
}

func (s *Service) unsealGrant(g connectionstore.Grant) (t oauth.Token, err error) {
	text, err := s.Store.Unseal(g.Token, "grant/"+g.InterfaceID)
	if err == nil {
		err = json.Unmarshal(text, &t)
	}
	return t, err
}

// grantedToken gives the access token of an interface that is let in by signing in, renewed when it is
// about to end or is the one that the service has just refused.
func (s *Service) grantedToken(ctx context.Context, c adapter.Interface, refused string) (string, error) {
	token, g, err := s.presentToken(ctx, c)
	if err != nil || !s.mustRenew(g, token, refused) {
		return token.Access, err
	}
	failed := s.Store.OneByOne(ctx, "grant/"+c.ID, func() {
		token, g, err = s.presentToken(ctx, c)
		if err == nil && s.mustRenew(g, token, refused) { // nobody else has done so
			token, err = s.renew(ctx, c, g, token, refused)
		}
	})
	return token.Access, errors.Join(failed, err)
}

func (s *Service) mustRenew(g connectionstore.Grant, t oauth.Token, refused string) bool {
	ends := g.ExpiresAt != nil && g.ExpiresAt.Sub(s.Clock.Now()) < renewBefore
	return g.Renews && (ends || t.Access == refused)
}

// presentToken gives the token that counts; a problem that people can act on when there is none.
func (s *Service) presentToken(ctx context.Context, c adapter.Interface) (t oauth.Token, g connectionstore.Grant,
	err error,
) {
	now, _, err := connectionstore.Grants(ctx, s.Store, c.ID)
	switch {
	case err != nil:
		return t, g, err
	case now == nil:
		return t, g, notLetIn("nobody has signed in at the service yet; do so: kanban interfaces sign-in %q", c.Name)
	case now.Ended():
		return t, g, notLetIn("%s; sign in again: kanban interfaces sign-in %q", now.Trouble, c.Name)
	case now.ExpiresAt != nil && !now.Renews && !now.ExpiresAt.After(s.Clock.Now()):
		return t, g, notLetIn("the grant ended on %s and cannot be renewed; sign in again: kanban interfaces sign-in %q",
			now.ExpiresAt.Format("2 January 2006 15:04"), c.Name)
	}
	t, err = s.unsealGrant(*now)
	return t, *now, err
}

// notLetIn is the problem of an interface for which somebody has to sign in.
func notLetIn(format string, args ...any) error {
	return &call.Problem{
		Kind: call.WrongCredential, Status: http.StatusUnauthorized, Detail: fmt.Sprintf(format, args...),
	}
}

// renew renews a token at its service, once: a lost answer may have used the former one up.
func (s *Service) renew(ctx context.Context, c adapter.Interface, g connectionstore.Grant, former oauth.Token,
	refused string,
) (oauth.Token, error) {
	ctx, cancel := context.WithTimeout(ctx, renewWithin)
	defer cancel()
	server, client, err := s.server(ctx, c)
	if err != nil {
		return former, err
	}
	token, err := server.Refresh(ctx, client.PlainHTTP(), s.app(c), former)
	if errors.Is(err, oauth.ErrEnded) {
		g.Trouble = err.Error()
		if kept := s.keepRenewed(ctx, g); kept != nil {
			return former, kept
		}
		return former, notLetIn("%v; sign in again: kanban interfaces sign-in %q", err, c.Name)
	}
	if err != nil {
		if former.Access != refused && g.ExpiresAt != nil && g.ExpiresAt.After(s.Clock.Now()) {
			return former, nil // it holds still; the next call tries again
		}
		return former, err
	}
	if err := s.sealGrant(&g, token); err != nil {
		return former, err
	}
	return token, s.keepRenewed(ctx, g)
}

// keepRenewed keeps a renewed grant, or that it has ended, even when whoever asked has gone.
func (s *Service) keepRenewed(ctx context.Context, g connectionstore.Grant) error {
	return s.Store.InTx(context.WithoutCancel(ctx), func(tx *db.Tx) error {
		if err := connectionstore.KeepGrant(ctx, tx, g); err != nil {
			return err
		}
		if g.Trouble != "" {
			if err := tx.Audit(ctx, "the service", "ended a grant", "interface/"+g.InterfaceID,
				map[string]string{"why": g.Trouble}); err != nil {
				return err
			}
		}
		return tx.Announce(ctx, "interface", g.InterfaceID)
	})
}
