package permission

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func acts(grants ...Grant) string {
	var all []string
	for _, a := range Acts {
		if May(grants, a) {
			all = append(all, string(a))
		}
	}
	return strings.Join(all, " ")
}

func in(r Role, k ScopeKind, id string) Grant { return Grant{Role: r, Scope: Scope{Kind: k, ID: id}} }

// What each role may do is written down once more here, so that a change of the table is seen.
func TestWhatRolesMay(t *testing.T) {
	all := "anyone own look report acknowledge finish-tasks sync rosters recognise carry-scores learning rules badges " +
		"award send-reports view-as connect settings users"
	for role, want := range map[Role]string{
		Administrator: all,
		Operator: "anyone own look report acknowledge finish-tasks sync rosters recognise carry-scores learning rules " +
			"badges award send-reports view-as",
		Support: "anyone own look report acknowledge finish-tasks view-as",
		Reader:  "anyone own report",
		Awarder: "anyone own look award",
		"":      "anyone",
		"king":  "anyone",
	} {
		assert.Equal(t, want, acts(in(role, Institution, "")), role)
	}
	for role, want := range map[Role]string{ // in a part of the institution
		Administrator: "anyone own",
		Operator:      "anyone own look acknowledge finish-tasks sync rosters carry-scores award",
		Support:       "anyone own look acknowledge finish-tasks",
		Reader:        "anyone own",
		Awarder:       "anyone own look award",
		Teacher:       "anyone own look finish-tasks sync carry-scores",
		Learner:       "anyone own",
		"king":        "anyone",
	} {
		assert.Equal(t, want, acts(in(role, Section, "1")), role)
	}
	assert.Equal(t, "anyone", acts(), "who has no role")
	everything := Everywhere(Administrator)
	assert.False(t, May(everything, ""), "what declares no act is done by nobody")
	assert.False(t, May(everything, "fly"))
}

func TestWhere(t *testing.T) {
	grants := []Grant{
		in(Support, Institution, ""), in(Operator, Organisation, "o"), in(Teacher, Taught, "p"), in(Learner, Self, ""),
		{Role: Awarder, Scope: Scope{Kind: Section, ID: "s"}, Issuer: "i"},
	}
	where := func(a Act) any {
		scopes, all := Where(grants, a)
		if all {
			return "all"
		}
		return scopes
	}
	assert.Equal(t, "all", where(Look))
	assert.Equal(t, []Scope{{Organisation, "o"}, {Taught, "p"}}, where(Sync))
	assert.Equal(t, []Scope{{Organisation, "o"}}, where(Rosters))
	assert.Equal(t, []Scope{{Organisation, "o"}, {Section, "s"}}, where(Award))
	assert.Empty(t, where(Connect))
	assert.Empty(t, where("fly"))
	rights := Rights{Grants: grants}
	assert.Len(t, rights.ForIssuer("i").Grants, 5)
	assert.Len(t, rights.ForIssuer("other").Grants, 4, "awards of another issuer are not theirs")
}

func TestNobodyGivesMoreThanTheyHave(t *testing.T) {
	strength := []Role{Administrator, Operator, Support, Reader}
	for i, own := range strength {
		for j, given := range strength {
			may := Rights{Grants: Everywhere(own)}.MayGive(in(given, Institution, ""))
			assert.Equal(t, i <= j, may, "%s gives %s", own, given)
		}
	}
	admin := Rights{Grants: Everywhere(Administrator)}
	assert.False(t, admin.MayGive(in("king", Institution, "")))
	assert.False(t, admin.MayGive(in(Administrator, Section, "1")), "there are no administrators of a section")
	assert.False(t, admin.MayGive(in(Teacher, Taught, "1")), "teachers come from the register")
	assert.True(t, admin.MayGive(in(Operator, Organisation, "1")))
	assert.False(t, Rights{Grants: []Grant{in(Operator, Organisation, "1")}}.MayGive(in(Operator, Organisation, "1")),
		"what holds in a part is given by whoever has it everywhere")
	assert.False(t, Rights{}.MayGive(in(Reader, Institution, "")))
}

// A token held to a role allows what both allow.
func TestRightsHeldToLess(t *testing.T) {
	r := Rights{Grants: []Grant{in(Operator, Institution, ""), in(Teacher, Taught, "p")}, Limit: Everywhere(Support)}
	assert.True(t, r.May(Look) && r.Everywhere(Look))
	assert.False(t, r.May(Sync) || r.Everywhere(Sync) || r.May(Connect))
	r.Limit = []Grant{in(Operator, Section, "s")}
	assert.True(t, r.May(Sync))
	assert.False(t, r.Everywhere(Sync), "only in the section")
	assert.True(t, Rights{Grants: Everywhere(Operator)}.MayLimit(in(Support, Section, "s")))
	assert.False(t, Rights{Grants: Everywhere(Reader)}.MayLimit(in(Support, Section, "s")))
	assert.False(t, Rights{Grants: Everywhere(Administrator)}.MayLimit(in(Reader, Section, "s")), "there is none")
	assert.Equal(t, []ScopeKind{Institution}, ScopesOf(Reader))
	some := Reach{Sections: map[string]bool{"a": true, "b": true}}
	assert.Equal(t, []string{"b"}, some.And(Reach{Sections: map[string]bool{"b": true, "c": true}}).IDs())
	assert.Equal(t, some, some.And(Reach{All: true}))
	assert.Equal(t, some, Reach{All: true}.And(some))
}

// One more grant never takes anything away, and one in a part never allows more than the same everywhere.
func TestGrantsOnlyAdd(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		grant := rapid.Custom(func(t *rapid.T) Grant {
			return in(rapid.SampledFrom(Roles).Draw(t, "role"), rapid.SampledFrom([]ScopeKind{
				Institution, Organisation, Course, Section, Taught, Self,
			}).Draw(t, "scope"), rapid.SampledFrom([]string{"", "1", "2"}).Draw(t, "id"))
		})
		some, more := rapid.SliceOfN(grant, 0, 4).Draw(t, "some"), grant.Draw(t, "more")
		for _, a := range Acts {
			if May(some, a) {
				assert.True(t, May(append([]Grant{more}, some...), a))
			}
			if more.Allows(a) && a != Own {
				assert.True(t, in(more.Role, Institution, "").Allows(a), "%s %s", more.Role, a)
			}
			if scopes, all := Where(some, a); a != Anyone {
				assert.Equal(t, May(some, a), all || len(scopes) > 0)
			}
		}
	})
}

func TestReach(t *testing.T) {
	all, some, none := Reach{All: true}, Reach{Sections: map[string]bool{"a": true, "b": true}}, Reach{}
	assert.True(t, all.Covers("x") && all.CoversAny(nil) && all.CoversEach(nil))
	assert.True(t, some.Covers("a") && some.CoversAny([]string{"x", "b"}) && some.CoversEach([]string{"a", "b"}))
	assert.False(t, some.Covers("x") || some.CoversEach([]string{"a", "x"}))
	assert.False(t, some.CoversAny(nil) || some.CoversEach(nil), "what belongs to no section is the institution's")
	assert.False(t, none.Covers("a") || none.CoversAny([]string{"a"}) || none.CoversEach([]string{"a"}))
	assert.Equal(t, []string{"a", "b"}, some.IDs())
}
