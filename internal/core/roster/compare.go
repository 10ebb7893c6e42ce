package roster

import (
	"cmp"
	"errors"
	"maps"
	"slices"
	"strings"

	"kanban/internal/core/finding"
)

// Compare works out what has to happen so that the target holds the people of
// the section. The plan has exactly one entry per person in source ∪ target
// members; applying it and comparing again yields no change.
func Compare(source Source, target Target, policy Policy) Plan {
	c := newComparison(source, target, policy)
	claims := c.claim()
	for _, m := range c.members {
		c.entries = append(c.entries, c.decide(m, claims[m.PersonID]))
	}
	c.entries = append(c.entries, c.unclaimed(claims)...)
	return newPlan(c.entries)
}

// match is what looking for one person's account gave.
type match struct {
	account   *Account
	key       Key    // which key found it
	several   int    // more than one account under that key: how many
	contested string // another person with an equal or better claim
}

type comparison struct {
	policy  Policy
	members []Member // one per person, ordered by PersonID
	placed  map[string]Placement
	byID    map[string]*Account
	index   map[Key]map[string][]*Account
	sharing map[string][]string // address key → names of the people who have it
	entries []Entry
}

func newComparison(source Source, target Target, policy Policy) *comparison {
	c := &comparison{
		policy:  policy,
		members: onePerPerson(source.Members),
		placed:  make(map[string]Placement, len(source.Placed)),
		byID:    make(map[string]*Account, len(target.Accounts)),
		index:   map[Key]map[string][]*Account{KeyIdentifier: {}, KeyEmail: {}, KeyUserName: {}},
		sharing: map[string][]string{},
	}
	for _, p := range source.Placed {
		c.placed[p.AccountID] = p
	}
	accounts := slices.Clone(target.Accounts)
	slices.SortFunc(accounts, func(a, b Account) int { return cmp.Compare(a.ID, b.ID) })
	for i := range accounts {
		a := &accounts[i]
		if _, twice := c.byID[a.ID]; twice {
			continue // a service that lists an account on two pages
		}
		c.byID[a.ID] = a
		c.add(KeyIdentifier, a.ExternalID, a)
		c.add(KeyUserName, strings.ToLower(strings.TrimSpace(a.UserName)), a)
		if key, err := AddressKey(a.Email); err == nil {
			c.add(KeyEmail, key, a)
		}
	}
	for _, m := range c.members {
		if key, err := AddressKey(m.Email); err == nil {
			c.sharing[key] = append(c.sharing[key], m.Name())
		}
	}
	return c
}

func (c *comparison) add(key Key, value string, a *Account) {
	if value != "" {
		c.index[key][value] = append(c.index[key][value], a)
	}
}

// onePerPerson folds several enrolments of one person into one; a teacher's
// role wins over any other. The result is ordered by PersonID.
func onePerPerson(members []Member) []Member {
	sorted := slices.Clone(members)
	slices.SortStableFunc(sorted, func(a, b Member) int {
		return cmp.Or(cmp.Compare(a.PersonID, b.PersonID), cmp.Compare(rank(a.Role), rank(b.Role)), cmp.Compare(a.Role, b.Role))
	})
	return slices.CompactFunc(sorted, func(a, b Member) bool { return a.PersonID == b.PersonID })
}

func rank(r Role) int {
	switch r {
	case Teacher:
		return 0
	case Student:
		return 1
	}
	return 2
}

// claim finds each person's account. An account that two people claim goes to
// neither, unless one of them holds it by a stored account or identifier.
func (c *comparison) claim() map[string]match {
	claims := make(map[string]match, len(c.members))
	claimants := map[string][]Member{}
	for _, m := range c.members {
		found := c.find(m)
		claims[m.PersonID] = found
		if found.account != nil {
			claimants[found.account.ID] = append(claimants[found.account.ID], m)
		}
	}
	for _, who := range claimants {
		if len(who) < 2 {
			continue
		}
		best, second := firmest(who, claims)
		for _, m := range who {
			if m.PersonID == best.PersonID && firm(claims[best.PersonID].key) && !firm(claims[second.PersonID].key) {
				continue
			}
			other := best
			if other.PersonID == m.PersonID {
				other = second
			}
			found := claims[m.PersonID]
			found.contested = other.Name()
			claims[m.PersonID] = found
		}
	}
	return claims
}

