package stages

import (
	"context"

	"kanban/internal/core/refusal"
	"kanban/internal/core/stage"
	"kanban/internal/store/stagestore"
)

// CheckCriteria refuses criteria that belong to no plan and cannot be used; of is what they are of.
func (s *Service) CheckCriteria(ctx context.Context, field, of string, all []stage.Criterion) error {
	if err := stage.CheckAll(of, all); err != nil {
		return refusal.Invalid(field, "%v", err)
	}
	p := apart(all)
	w, err := s.words(ctx, []stagestore.StagePlan{p})
	if err != nil {
		return err
	}
	for _, c := range all {
		for leaf := range c.Leaves {
			if missing := w.missing(p, leaf); missing != "" {
				return refusal.Invalid(field, "%q asks for %s", of, missing)
			}
		}
	}
	return nil
}

// apart makes a plan of criteria that belong to none.
func apart(all []stage.Criterion) stagestore.StagePlan {
	return stagestore.StagePlan{Stages: []stage.Stage{{Criteria: all}}}
}

// Say puts criteria that belong to no plan into words.
func (s *Service) Say(ctx context.Context, all []stage.Criterion) ([]string, error) {
	if len(all) == 0 {
		return nil, nil
	}
	p := apart(all)
	w, err := s.words(ctx, []stagestore.StagePlan{p})
	out := make([]string, len(all))
	for i, c := range all {
		out[i] = w.says(p, c)
	}
	return out, err
}

// Standing says for each of some people which of the criteria that belong to no plan they meet, by person.
func (s *Service) Standing(ctx context.Context, all []stage.Criterion, people []string) (
	map[string][]CriterionProgress, error,
) {
	says, err := s.Say(ctx, all)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	p := apart(all)
	known, err := s.evidenceOf(ctx, s.Store, p, people)
	if err != nil {
		return nil, err
	}
	out := map[string][]CriterionProgress{}
	for _, id := range people {
		for i, c := range all {
			out[id] = append(out[id], CriterionProgress{Text: says[i], Met: p.Plan().Meets(c, known[id].Evidence)})
		}
	}
	return out, nil
}

// Unmet says for each of some people what they have not done of criteria that belong to no plan, by person.
func (s *Service) Unmet(ctx context.Context, all []stage.Criterion, people []string) (map[string][]string, error) {
	standing, err := s.Standing(ctx, all, people)
	out := map[string][]string{}
	for id, list := range standing {
		for _, c := range list {
			if !c.Met {
				out[id] = append(out[id], c.Text)
			}
		}
	}
	return out, err
}
