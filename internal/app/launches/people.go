package launches

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/launchstore"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/rosterstore"
)

// recognise finds out who of the register opened a link: whose account it is known to be, else by the register's
// identifier and the address that the platform says. Who could be two people, or has another account there, is nobody
// until a person decides.
func (s *Service) recognise(ctx context.Context, tx *db.Tx, l *Launch) error {
	switch {
	case l.Test:
		l.Why = "the platform says that this is a test user, and nobody real"
		return nil
	case l.Message.Subject == "":
		l.Why = "the platform does not say who opened the link"
		return nil
	}
	p, err := matchstore.AccountHolder(ctx, tx, l.Platform.ID, l.Message.Subject)
	if err != nil || p.ID != "" {
		l.Person = orNobody(p)
		return err
	}
	p, l.Why, err = s.fits(ctx, tx, l.Message.PersonID(), l.Message.Email)
	if err != nil || p.ID == "" {
		return err
	}
	known, err := matchstore.AccountsOf(ctx, tx, p.ID)
	if err != nil {
		return err
	}
	here := slices.DeleteFunc(known, func(a matchstore.KnownAccount) bool {
		return a.InterfaceID != l.Platform.ID || a.Denied && a.RemoteID != l.Message.Subject
	})
	switch {
	case slices.ContainsFunc(here, func(a matchstore.KnownAccount) bool { return a.Denied }):
		l.Why = "somebody said that this account is not " + p.Name() + "'s"
	case len(here) > 0:
		l.Why = p.Name() + " has another account at the platform already"
	default:
		l.Person = &p
		return connectionstore.KeepAccount(ctx, tx, l.Platform.ID, l.Message.Subject, p.ID)
	}
	return nil
}

func orNobody(p rosterstore.Person) *rosterstore.Person {
	if p.ID == "" {
		return nil
	}
	return &p
}

// fits finds who has an identifier and an address; why says why that is nobody.
func (s *Service) fits(ctx context.Context, tx *db.Tx, identifier, address string) (p rosterstore.Person,
	why string, err error,
) {
	var all []rosterstore.Person
	for _, x := range []struct {
		value string
		find  func(context.Context, db.From, string) (rosterstore.Person, error)
	}{
		{identifier, rosterstore.PersonBySourcedID},
		{identifier, rosterstore.PersonByIdentifier},
		{address, rosterstore.PersonByAddress},
	} {
		if x.value == "" {
			continue
		}
		one, err := x.find(ctx, tx, x.value)
		switch {
		case errors.Is(err, db.ErrNotFound):
		case err != nil:
			return p, "", err
		case !slices.ContainsFunc(all, func(o rosterstore.Person) bool { return o.ID == one.ID }):
			all = append(all, one)
		}
	}
	switch len(all) {
	case 0:
		if identifier == "" && address == "" {
			return p, "the platform says neither an identifier of the register nor an address", nil
		}
		return p, "no register has exactly one person with the identifier or the address that the platform says", nil
	case 1:
		return all[0], "", nil
	}
	return p, fmt.Sprintf("what the platform says fits %s and %s", all[0].Name(), all[1].Name()), nil
}

// Unrecognised lists who opened links and is nobody of the register, the latest first, with how many there are.
func (s *Service) Unrecognised(ctx context.Context, interfaceID string, limit int) (all []launchstore.Subject,
	total int, err error,
) {
	if _, err := s.platform(ctx, interfaceID); err != nil {
		return nil, 0, err
	}
	if total, err = launchstore.CountUnrecognised(ctx, s.Store, interfaceID); err != nil {
		return nil, 0, err
	}
	all, err = launchstore.Unrecognised(ctx, s.Store, interfaceID, limit)
	return all, total, err
}

// Say keeps that somebody who opened a link is this person of the register; the account that they had there before is
// theirs no more.
func (s *Service) Say(ctx context.Context, who, subjectID, personID string) error {
	p, err := rosterstore.FindPerson(ctx, s.Store, personID)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		u, err := launchstore.FindSubject(ctx, tx, subjectID)
		if err != nil {
			return err
		}
		other, err := matchstore.AccountHolder(ctx, tx, u.InterfaceID, u.Subject)
		if err != nil {
			return err
		}
		if other.ID != "" && other.ID != p.ID {
			return refusal.Conflict("", "that account is kept for %s (%s); say first that it is not theirs, on their page",
				other.Name(), other.Identifier)
		}
		if err := matchstore.ChooseAccount(ctx, tx, u.InterfaceID, p.ID, u.Subject, who); err != nil {
			return err
		}
		if err := launchstore.Recognised(ctx, tx, u.ID); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "said whose account it is", "person/"+p.ID,
			map[string]string{"interface": u.InterfaceID, "account": u.Subject})
	})
}

// originOf is the scheme and host of an address.
func originOf(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || strings.ContainsAny(u.Host, "; ,'\"*") { // it stands in a header
		return ""
	}
	return u.Scheme + "://" + u.Host
}
