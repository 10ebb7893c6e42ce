package roster_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
)

func one(t *testing.T, m roster.Member, accounts []roster.Account, matching roster.Matching) roster.Entry {
	t.Helper()
	plan := roster.Compare(roster.Source{Members: []roster.Member{m}}, roster.Target{Accounts: accounts},
		roster.DefaultPolicy(), matching)
	require.NotEmpty(t, plan.Entries)
	return plan.Entries[0]
}

// A new domain keeps one person one person, for those whom the rule names.
func TestDomainThatChanged_C7(t *testing.T) {
	rules := roster.DefaultMatching()
	rules.Domains = []roster.DomainRule{{From: "old.example", To: "new.example", Role: roster.Teacher}}
	teacher, learner := member("1", "Tea@Old.example"), member("1", "tea@old.example")
	teacher.Role = roster.Teacher
	moved, still := account("a", "tea@new.example", true), account("b", "tea@old.example", true)

	assert.Equal(t, finding.InStep, one(t, teacher, []roster.Account{moved}, rules).Reason, "under the new address")
	assert.Equal(t, finding.InStep, one(t, teacher, []roster.Account{still}, rules).Reason,
		"or still under the old one")
	assert.Equal(t, finding.TwoCandidates, one(t, teacher, []roster.Account{moved, still}, rules).Reason,
		"never a guess")
	assert.Equal(t, finding.NewAccount, one(t, learner, []roster.Account{moved}, rules).Reason,
		"the rule is for teachers")
	e := one(t, teacher, nil, rules)
	assert.Equal(t, "Tea@new.example", e.Want.Email, "what is written is the address of today")
	twins := roster.Source{Members: []roster.Member{
		teacher,
		func() roster.Member { m := member("2", "tea@new.example"); m.Role = roster.Teacher; return m }(),
	}}
	for _, e := range roster.Compare(twins, roster.Target{}, roster.DefaultPolicy(), rules).Entries {
		assert.Equal(t, finding.AddressShared, e.Reason, "two people must not become one by the rule")
	}
}

func TestPeopleLeftOutByName_P3(t *testing.T) {
	rules := roster.DefaultMatching()
	rules.Exclude = append(rules.Exclude,
		roster.Exclusion{Name: "Office accounts", Role: roster.Teacher, Email: "office.*@f.example"},
		roster.Exclusion{Name: "Guests", UserName: "guest-?"},
		roster.Exclusion{Name: "Annex", Organisation: "annex campus"})
	with := func(change func(*roster.Member)) roster.Member {
		m := member("1", "ana@f.example")
		change(&m)
		return m
	}
	for name, m := range map[string]roster.Member{
		"Office accounts": with(func(m *roster.Member) { m.Role, m.Email = roster.Teacher, " Office.Ana@F.example" }),
		"Guests":          with(func(m *roster.Member) { m.UserName = "GUEST-7" }),
		"Annex":           with(func(m *roster.Member) { m.Org, m.OrgName = "o2", "Annex Campus" }),
	} {
		e := one(t, m, nil, rules)
		assert.Equal(t, finding.LeftOutByRule, e.Reason)
		assert.Equal(t, roster.OutcomeLeftOut, e.Outcome)
		assert.Equal(t, name, e.Detail, "the rule's name is the reason")
	}
	student := with(func(m *roster.Member) { m.Email = "office.ana@f.example" })
	assert.Equal(t, finding.NewAccount, one(t, student, nil, rules).Reason, "all conditions of a rule must hold")
	rules.Exclude = nil
	preview := with(func(m *roster.Member) { m.Role = roster.TestLearner })
	assert.Equal(t, finding.RoleNotCarried, one(t, preview, nil, rules).Reason)
}

// What somebody said by hand comes before every key, and keeps two people apart.
func TestDecisionsByHand_P1(t *testing.T) {
	matching := roster.DefaultMatching()
	a, b := account("a", "ana@f.example", true), account("b", "ana@f.example", true)
	m := member("1", "ana@f.example")
	assert.Equal(t, finding.TwoCandidates, one(t, m, []roster.Account{a, b}, matching).Reason)
	m.NotAccounts = []string{"a"}
	assert.Equal(t, "b", one(t, m, []roster.Account{a, b}, matching).AccountID)
	m.NotAccounts, m.Account, m.Chosen = nil, "a", true
	matching.Keys = []roster.Key{roster.KeyEmail}
	plan := roster.Compare(roster.Source{Members: []roster.Member{m}},
		roster.Target{Accounts: []roster.Account{a, b}}, roster.DefaultPolicy(), matching)
	assert.Equal(t, roster.Counts{roster.OutcomeInStep: 1, roster.OutcomeLeftOut: 1}, plan.Counts())
}

