package access

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/openid"
)

// NotLetIn says why somebody who came from a provider was not let in; they read it, and it stands in the trail.
type NotLetIn struct {
	Provider string
	Detail   string
}

func (e *NotLetIn) Error() string { return e.Detail }

func notIn(format string, args ...any) error { return &NotLetIn{Detail: fmt.Sprintf(format, args...)} }

// providerTrouble tells somebody who wanted to sign in what is wrong with the provider, and what to do.
func providerTrouble(err error) error {
	var failed *openid.Error
	if !errors.As(err, &failed) {
		return err
	}
	then := map[openid.Reason]string{
		openid.Unreachable: "try again in a minute, or sign in in another way",
		openid.NotProvider: "an administrator mends the provider's address", openid.Refused: "sign in there anew, or ask whoever runs it",
		openid.WrongClient: "an administrator mends client and secret", openid.Misdirected: "begin again, in one tab",
		openid.WrongToken: "an administrator asks whoever runs the provider", openid.WrongClock: "an administrator has the clocks set",
	}[failed.Why]
	return notIn("%s; %s", strings.TrimSuffix(failed.Detail, "."), then)
}

// active finds a provider at which people can sign in.
func (s *Service) active(ctx context.Context, id string) (accessstore.Provider, error) {
	p, err := accessstore.FindProvider(ctx, s.Store, id)
	if errors.Is(err, db.ErrNotFound) || err == nil && !p.Active {
		return p, notIn("nobody signs in there any more; sign in in another way")
	}
	return p, err
}

// BeginAt gives the address of a provider at which somebody signs in.
func (s *Service) BeginAt(ctx context.Context, id string) (openid.Begun, error) {
	p, err := s.active(ctx, id)
	if err != nil {
		return openid.Begun{}, err
	}
	at, app, err := s.opened(ctx, p)
	if err != nil {
		return openid.Begun{}, s.refuse(ctx, p, "", providerTrouble(err))
	}
	return at.Begin(app), nil
}

// refuse gives the error with the provider's name, and notes in the trail who was not let in and why.
// Whom the provider does not vouch for is not noted: anybody could fill the trail.
func (s *Service) refuse(ctx context.Context, p accessstore.Provider, subject string, err error) error {
	var no *NotLetIn
	if !errors.As(err, &no) {
		return err
	}
	if no.Provider = p.Name; subject == "" {
		return no
	}
	return errors.Join(no, s.Store.InTx(ctx, func(tx *db.Tx) error {
		return tx.Audit(ctx, p.Name, "refused a sign-in", "provider/"+p.ID,
			map[string]string{"why": no.Detail, "subject": subject})
	}))
}

// EndAt lets in who comes back from a provider. With a user they are signed in already, and get one more way in.
func (s *Service) EndAt(ctx context.Context, id string, begun openid.Begun, back openid.Back, userID string) (Caller,
	openid.Identity, error,
) {
	p, err := s.active(ctx, id)
	if err != nil {
		return Caller{}, openid.Identity{}, err
	}
	at, app, err := s.opened(ctx, p)
	if err != nil {
		return Caller{}, openid.Identity{}, s.refuse(ctx, p, "", providerTrouble(err))
	}
	who, err := at.Finish(ctx, app, begun, back, s.Clock.Now())
	if err != nil {
		return Caller{}, who, s.refuse(ctx, p, "", providerTrouble(err))
	}
	d, err := s.decide(ctx, p, who, userID)
	if err == nil {
		err = s.settle(ctx, p, who, &d)
	}
	if err != nil {
		return Caller{}, who, s.refuse(ctx, p, who.Subject, err)
	}
	c, err := s.ByID(ctx, d.user.ID)
	return c, who, err
}

// decision is what becomes of who comes from a provider.
type decision struct {
	user   accessstore.User
	isNew  bool // the user is made
	linked bool // they signed in there before
	person *rosterstore.Person
	why    string // there is no person
	mapped []permission.Mapped
}

