package access

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/wire/call"
	"kanban/internal/wire/openid"
)

// Whom a provider lets in, and which of its addresses are believed.
const (
	AdmitsInvited = "invited" // users that there are already
	AdmitsMapped  = "mapped"  // whoever its claims give a role, or make somebody of the register

	BelievesNone     = "none"
	BelievesVerified = "verified"
	BelievesAll      = "all"
)

const (
	// providerOwner is for whom the secrets of providers are sealed.
	providerOwner = "provider/"
	// knownFor is how long what a provider says of itself is kept.
	knownFor = time.Hour
	// mostMappings bounds how many a provider may have.
	mostMappings = 200
	longestValue = 500
)

// knownProviders keeps what providers say of themselves.
type knownProviders struct {
	mu  sync.Mutex
	all map[string]knownProvider
}

type knownProvider struct {
	*openid.Provider
	until time.Time
}

// providerHTTP makes the calls to providers: each ends within ten seconds, and no answer is longer than a megabyte.
var providerHTTP = sync.OnceValue(func() *http.Client {
	return call.New(call.Options{Timeout: 10 * time.Second, Retries: -1, MaxBody: 1 << 20}).PlainHTTP()
})

// ProviderDraft is what is said of a provider.
type ProviderDraft struct {
	Name, Issuer, ClientID string
	Secret                 *string // nil to keep the one that it has
	Scopes                 []string
	Active                 bool
	Believes, Admits       string
	PersonClaim, PersonKey string
	Mappings               []permission.Mapping
}

// Providers lists those at which people sign in, by name.
func (s *Service) Providers(ctx context.Context) ([]accessstore.Provider, error) {
	all, err := accessstore.Providers(ctx, s.Store)
	for _, p := range all {
		if err == nil {
			err = accessstore.NameMappings(ctx, s.Store, p.Mappings)
		}
	}
	return all, err
}

// FindProvider finds one.
func (s *Service) FindProvider(ctx context.Context, id string) (accessstore.Provider, error) {
	p, err := accessstore.FindProvider(ctx, s.Store, id)
	if err == nil {
		err = accessstore.NameMappings(ctx, s.Store, p.Mappings)
	}
	return p, err
}

// AddProvider adds one.
func (s *Service) AddProvider(ctx context.Context, c Caller, d ProviderDraft) (accessstore.Provider, error) {
	p := accessstore.Provider{ID: db.NewID(), Version: 1, CreatedAt: s.Clock.Now()}
	if err := s.drawUp(ctx, c, d, &p); err != nil {
		return p, err
	}
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &p, "adding the provider"); err != nil {
			return err
		}
		return tx.Audit(ctx, c.Name, "added a provider", "provider/"+p.ID, shownInTrail(p))
	})
	if err != nil {
		return p, takenProvider(err)
	}
	return s.FindProvider(ctx, p.ID)
}

// EditProvider changes one, whose version must still be the one read; 0 for whichever it is.
func (s *Service) EditProvider(ctx context.Context, c Caller, id string, version int,
	d ProviderDraft) (accessstore.Provider,
	error,
) {
	p, err := accessstore.FindProvider(ctx, s.Store, id)
	if err != nil {
		return p, err
	}
	issuer := p.Issuer
	if version != 0 && version != p.Version {
		return p, fmt.Errorf("changing the provider: %w", db.ErrStale)
	}
	if err := s.drawUp(ctx, c, d, &p); err != nil {
		return p, err
	}
	if p.Issuer != issuer && p.Users > 0 {
		return p, refusal.Invalid("issuer", "cannot be another one while %d sign in by it: they are not the same people "+
			"there; add the other provider beside it", p.Users)
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := accessstore.UpdateProvider(ctx, tx, &p); err != nil {
			return err
		}
		if !p.Active {
			if err := endAt(ctx, tx, p.ID, "", ""); err != nil {
				return err
			}
		}
		return tx.Audit(ctx, c.Name, "changed a provider", "provider/"+p.ID, shownInTrail(p))
	})
	if err != nil {
		return p, takenProvider(err)
	}
	return s.FindProvider(ctx, p.ID)
}

// RemoveProvider removes one: nobody gets in by it any more, and the roles that it gave end.
func (s *Service) RemoveProvider(ctx context.Context, c Caller, id string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		p, err := accessstore.FindProvider(ctx, tx, id)
		if err != nil {
			return err
		}
		users, err := accessstore.LockUsers(ctx, tx)
		if err != nil {
			return err
		}
		for i := range users {
			users[i].Grants = slices.DeleteFunc(users[i].Grants, func(g accessstore.Grant) bool {
				return g.ProviderID != nil && *g.ProviderID == id
			})
		}
		if err := somebodyLeft(users); err != nil {
			return err
		}
		there, err := accessstore.ProviderUsers(ctx, tx)
		if err != nil {
			return err
		}
		if err := endAt(ctx, tx, id, "", ""); err != nil {
			return err
		}
		if err := accessstore.RemoveProvider(ctx, tx, id); err != nil {
			return err
		}
		for _, u := range there {
			if u.ProviderID == id {
				if err := tx.Announce(ctx, TopicUser, u.UserID); err != nil {
					return err
				}
			}
		}
		return tx.Audit(ctx, c.Name, "removed a provider", "provider/"+id, shownInTrail(p))
	})
}

