package scores

import (
	"context"

	"kanban/internal/core/grade"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
)

// Tested says what CarryTest did.
type Tested struct {
	RunID string // carries them; empty when there is nothing to carry
	There bool   // the book has the scores already
	Why   string // there is nothing to carry
}

// CarryTest reads both sides of a score link and queues a run that carries the scores of a test learner, as though
// they were a learner's, and nobody else's.
func (s *Service) CarryTest(ctx context.Context, who, linkID, personID string) (t Tested, err error) {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return t, err
	}
	if err := s.allowed(ctx, l); err != nil {
		return t, err
	}
	l.TestLearner = personID
	c, err := s.readSides(ctx, &l, 0, 0)
	if err != nil {
		return t, err
	}
	plan, err := s.kept(ctx, c)
	if err != nil {
		return t, err
	}
	var items []grade.ItemPlan
	writes, same, all := 0, 0, 0
	for _, item := range plan.Items {
		var own []grade.Entry
		for _, e := range item.Entries {
			if e.Who == personID {
				own = append(own, e)
				switch all++; {
				case e.Outcome.Writes():
					writes++
				case e.Outcome == grade.Unchanged:
					same++
				}
			}
		}
		if item.Entries = own; own != nil {
			items = append(items, item)
		}
	}
	plan.Items = items
	switch {
	case all == 0:
		return Tested{Why: "the source has no score of the test learner: give them one there, then go on"}, nil
	case same == all:
		return Tested{There: true, Why: "the book has what the source has"}, nil
	case writes == 0:
		return Tested{Why: nothing(plan)}, nil
	}
	p, err := s.keepPreview(ctx, c, plan, nil)
	if err != nil {
		return t, err
	}
	r, err := s.Start(ctx, who, p.ID, true)
	return Tested{RunID: r.ID}, err
}

// RevertTest queues a run that puts back what a run carried of a test learner.
func (s *Service) RevertTest(ctx context.Context, who, runID string) (runstore.Run, error) {
	p, err := s.Revert(ctx, runID)
	if err != nil {
		return runstore.Run{}, err
	}
	return s.Start(ctx, who, p.ID, true)
}
