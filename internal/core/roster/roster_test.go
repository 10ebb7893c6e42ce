package roster_test

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
)

func member(id, email string) roster.Member {
	return roster.Member{
		PersonID: id, Role: roster.Student, GivenName: "Given" + id, FamilyName: "Family",
		Email: email, UserName: "user." + id, Identifier: "r-" + id, Enabled: true,
	}
}

func account(id, email string, in bool) roster.Account {
	return roster.Account{ID: id, UserName: "at." + id, Email: email, Active: true, InTarget: in}
}

func ExampleCompare() {
	source := roster.Source{Members: []roster.Member{member("1", "ana@fernmoor.example"), member("2", "")}}
	target := roster.Target{Accounts: []roster.Account{account("a", "ANA@fernmoor.example", true)}}
	for _, e := range roster.Compare(source, target, roster.DefaultPolicy(), roster.DefaultMatching()).Entries {
		fmt.Println(e.Name, e.Outcome, e.Reason)
	}
	// Output:
	// Given2 Family needs-person address-missing
	// Given1 Family in-step member-in-step
}

func TestEveryOutcomeHasItsReason_P2(t *testing.T) {
	hold := roster.DefaultPolicy()
	hold.Hold = true
	keep := roster.DefaultPolicy()
	keep.Leavers = roster.LeaversKeep
	own := roster.DefaultPolicy()
	own.OwnTarget = true
	with := func(m roster.Member, change func(*roster.Member)) roster.Member { change(&m); return m }
	ana := member("1", "ana@fernmoor.example")
	inactive := account("a", "ana@fernmoor.example", false)
	inactive.Active = false
	renamed := roster.Account{
		ID: "a", ExternalID: "r-1", Email: "ana@fernmoor.example", GivenName: "Anna",
		FamilyName: "Family", Active: true, InTarget: true,
	}

	later := with(ana, func(m *roster.Member) { m.Begins = new(time.Date(2027, 1, 8, 0, 0, 0, 0, time.UTC)) })
	for name, c := range map[string]struct {
		source  roster.Source
		target  []roster.Account
		policy  roster.Policy
		outcome roster.Outcome
		reason  finding.Code
	}{
		"in step": {
			roster.Source{Members: []roster.Member{ana}},
			[]roster.Account{account("a", "Ana@Fernmoor.Example ",
				true)},
			roster.DefaultPolicy(), roster.OutcomeInStep, finding.InStep,
		},
		"account only": {
			roster.Source{Members: []roster.Member{ana}},
			[]roster.Account{account("a", "ana@fernmoor.example",
				false)},
			roster.DefaultPolicy(), roster.OutcomeAdd, finding.NewMember,
		},
		"no account": {
			roster.Source{Members: []roster.Member{ana}},
			nil, roster.DefaultPolicy(),
			roster.OutcomeAdd, finding.NewAccount,
		},
		"not active": {
			roster.Source{Members: []roster.Member{ana}},
			[]roster.Account{inactive},
			roster.DefaultPolicy(), roster.OutcomeWaiting, finding.AccountInactive,
		},
		"renamed": {
			roster.Source{Members: []roster.Member{ana}},
			[]roster.Account{renamed},
			roster.DefaultPolicy(), roster.OutcomeUpdate, finding.DetailsDiffer,
		},
		"held": {
			roster.Source{Members: []roster.Member{ana}},
			nil, hold, roster.OutcomeWaiting,
			finding.HeldBack,
		},
		"teacher not held": {roster.Source{Members: []roster.Member{with(ana,
			func(m *roster.Member) { m.Role = roster.Teacher })}}, nil, hold, roster.OutcomeAdd, finding.NewAccount},
		"test learner": {roster.Source{Members: []roster.Member{with(ana,
			func(m *roster.Member) {
				m.Role = roster.TestLearner
			})}}, nil, roster.DefaultPolicy(), roster.OutcomeLeftOut, finding.TestLearner},
		"not begun": {
			roster.Source{Members: []roster.Member{later}},
			nil, roster.DefaultPolicy(),
			roster.OutcomeWaiting, finding.NotBegun,
		},
		"begins again": {roster.Source{
			Members: []roster.Member{later},
			Placed:  []roster.Placement{{PersonID: "1", AccountID: "a"}},
		}, []roster.Account{account("a", ana.Email,
			true)}, roster.DefaultPolicy(), roster.OutcomeRemove, finding.NotBegun},
		"begun and to come": {
			roster.Source{Members: []roster.Member{later, ana}},
			nil, roster.DefaultPolicy(),
			roster.OutcomeAdd, finding.NewAccount,
		},
		"role not carried": {roster.Source{Members: []roster.Member{with(ana,
			func(m *roster.Member) {
				m.Role = "proctor"
			})}}, nil, roster.DefaultPolicy(), roster.OutcomeLeftOut, finding.RoleNotCarried},
		"disabled": {roster.Source{Members: []roster.Member{with(ana,
			func(m *roster.Member) {
				m.Enabled = false
			})}}, nil, roster.DefaultPolicy(), roster.OutcomeLeftOut, finding.PersonDisabled},
		"no address": {
			roster.Source{Members: []roster.Member{member("1", "  ")}},
			nil,
			roster.DefaultPolicy(), roster.OutcomeNeedsPerson, finding.AddressMissing,
		},
		"bad address": {
			roster.Source{Members: []roster.Member{member("1", "ana at home")}},
			nil,
			roster.DefaultPolicy(), roster.OutcomeNeedsPerson, finding.AddressInvalid,
		},
		"shared elsewhere": {roster.Source{Members: []roster.Member{with(ana,
			func(m *roster.Member) {
				m.SharesAddressWith = "Bea"
			})}}, nil, roster.DefaultPolicy(), roster.OutcomeNeedsPerson, finding.AddressShared},
		"two accounts": {
			roster.Source{Members: []roster.Member{ana}},
			[]roster.Account{
				account("a", ana.Email, false),
				account("b", ana.Email,
					false),
			},
			roster.DefaultPolicy(), roster.OutcomeNeedsPerson, finding.TwoCandidates,
		},
		"leaver": {
			roster.Source{Placed: []roster.Placement{{
				PersonID: "9", AccountID: "a",
				Name: "Leo",
			}}},
			[]roster.Account{account("a", "leo@fernmoor.example", true)},
			roster.DefaultPolicy(),
			roster.OutcomeRemove, finding.NoLongerEnrolled,
		},
		"leaver kept": {
			roster.Source{Placed: []roster.Placement{{
				PersonID: "9", AccountID: "a",
				Name: "Leo",
			}}},
			[]roster.Account{account("a", "leo@fernmoor.example", true)},
			keep, roster.OutcomeLeftOut,
			finding.LeaverKept,
		},
		"somebody else's": {
			roster.Source{},
			[]roster.Account{account("a", "guest@fernmoor.example", true)},
			roster.DefaultPolicy(), roster.OutcomeLeftOut, finding.NotOurs,
		},
		"own the target": {
			roster.Source{},
			[]roster.Account{account("a", "guest@fernmoor.example", true)},
			own,
			roster.OutcomeRemove, finding.NotOurs,
		},
		"disabled but in it": {
			roster.Source{Members: []roster.Member{with(ana,
				func(m *roster.Member) { m.Enabled = false })}, Placed: []roster.Placement{{
				PersonID:  "1",
				AccountID: "a",
			}}},
			[]roster.Account{account("a", ana.Email, true)},
			roster.DefaultPolicy(),
			roster.OutcomeRemove, finding.PersonDisabled,
		},
	} {
		t.Run(name, func(t *testing.T) {
			plan := roster.Compare(c.source, roster.Target{Accounts: c.target}, c.policy, roster.DefaultMatching())
			require.Len(t, plan.Entries, 1)
			assert.Equal(t, c.outcome, plan.Entries[0].Outcome)
			assert.Equal(t, c.reason, plan.Entries[0].Reason)
		})
	}
}

