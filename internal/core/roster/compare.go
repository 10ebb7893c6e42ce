package roster

import (
	"cmp"
	"errors"
	"slices"
	"strings"

	"kanban/internal/core/finding"
)

// Compare works out what has to happen so that the target holds the people of
// the section. The plan has exactly one entry per person in source ∪ target
// members; applying it and comparing again yields no change.
func Compare(source Source, target Target, policy Policy, matching Matching) Plan {
	c := newComparison(source, target, policy, matching)
	c.claim()
	entries := make([]Entry, 0, len(c.people)+4)
	for i := range c.people {
		entries = append(entries, c.decide(&c.people[i]))
	}
	return newPlan(c.unclaimed(entries))
}

// person is one member of the section with what is found out about them.
type person struct {
	*Member
	groups  []string // the sections of a linked set that this person is in, ordered
	address string   // as it is today, see Matching.Address
	key     string   // of that address, empty when there is none
	problem error    // why there is no key
	older   string   // key of the register's own address, when it is another one

	account   *account
	by        Key    // which key found it
	several   int    // more than one account under that key: how many
	contested string // another person with an equal or better claim
}

// account is one account with its comparison key.
type account struct {
	Account
	key     string
	others  []string // keys of its other addresses
	claims  int32    // people who claim it
	claimed *person
}

type comparison struct {
	takesOver bool
	policy    Policy
	matching  Matching
	people    []person // one per person, ordered by PersonID
	accounts  []account
	placed    map[string]*Placement
	grouped   map[Grouping]bool
	others    map[string]Other
	byID      index
	byName    index
	byRegid   index
	byKey     index
	byOther   index            // addresses beside the first, by position in otherOf
	otherOf   []int32          // the account of each
	sharing   map[string]int32 // address key → one person who has it, +1; negative when several do
}

func newComparison(source Source, target Target, policy Policy, matching Matching) *comparison {
	n := len(target.Accounts)
	c := &comparison{
		policy: policy, matching: matching, takesOver: source.TakesOver, others: source.Others,
		people: onePerPerson(source.Members, policy.Roles), accounts: make([]account, 0, n),
		placed: make(map[string]*Placement, len(source.Placed)),
		byID:   newIndex(n), byName: newIndex(n), byRegid: newIndex(n), byKey: newIndex(n),
		sharing: make(map[string]int32, len(source.Members)),
		grouped: make(map[Grouping]bool, len(source.Grouped)),
	}
	for _, g := range source.Grouped {
		c.grouped[g] = true
	}
	for i := range source.Placed {
		c.placed[source.Placed[i].AccountID] = &source.Placed[i]
	}
	for _, a := range target.Accounts {
		if c.byID.first[a.ID] != 0 {
			continue // a service that lists an account on two pages
		}
		i := len(c.accounts)
		key, _ := AddressKey(a.Email)
		var others []string
		for _, e := range a.Emails {
			if k, err := AddressKey(e); err == nil && k != key && !slices.Contains(others, k) {
				others = append(others, k)
			}
		}
		c.accounts = append(c.accounts, account{Account: a, key: key, others: others})
		c.byID.add(a.ID, i)
		c.byRegid.add(a.ExternalID, i)
		c.byName.add(strings.ToLower(strings.TrimSpace(a.UserName)), i)
		c.byKey.add(key, i)
	}
	c.addOthers()
	for i := range c.people {
		p := &c.people[i]
		p.address = matching.Address(p.Email, p.Role)
		if p.key, p.problem = AddressKey(p.address); p.problem == nil && p.address != strings.TrimSpace(p.Email) {
			p.older, _ = AddressKey(p.Email)
		}
		if p.key == "" {
			continue
		}
		if c.sharing[p.key] == 0 {
			c.sharing[p.key] = int32(i) + 1
		} else {
			c.sharing[p.key] = -1
		}
	}
	return c
}

// addOthers lets accounts be found by their other addresses too.
func (c *comparison) addOthers() {
	var at []int32
	var keys []string
	for i := range c.accounts {
		for _, k := range c.accounts[i].others {
			at, keys = append(at, int32(i)), append(keys, k)
		}
	}
	if len(keys) == 0 {
		return
	}
	c.otherOf, c.byOther = at, newIndex(len(keys))
	for i, k := range keys {
		c.byOther.add(k, i)
	}
}

