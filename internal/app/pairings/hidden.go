package pairings

import (
	"context"
	"maps"
	"slices"
	"strings"

	"kanban/internal/core/refusal"
	"kanban/internal/core/visibility"
	"kanban/internal/store/db"
	"kanban/internal/store/settingstore"
)

const hidingSetting = "hiding-rules"

// HidingRules gives the rules that leave sections out of lists.
func (s *Service) HidingRules(ctx context.Context) (visibility.Rules, error) {
	var rules visibility.Rules
	ok, err := settingstore.FindSetting(ctx, s.Store, hidingSetting, &rules)
	if err != nil || ok {
		return rules, err
	}
	return visibility.Default(), nil
}

// SetHidingRules replaces them.
func (s *Service) SetHidingRules(ctx context.Context, who string, rules visibility.Rules) error {
	if err := rules.Check(); err != nil {
		return refusal.Invalid("rules", "%s", strings.ReplaceAll(err.Error(), "\n", "; "))
	}
	before, err := s.HidingRules(ctx)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := settingstore.SaveSetting(ctx, tx, hidingSetting, rules); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "changed which sections are hidden", "sections",
			map[string]any{"before": before, "after": rules}); err != nil {
			return err
		}
		return tx.Announce(ctx, "section", "")
	})
}

// Everything is the choice of a Filter that hides nothing.
const Everything = "*"

// HiddenCount counts what one rule left out of a list.
type HiddenCount struct {
	Name  string
	Count int
}

// Listing is a list of cards with what was left out of it.
type Listing struct {
	Cards   []Card
	Hidden  []HiddenCount
	Choices Choices
}

// Choices are the values by which a list can be narrowed, each ordered.
type Choices struct {
	Organisations, Courses, Terms, Teachers, Roles, Services []string
}

// List gives the cards that fit, without what the rules hide, and how much
// each rule left out of what would have fitted. With f.Hidden only what that rule
// hides is listed; with Everything, nothing is left out.
func (s *Service) List(ctx context.Context, f Filter) (Listing, error) {
	cards, rules, leftBy, err := s.judged(ctx)
	if err != nil {
		return Listing{}, err
	}
	cards = slices.DeleteFunc(cards, func(c Card) bool { return !f.reaches(c) })
	list := Listing{Cards: []Card{}, Hidden: make([]HiddenCount, len(rules)), Choices: choices(cards)}
	index := map[string]int{}
	for i, r := range rules {
		list.Hidden[i].Name, index[r.Name] = r.Name, i
	}
	for _, c := range cards {
		if !f.fits(c) {
			continue
		}
		name, left := leftBy(c)
		if left {
			list.Hidden[index[name]].Count++
		}
		if f.Hidden == Everything || f.Hidden == name && left || f.Hidden == "" && !left {
			list.Cards = append(list.Cards, c)
		}
	}
	return list, sorted(list.Cards, f.Sort)
}

// judged gives every card, and by which rule one is left out of lists.
func (s *Service) judged(ctx context.Context) ([]Card, visibility.Rules, func(Card) (string, bool), error) {
	cards, err := s.cards(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	rules, err := s.HidingRules(ctx)
	at := s.Clock.Now()
	some := slices.ContainsFunc(cards, func(c Card) bool { return looked(c).Runs(at) })
	return cards, rules, func(c Card) (string, bool) { return rules.Of(looked(c), at, some) }, err
}

// HiddenSections gives the sections that the rules leave out of lists.
func (s *Service) HiddenSections(ctx context.Context) (map[string]bool, error) {
	cards, _, leftBy, err := s.judged(ctx)
	left := map[string]bool{}
	for _, c := range cards {
		if _, yes := leftBy(c); yes {
			left[c.Section.ID] = true
		}
	}
	return left, err
}

func choices(cards []Card) Choices {
	var sets [6]map[string]bool
	for i := range sets {
		sets[i] = map[string]bool{}
	}
	for _, c := range cards {
		sets[0][c.Section.Org], sets[1][c.Section.Course], sets[5][c.Interface] = true, true, true
		for i, list := range [][]string{c.Section.Terms, c.Teachers, c.Roles} {
			for _, x := range list {
				sets[2+i][x] = true
			}
		}
	}
	sorted := func(set map[string]bool) []string {
		delete(set, "")
		list := slices.Sorted(maps.Keys(set))
		return append([]string{}, list...)
	}
	return Choices{
		sorted(sets[0]), sorted(sets[1]), sorted(sets[2]), sorted(sets[3]), sorted(sets[4]),
		sorted(sets[5]),
	}
}

func looked(c Card) visibility.Section {
	x := c.Section
	return visibility.Section{
		Title: c.Title(), CourseCode: x.CourseCode, ClassType: x.ClassType,
		Learners: c.Learners, Begins: x.BeginsOn, Ends: x.EndsOn, Paired: c.Pairing != nil || c.Set != nil,
	}
}
