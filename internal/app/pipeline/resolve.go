package pipeline

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/learning"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/xapi"
)

// item is a statement with whom and what it is about.
type item struct {
	statement xapi.Statement
	from      string // the interface
	body      json.RawMessage
	person    rosterstore.Person
	fact      learning.Fact
	places    []membership
	note      string
}

// membership is a section in which the activity counts for the person.
type membership struct {
	rosterstore.Enrolled
	learning.CompiledOutline
}

// resolve finds out whom and what statements are about: all of them with a handful of
// queries.
func (s *Facts) resolve(ctx context.Context, items []*item) error {
	verbs, err := s.verbTable(ctx)
	if err != nil {
		return err
	}
	homes, err := s.homes(ctx, items)
	if err != nil {
		return err
	}
	var identifiers, keys, activities []string
	for _, x := range items {
		activities = append(activities, x.statement.Object.ID)
		if a := x.statement.Actor; a.Account != nil {
			if homes.own(x) {
				identifiers = append(identifiers, a.Account.Name)
			}
		} else if key, err := roster.AddressKey(a.Address()); err == nil {
			keys = append(keys, key)
		}
	}
	found, err := learningstore.Recognise(ctx, s.Store, distinct(identifiers), distinct(keys), distinct(activities))
	if err != nil {
		return err
	}
	for _, x := range items {
		x.note, x.places = "", nil
		x.person = rosterstore.Person{}
		if a := x.statement.Actor; a.Account != nil {
			if homes.own(x) {
				x.person = found.ByIdentifier[a.Account.Name]
			} else {
				x.note = otherHome
			}
		} else if key, err := roster.AddressKey(a.Address()); err == nil {
			x.person = found.ByAddress[key]
		}
		kind := ""
		if x.statement.Object.Definition != nil {
			kind = x.statement.Object.Definition.Type
		}
		says, known := verbs.Meaning(x.statement.Verb.ID, kind)
		switch {
		case x.note != "":
		case x.statement.Actor.ObjectType == xapi.Group: // progress is a person's
			x.note = learning.NoMeaning
		case x.person.ID == "":
			x.note = "nobody is known by this actor"
		case !known:
			x.note = learning.NoMeaning
		default:
			x.fact = factOf(x.statement, says, s.Clock.Now())
		}
	}
	placed, err := s.learn(ctx, items, found.Placed)
	if err != nil {
		return err
	}
	return s.resolvePlaces(ctx, items, placed)
}

// otherHome is the note of a statement by an account of another system.
const otherHome = "the account's home page is not the one under which the platform's accounts carry the register's identifiers"

// homes are the home pages under which the accounts of interfaces carry the register's
// identifiers, by interface. An account is a home page and a name (xAPI 1.0.3 Data
// 2.4.2.4): the same name at two home pages is two people.
type homes map[string]string

func (h homes) own(x *item) bool {
	return h[x.from] == "" || sameHome(h[x.from], x.statement.Actor.Account.HomePage)
}

func sameHome(a, b string) bool {
	return strings.EqualFold(strings.TrimRight(a, "/"), strings.TrimRight(b, "/"))
}

// homes gives the home page of each interface: the one that was entered or, without one,
// that of the first account that is somebody's identifier, which is kept from then on.
func (s *Facts) homes(ctx context.Context, items []*item) (homes, error) {
	var ids []string
	for _, x := range items {
		if x.statement.Actor.Account != nil && x.from != "" {
			ids = append(ids, x.from)
		}
	}
	all, err := connectionstore.HomePages(ctx, s.Store, distinct(ids))
	if err != nil {
		return nil, err
	}
	for _, x := range items {
		if a := x.statement.Actor.Account; a != nil && x.from != "" && all[x.from] == "" && a.HomePage != "" {
			known, err := learningstore.Recognise(ctx, s.Store, []string{a.Name}, nil, nil)
			if err != nil {
				return nil, err
			}
			if known.ByIdentifier[a.Name].ID == "" {
				continue
			}
			if all[x.from], err = connectionstore.KeepHomePage(ctx, s.Store, x.from, a.HomePage); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

func distinct(list []string) []string {
	slices.Sort(list)
	return slices.Compact(list)
}

// resolvePlaces finds the sections in which the statements count.
func (s *Facts) resolvePlaces(ctx context.Context, items []*item, placed learningstore.Placed) error {
	var people []string
	for _, x := range items {
		if x.note == "" {
			people = append(people, x.person.ID)
		}
	}
	if len(people) == 0 {
		return nil
	}
	byPerson := map[string][]rosterstore.Enrolled{}
	var outlines map[string]learning.CompiledOutline
	if wanted := slices.Sorted(maps.Keys(placed.Versions)); len(wanted) > 0 {
		enrolled, err := rosterstore.SectionsOf(ctx, s.Store.Quickly(), distinct(people), wanted)
		if err != nil {
			return err
		}
		for _, e := range enrolled {
			if n := len(byPerson[e.PersonID]); n > 0 && byPerson[e.PersonID][n-1].SectionID == e.SectionID {
				continue // in it with two roles
			}
			byPerson[e.PersonID] = append(byPerson[e.PersonID], e)
		}
		if outlines, err = s.Outlines.CompiledAt(ctx, placed.Versions); err != nil {
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
				x.places = append(x.places, membership{e, o})
			}
		}
		if len(x.places) == 0 {
			x.note = inNoSection
		}
	}
	return s.resolveLeft(ctx, items, placed, outlines)
}

// inNoSection is the note of a statement about somebody who is not in the course.
const inNoSection = "the person is in no section of the activity's course"

// resolveLeft lets what somebody did before they left a section count there, when they are
// in no other one of the course.
func (s *Facts) resolveLeft(ctx context.Context, items []*item, placed learningstore.Placed,
	outlines map[string]learning.CompiledOutline,
) error {
	var people []string
	for _, x := range items {
		if x.note == inNoSection {
			people = append(people, x.person.ID)
		}
	}
	if len(people) == 0 {
		return nil
	}
	left, err := learningstore.LeftSections(ctx, s.Store, distinct(people), slices.Sorted(maps.Keys(placed.Versions)))
	if err != nil {
		return err
	}
	for _, x := range items {
		if x.note != inNoSection {
			continue
		}
		for _, l := range left {
			o := outlines[l.CourseID]
			if l.PersonID == x.person.ID && slices.Contains(placed.Courses[x.statement.Object.ID], l.CourseID) &&
				o.Course != nil && !x.fact.At.After(l.At) {
				x.places = []membership{{rosterstore.Enrolled{
					PersonID: l.PersonID, SectionID: l.SectionID,
					CourseID: l.CourseID, Role: "student",
				}, o}}
				x.note = ""
				break
			}
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