// onePerPerson folds several enrolments of one person into one; a teacher's
// role wins over any other. The result is ordered by PersonID. Groups count in
// which the person has one of the roles.
func onePerPerson(members []Member, roles []Role) []person {
	sorted := make([]*Member, len(members))
	for i := range members {
		sorted[i] = &members[i]
	}
	slices.SortStableFunc(sorted, func(a, b *Member) int {
		if c := strings.Compare(a.PersonID, b.PersonID); c != 0 {
			return c
		}
		if a.Begins == nil != (b.Begins == nil) { // what has begun counts
			if a.Begins == nil {
				return -1
			}
			return 1
		}
		if a.Begins != nil && !a.Begins.Equal(*b.Begins) {
			return a.Begins.Compare(*b.Begins)
		}
		return cmp.Or(cmp.Compare(rank(a.Role), rank(b.Role)), cmp.Compare(a.Role, b.Role))
	})
	people := make([]person, 0, len(sorted))
	for _, m := range sorted {
		last := len(people) - 1
		if last < 0 || people[last].PersonID != m.PersonID {
			people = append(people, person{Member: m})
			last++
		}
		if p := &people[last]; m.Group != "" && m.Begins == nil && slices.Contains(roles, m.Role) &&
			!slices.Contains(p.groups, m.Group) {
			p.groups = append(p.groups, m.Group)
		}
	}
	for i := range people {
		slices.Sort(people[i].groups)
	}
	return people
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

// decide gives one person their outcome. The order of the questions is the
// order of precedence: left out on purpose, in need of a person, waiting, work.
func (c *comparison) decide(p *person) Entry {
	e := Entry{PersonID: p.PersonID, Name: p.Name(), Role: p.Role}
	if p.account != nil {
		e.AccountID = p.account.ID
	}
	if reason, detail := c.excluded(p); reason != "" {
		return c.leave(e, p.account, reason, detail)
	}
	if p.Begins != nil {
		return c.notBegun(e, p)
	}
	if reason, detail := c.unclear(p); reason != "" {
		e.AccountID = ""
		return e.as(OutcomeNeedsPerson, reason, detail)
	}
	held := c.policy.Hold && p.Role != Teacher
	switch a := p.account; {
	case a == nil && held:
		return e.as(OutcomeWaiting, finding.HeldBack, "")
	case a == nil:
		e.Want, e.Join = p.want(), p.groups
		return e.as(OutcomeAdd, finding.NewAccount, "")
	case !a.Active && p.SwitchedOff && a.ID == p.Account && !held:
		e.Want, e.Activate = p.want(), true
		e.Join, e.Quit = c.regroup(p, a)
		return e.as(OutcomeAdd, finding.AccountReturns, a.UserName)
	case !a.Active && !(p.SwitchedOff && a.ID == p.Account):
		return e.as(OutcomeWaiting, finding.AccountInactive, a.UserName)
	case a.InTarget && ours(p, a) && difference(p, a) != "":
		e.Want, e.Was = p.want(), was(a)
		e.Join, e.Quit = c.regroup(p, a)
		e.TakeOver = c.takes(a)
		return e.as(OutcomeUpdate, finding.DetailsDiffer, difference(p, a))
	case a.InTarget:
		e.TakeOver = c.takes(a)
		if e.Join, e.Quit = c.regroup(p, a); len(e.Join)+len(e.Quit) > 0 {
			return e.as(OutcomeUpdate, finding.GroupDiffers, "")
		}
		if e.TakeOver {
			return e.as(OutcomeInStep, finding.TakenOver, "")
		}
		return e.as(OutcomeInStep, finding.InStep, "")
	case held:
		return e.as(OutcomeWaiting, finding.HeldBack, "")
	default:
		e.Want = p.want()
		e.Join, e.Quit = c.regroup(p, a)
		return e.as(OutcomeAdd, finding.NewMember, a.UserName)
	}
}

// takes reports whether the place of an account in the target becomes Kanban's to mind.
func (c *comparison) takes(a *account) bool { return c.takesOver && c.placed[a.ID] == nil }

// notBegun lets somebody wait whose enrolment has not begun. Whom Kanban put into the target
// for an earlier one leaves it until then.
func (c *comparison) notBegun(e Entry, p *person) Entry {
	detail := "begins on " + p.Begins.Format("2 January 2006")
	if reason, _ := c.unclear(p); reason != "" { // whose account that is shows when it matters
		e.AccountID = ""
		return e.as(OutcomeWaiting, finding.NotBegun, detail)
	}
	if a := p.account; a != nil && a.InTarget {
		if placed := c.placed[a.ID]; placed != nil && placed.PersonID == e.PersonID {
			return c.leaver(e, a, placed, finding.NotBegun, detail)
		}
	}
	return e.as(OutcomeWaiting, finding.NotBegun, detail)
}

// regroup says into which groups of the target an account has to go, and out of
// which: only those into which Kanban put it, unless the policy owns the target.
func (c *comparison) regroup(p *person, a *account) (join, quit []string) {
	for _, g := range p.groups {
		if !slices.Contains(a.Groups, g) {
			join = append(join, g)
		}
	}
	return join, c.outOf(a, p.groups)
}

// outOf lists the groups that an account has to leave, other than those to keep.
func (c *comparison) outOf(a *account, keep []string) (quit []string) {
	for _, g := range a.Groups {
		if !slices.Contains(keep, g) && !slices.Contains(quit, g) &&
			(c.policy.OwnTarget || c.grouped[Grouping{a.ID, g}]) {
			quit = append(quit, g)
		}
	}
	slices.Sort(quit)
	return quit
}

func (p *person) want() Wanted {
	return Wanted{p.GivenName, p.FamilyName, p.address, p.UserName, p.Identifier}
}

func was(a *account) Wanted {
	return Wanted{
		GivenName: a.GivenName, FamilyName: a.FamilyName, Email: a.Email, UserName: a.UserName,
		Identifier: a.ExternalID,
	}
}

func (e Entry) as(o Outcome, reason finding.Code, detail string) Entry {
	e.Outcome, e.Reason, e.Detail = o, reason, detail
	return e
}

func (c *comparison) excluded(p *person) (reason finding.Code, detail string) {
	first := ""
	if p.SecondOf != "" && p.SecondOf != p.PersonID {
		if i, ok := slices.BinarySearchFunc(c.people, p.SecondOf,
			func(o person, id string) int { return cmp.Compare(o.PersonID, id) }); ok {
			first = c.people[i].Name()
		}
	}
	if rule, ok := c.matching.Excludes(*p.Member, first != ""); ok {
		switch {
		case rule.TestLearners:
			return finding.TestLearner, ""
		case rule.SecondAccounts:
			return finding.SecondAccount, first
		}
		return finding.LeftOutByRule, rule.Name
	}
	switch {
	case !slices.Contains(c.policy.Roles, p.Role):
		return finding.RoleNotCarried, string(p.Role)
	case !p.Enabled:
		return finding.PersonDisabled, ""
	}
	return "", ""
}

// leave is the outcome of somebody left out on purpose. If Kanban had put them
// into the target before, they are a leaver like any other.
func (c *comparison) leave(e Entry, a *account, reason finding.Code, detail string) Entry {
	if a != nil && a.InTarget {
		if p := c.placed[a.ID]; p != nil && p.PersonID == e.PersonID {
			return c.leaver(e, a, p, reason, detail)
		}
	}
	return e.as(OutcomeLeftOut, reason, detail)
}

func (c *comparison) leaver(e Entry, a *account, placed *Placement, reason finding.Code, detail string) Entry {
	if c.policy.Leavers == LeaversKeep {
		return e.as(OutcomeLeftOut, finding.LeaverKept, detail)
	}
	// Somebody whom another pairing needs keeps the account.
	e.Was, e.Quit = was(a), c.outOf(a, nil)
	e.Deactivate = c.policy.Leavers == LeaversDeactivate && (placed == nil || !placed.Elsewhere)
	return e.as(OutcomeRemove, reason, detail)
}

func (c *comparison) unclear(p *person) (reason finding.Code, detail string) {
	if p.account != nil && p.by == KeyIdentifier {
		if other := c.mixed(p, p.account); other != "" {
			return finding.IdentityMixed, other
		}
	}
	switch {
	case p.several > 0:
		return finding.TwoCandidates, string(p.by)
	case p.contested != "" && p.by == KeyEmail:
		return finding.AddressShared, p.contested
	case p.contested != "":
		return finding.AccountTaken, p.contested
	case p.account != nil && firm(p.by):
		return "", "" // known for sure: a poor address does no harm
	}
	switch {
	case errors.Is(p.problem, ErrNoAddress):
		if p.account != nil {
			return "", "" // recognised by user name; nothing has to be created
		}
		return finding.AddressMissing, ""
	case p.problem != nil:
		return finding.AddressInvalid, p.Email
	case p.SharesAddressWith != "":
		return finding.AddressShared, p.SharesAddressWith
	case c.sharing[p.key] < 0:
		return finding.AddressShared, c.sharer(p)
	}
	return "", ""
}

// sharer names another person of the section with the same address.
func (c *comparison) sharer(p *person) string {
	for i := range c.people {
		if o := &c.people[i]; o != p && o.key == p.key && o.Name() != p.Name() {
			return o.Name()
		}
	}
	return p.Name()
}

// ours reports whether Kanban made the account: it carries the identifier that
// Kanban writes. Only such accounts are ever changed.
func ours(p *person, a *account) bool { return a.ExternalID != "" && a.ExternalID == p.Identifier }

// difference says what an account has that the register does not.
func difference(p *person, a *account) string {
	var parts []string
	if a.GivenName != p.GivenName || a.FamilyName != p.FamilyName {
		parts = append(parts, "name "+strings.TrimSpace(a.GivenName+" "+a.FamilyName)+" → "+p.Name())
	}
	if p.problem == nil && a.key != p.key && !slices.Contains(a.others, p.key) {
		parts = append(parts, "address "+cmp.Or(a.Email, "none")+" → "+p.address)
	}
	return strings.Join(parts, "; ")
}

// mixed says whose name and address an account carries beside somebody else's identifier;
// empty when it is one person's. Nothing of it is written over: one of the two has to be
// set right at the service.
func (c *comparison) mixed(p *person, a *account) string {
	if !ours(p, a) || p.problem != nil || a.key == "" || a.key == p.key || slices.Contains(a.others, p.key) ||
		a.GivenName == p.GivenName || a.FamilyName == p.FamilyName {
		return ""
	}
	if at := c.sharing[a.key]; at > 0 {
		return c.people[at-1].Name()
	}
	return strings.TrimSpace(a.GivenName + " " + a.FamilyName + " " + a.Email)
}

// unclaimed adds the members of the target whom no person of the section claims.
func (c *comparison) unclaimed(entries []Entry) []Entry {
	var left []*account
	for i := range c.accounts {
		if a := &c.accounts[i]; a.InTarget && a.claims == 0 {
			left = append(left, a)
		}
	}
	if len(left) == 0 {
		return entries
	}
	slices.SortFunc(left, func(a, b *account) int { return cmp.Compare(a.ID, b.ID) })
	listed := make(map[string]bool, len(c.people))
	for i := range c.people {
		listed[c.people[i].PersonID] = true
	}
	for _, a := range left {
		e := Entry{AccountID: a.ID, Name: cmp.Or(strings.TrimSpace(a.GivenName+" "+a.FamilyName), a.UserName)}
		p := c.placed[a.ID]
		switch {
		case p != nil && !listed[p.PersonID]:
			// A second account of one leaver gets an entry of its own.
			listed[p.PersonID] = true
			e.PersonID, e.Name = p.PersonID, cmp.Or(p.Name, e.Name)
			entries = append(entries, c.leaver(e, a, p, finding.NoLongerEnrolled, ""))
		case p != nil || c.policy.OwnTarget:
			// Ours, but the person now has another account: the old one goes.
			entries = append(entries, c.leaver(e, a, p, finding.NotOurs, a.UserName))
		default:
			if o, ok := c.others[a.ID]; ok && !listed[o.PersonID] {
				listed[o.PersonID] = true
				e.PersonID, e.Name = o.PersonID, o.Name
				entries = append(entries, e.as(OutcomeLeftOut, finding.OtherSection, strings.Join(o.Sections, ", ")))
				continue
			}
			entries = append(entries, e.as(OutcomeLeftOut, finding.NotOurs, a.UserName))
		}
	}
	return entries
}
