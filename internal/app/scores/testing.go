package scores

import (
	"context"

	"kanban/internal/core/grade"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
)

// CarryTest reads both sides of a score link and queues a run that carries the scores of a test learner, as though
// they were a learner's, and nobody else's. Where there is nothing to carry, why says so and the run has no id.
func (s *Service) CarryTest(ctx context.Context, who, linkID, personID string) (r runstore.Run, why string,
	err error,
) {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return r, "", err
	}
	if err := s.allowed(ctx, l); err != nil {
		return r, "", err
	}
	l.TestLearner = personID
	c, err := s.readSides(ctx, &l, 0, 0)
	if err != nil {
		return r, "", err
	}
	plan, err := s.kept(ctx, c)
	if err != nil {
		return r, "", err
	}
	var items []grade.ItemPlan
	writes, there := 0, 0
	for _, item := range plan.Items {
		var own []grade.Entry
		for _, e := range item.Entries {
			if e.Who == personID {
				own = append(own, e)
				if there++; e.Outcome.Writes() {
					writes++
				}
			}
		}
		if item.Entries = own; own != nil {
			items = append(items, item)
		}
	}
	plan.Items = items
	switch {
	case there == 0:
		return r, "the source has no score of the test learner: give them one there, then go on", nil
	case writes == 0:
		return r, nothing(plan), nil
	}
	p, err := s.keepPreview(ctx, c, plan, nil)
	if err != nil {
		return r, "", err
	}
	r, err = s.Start(ctx, who, p.ID, true)
	return r, "", err
}

// RevertTest queues a run that puts back what a run carried of a test learner.
func (s *Service) RevertTest(ctx context.Context, who, runID string) (runstore.Run, error) {
	p, err := s.Revert(ctx, runID)
	if err != nil {
		return runstore.Run{}, err
	}
	return s.Start(ctx, who, p.ID, true)
}
