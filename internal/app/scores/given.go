package scores

import (
	"context"
	"time"

	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
)

// Given says whose results somebody said they are.
type Given struct {
	Student    string // what the source calls them
	SourceItem string // only of this assignment of the source; "" for every one
	Assignment string // its title
	PersonID   string
	Person     string
	Section    string // in which they go on, for somebody who moved
	GivenBy    string
	GivenAt    time.Time
}

// Given lists whose results were said to be by hand.
func (s *Service) Given(ctx context.Context, linkID string) (list []Given, err error) {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return nil, err
	}
	w, err := s.world(ctx, l)
	if err != nil {
		return nil, err
	}
	owners, err := scorestore.Owners(ctx, s.Store, linkID)
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, o := range owners {
		ids = append(ids, o.PersonID)
	}
	people, err := rosterstore.PeopleByID(ctx, s.Store, ids)
	if err != nil {
		return nil, err
	}
	names := map[string]string{}
	for _, p := range people {
		names[p.ID] = p.Name()
	}
	for _, o := range owners {
		g := Given{
			Student: o.Student, SourceItem: o.SourceItem, PersonID: o.PersonID, Person: names[o.PersonID],
			GivenBy: o.GivenBy, GivenAt: o.GivenAt,
		}
		if o.SourceItem != "" {
			g.Assignment = w.source.items[o.SourceItem].Title
		}
		if o.SectionID != nil {
			in, _ := w.sectionOf(*o.SectionID)
			g.Section = in.Title
		}
		list = append(list, g)
	}
	return list, nil
}
