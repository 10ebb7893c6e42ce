package web_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/rule"
	"kanban/internal/wire/api"
)

// What a rule's limit holds back is answered with the limit's number, and with when it goes on.
func TestWhyARuleWaits(t *testing.T) {
	x := &talk{open(t, nil), describe(t)}
	x.World.Read(x.Register(), false)
	r := x.Rule(rule.Draft{
		Name: "Greet", Trigger: string(rule.SectionJoined), Limit: rule.Limit{Most: 1, Per: "hour"},
		Actions: []rule.Action{{
			Kind: rule.SendEvent, InterfaceID: x.Contacts().ID,
			Fields: map[string]string{"email": "person.email", "label": `"x"`},
		}},
	})
	why := func(who string) api.Why {
		return get[api.Why](x, "/people/"+x.Person(who).ID+"/why?kind=rule&thing="+r.ID)
	}
	for _, who := range []string{"stu-001", "stu-002"} {
		x.Record(x.Joined(who, who, "PROP-A"))
	}
	x.Deliver()
	first, second := why("stu-001"), why("stu-002")
	if !first.Happened { // either may have been the one
		first, second = second, first
	}
	assert.True(t, first.Happened)
	require.NotEmpty(t, second.Steps)
	assert.Equal(t, "it waits: the rule's limit of 1 call an hour", second.Steps[len(second.Steps)-1].Found)
	assert.NotNil(t, second.AgainAt)
	require.Len(t, x.Standins.Contacts.Contacts(), 1)
}
