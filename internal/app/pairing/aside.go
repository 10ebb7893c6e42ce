package pairing

import (
	"context"
	"slices"
	"strings"

	"kanban/internal/core/aside"
	"kanban/internal/core/refusal"
	"kanban/internal/store"
)

const asideSetting = "aside"

// Aside gives the rules that leave sections out of lists.
func (s *Service) Aside(ctx context.Context) (aside.Rules, error) {
	var rules aside.Rules
	ok, err := s.Store.Setting(ctx, asideSetting, &rules)
	if err != nil || ok {
		return rules, err
	}
	return aside.Default(), nil
}

// SetAside replaces them.
func (s *Service) SetAside(ctx context.Context, who string, rules aside.Rules) error {
	if err := rules.Check(); err != nil {
		return refusal.Invalid("rules", "%s", strings.ReplaceAll(err.Error(), "\n", "; "))
	}
	before, err := s.Aside(ctx)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.Set(ctx, asideSetting, rules); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "changed which sections are left aside", "sections", map[string]any{"before": before, "after": rules}); err != nil {
			return err
		}
		return tx.Announce(ctx, "section", "")
	})
}

// Everything is the choice of a Filter that leaves nothing aside.
const Everything = "*"

// LeftAside counts what one rule left out of a list.
type LeftAside struct {
	Name  string
	Count int
}

// List gives the cards that fit, without what the rules leave aside, and how much
// each rule left out of what would have fitted. With f.Aside only what that rule
// leaves aside is listed; with Everything, nothing is left out.
func (s *Service) List(ctx context.Context, f Filter) ([]Card, []LeftAside, error) {
	cards, err := s.Cards(ctx, Filter{})
	if err != nil {
		return nil, nil, err
	}
	rules, err := s.Aside(ctx)
	if err != nil {
		return nil, nil, err
	}
	at := s.Now()
	some := slices.ContainsFunc(cards, func(c Card) bool { return looked(c.Section).Runs(at) })
	counts := make([]LeftAside, len(rules))
	index := map[string]int{}
	for i, r := range rules {
		counts[i].Name, index[r.Name] = r.Name, i
	}
	kept := []Card{}
	for _, c := range cards {
		if !f.fits(c) {
			continue
		}
		name, left := rules.Of(looked(c.Section), at, some)
		if left {
			counts[index[name]].Count++
		}
		if f.Aside == Everything || f.Aside == name && left || f.Aside == "" && !left {
			kept = append(kept, c)
		}
	}
	return kept, counts, nil
}

func looked(x store.Section) aside.Section {
	return aside.Section{Title: x.Title, CourseCode: x.CourseCode, ClassType: x.ClassType, Learners: x.Learners, Begins: x.BeginsOn, Ends: x.EndsOn, Paired: x.PairingID != nil}
}