func firm(k Key) bool { return k == KeyAccount || k == KeyIdentifier }

func firmest(who []Member, claims map[string]match) (best, second Member) {
	sorted := slices.Clone(who)
	slices.SortStableFunc(sorted, func(a, b Member) int {
		fa, fb := firm(claims[a.PersonID].key), firm(claims[b.PersonID].key)
		if fa != fb {
			if fa {
				return -1
			}
			return 1
		}
		return cmp.Compare(a.PersonID, b.PersonID)
	})
	return sorted[0], sorted[1]
}

func (c *comparison) find(m Member) match {
	for _, key := range c.policy.Match {
		var candidates []*Account
		switch key {
		case KeyAccount:
			if a := c.byID[m.Account]; m.Account != "" && a != nil {
				candidates = []*Account{a}
			}
		case KeyIdentifier:
			candidates = c.index[KeyIdentifier][m.Identifier]
		case KeyEmail:
			if address, err := AddressKey(m.Email); err == nil {
				candidates = c.index[KeyEmail][address]
			}
		case KeyUserName:
			candidates = c.index[KeyUserName][strings.ToLower(strings.TrimSpace(m.UserName))]
		}
		switch len(candidates) {
		case 0:
			continue
		case 1:
			return match{account: candidates[0], key: key}
		default:
			return match{key: key, several: len(candidates)}
		}
	}
	return match{}
}

// decide gives one person their outcome. The order of the questions is the
// order of precedence: left out on purpose, in need of a person, waiting, work.
func (c *comparison) decide(m Member, found match) Entry {
	e := Entry{PersonID: m.PersonID, Name: m.Name(), Role: m.Role}
	if found.account != nil {
		e.AccountID = found.account.ID
	}
	if reason, detail := c.excluded(m); reason != "" {
		return c.leave(e, found.account, reason, detail)
	}
	if reason, detail := c.unclear(m, found); reason != "" {
		e.AccountID = ""
		return e.as(OutcomeNeedsPerson, reason, detail)
	}
	held := c.policy.Hold && m.Role != Teacher
	want := Wanted{m.GivenName, m.FamilyName, strings.TrimSpace(m.Email), m.UserName, m.Identifier}
	switch a := found.account; {
	case a == nil && held:
		return e.as(OutcomeWaiting, finding.HeldBack, "")
	case a == nil:
		e.Want = want
		return e.as(OutcomeAdd, finding.NewAccount, "")
	case !a.Active:
		return e.as(OutcomeWaiting, finding.AccountInactive, a.UserName)
	case a.InTarget && c.differs(m, a):
		e.Want = want
		return e.as(OutcomeUpdate, finding.DetailsDiffer, difference(m, a))
	case a.InTarget:
		return e.as(OutcomeInStep, finding.InStep, "")
	case held:
		return e.as(OutcomeWaiting, finding.HeldBack, "")
	default:
		e.Want = want
		return e.as(OutcomeAdd, finding.NewMember, a.UserName)
	}
}

func (e Entry) as(o Outcome, reason finding.Code, detail string) Entry {
	e.Outcome, e.Reason, e.Detail = o, reason, detail
	return e
}

func (c *comparison) excluded(m Member) (reason finding.Code, detail string) {
	switch {
	case m.Role == Preview:
		return finding.PreviewLearner, ""
	case !slices.Contains(c.policy.Roles, m.Role):
		return finding.RoleNotCarried, string(m.Role)
	case !m.Enabled:
		return finding.PersonDisabled, ""
	case m.SecondOf != "" && m.SecondOf != m.PersonID:
		if i, ok := slices.BinarySearchFunc(c.members, m.SecondOf, func(o Member, id string) int { return cmp.Compare(o.PersonID, id) }); ok {
			return finding.SecondAccount, c.members[i].Name()
		}
	}
	return "", ""
}