func TestTwinsWithOneAddressNeedAPerson_P1(t *testing.T) {
	twins := roster.Source{Members: []roster.Member{
		member("1", "twins@fernmoor.example"),
		member("2", "Twins@Fernmoor.example"),
	}}
	for _, accounts := range [][]roster.Account{nil, {account("a", "twins@fernmoor.example", true)}} {
		plan := roster.Compare(twins, roster.Target{Accounts: accounts}, roster.DefaultPolicy(),
			roster.DefaultMatching())
		for _, e := range plan.Entries {
			assert.Equal(t, finding.AddressShared, e.Reason)
			assert.NotEqual(t, e.Name, e.Detail, "the detail names the other person")
		}
	}
	// A stored account settles whose it is; the other one still needs an address.
	twins.Members[0].Account = "a"
	plan := roster.Compare(twins, roster.Target{Accounts: []roster.Account{account("a", "twins@fernmoor.example",
		true)}}, roster.DefaultPolicy(), roster.DefaultMatching())
	assert.Equal(t, roster.Counts{roster.OutcomeInStep: 1, roster.OutcomeNeedsPerson: 1}, plan.Counts())
}

func TestSecondAccountIsLeftOut(t *testing.T) {
	first, second := member("1", "t@fernmoor.example"), member("2", "t.old@fernmoor.example")
	first.Role, second.Role, second.SecondOf = roster.Teacher, roster.Teacher, "1"
	plan := roster.Compare(roster.Source{Members: []roster.Member{second, first}}, roster.Target{},
		roster.DefaultPolicy(), roster.DefaultMatching())
	assert.Equal(t, roster.Counts{roster.OutcomeAdd: 1, roster.OutcomeLeftOut: 1}, plan.Counts())
}