func TestIdentifiersInOtherSystemsCount(t *testing.T) {
	m := member("1", "")
	m.UserIDs = []string{"77"}
	card := account("a", "", true)
	card.ExternalID = "77"
	assert.Equal(t, finding.InStep, one(t, m, []roster.Account{card}, roster.DefaultMatching()).Reason)
	other := account("b", "", true)
	other.ExternalID = m.Identifier
	assert.Equal(t, finding.TwoCandidates, one(t, m, []roster.Account{card, other}, roster.DefaultMatching()).Reason)
}

// An account that another pairing needs is never switched off.
func TestLeaverOfOnePairingOfTwoKeepsTheAccount_R5(t *testing.T) {
	policy := roster.DefaultPolicy()
	policy.Leavers = roster.LeaversDeactivate
	for _, elsewhere := range []bool{true, false} {
		source := roster.Source{Placed: []roster.Placement{{PersonID: "9", AccountID: "a", Elsewhere: elsewhere}}}
		plan := roster.Compare(source, roster.Target{Accounts: []roster.Account{account("a", "leo@f.example", true)}},
			policy, roster.DefaultMatching())
		require.Len(t, plan.Entries, 1)
		assert.Equal(t, roster.OutcomeRemove, plan.Entries[0].Outcome)
		assert.Equal(t, !elsewhere, plan.Entries[0].Deactivate)
	}
}

// Nobody is ever given an account that fits another person as well, or one of
// two that fit: by hand is the only way.
func TestMatchingNeverGuesses_P1(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, target, p := world(t)
		for i := range s.Members {
			s.Members[i].Account = ""
		}
		m := roster.DefaultMatching()
		m.Keys = []roster.Key{roster.KeyEmail}
		holders, owners := map[string]int{}, map[string]map[string]bool{}
		for _, a := range target.Accounts {
			if k, err := roster.AddressKey(a.Email); err == nil {
				holders[k]++
			}
		}
		address := map[string]string{}
		for _, x := range s.Members {
			k, err := roster.AddressKey(x.Email)
			if err != nil {
				continue
			}
			address[x.PersonID] = k
			if owners[k] == nil {
				owners[k] = map[string]bool{}
			}
			owners[k][x.PersonID] = true
		}
		for _, e := range roster.Compare(s, target, p, m).Entries {
			k, known := address[e.PersonID]
			if !known || e.AccountID == "" || e.Outcome == roster.OutcomeLeftOut {
				continue
			}
			if e.Reason != finding.NoLongerEnrolled && (holders[k] > 1 || len(owners[k]) > 1) {
				t.Fatalf("%s was given %s although %d accounts and %d people have %s", e.Name, e.AccountID,
					holders[k], len(owners[k]), k)
			}
		}
	})
}

func TestMatchingIsChecked(t *testing.T) {
	require.NoError(t, roster.DefaultMatching().Check())
	for want, change := range map[string]func(*roster.Matching){
		"must name at least one key": func(m *roster.Matching) { m.Keys = nil },
		`has "shoe-size"`:            func(m *roster.Matching) { m.Keys = []roster.Key{"shoe-size"} },
		"stands twice": func(m *roster.Matching) {
			m.Keys = []roster.Key{
				roster.KeyEmail,
				roster.KeyEmail,
			}
		},
		"domains[0].to": func(m *roster.Matching) {
			m.Domains = []roster.DomainRule{{
				From: "a.example",
				To:   "nodots",
			}}
		},
		"leads to itself": func(m *roster.Matching) {
			m.Domains = []roster.DomainRule{{
				From: "a.example",
				To:   "a.example",
			}}
		},
		"would leave out everybody": func(m *roster.Matching) { m.Exclude = []roster.Exclusion{{Name: "All"}} },
		"exclude[0].name is missing": func(m *roster.Matching) {
			m.Exclude = []roster.Exclusion{{Role: roster.Student}}
		},
		`exclude[0].email "[a" is no pattern`: func(m *roster.Matching) {
			m.Exclude = []roster.Exclusion{{
				Name:  "x",
				Email: "[a",
			}}
		},
	} {
		m := roster.DefaultMatching()
		change(&m)
		assert.ErrorContains(t, m.Check(), want)
	}
}