// decide finds out which user somebody is. It changes nothing.
func (s *Service) decide(ctx context.Context, p accessstore.Provider, who openid.Identity, userID string) (d decision,
	err error,
) {
	mappings := make([]permission.Mapping, len(p.Mappings))
	for i, m := range p.Mappings {
		mappings[i] = m.Mapping()
	}
	d.mapped = permission.FromClaims(who.Claims, mappings)
	if d.person, d.why, err = s.personFrom(ctx, p, who); err != nil {
		return d, err
	}
	link, linked, err := accessstore.FindProviderUser(ctx, s.Store, p.ID, who.Subject)
	switch {
	case err != nil:
		return d, err
	case linked && userID != "" && link.UserID != userID:
		return d, notIn("somebody else signs in here by this account; sign out there first, and begin again")
	case linked:
		d.linked = true
		d.user, err = accessstore.FindUser(ctx, s.Store, link.UserID)
	case userID != "":
		d.user, err = accessstore.FindUser(ctx, s.Store, userID)
	default:
		err = s.decideNew(ctx, p, who, &d)
	}
	if err != nil || d.isNew || d.linked {
		return d, err
	}
	return d, s.oneOfProvider(ctx, p, d.user)
}

// oneOfProvider refuses that a user is two people of a provider.
func (s *Service) oneOfProvider(ctx context.Context, p accessstore.Provider, u accessstore.User) error {
	ways, err := accessstore.ProviderUsers(ctx, s.Store, u.ID)
	if slices.ContainsFunc(ways, func(w accessstore.ProviderUser) bool { return w.ProviderID == p.ID }) {
		return notIn("%s signs in by another account of %s; end that under Account first", u.Name, p.Name)
	}
	return err
}

// decideNew finds out which user somebody is who was never here by this provider: by the person of the register, or by
// an address that is believed; never by both when they differ.
func (s *Service) decideNew(ctx context.Context, p accessstore.Provider, who openid.Identity, d *decision) error {
	var fit []accessstore.User
	if d.person != nil {
		var err error
		if fit, err = accessstore.UsersOfPerson(ctx, s.Store, d.person.ID); err != nil {
			return err
		}
	}
	address, believed := believedAddress(p, who)
	byAddress, err := accessstore.UserByEmail(ctx, s.Store, address)
	switch {
	case address == "" || errors.Is(err, db.ErrNotFound):
	case err != nil:
		return err
	case !believed && len(fit) == 0:
		return notIn("somebody signs in here with the address %s already, and %s is not believed to know whose it is: if it "+
			"is you, sign in with your password and add %s under Account", address, p.Name, p.Name)
	case believed && !slices.ContainsFunc(fit, func(u accessstore.User) bool { return u.ID == byAddress.ID }):
		fit = append(fit, byAddress)
	}
	switch len(fit) {
	case 1:
		d.user = fit[0]
		return nil
	case 0:
		return s.decideMade(p, who, d)
	}
	names := make([]string, len(fit))
	for i, u := range fit {
		names[i] = u.Email
	}
	return notIn("you fit more than one user, %s: ask an administrator which you are", strings.Join(names, " and "))
}

// believedAddress is the one that a provider gives, and whether it is taken for the person's own.
func believedAddress(p accessstore.Provider, who openid.Identity) (address string, believed bool) {
	if _, err := roster.AddressKey(who.Email); err != nil {
		return "", false
	}
	return who.Email, p.Believes == BelievesAll || p.Believes == BelievesVerified && who.Verified
}