// endAt ends sessions that were begun at a provider, and tells pages that listen under them.
func endAt(ctx context.Context, tx *db.Tx, providerID, userID, session string) error {
	ended, err := accessstore.EndProviderSessions(ctx, tx, providerID, userID, session)
	if err != nil {
		return err
	}
	return tellEnded(ctx, tx, ended...)
}

func takenProvider(err error) error {
	if errors.Is(err, db.ErrTaken) {
		return refusal.Conflict("", "there is a provider of this name, or with this address and client, already")
	}
	return err
}

// shownInTrail is what the trail keeps of a provider.
func shownInTrail(p accessstore.Provider) map[string]any {
	return map[string]any{
		"name": p.Name, "issuer": p.Issuer, "clientId": p.ClientID, "on": p.Active, "believes": p.Believes,
		"admits": p.Admits, "personClaim": p.PersonClaim, "mappings": p.Mappings,
	}
}

// drawUp checks what is said of a provider, and puts it into the record.
func (s *Service) drawUp(ctx context.Context, c Caller, d ProviderDraft, p *accessstore.Provider) error {
	p.Name, p.Issuer, p.ClientID = strings.TrimSpace(d.Name), strings.TrimSpace(d.Issuer),
		strings.TrimSpace(d.ClientID)
	p.Scopes, p.Active, p.Believes, p.Admits = strings.Fields(strings.Join(d.Scopes, " ")), d.Active, d.Believes,
		d.Admits
	p.PersonClaim, p.PersonKey = strings.TrimSpace(d.PersonClaim), d.PersonKey
	for field, text := range map[string]string{"name": p.Name, "issuer": p.Issuer, "clientId": p.ClientID} {
		if text == "" || len(text) > longestValue {
			return refusal.Invalid(field, "must have 1 to %d characters", longestValue)
		}
	}
	switch {
	case !strings.HasPrefix(p.Issuer, "https://") && !strings.HasPrefix(p.Issuer, "http://"):
		return refusal.Invalid("issuer", "is the address of the provider, such as https://provider.example")
	case !slices.Contains([]string{BelievesNone, BelievesVerified, BelievesAll}, p.Believes):
		return refusal.Invalid("believes", "must be none, verified or all")
	case p.Admits != AdmitsInvited && p.Admits != AdmitsMapped:
		return refusal.Invalid("admits", "must be invited or mapped")
	case p.PersonClaim == "":
		p.PersonKey = ""
	case p.PersonKey != "identifier" && p.PersonKey != "email":
		return refusal.Invalid("personKey", "must be identifier or email: what the claim %s is in the register", p.PersonClaim)
	}
	if d.Secret != nil {
		sealed, err := s.Store.Seal([]byte(strings.TrimSpace(*d.Secret)), providerOwner+p.ID)
		if err != nil {
			return err
		}
		p.Sealed = sealed
	}
	return s.drawUpMappings(ctx, c, d.Mappings, p)
}

func (s *Service) drawUpMappings(ctx context.Context, c Caller, all []permission.Mapping,
	p *accessstore.Provider,
) error {
	if len(all) > mostMappings {
		return refusal.Invalid("mappings", "are %d, more than %d", len(all), mostMappings)
	}
	p.Mappings = []accessstore.ProviderMapping{}
	for i, m := range all {
		m.Claim, m.Value = strings.TrimSpace(m.Claim), strings.TrimSpace(m.Value)
		if m.Claim == "" || len(m.Claim) > longestValue || len(m.Value) > longestValue {
			return refusal.Invalid(fmt.Sprintf("mappings[%d].claim", i), "must have 1 to %d characters", longestValue)
		}
		if err := s.checkGrant(ctx, c, m.Grant); err != nil {
			if r, is := refusal.As(err); is && r.Field != "" {
				return refusal.Invalid(fmt.Sprintf("mappings[%d].%s", i, r.Field), "%s", r.Detail)
			}
			return err
		}
		p.Mappings = append(p.Mappings, accessstore.ProviderMapping{
			Claim: m.Claim, Value: m.Value, Role: m.Grant.Role, Scope: m.Grant.Scope.Kind, ScopeID: m.Grant.Scope.ID,
			IssuerID: m.Grant.Issuer,
		})
	}
	return nil
}

