package stages

import (
	"context"

	"kanban/internal/store/stagestore"
)

// FindStagePlan finds one by id.
func (s *Service) FindStagePlan(ctx context.Context, id string) (stagestore.StagePlan, error) {
	return stagestore.FindStagePlan(ctx, s.Store, id)
}

// GroupOf counts the people of a stage plan, in one section if given.
func (s *Service) GroupOf(ctx context.Context, p stagestore.StagePlan, sectionID string) (stagestore.Group, error) {
	return stagestore.GroupOf(ctx, s.Store, p, sectionID)
}

// StagePlanPeople lists the people of a stage plan by name.
func (s *Service) StagePlanPeople(ctx context.Context, p stagestore.StagePlan,
	f stagestore.StagePlanFilter,
) ([]stagestore.StagePlanPerson, error) {
	return stagestore.StagePlanPeople(ctx, s.Store, p, f)
}

// StagePlans lists all, ordered by name.
func (s *Service) StagePlans(ctx context.Context) ([]stagestore.StagePlan, error) {
	return stagestore.StagePlans(ctx, s.Store)
}