// decideMade decides whether somebody is made a user who is none.
func (s *Service) decideMade(p accessstore.Provider, who openid.Identity, d *decision) error {
	granted := permission.Granted(d.mapped)
	switch {
	case p.Admits != AdmitsMapped:
		return notIn("%s knows you, but nobody has invited you here: ask an administrator", p.Name)
	case len(granted) == 0 && d.person == nil:
		return notIn("%s knows you, but nothing that it says of you gives you a role here: ask an administrator", p.Name)
	}
	address, believed := believedAddress(p, who)
	if !believed && d.person != nil {
		address = d.person.Email
	} else if !believed {
		address = ""
	}
	if address == "" {
		return notIn("%s gives no e-mail address of yours that is believed, and without one nobody is a user here: ask an "+
			"administrator", p.Name)
	}
	name := who.Name
	if name == "" && d.person != nil {
		name = d.person.Name()
	}
	if name == "" {
		name = address
	}
	if runes := []rune(name); len(runes) > 200 {
		name = string(runes[:200])
	}
	d.user, d.isNew = accessstore.User{ID: db.NewID(), InvitedBy: p.Name, CreatedAt: s.Clock.Now()}, true
	return Draft{Name: &name, Email: &address}.into(&d.user)
}

// personFrom finds who of the register somebody is; why says why it is nobody.
func (s *Service) personFrom(ctx context.Context, p accessstore.Provider,
	who openid.Identity,
) (found *rosterstore.Person, why string, err error) {
	if p.PersonClaim == "" {
		return nil, "", nil
	}
	values, there := permission.ClaimValues(who.Claims, p.PersonClaim)
	if !there || len(values) != 1 || values[0] == "" {
		return nil, "the claim " + p.PersonClaim + " is not there, or is not one value", nil
	}
	var one rosterstore.Person
	if p.PersonKey == "email" {
		if _, believed := believedAddress(p, who); p.PersonClaim == "email" && !believed {
			return nil, "the address is not believed", nil
		}
		one, err = rosterstore.PersonByAddress(ctx, s.Store, values[0])
	} else {
		one, err = rosterstore.PersonByIdentifier(ctx, s.Store, values[0])
	}
	if errors.Is(err, db.ErrNotFound) {
		return nil, "no register has one person with the " + p.PersonKey + " " + values[0], nil
	}
	if err != nil {
		return nil, "", err
	}
	return &one, "", nil
}

// settle keeps what was decided: the user, the way in, who of the register they are, and the roles that the claims
// give now.
func (s *Service) settle(ctx context.Context, p accessstore.Provider, who openid.Identity, d *decision) error {
	granted := permission.Granted(d.mapped)
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		all, err := accessstore.LockUsers(ctx, tx)
		if err != nil {
			return err
		}
		now := s.Clock.Now()
		if d.isNew {
			if err := ownAddress(all, d.user); err != nil {
				return notIn("%v", err)
			}
			if err := db.Create(tx, &d.user, "making the user"); err != nil {
				return err
			}
			all = append(all, d.user)
		}
		at := slices.IndexFunc(all, func(u accessstore.User) bool { return u.ID == d.user.ID })
		if at < 0 {
			return notIn("you were removed here just now")
		}
		u := &all[at]
		if err := accessstore.KeepProviderUser(ctx, tx, accessstore.ProviderUser{
			ProviderID: p.ID, Subject: who.Subject, UserID: u.ID, Email: who.Email, LinkedAt: now, SignedInAt: now,
		}); err != nil {
			return err
		}
		changed := d.isNew || !d.linked
		if u.PersonID == nil && d.person != nil {
			u.PersonID, changed = &d.person.ID, true
			if err := accessstore.ChangeUser(ctx, tx, *u); err != nil {
				return err
			}
		}
		given, err := s.giveMapped(ctx, tx, p, all, u, granted)
		if err != nil {
			return err
		}
		if !d.isNew && len(u.Grants) == 0 && u.PersonID == nil && u.PasswordHash == "" {
			return notIn("nothing that %s says of you gives you a role here any more: ask an administrator", p.Name)
		}
		if err := accessstore.NoteSignIn(ctx, tx, u.ID, now); err != nil {
			return err
		}
		if !changed && !given {
			return nil
		}
		return s.changed(ctx, tx, Caller{Name: p.Name}, "let a user in", *u)
	})
	if errors.Is(err, db.ErrTaken) {
		return notIn("somebody was let in at the same moment; begin again")
	}
	return err
}

