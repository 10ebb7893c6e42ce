// Package matching says how people are recognised at an interface, shows whom a
// change of that would touch, and keeps what people decided about accounts.
package matching

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/adapter"
	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/call"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *db.Database
	// Connections gives interfaces with their secrets.
	Connections adapter.Opener
	Call        call.Options
}

// Of gives how people are recognised at an interface that takes people, and the
// interface's version.
func (s *Service) Of(ctx context.Context, interfaceID string) (roster.Matching, int, error) {
	c, err := s.taking(ctx, interfaceID)
	return c.Recognise(), c.Version, err
}

// taking finds an interface that is of one of some kinds, in which people have accounts; of those that take people
// when none is named.
func (s *Service) taking(ctx context.Context, id string, kinds ...string) (connectionstore.Interface, error) {
	if len(kinds) == 0 {
		kinds = []string{adapter.KindSCIM}
	}
	c, err := connectionstore.FindInterface(ctx, s.Store, id)
	if err == nil && !slices.Contains(kinds, c.Kind) {
		return c, refusal.Conflict("", "%s takes no people, so nobody has to be recognised there", c.Name)
	}
	return c, err
}

// Touched is somebody for whom a change would make a difference.
type Touched struct {
	PersonID string
	Name     string
	Role     string
	Section  string
	Effect   string
}

// Preview lists whom a change would touch, in the sections that are paired with
// the interface. It changes nothing.
func (s *Service) Preview(ctx context.Context, interfaceID string, m roster.Matching) ([]Touched, error) {
	c, err := s.taking(ctx, interfaceID)
	if err != nil {
		return nil, err
	}
	if err := check(m); err != nil {
		return nil, err
	}
	members, err := matchstore.PairedMembers(ctx, s.Store, interfaceID)
	if err != nil {
		return nil, err
	}
	in := map[string]bool{} // "section person": who is in a section
	for _, x := range members {
		in[x.SectionID+" "+x.Member.PersonID] = true
	}
	now := c.Recognise()
	list := []Touched{}
	for _, x := range members {
		who := x.Member
		second := who.SecondOf != "" && in[x.SectionID+" "+who.SecondOf]
		if effect := difference(now, m, who, second); effect != "" {
			list = append(list, Touched{who.PersonID, who.Name(), string(who.Role), x.Section, effect})
		}
	}
	if slices.Equal(now.Keys, m.Keys) {
		return list, nil
	}
	other, err := s.otherKeys(ctx, c, now, m.Keys)
	return append(list, other...), err
}

