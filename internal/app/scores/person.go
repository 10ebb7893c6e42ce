package scores

import (
	"context"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
)

// OfPerson is a score of somebody, as both sides have it.
type OfPerson struct {
	LinkID, ItemID, Assignment, Section string
	// Given is at the source, InBook in the book.
	Given, InBook grade.Mark
	Outcome       grade.Outcome
	Reason        finding.Code
	// Elsewhere is the section in which they are now, where it is another one.
	Elsewhere string
	Page      string // where it is marked, "" when nobody has said
}

// OfPerson lists the scores of somebody in all sections in which they are or were, by what was read last.
func (s *Service) OfPerson(ctx context.Context, personID string) (list []OfPerson, err error) {
	if _, err := rosterstore.FindPerson(ctx, s.Store, personID); err != nil {
		return nil, err
	}
	places, err := rosterstore.WhereaboutsOf(ctx, s.Store, personID)
	if err != nil {
		return nil, err
	}
	var sections []string
	for _, p := range places {
		sections = append(sections, p.SectionID)
	}
	links, err := scorestore.LinksOf(ctx, s.Store, sections)
	if err != nil {
		return nil, err
	}
	for _, l := range links {
		c, err := s.compare(ctx, l)
		if err != nil {
			return nil, err
		}
		for _, row := range c.rows {
			e := c.plan.Item(row.ID).Entry(personID)
			if e == nil {
				continue
			}
			in, _ := c.sectionOf(row.SectionID)
			list = append(list, OfPerson{
				LinkID: l.ID, ItemID: row.ID, Assignment: c.titleOf(row), Section: in.Title, Given: e.Given,
				InBook:  e.Theirs,
				Outcome: e.Outcome, Reason: e.Reason, Elsewhere: e.Elsewhere,
				Page: adapter.Page(c.source.settings, "itemPage", map[string]string{"id": row.SourceItem}),
			})
		}
	}
	return list, nil
}
