package rule_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kanban/internal/core/rule"
)

func TestRulesThatSetEachOtherOff_E8(t *testing.T) {
	x := rule.NewExpressions()
	badges := map[string]string{"b1": "Cuttings", "b2": "Soil"}
	link := func(name string, trigger rule.Trigger, condition string, actions ...rule.Action) rule.Link {
		return rule.Link{Draft: rule.Draft{
			Name: name, Trigger: string(trigger), Condition: condition,
			Actions: actions,
		}, Badges: badges}
	}
	award := func(badge string) rule.Action { return rule.Action{Kind: rule.Award, BadgeID: badge} }
	a := link("a", rule.BadgeAwarded, `event.badge == "Cuttings"`, award("b2"))
	b := link("b", rule.BadgeAwarded, `event.badgeId == "b2" && person.email != ""`, award("b1"))
	c := link("c", rule.BadgeAwarded, `event.badge == "Roots"`, award("b1"))
	assert.Equal(t, []string{"a", "b", "a"}, x.Circle([]rule.Link{c, a, b}, 1))
	assert.Nil(t, x.Circle([]rule.Link{c, a, b}, 0), "nothing awards what c waits for")
	assert.Nil(t, x.Circle([]rule.Link{a, c}, 0))

	self := link("self", rule.SectionLeft, "", rule.Action{Kind: rule.Enrol})
	assert.Nil(t, x.Circle([]rule.Link{self}, 0), "being enrolled is not leaving")
	self.UndoneBy = []string{"section.joined"}
	assert.Equal(t, []string{"self", "self"}, x.Circle([]rule.Link{self}, 0), "what reverts it sets it off again")
	out := link("out", rule.SectionJoined, "", rule.Action{Kind: rule.Unenrol, SectionID: "s2"})
	out.Scope.Section = "s2"
	self.UndoneBy = nil
	assert.Equal(t, []string{"self", "out", "self"}, x.Circle([]rule.Link{self, out}, 0))
	self.Scope.Section = "s1"
	assert.Nil(t, x.Circle([]rule.Link{self, out}, 0), "they are about different sections")

	again := link("again", rule.SectionJoined, "", rule.Action{Kind: rule.Enrol, SectionID: "s9"})
	assert.Nil(t, x.Circle([]rule.Link{again}, 0), "whoever is in is not put in again")

	stage := rule.Link{
		Draft: rule.Draft{
			Name: "the stage", Trigger: "badge.awarded",
			Condition: `event.badgeId == "b1"`, Actions: []rule.Action{award("b2")},
		}, Badges: badges,
		Also: []rule.Trigger{rule.StageReached},
	}
	reached := link("reached", rule.StageReached, "", award("b1"))
	assert.Equal(t, []string{"reached", "the stage", "reached"}, x.Circle([]rule.Link{reached, stage}, 0))
}