func TestGuardStopsLargeRemovals_R5(t *testing.T) {
	for _, c := range []struct {
		placed, left int
		tripped      bool
	}{{20, 1, false}, {20, 4, false}, {20, 5, true}, {3, 1, false}, {100, 11, true}, {5, 5, true}} {
		var source roster.Source
		var target roster.Target
		for i := range c.placed {
			id := strconv.Itoa(i)
			target.Accounts = append(target.Accounts, account(id, id+"@fernmoor.example", true))
			source.Placed = append(source.Placed, roster.Placement{PersonID: id, AccountID: id})
			if i >= c.left {
				source.Members = append(source.Members, member(id, id+"@fernmoor.example"))
			}
		}
		removals, tripped := roster.Compare(source, target, roster.DefaultPolicy(),
			roster.DefaultMatching()).GuardTripped(roster.DefaultPolicy())
		assert.Equal(t, c.left, removals)
		assert.Equal(t, c.tripped, tripped, "%d of %d", c.left, c.placed)
	}
}

func TestMovedSaysWhatChanged(t *testing.T) {
	before := roster.Compare(roster.Source{Members: []roster.Member{
		member("1", ""),
		member("2", "b@fernmoor.example"),
	}}, roster.Target{}, roster.DefaultPolicy(), roster.DefaultMatching())
	after := roster.Compare(roster.Source{Members: []roster.Member{
		member("1", "a@fernmoor.example"),
		member("2", "b@fernmoor.example"),
	}}, roster.Target{}, roster.DefaultPolicy(), roster.DefaultMatching())
	assert.Equal(t, []roster.Move{{Name: "Given1 Family", Before: "needs-person", After: "to-add"}},
		roster.Moved(before, after))
	assert.NotEqual(t, before.Fingerprint, after.Fingerprint)
}

