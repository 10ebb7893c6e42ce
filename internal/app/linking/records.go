package linking

import (
	"context"

	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
)

// FindSafetyCopy finds one by id.
func (s *Service) FindSafetyCopy(ctx context.Context, id string) (linkstore.SafetyCopy, error) {
	return linkstore.FindSafetyCopy(ctx, s.Store, id)
}

// LinkedSets lists the sets that are linked now, without their sections.
func (s *Service) LinkedSets(ctx context.Context) ([]linkstore.LinkedSet, error) {
	return linkstore.LinkedSets(ctx, s.Store)
}

// PairingsOfSections lists the pairings of sections that have not ended, whether
// they have run or not; those of a set count for each of its sections.
func (s *Service) PairingsOfSections(ctx context.Context, sectionIDs []string) ([]pairingstore.Pairing, error) {
	return linkstore.PairingsOfSections(ctx, s.Store, sectionIDs)
}

// SafetyCopies lists the copies that were kept when a set was linked and changed, the
// latest first, without what they hold.
func (s *Service) SafetyCopies(ctx context.Context, setID string) ([]linkstore.SafetyCopy, error) {
	return linkstore.SafetyCopies(ctx, s.Store, setID)
}

// UnlinkedSets lists the sets that were unlinked, the latest first, without their sections.
func (s *Service) UnlinkedSets(ctx context.Context) ([]linkstore.LinkedSet, error) {
	return linkstore.UnlinkedSets(ctx, s.Store)
}