// otherKeys lists whose outcome would be another one by other keys. Only the
// service knows that, so both sides of every pairing that has run are read.
func (s *Service) otherKeys(ctx context.Context, c connectionstore.Interface, now roster.Matching,
	keys []roster.Key,
) ([]Touched, error) {
	pairings, err := matchstore.PairingsThrough(ctx, s.Store, c.ID)
	if err != nil {
		return nil, err
	}
	opened, err := s.Connections.Open(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	service, then := workspaces.New(opened, s.Call), now
	then.Keys = keys
	var list []Touched
	sources, err := pairingstore.Sources(ctx, s.Store, c.ID, pairings)
	if err != nil {
		return nil, err
	}
	for _, p := range pairings {
		source := sources[p.ID]
		wanted, ids := source.Lookups(now)
		seen, err := service.ReadTarget(ctx, workspaces.TargetGroup{Ref: p.TargetRef}, wanted, ids)
		if err != nil {
			return nil, err
		}
		accounts := seen.Accounts
		source.Members = slices.Clone(source.Members)
		for i := range source.Members {
			source.Members[i].Group = "" // groups have no say in who somebody is
		}
		was := map[string]roster.Entry{}
		for _, e := range roster.Compare(source, roster.Target{Accounts: accounts}, p.Policy, now).Entries {
			was[e.Key()] = e
		}
		for _, e := range roster.Compare(source, roster.Target{Accounts: accounts}, p.Policy, then).Entries {
			if before := was[e.Key()]; e.Outcome != before.Outcome || e.Reason != before.Reason ||
				e.AccountID != before.AccountID {
				list = append(list, Touched{
					e.PersonID, e.Name, string(e.Role), p.TargetName,
					fmt.Sprintf("%s (%s), was %s (%s)", words(e.Outcome), finding.Title(e.Reason),
						words(before.Outcome), finding.Title(before.Reason)),
				})
			}
		}
	}
	return list, nil
}

func words(o roster.Outcome) string {
	if o == "" {
		return "not there"
	}
	return strings.ReplaceAll(string(o), "-", " ")
}

func difference(before, after roster.Matching, who roster.Member, second bool) string {
	was, wasOut := before.Excludes(who, second)
	is, isOut := after.Excludes(who, second)
	switch {
	case isOut && !wasOut:
		return fmt.Sprintf("left out: %s", is.Name)
	case wasOut && !isOut:
		return fmt.Sprintf("no longer left out (%s)", was.Name)
	case isOut && is.Name != was.Name:
		return fmt.Sprintf("left out: %s, was %s", is.Name, was.Name)
	case isOut:
		return ""
	}
	if old, now := before.Address(who.Email, who.Role), after.Address(who.Email, who.Role); old != now {
		return fmt.Sprintf("address %s, was %s", now, old)
	}
	return ""
}

func check(m roster.Matching) error {
	err := m.Check()
	var field *roster.FieldError
	if errors.As(err, &field) {
		return refusal.Invalid(field.Field, "%s", strings.ReplaceAll(strings.TrimPrefix(err.Error(), field.Field+" "),
			"\n", "; "))
	}
	return err
}

// Change replaces how people are recognised. version must be the interface's
// that was read, or 0. Every pairing with the interface is compared anew.
func (s *Service) Change(ctx context.Context, who, interfaceID string, version int, m roster.Matching) error {
	c, err := s.taking(ctx, interfaceID)
	if err != nil {
		return err
	}
	if version != 0 && version != c.Version {
		return fmt.Errorf("changing the matching: %w", db.ErrStale)
	}
	if err := check(m); err != nil {
		return err
	}
	before := c.Recognise()
	c.Matching = &m
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := connectionstore.UpdateInterface(tx, &c); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "changed how people are recognised", "interface/"+c.ID,
			map[string]any{"before": before, "after": m}); err != nil {
			return err
		}
		if err := s.compareAll(ctx, tx, c.ID); err != nil {
			return err
		}
		return tx.Announce(ctx, "interface", c.ID)
	})
}

// compareAll queues a comparison of every pairing with an interface.
func (s *Service) compareAll(ctx context.Context, tx *db.Tx, interfaceID string) error {
	pairings, err := matchstore.PairingsThrough(ctx, tx, interfaceID)
	if err != nil {
		return err
	}
	return pairingstore.AskComparison(ctx, tx, "new matching", false, pairings...)
}

// Candidate is an account that could be somebody's.
type Candidate struct {
	AccountID string
	Name      string
	UserName  string
	Email     string
	Active    bool
	Evidence  []string
	Stored    bool
	Denied    bool
}

// Candidates lists the accounts that could be a person's, the ones with most
// evidence first.
func (s *Service) Candidates(ctx context.Context, personID, interfaceID string) ([]Candidate, error) {
	p, c, err := s.both(ctx, personID, interfaceID)
	if err != nil {
		return nil, err
	}
	decided, err := matchstore.AccountsOf(ctx, s.Store, personID)
	if err != nil {
		return nil, err
	}
	opened, err := s.Connections.Open(ctx, interfaceID)
	if err != nil {
		return nil, err
	}
	m := roster.Member{
		PersonID: p.ID, GivenName: p.GivenName, FamilyName: p.FamilyName, Email: p.Email,
		UserName: p.UserName, Identifier: p.Identifier,
	}
	var ids []string
	for _, d := range decided {
		if d.InterfaceID == interfaceID {
			ids = append(ids, d.RemoteID)
		}
	}
	wanted, _ := roster.Source{Members: []roster.Member{m}}.Lookups(c.Recognise())
	seen, err := workspaces.New(opened, s.Call).ReadTarget(ctx, workspaces.TargetGroup{}, wanted, ids)
	if err != nil {
		return nil, err
	}
	list := []Candidate{}
	for _, a := range seen.Accounts {
		x := Candidate{
			AccountID: a.ID, Name: strings.TrimSpace(a.GivenName + " " + a.FamilyName),
			UserName: a.UserName, Email: a.Email, Active: a.Active, Evidence: evidence(c.Recognise(), m, a),
		}
		for _, d := range decided {
			if d.InterfaceID == interfaceID && d.RemoteID == a.ID {
				x.Stored, x.Denied = !d.Denied, d.Denied
			}
		}
		if len(x.Evidence) > 0 || x.Stored || x.Denied {
			list = append(list, x)
		}
	}
	slices.SortStableFunc(list, func(a, b Candidate) int { return len(b.Evidence) - len(a.Evidence) })
	return list, nil
}