// leave is the outcome of somebody left out on purpose. If Kanban had put them
// into the target before, they are a leaver like any other.
func (c *comparison) leave(e Entry, a *Account, reason finding.Code, detail string) Entry {
	if a != nil && a.InTarget {
		if p, ours := c.placed[a.ID]; ours && p.PersonID == e.PersonID {
			return c.leaver(e, reason, detail)
		}
	}
	return e.as(OutcomeLeftOut, reason, detail)
}

func (c *comparison) leaver(e Entry, reason finding.Code, detail string) Entry {
	if c.policy.Leavers == LeaversKeep {
		return e.as(OutcomeLeftOut, finding.LeaverKept, detail)
	}
	e.Deactivate = c.policy.Leavers == LeaversDeactivate
	return e.as(OutcomeRemove, reason, detail)
}

func (c *comparison) unclear(m Member, found match) (reason finding.Code, detail string) {
	switch {
	case found.several > 0:
		return finding.TwoCandidates, string(found.key)
	case found.contested != "" && found.key == KeyEmail:
		return finding.AddressShared, found.contested
	case found.contested != "":
		return finding.AccountTaken, found.contested
	case found.account != nil && firm(found.key):
		return "", "" // known for sure: a poor address does no harm
	}
	key, err := AddressKey(m.Email)
	switch {
	case errors.Is(err, ErrNoAddress):
		if found.account != nil {
			return "", "" // recognised by user name; nothing has to be created
		}
		return finding.AddressMissing, ""
	case err != nil:
		return finding.AddressInvalid, m.Email
	case m.SharesAddressWith != "":
		return finding.AddressShared, m.SharesAddressWith
	case len(c.sharing[key]) > 1:
		return finding.AddressShared, otherName(c.sharing[key], m.Name())
	}
	return "", ""
}

func otherName(names []string, own string) string {
	for _, n := range names {
		if n != own {
			return n
		}
	}
	return own
}

// differs compares only what Kanban owns: accounts it made, recognised by the
// external id it wrote.
func (c *comparison) differs(m Member, a *Account) bool {
	return a.ExternalID != "" && a.ExternalID == m.Identifier && difference(m, a) != ""
}

func difference(m Member, a *Account) string {
	var parts []string
	if a.GivenName != m.GivenName || a.FamilyName != m.FamilyName {
		parts = append(parts, "name was "+strings.TrimSpace(a.GivenName+" "+a.FamilyName))
	}
	want, err := AddressKey(m.Email)
	if have, _ := AddressKey(a.Email); err == nil && have != want {
		parts = append(parts, "address was "+a.Email)
	}
	return strings.Join(parts, "; ")
}

// unclaimed lists the members of the target whom no person of the section claims.
func (c *comparison) unclaimed(claims map[string]match) []Entry {
	claimed := make(map[string]bool, len(claims))
	for _, found := range claims {
		if found.account != nil {
			claimed[found.account.ID] = true
		}
	}
	inSource := make(map[string]bool, len(c.members))
	for _, m := range c.members {
		inSource[m.PersonID] = true
	}
	var out []Entry
	for _, id := range slices.Sorted(maps.Keys(c.byID)) {
		a := c.byID[id]
		if !a.InTarget || claimed[id] {
			continue
		}
		name := strings.TrimSpace(a.GivenName + " " + a.FamilyName)
		if name == "" {
			name = a.UserName
		}
		e := Entry{AccountID: id, Name: name}
		p, ours := c.placed[id]
		switch {
		case ours && !inSource[p.PersonID]:
			// A second account of one leaver gets an entry of its own.
			inSource[p.PersonID] = true
			e.PersonID, e.Name = p.PersonID, cmp.Or(p.Name, name)
			out = append(out, c.leaver(e, finding.NoLongerEnrolled, ""))
		case ours || c.policy.OwnTarget:
			// Ours, but the person now has another account: the old one goes.
			out = append(out, c.leaver(e, finding.NotOurs, a.UserName))
		default:
			out = append(out, e.as(OutcomeLeftOut, finding.NotOurs, a.UserName))
		}
	}
	return out
}