func TestAddressKey(t *testing.T) {
	for in, want := range map[string]string{
		" Ana@Fernmoor.Example ": "ana@fernmoor.example", `"ana"@fernmoor.example`: "ana@fernmoor.example",
		"ana@gärten.example": "ana@xn--grten-gra.example", "jose\u0301@f.example": "josé@f.example",
		"STRASSE@f.example": "strasse@f.example",
	} {
		got, err := roster.AddressKey(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, got)
	}
	for _, in := range []string{
		"", "  ", "ana", "ana@", "@x.example", "Ana <ana@x.example>", "<ana@x.example>",
		"a@b@c", "ana@nodots", "a..b@x.example", strings.Repeat("a", 65) + "@x.example",
	} {
		_, err := roster.AddressKey(in)
		assert.Error(t, err, in)
	}
}

func FuzzAddressKey(f *testing.F) {
	f.Add("Ana@Fernmoor.Example")
	f.Add(`"a b"@x.example`)
	f.Fuzz(func(t *testing.T, in string) {
		key, err := roster.AddressKey(in)
		if err == nil && !strings.Contains(key, "@") {
			t.Fatalf("%q gave %q", in, key)
		}
	})
}

// world draws a small institution in which keys collide often.
func world(t *rapid.T) (roster.Source, roster.Target, roster.Policy) {
	address := rapid.SampledFrom([]string{
		"", "bad", "a@f.example", "A@F.example", "b@f.example", "c@f.example",
		"d@f.example",
	})
	role := rapid.SampledFrom([]roster.Role{
		roster.Student, roster.Student, roster.Teacher, roster.TestLearner,
		"proctor",
	})
	id := rapid.SampledFrom([]string{"", "1", "2", "3", "4", "5", "6"})
	var s roster.Source
	for i := range rapid.IntRange(0, 6).Draw(t, "people") {
		m := member(strconv.Itoa(i), address.Draw(t, "address"))
		m.SwitchedOff = rapid.Bool().Draw(t, "switched off")
		m.Role, m.Enabled, m.Account, m.SecondOf = role.Draw(t, "role"), rapid.IntRange(0, 5).Draw(t,
			"on") > 0, id.Draw(t, "account"), id.Draw(t, "second")
		if rapid.IntRange(0, 4).Draw(t, "begun") == 0 {
			m.Begins = new(time.Date(2027, 1, rapid.IntRange(1, 3).Draw(t, "begins"), 0, 0, 0, 0, time.UTC))
		}
		s.Members = append(s.Members, m)
	}
	var target roster.Target
	for i := range rapid.IntRange(0, 6).Draw(t, "accounts") {
		a := account(strconv.Itoa(i), address.Draw(t, "address"), rapid.Bool().Draw(t, "in"))
		a.Active = rapid.IntRange(0, 3).Draw(t, "active") > 0
		if e := id.Draw(t, "external"); e != "" {
			a.ExternalID = "r-" + e
		}
		target.Accounts = append(target.Accounts, a)
		if rapid.Bool().Draw(t, "placed") {
			s.Placed = append(s.Placed, roster.Placement{PersonID: id.Draw(t, "placedID") + "x", AccountID: a.ID})
		}
	}
	p := roster.DefaultPolicy()
	p.Hold, p.OwnTarget = rapid.Bool().Draw(t, "hold"), rapid.Bool().Draw(t, "own")
	p.Leavers = rapid.SampledFrom([]roster.Leavers{
		roster.LeaversKeep, roster.LeaversRemove,
		roster.LeaversDeactivate,
	}).Draw(t, "leavers")
	return s, target, p
}