func evidence(matching roster.Matching, m roster.Member, a roster.Account) []string {
	out := []string{}
	add := func(fits bool, text string) {
		if fits {
			out = append(out, text)
		}
	}
	key, err := roster.AddressKey(a.Email)
	same := func(address string) bool {
		k, wrong := roster.AddressKey(address)
		return err == nil && wrong == nil && k == key
	}
	add(a.ExternalID != "" && a.ExternalID == m.Identifier, "identifier")
	add(same(m.Email) || same(matching.Address(m.Email, roster.Student)) ||
		same(matching.Address(m.Email, roster.Teacher)), "address")
	add(m.UserName != "" && strings.EqualFold(a.UserName, m.UserName), "user name")
	add(strings.EqualFold(a.GivenName, m.GivenName) && strings.EqualFold(a.FamilyName, m.FamilyName), "name")
	return out
}

func (s *Service) both(ctx context.Context, personID, interfaceID string, kinds ...string) (p rosterstore.Person,
	c connectionstore.Interface, err error,
) {
	if p, err = rosterstore.FindPerson(ctx, s.Store, personID); err != nil {
		return p, c, err
	}
	c, err = s.taking(ctx, interfaceID, kinds...)
	return p, c, err
}

// Choose keeps that an account is this person's. It is used from then on.
func (s *Service) Choose(ctx context.Context, who, personID, interfaceID, accountID string) error {
	p, c, err := s.both(ctx, personID, interfaceID)
	if err != nil {
		return err
	}
	opened, err := s.Connections.Open(ctx, interfaceID)
	if err != nil {
		return err
	}
	seen, err := workspaces.New(opened, s.Call).ReadTarget(ctx, workspaces.TargetGroup{}, nil, []string{accountID})
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(seen.Accounts, func(a roster.Account) bool { return a.ID == accountID }) {
		return refusal.Invalid("accountId",
			"%s has no account %q; see the candidates: kanban people candidates %q %q", c.Name, accountID,
			p.Identifier, c.Name)
	}
	return s.decide(ctx, who, "said whose account it is", p, c, accountID, func(tx *db.Tx) error {
		other, err := matchstore.AccountHolder(ctx, tx, c.ID, accountID)
		if err != nil {
			return err
		}
		if other.ID != "" && other.ID != p.ID {
			return refusal.Conflict(finding.AccountTaken,
				"that account is kept for %s (%s); say first that it is not theirs: kanban people unmatch %q %q %s",
				other.Name(), other.Identifier, other.Identifier, c.Name, accountID)
		}
		if err := matchstore.ChooseAccount(ctx, tx, c.ID, p.ID, accountID, who); err != nil {
			return err
		}
		_, err = deliverystore.RequeueMatched(ctx, tx, c.ID, p.ID) // what waited for an account goes on
		return err
	})
}

// Deny keeps that an account is not this person's.
func (s *Service) Deny(ctx context.Context, who, personID, interfaceID, accountID string) error {
	p, c, err := s.both(ctx, personID, interfaceID, adapter.KindSCIM, adapter.KindLTI)
	if err != nil {
		return err
	}
	return s.decide(ctx, who, "said whose account it is not", p, c, accountID, func(tx *db.Tx) error {
		return matchstore.DenyAccount(ctx, tx, c.ID, p.ID, accountID, who)
	})
}

// Forget drops every decision about a person's accounts at an interface; Kanban
// finds out again.
func (s *Service) Forget(ctx context.Context, who, personID, interfaceID string) error {
	p, c, err := s.both(ctx, personID, interfaceID, adapter.KindSCIM, adapter.KindLTI)
	if err != nil {
		return err
	}
	return s.decide(ctx, who, "dropped the decisions about accounts", p, c, "", func(tx *db.Tx) error {
		return matchstore.ForgetDecisions(ctx, tx, c.ID, p.ID)
	})
}

func (s *Service) decide(ctx context.Context, who, what string, p rosterstore.Person, c connectionstore.Interface,
	accountID string, keep func(*db.Tx) error,
) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := keep(tx); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, what, "person/"+p.ID,
			map[string]any{"interface": c.ID, "account": accountID}); err != nil {
			return err
		}
		if err := s.compareAll(ctx, tx, c.ID); err != nil {
			return err
		}
		return tx.Announce(ctx, "pairing", "")
	})
}
