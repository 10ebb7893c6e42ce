package scores

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/grade"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
)

// Unfinished is work of somebody that is not done: not handed in, not marked, or marked and not final.
type Unfinished struct {
	Assignment, Section string
	SectionID           string
	Teachers            []string
	Person, PersonID    string
	// State is draft, partly-marked, not-released, not-marked, missing or not-submitted.
	State string
	Score string     // what is entered, empty for nothing
	Since *time.Time // when that was entered
	Due   *time.Time
	Page  string // where it is marked
}

// Unfinished lists missing work and scores that are not final of a link, by what was read last. Of what the source has
// no result at all nothing is said: it may not have been given to everybody.
func (s *Service) Unfinished(ctx context.Context, linkID string) (list []Unfinished, err error) {
	l, err := scorestore.FindLink(ctx, s.Store, linkID)
	if err != nil {
		return nil, err
	}
	w, err := s.world(ctx, l)
	if err != nil {
		return nil, err
	}
	var people []string
	for _, x := range w.sortedItems() {
		in, _ := w.sectionOf(x.SectionID)
		item := w.source.items[x.SourceItem]
		if item.Gone || x.LeftOut != "" {
			continue
		}
		for _, r := range w.results(x, in) {
			state := unfinished(r)
			if state == "" || r.Elsewhere != "" {
				continue
			}
			u := Unfinished{
				Assignment: w.titleOf(x), Section: in.Title, SectionID: in.ID, Teachers: in.Teachers,
				Person: w.strange(r.Who),
				State:  state,
				Page:   adapter.Page(w.source.settings, "itemPage", map[string]string{"id": x.SourceItem}),
			}
			if r.Mark.Kind != grade.None {
				u.Score = r.Mark.String()
			}
			for into, at := range map[**time.Time]time.Time{&u.Since: r.Marked, &u.Due: item.Due} {
				if !at.IsZero() {
					*into = &at
				}
			}
			if Known(r.Who) {
				u.PersonID, people = r.Who, append(people, r.Who)
			}
			list = append(list, u)
		}
	}
	found, err := rosterstore.PeopleByID(ctx, s.Store, people)
	names := map[string]string{}
	for _, p := range found {
		names[p.ID] = p.Name()
	}
	for i := range list {
		list[i].Person = cmp.Or(names[list[i].PersonID], list[i].Person)
	}
	slices.SortStableFunc(list, func(a, b Unfinished) int {
		return cmp.Or(strings.Compare(a.Section, b.Section), strings.Compare(a.Assignment, b.Assignment),
			strings.Compare(a.Person, b.Person))
	})
	return list, err
}

// unfinished says in what way a result is not done; empty when it is.
func unfinished(r grade.Result) string {
	switch {
	case r.Deleted || r.NotGiven || r.Mark.Flags&grade.Exempt != 0:
		return ""
	case r.Mark.Flags&grade.Missing != 0:
		return "missing"
	case r.Mark.Flags&grade.NotSubmitted != 0:
		return "not-submitted"
	}
	switch r.Status {
	case grade.Draft:
		return "draft"
	case grade.Partly:
		return "partly-marked"
	case grade.Unreleased:
		return "not-released"
	case grade.Unmarked:
		return "not-marked"
	case grade.Final:
	}
	return ""
}