func TestOutcomesPartitionThePeople_P2(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, target, p := world(t)
		plan := roster.Compare(s, target, p, roster.DefaultMatching())
		seen, accounts := map[string]bool{}, map[string]bool{}
		for _, e := range plan.Entries {
			if seen[e.Key()] {
				t.Fatalf("%s stands twice", e.Key())
			}
			seen[e.Key()] = true
			if e.AccountID != "" && accounts[e.AccountID] && e.Outcome.Changes() {
				t.Fatalf("account %s is decided about twice", e.AccountID)
			}
			accounts[e.AccountID] = true
			if entry, ok := finding.Lookup(e.Reason); !ok ||
				(e.Outcome == roster.OutcomeNeedsPerson) != (entry.Severity == finding.Block) {
				t.Fatalf("%s is no reason for %s", e.Reason, e.Outcome)
			}
		}
		for _, m := range s.Members {
			if !seen[m.PersonID] {
				t.Fatalf("person %s is missing", m.PersonID)
			}
		}
		if plan.Counts().Total() != len(plan.Entries) {
			t.Fatal("counts do not add up")
		}
	})
}

func TestOrderDoesNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, target, p := world(t)
		want := roster.Compare(s, target, p, roster.DefaultMatching()).Fingerprint
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		r.Shuffle(len(s.Members), func(i, j int) { s.Members[i], s.Members[j] = s.Members[j], s.Members[i] })
		r.Shuffle(len(target.Accounts), func(i, j int) {
			target.Accounts[i], target.Accounts[j] = target.Accounts[j], target.Accounts[i]
		})
		if roster.Compare(s, target, p, roster.DefaultMatching()).Fingerprint != want {
			t.Fatal("another order gave another plan")
		}
	})
}

// apply does to the values what a service does when a plan is carried out.
func apply(plan roster.Plan, s *roster.Source, target *roster.Target) {
	index := map[string]int{}
	for i, a := range target.Accounts {
		index[a.ID] = i
	}
	for _, e := range plan.Entries {
		switch e.Outcome {
		case roster.OutcomeAdd, roster.OutcomeUpdate:
			i, ok := index[e.AccountID]
			if !ok {
				i = len(target.Accounts)
				target.Accounts = append(target.Accounts,
					roster.Account{
						ID: "new-" + e.PersonID, Active: true, UserName: e.Want.UserName,
						Email: e.Want.Email, ExternalID: e.Want.Identifier, GivenName: e.Want.GivenName,
						FamilyName: e.Want.FamilyName,
					})
			}
			a := &target.Accounts[i]
			a.InTarget, a.Active = true, a.Active || e.Activate
			if e.Outcome == roster.OutcomeUpdate {
				a.GivenName, a.FamilyName = e.Want.GivenName, e.Want.FamilyName
				if e.Want.Email != "" {
					a.Email = e.Want.Email
				}
			}
			for j := range s.Members {
				if s.Members[j].PersonID == e.PersonID {
					s.Members[j].Account = a.ID
				}
			}
			s.Placed = append(s.Placed, roster.Placement{PersonID: e.PersonID, AccountID: a.ID, Name: e.Name})
		case roster.OutcomeRemove:
			i := index[e.AccountID]
			target.Accounts[i].InTarget = false
			target.Accounts[i].Active = target.Accounts[i].Active && !e.Deactivate
		}
	}
}

func TestApplyingLeavesNothingToDo_R10(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, target, p := world(t)
		// One run may clear the way for another: an address that an account no
		// longer has is free for somebody else. So it takes a few, never many.
		for range len(s.Members) + 2 {
			apply(roster.Compare(s, target, p, roster.DefaultMatching()), &s, &target)
		}
		if last := roster.Compare(s, target, p, roster.DefaultMatching()); last.Counts().Changes() != 0 {
			t.Fatalf("still to do: %+v", last.Entries)
		}
	})
}

func pairingOf25() (source roster.Source, target roster.Target) {
	for i := range 25 {
		id := strconv.Itoa(i)
		source.Members = append(source.Members, member(id, id+"@fernmoor.example"))
		target.Accounts = append(target.Accounts, account(id, id+"@fernmoor.example", i%2 == 0))
	}
	return source, target
}