// opened gives what a provider says of itself, and what it knows Kanban as.
func (s *Service) opened(ctx context.Context, p accessstore.Provider) (*openid.Provider, openid.App, error) {
	secret, err := s.Store.Unseal(p.Sealed, providerOwner+p.ID)
	if err != nil {
		return nil, openid.App{}, err
	}
	at, err := s.discovered(ctx, p)
	return at, openid.App{
		ID: p.ClientID, Secret: string(secret), Redirect: s.BackAddress(p.ID), Scopes: p.Scopes,
	}, err
}

// ProvidersPath is below what people sign in at providers.
const ProvidersPath = "/providers/"

// BackAddress is where a provider sends people back to; it is entered there.
func (s *Service) BackAddress(id string) string { return s.Public + ProvidersPath + id + "/back" }

// LogoutAddress is where a provider says that a session is over (Back-Channel Logout 1.0, 2.5).
func (s *Service) LogoutAddress(id string) string { return s.Public + ProvidersPath + id + "/logout" }

// SignInPage is where somebody is who has signed out.
func (s *Service) SignInPage() string { return s.Public + "/sign-in" }

// discovered gives what a provider says of itself, asking it when that was long ago.
func (s *Service) discovered(ctx context.Context, p accessstore.Provider) (*openid.Provider, error) {
	key, now := fmt.Sprint(p.ID, " ", p.Version), s.Clock.Now()
	s.providers.mu.Lock()
	have, there := s.providers.all[key]
	s.providers.mu.Unlock()
	if there && have.until.After(now) {
		return have.Provider, nil
	}
	found, err := openid.Discover(ctx, providerHTTP(), p.Issuer)
	if err != nil {
		return nil, err
	}
	s.providers.mu.Lock()
	defer s.providers.mu.Unlock()
	if s.providers.all == nil || len(s.providers.all) > 100 { // every change of a provider leaves one behind
		s.providers.all = map[string]knownProvider{}
	}
	s.providers.all[key] = knownProvider{found, now.Add(knownFor)}
	return found, nil
}

// ProviderCheck says whether a provider can be used.
type ProviderCheck struct {
	Trouble string   // why it cannot; empty when it can. Whether it takes the client is seen when somebody signs in.
	Lacks   []string // scopes that it does not say it knows
}

// CheckProvider asks a provider for its addresses and keys, now.
func (s *Service) CheckProvider(ctx context.Context, id string) (out ProviderCheck, err error) {
	p, err := accessstore.FindProvider(ctx, s.Store, id)
	if err != nil {
		return out, err
	}
	found, err := openid.Discover(ctx, providerHTTP(), p.Issuer)
	if err == nil {
		err = found.CheckKeys(ctx)
	}
	var failed *openid.Error
	if errors.As(err, &failed) {
		return ProviderCheck{Trouble: failed.Detail}, nil
	}
	if err != nil {
		return out, err
	}
	return ProviderCheck{Lacks: found.Lacks(p.Scopes)}, nil
}

// WaysIn lists the providers at which people can sign in now.
func (s *Service) WaysIn(ctx context.Context) ([]accessstore.Provider, error) {
	all, err := accessstore.Providers(ctx, s.Store)
	return slices.DeleteFunc(all, func(p accessstore.Provider) bool { return !p.Active }), err
}

// OwnProviders lists where a caller signs in besides here.
func (s *Service) OwnProviders(ctx context.Context, c Caller) ([]accessstore.ProviderUser, error) {
	return accessstore.ProviderUsers(ctx, s.Store, c.ID)
}

// ProviderUsers lists who signs in at which provider.
func (s *Service) ProviderUsers(ctx context.Context) ([]accessstore.ProviderUser, error) {
	return accessstore.ProviderUsers(ctx, s.Store)
}

// EndOwnProvider ends that a caller signs in at a provider; the roles that it gave end too. It is refused when it is
// their only way in.
func (s *Service) EndOwnProvider(ctx context.Context, c Caller, id string) error {
	if uuid.Validate(id) != nil {
		return fmt.Errorf("finding the provider: %w", db.ErrNotFound)
	}
	return s.alter(ctx, c, c.ID, "ended a way in", func(tx *db.Tx, _ []accessstore.User, u *accessstore.User) error {
		ways, err := accessstore.ProviderUsers(ctx, tx, c.ID)
		if err != nil {
			return err
		}
		if u.PasswordHash == "" && len(ways) < 2 {
			return refusal.Conflict("", "this is your only way in: choose a password first, by a link from an administrator")
		}
		if err := accessstore.RemoveProviderUser(ctx, tx, id, c.ID); err != nil {
			return err
		}
		u.Grants = slices.DeleteFunc(u.Grants, func(g accessstore.Grant) bool {
			return g.ProviderID != nil && *g.ProviderID == id
		})
		return endAt(ctx, tx, id, c.ID, "")
	})
}
