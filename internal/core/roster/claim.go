package roster

import (
	"cmp"
	"slices"
	"strings"
)

// index finds accounts by a value. Accounts with one value are a chain, so that
// an index costs one map and one list.
type index struct {
	first map[string]int32 // position in accounts, +1
	next  []int32
}

func newIndex(n int) index { return index{make(map[string]int32, n), make([]int32, n)} }

func (x *index) add(value string, i int) {
	if value != "" {
		x.next[i] = x.first[value]
		x.first[value] = int32(i) + 1
	}
}

// claim finds each person's account. An account that two people claim goes to
// neither, unless one of them holds it by a stored account or identifier.
func (c *comparison) claim() {
	for i := range c.people {
		p := &c.people[i]
		c.find(p)
		if p.account != nil {
			p.account.claims++
			p.account.claimed = p
		}
	}
	for i := range c.accounts {
		if c.accounts[i].claims > 1 {
			c.contest(&c.accounts[i])
		}
	}
}

func (c *comparison) contest(a *account) {
	var who []*person
	for i := range c.people {
		if c.people[i].account == a {
			who = append(who, &c.people[i])
		}
	}
	slices.SortStableFunc(who, func(a, b *person) int {
		return cmp.Or(cmp.Compare(rankOf(a.by), rankOf(b.by)), cmp.Compare(a.PersonID, b.PersonID))
	})
	best, second := who[0], who[1]
	for _, p := range who {
		switch {
		case p == best && firm(best.by) && !firm(second.by):
		case p == best:
			p.contested = second.Name()
		default:
			p.contested = best.Name()
		}
	}
}

func firm(k Key) bool { return k == KeyAccount || k == KeyIdentifier }

func rankOf(k Key) int {
	if firm(k) {
		return 0
	}
	return 1
}

// find looks for a person's account by one key after the other.
func (c *comparison) find(p *person) {
	if p.Chosen && c.byID.first[p.Account] != 0 {
		p.account, p.by = &c.accounts[c.byID.first[p.Account]-1], KeyAccount
		return
	}
	var found [8]int32
	for _, key := range c.matching.Keys {
		candidates := found[:0]
		switch key {
		case KeyAccount:
			candidates = c.collect(candidates, p, &c.byID, p.Account)
		case KeyIdentifier:
			candidates = c.collect(candidates, p, &c.byRegid, p.Identifier)
			for _, id := range p.UserIDs {
				candidates = c.collect(candidates, p, &c.byRegid, id)
			}
		case KeyEmail:
			candidates = c.collect(candidates, p, &c.byKey, p.key)
			candidates = c.collect(candidates, p, &c.byKey, p.older)
			if len(candidates) == 0 { // a first address counts for more than a further one
				candidates = c.collectOthers(candidates, p, p.key)
				candidates = c.collectOthers(candidates, p, p.older)
			}
		case KeyUserName:
			candidates = c.collect(candidates, p, &c.byName, strings.ToLower(strings.TrimSpace(p.UserName)))
		}
		switch len(candidates) {
		case 0:
			continue
		case 1:
			p.account, p.by = &c.accounts[candidates[0]], key
		default:
			p.by, p.several = key, len(candidates)
		}
		return
	}
}

// collect adds the accounts with a value, except those that a person said are
// not this one's.
func (c *comparison) collect(into []int32, p *person, x *index, value string) []int32 {
	if value == "" {
		return into
	}
	for at := x.first[value]; at != 0; at = x.next[at-1] {
		if !slices.Contains(into, at-1) && !slices.Contains(p.NotAccounts, c.accounts[at-1].ID) {
			into = append(into, at-1)
		}
	}
	return into
}

// collectOthers does the same with the addresses of accounts beside their first.
func (c *comparison) collectOthers(into []int32, p *person, key string) []int32 {
	if key == "" || len(c.otherOf) == 0 {
		return into
	}
	for at := c.byOther.first[key]; at != 0; at = c.byOther.next[at-1] {
		if i := c.otherOf[at-1]; !slices.Contains(into, i) && !slices.Contains(p.NotAccounts, c.accounts[i].ID) {
			into = append(into, i)
		}
	}
	return into
}