func BenchmarkCompare(b *testing.B) {
	source, target := pairingOf25()
	b.ReportAllocs()
	for b.Loop() {
		roster.Compare(source, target, roster.DefaultPolicy(), roster.DefaultMatching())
	}
}

// A large institution: 28,000 pairings of 25 people, on one core.
func BenchmarkCompareInstitution(b *testing.B) {
	source, target := pairingOf25()
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	for b.Loop() {
		for range 28_000 {
			roster.Compare(source, target, roster.DefaultPolicy(), roster.DefaultMatching())
		}
	}
}

// An account is found by any of its addresses; a first address counts for more.
func TestAccountsAreFoundByAnyAddress(t *testing.T) {
	ana := roster.Member{
		PersonID: "1", GivenName: "Ana", FamilyName: "Reyes", Email: "ana@x.example",
		Role: roster.Student, Enabled: true,
	}
	policy, matching := roster.Policy{Roles: []roster.Role{roster.Student}}, roster.DefaultMatching()
	home := roster.Account{
		ID: "a", Email: "home@y.example", Emails: []string{"home@y.example", "ana@x.example"},
		Active: true,
	}
	plan := roster.Compare(roster.Source{Members: []roster.Member{ana}},
		roster.Target{Accounts: []roster.Account{home}}, policy, matching)
	require.Len(t, plan.Entries, 1)
	assert.Equal(t, finding.NewMember, plan.Entries[0].Reason)
	assert.Equal(t, "a", plan.Entries[0].AccountID)
	first := roster.Account{ID: "b", Email: "ana@x.example", Emails: []string{"ana@x.example"}, Active: true}
	plan = roster.Compare(roster.Source{Members: []roster.Member{ana}},
		roster.Target{Accounts: []roster.Account{home, first}}, policy, matching)
	assert.Equal(t, "b", plan.Entries[0].AccountID)
}

// An account that carries one person's identifier and another's name and address is a
// conflict: nothing of it is written over, and nobody is put in through it.
func TestAccountOfTwoPeopleIsAConflict(t *testing.T) {
	ana := roster.Member{
		PersonID: "1", GivenName: "Ana", FamilyName: "Reyes", Email: "ana@x.example",
		Identifier: "s1", Role: roster.Student, Enabled: true,
	}
	bo := roster.Member{
		PersonID: "2", GivenName: "Bo", FamilyName: "Lind", Email: "bo@x.example", Identifier: "s2",
		Role: roster.Student, Enabled: true,
	}
	mixed := roster.Account{
		ID: "a", ExternalID: "s1", GivenName: "Bo", FamilyName: "Lind", Email: "bo@x.example",
		Active: true, InTarget: true,
	}
	plan := roster.Compare(roster.Source{Members: []roster.Member{ana, bo}},
		roster.Target{Accounts: []roster.Account{mixed}}, roster.Policy{Roles: []roster.Role{roster.Student}},
		roster.DefaultMatching())
	require.Len(t, plan.Entries, 2)
	for _, e := range plan.Entries {
		assert.Equal(t, roster.OutcomeNeedsPerson, e.Outcome, e.Name)
	}
	assert.Equal(t, finding.IdentityMixed, plan.Entries[0].Reason)
	assert.Equal(t, "Bo Lind", plan.Entries[0].Detail)
	// A new name or a new address of one person is an update, with what was and what will be.
	moved := mixed
	moved.GivenName, moved.FamilyName, moved.Email = "Ana", "Old", "old@x.example"
	plan = roster.Compare(roster.Source{Members: []roster.Member{ana}},
		roster.Target{Accounts: []roster.Account{moved}}, roster.Policy{Roles: []roster.Role{roster.Student}},
		roster.DefaultMatching())
	assert.Equal(t, "name Ana Old → Ana Reyes; address old@x.example → ana@x.example", plan.Entries[0].Detail)
}