// giveMapped puts the roles that a provider's claims give in place of those that they gave before; changed says
// whether there are others. The last administrator who can sign in stays one.
func (s *Service) giveMapped(ctx context.Context, tx *db.Tx, p accessstore.Provider, all []accessstore.User,
	u *accessstore.User, granted []permission.Grant,
) (changed bool, err error) {
	var left, gone []accessstore.Grant
	for _, g := range u.Grants {
		if g.ProviderID == nil || *g.ProviderID != p.ID || slices.Contains(granted, g.Granted()) {
			left = append(left, g)
		} else {
			gone = append(gone, g)
		}
	}
	had := u.Grants
	if u.Grants = left; len(gone) > 0 && somebodyLeft(all) != nil {
		u.Grants, gone = had, nil
	}
	for _, g := range gone {
		if err := accessstore.RemoveGrant(ctx, tx, u.ID, g.ID); err != nil {
			return false, err
		}
	}
	for _, g := range granted {
		if slices.Contains(u.Granted(), g) {
			continue
		}
		if g.Issuer != "" {
			there, err := accessstore.IssuerThere(ctx, tx, g.Issuer)
			if err != nil {
				return false, err
			}
			if !there { // it was removed; the mapping gives nothing
				continue
			}
		}
		one := accessstore.GrantOf(u.ID, g, p.Name)
		one.ProviderID = &p.ID
		if err := accessstore.AddGrant(ctx, tx, &one); err != nil {
			return false, err
		}
		u.Grants, changed = append(u.Grants, one), true
	}
	return changed || len(gone) > 0, nil
}

// ClaimsTrial is what a given set of claims would get.
type ClaimsTrial struct {
	Mapped  []permission.Mapped
	Person  string // who of the register it is
	Why     string // it is nobody
	User    string // whom they would sign in as
	IsNew   bool   // a user would be made
	Refused string // why they would not be let in
}

// TryClaims says what somebody would get of whom a provider says some claims. It changes nothing.
func (s *Service) TryClaims(ctx context.Context, id string, claims map[string]any) (out ClaimsTrial, err error) {
	p, err := accessstore.FindProvider(ctx, s.Store, id)
	if err != nil {
		return out, err
	}
	d, err := s.decide(ctx, p, openid.FromClaims(claims), "")
	out = ClaimsTrial{Mapped: d.mapped, Why: d.why, User: d.user.Name, IsNew: d.isNew}
	if d.person != nil {
		out.Person = d.person.Name()
	}
	var no *NotLetIn
	if errors.As(err, &no) {
		out.Refused = no.Detail
		return out, nil
	}
	return out, err
}

// LoggedOutAt ends the sessions of which a provider says that they are over there (Back-Channel Logout 1.0). A message
// that came already changes nothing.
func (s *Service) LoggedOutAt(ctx context.Context, id, raw string) error {
	p, err := s.active(ctx, id)
	if err != nil {
		return err
	}
	at, app, err := s.opened(ctx, p)
	if err != nil {
		return err
	}
	now := s.Clock.Now()
	ended, err := at.LoggedOut(ctx, app, raw, now)
	if err != nil {
		return err
	}
	userID := ""
	if ended.Subject != "" {
		link, there, err := accessstore.FindProviderUser(ctx, s.Store, p.ID, ended.Subject)
		if err != nil || !there {
			return err
		}
		userID = link.UserID
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		fresh, err := accessstore.NoteLogout(ctx, tx, p.ID, ended.Token, now)
		if err != nil || !fresh {
			return err
		}
		return endAt(ctx, tx, p.ID, userID, ended.Session)
	})
}

// SignOutAddress is where somebody is signed out of a provider too; empty when it has no such place or cannot be
// asked.
func (s *Service) SignOutAddress(ctx context.Context, id, idToken string) string {
	p, err := accessstore.FindProvider(ctx, s.Store, id)
	if err != nil {
		return ""
	}
	at, app, err := s.opened(ctx, p)
	if err != nil {
		return ""
	}
	return at.EndSession(app, idToken, s.SignInPage())
}
