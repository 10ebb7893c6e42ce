package rules

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"

	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/stagestore"
)

// Circle gives the names along a way on which what a rule does would set itself off again,
// with the other rules that are on and the stages; nil when there is none.
func (s *Service) Circle(ctx context.Context, r rulestore.Rule) ([]string, error) {
	on, err := rulestore.RulesOn(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	plans, err := stagestore.StagePlansOn(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	listed, err := badgestore.Badges(ctx, s.Store, nil)
	if err != nil {
		return nil, err
	}
	badges := map[string]string{}
	for _, b := range listed {
		badges[b.ID] = b.Name
	}
	links := []rule.Link{{Draft: r.Draft(), Badges: badges}}
	for _, other := range on {
		if other.ID != r.ID {
			links = append(links, rule.Link{Draft: other.Draft(), Badges: badges})
		}
	}
	for _, p := range plans {
		for _, one := range p.Stages {
			var asked []string
			for c := range (stage.Criterion{Kind: stage.All, Of: one.Criteria}).Leaves {
				if c.Kind == stage.Badge {
					asked = append(asked, "event.badgeId == "+strconv.Quote(c.BadgeID))
				}
			}
			if len(asked) == 0 {
				continue
			}
			l := rule.Link{Draft: rule.Draft{Name: fmt.Sprintf("the stage %s of %s", cmp.Or(one.Title, one.ID),
				p.Name), Trigger: string(rule.BadgeAwarded), Condition: strings.Join(asked,
				" || ")}, Badges: badges, Also: []rule.Trigger{rule.StageReached}}
			if one.BadgeID != "" {
				l.Actions = []rule.Action{{Kind: rule.Award, BadgeID: one.BadgeID}}
			}
			links = append(links, l)
		}
	}
	return s.Expressions.Circle(links, 0), nil
}

// Ends refuses a rule that would set itself off again.
func (s *Service) Ends(ctx context.Context, id string) error {
	r, err := rulestore.FindRule(ctx, s.Store, id)
	if err != nil || r.OnSince != nil {
		return err
	}
	way, err := s.Circle(ctx, r)
	if err != nil || way == nil {
		return err
	}
	return refusal.Conflict(finding.InACircle,
		"%q would set itself off again: %s. Change a condition on the way, or switch it on all the same", r.Name,
		strings.Join(way, " → "))
}
