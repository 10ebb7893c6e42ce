package observing

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"kanban/internal/core/learning"
	"kanban/internal/core/roster"
	"kanban/internal/store"
	"kanban/internal/wire/xapi"
)

// item is a statement with whom and what it is about.
type item struct {
	statement xapi.Statement
	body      json.RawMessage
	person    store.Person
	fact      learning.Fact
	places    []place
	note      string
}

// place is a section in which the activity counts for the person.
type place struct {
	store.Enrolled
	learning.Edition
}

// resolve finds out whom and what statements are about: all of them with a handful of
// queries.
func (s *Service) resolve(ctx context.Context, items []*item) error {
	verbs, err := s.verbTable(ctx)
	if err != nil {
		return err
	}
	var identifiers, keys, activities []string
	for _, x := range items {
		activities = append(activities, x.statement.Object.ID)
		if a := x.statement.Actor; a.Account != nil {
			identifiers = append(identifiers, a.Account.Name)
		} else if key, err := roster.AddressKey(a.Address()); err == nil {
			keys = append(keys, key)
		}
	}
	found, err := s.Store.Acquaint(ctx, distinct(identifiers), distinct(keys), distinct(activities))
	if err != nil {
		return err
	}
	for _, x := range items {
		x.note, x.places = "", nil
		if a := x.statement.Actor; a.Account != nil {
			x.person = found.ByIdentifier[a.Account.Name]
		} else if key, err := roster.AddressKey(a.Address()); err == nil {
			x.person = found.ByAddress[key]
		}
		kind := ""
		if x.statement.Object.Definition != nil {
			kind = x.statement.Object.Definition.Type
		}
		says, known := verbs.Meaning(x.statement.Verb.ID, kind)
		switch {
		case x.person.ID == "":
			x.note = "nobody is known by this actor"
		case !known:
			x.note = noSuchVerb
		default:
			x.fact = factOf(x.statement, says, s.now())
		}
	}
	placed, err := s.learn(ctx, items, found.Placed)
	if err != nil {
		return err
	}
	return s.resolvePlaces(ctx, items, placed)
}

func distinct(list []string) []string {
	slices.Sort(list)
	return slices.Compact(list)
}

// resolvePlaces finds the sections in which the statements count.
func (s *Service) resolvePlaces(ctx context.Context, items []*item, placed store.Placed) error {
	var people []string
	for _, x := range items {
		if x.note == "" {
			people = append(people, x.person.ID)
		}
	}
	if len(people) == 0 {
		return nil
	}
	byPerson := map[string][]store.Enrolled{}
	var outlines map[string]learning.Edition
	if wanted := slices.Sorted(maps.Keys(placed.Versions)); len(wanted) > 0 {
		enrolled, err := s.Store.SectionsOf(ctx, distinct(people), wanted)
		if err != nil {
			return err
		}
		for _, e := range enrolled {
			if n := len(byPerson[e.PersonID]); n > 0 && byPerson[e.PersonID][n-1].SectionID == e.SectionID {
				continue // in it with two roles
			}
			byPerson[e.PersonID] = append(byPerson[e.PersonID], e)
		}
		if outlines, err = s.editionsAt(ctx, placed.Versions); err != nil {
			return err
		}
	}
	for _, x := range items {
		if x.note != "" {
			continue
		}
		in := placed.Courses[x.statement.Object.ID]
		if len(in) == 0 {
			x.note = "the activity is in no outline"
			continue
		}
		for _, e := range byPerson[x.person.ID] {
			if o := outlines[e.CourseID]; o.Course != nil && slices.Contains(in, e.CourseID) {
				x.places = append(x.places, place{e, o})
			}
		}
		if len(x.places) == 0 {
			x.note = "the person is in no section of the activity's course"
		}
	}
	return nil
}

// mostAhead is how far the clock of a platform may run ahead; a statement from further
// in the future counts as of now.
const mostAhead = 24 * time.Hour

// factOf is what a statement says about its activity.
func factOf(st xapi.Statement, says learning.Verb, now time.Time) learning.Fact {
	fact := learning.Fact{ActivityID: st.Object.ID, Verb: says, At: st.Timestamp}
	if fact.At.IsZero() || fact.At.After(now.Add(mostAhead)) {
		fact.At = now
	}
	if r := st.Result; r != nil && r.Score != nil {
		fact.Score = scaled(*r.Score)
	}
	return fact
}

// scaled gives a score between -1 and 1: as reported, or worked out of the raw one and
// its bounds (xAPI 1.0.3 Data 2.4.5.1); nil when it cannot be told.
func scaled(s xapi.Score) *float64 {
	if s.Scaled != nil || s.Raw == nil || s.Max == nil {
		return s.Scaled
	}
	low := 0.0
	if s.Min != nil {
		low = *s.Min
	}
	if *s.Max <= low || *s.Raw < low || *s.Raw > *s.Max {
		return nil
	}
	v := (*s.Raw - low) / (*s.Max - low)
	return &v
}
