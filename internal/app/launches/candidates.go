package launches

import (
	"cmp"
	"context"
	"slices"

	"kanban/internal/core/similarity"
	"kanban/internal/store/launchstore"
	"kanban/internal/store/rosterstore"
)

// Candidate is a section that a course page could be about, with what speaks for it. Nothing is decided by it.
type Candidate struct {
	Section rosterstore.Section
	Shared  int // who opened the page and is in the section
	Opened  int // who opened it and was recognised
	Similar int // how similar both are called, of 100
}

const (
	// mostCandidates is how many are proposed, and leastSimilar how similar two are called that share nobody.
	mostCandidates = 5
	leastSimilar   = 50
)

// Candidates proposes sections that a course page could be about: those in which most of the people are who opened it,
// and those that are called like it.
func (s *Service) Candidates(ctx context.Context, id string) ([]Candidate, error) {
	c, err := launchstore.FindCourse(ctx, s.Store, id)
	if err != nil {
		return nil, err
	}
	shared, err := launchstore.SharedWith(ctx, s.Store, id)
	if err != nil {
		return nil, err
	}
	of, opened := map[string]int{}, 0
	for _, x := range shared {
		of[x.SectionID], opened = x.Shared, x.Opened
	}
	sections, err := rosterstore.Sections(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	var all []Candidate
	now := s.Clock.Now()
	for _, x := range sections {
		if x.EndsOn != nil && x.EndsOn.Before(now) || x.Gone {
			continue
		}
		alike := max(similarity.Alike(x.Title, c.Title), similarity.Alike(x.Code, c.Label))
		one := Candidate{x, of[x.ID], opened, int(alike * 100)}
		if one.Shared > 0 || one.Similar >= leastSimilar {
			all = append(all, one)
		}
	}
	slices.SortStableFunc(all, func(a, b Candidate) int {
		return cmp.Or(cmp.Compare(b.weight(), a.weight()), cmp.Compare(a.Section.Title, b.Section.Title))
	})
	return all[:min(len(all), mostCandidates)], nil
}

// weight orders candidates: who is in it says more than what it is called.
func (c Candidate) weight() int {
	if c.Opened == 0 {
		return c.Similar
	}
	return 200*c.Shared/c.Opened + c.Similar
}
