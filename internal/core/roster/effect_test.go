package roster_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kanban/internal/core/roster"
)

func ExamplePlan_Effects() {
	source := roster.Source{Placed: []roster.Placement{{PersonID: "ada", AccountID: "u1", Name: "Ada Alder"}}}
	target := roster.Target{Accounts: []roster.Account{{
		ID: "u1", GivenName: "Ada", FamilyName: "Alder", Active: true,
		InTarget: true,
	}}}
	plan := roster.Compare(source, target, roster.DefaultPolicy(), roster.Matching{})
	for _, ends := range []bool{false, true} {
		for _, f := range plan.Effects(target, ends) {
			fmt.Println(f.Name, f.Effect)
		}
	}
	// Output:
	// Ada Alder removed
	// Ada Alder stays
}

// Whoever is in the target stays or comes out, whoever is not goes in or stays out; when
// nothing is done any more nobody moves.
func TestEffectsFollowTheTarget(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, target, policy := world(t)
		plan := roster.Compare(s, target, policy, roster.Matching{})
		in := map[string]bool{}
		for _, a := range target.Accounts {
			in[a.ID] = in[a.ID] || a.InTarget
		}
		for _, f := range plan.Effects(target, true) {
			assert.Equal(t, in[f.AccountID], f.Effect == roster.Stays, "%v", f)
			assert.Contains(t, []roster.Effect{roster.Stays, roster.NotAdded}, f.Effect)
		}
		moves := 0
		for _, f := range plan.Effects(target, false) {
			assert.Equal(t, in[f.AccountID], f.Effect == roster.Stays || f.Effect == roster.Removed, "%v", f)
			if f.Effect == roster.Removed || f.Effect == roster.Added {
				moves++
			}
		}
		counts := plan.Counts()
		assert.LessOrEqual(t, moves, counts[roster.OutcomeAdd]+counts[roster.OutcomeRemove])
		assert.Len(t, plan.Effects(target, false), len(plan.Entries))
	})
}
