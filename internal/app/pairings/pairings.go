// Package pairings joins sections and linked sets with targets at outside services
// and says in which state each is.
package pairings

import (
	"context"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/clock"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/settingstore"
	"kanban/internal/wire/call"
)

// Schedules says when a pairing runs next by itself after a moment; nil for never.
type Schedules interface {
	NextRun(p pairingstore.Pairing, after time.Time) *time.Time
}

// Service is the use case. Fill every field.
type Service struct {
	Store     *db.Database
	Clock     clock.Clock
	Schedules Schedules
	// Connections gives interfaces with their secrets.
	Connections adapter.Opener
	Call        call.Options
}

// Card is a section or a linked set with its pairing, if any, and the one state
// of both.
type Card struct {
	Section   *rosterstore.Section // of a linked set: its lead; shared, do not change it
	Set       *linkstore.LinkedSet
	Pairing   *pairingstore.Pairing
	Interface string // name of the service
	State     roster.State
	// Teachers, Roles and Learners of the section, or of the whole set. Somebody in
	// two sections of a set counts twice.
	Teachers []string
	Roles    []string
	Learners int
	Running  bool // somebody works at a run of it, or is to
	Alike    bool // another section has the same title and code
	standing roster.SectionStatus
}

// Allows reports whether the card's state allows an act.
func (c Card) Allows(a roster.Act) bool { return c.standing.Allows(a) }

// Title is the set's name or the section's title.
func (c Card) Title() string {
	if c.Set != nil {
		return c.Set.Name
	}
	return c.Section.Title
}

// Filter narrows a list of cards; empty fields do not.
type Filter struct {
	Called       string // exactly an id, code or title, ignoring case
	Text         string // in title, code, course or teacher, ignoring case
	Organisation string
	Course       string // title, code or id
	Term         string
	Teacher      string
	Role         string // of somebody in it
	State        roster.State
	Service      string // name of the interface with which it is paired
	AtLeast      int    // learners
	AtMost       *int
	Within       *permission.Reach // sections, of a linked set one at least; all when nil
	// Hidden is for List: the name of a rule, or Everything.
	Hidden string
	// Sort is for List: what it is sorted by, with a minus before it for the other way
	// round. Without it the ones that need somebody come first.
	Sort string
}

// Cards lists every section and linked set, the ones that need somebody first.
func (s *Service) Cards(ctx context.Context, f Filter) ([]Card, error) {
	cards, err := s.cards(ctx)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(cards, func(c Card) bool { return !f.reaches(c) || !f.fits(c) }), nil
}

// reaches reports whether a card is of a section that whoever looks may see.
func (f Filter) reaches(c Card) bool {
	if f.Within == nil || f.Within.Covers(c.Section.ID) {
		return true
	}
	return c.Set != nil && slices.ContainsFunc(c.Set.Sections, func(x rosterstore.Section) bool {
		return f.Within.Covers(x.ID)
	})
}

func (s *Service) cards(ctx context.Context) ([]Card, error) {
	sections, err := rosterstore.Sections(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	pairings, err := pairingstore.Listed(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	paused, err := s.paused(ctx)
	if err != nil {
		return nil, err
	}
	sets, err := s.sets(ctx, sections)
	if err != nil {
		return nil, err
	}
	running, err := runstore.RunningPairings(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	of := make(map[string][]*pairingstore.Pairing, len(pairings))
	for _, p := range pairings {
		of[p.SectionID] = append(of[p.SectionID], p)
	}
	by := make(map[roster.State][]Card, len(roster.States))
	for i := range sections {
		x := &sections[i]
		c := Card{Section: x}
		if x.SetID != nil {
			if c.Set = sets[*x.SetID]; c.Set != nil && c.Set.LeadID != x.ID {
				continue // its card is the lead's
			}
		}
		paired := of[x.ID]
		if x.Gone && c.Set == nil && len(paired) == 0 {
			continue
		}
		for n := range max(len(paired), 1) { // one with two pairings stands twice
			one := c
			if n < len(paired) {
				one.Pairing = paired[n]
				one.Running = running[paired[n].ID]
			}
			s.judge(&one, paused)
			by[one.State] = append(by[one.State], one)
		}
	}
	cards := make([]Card, 0, len(sections))
	for _, state := range roster.States {
		cards = append(cards, by[state]...)
	}
	tellApart(cards)
	return cards, nil
}

// tellApart marks the cards of which another section has the same title and code.
func tellApart(cards []Card) {
	type look struct{ title, code string }
	first := make(map[look]int, len(cards))
	for i := range cards {
		key := look{cards[i].Title(), cards[i].Section.Code}
		at, there := first[key]
		if !there {
			first[key] = i
			continue
		}
		if cards[at].Section.ID != cards[i].Section.ID {
			cards[at].Alike, cards[i].Alike = true, true
		}
	}
}

// sets gives the linked sets of sections, with the sections that are listed.
func (s *Service) sets(ctx context.Context, sections []rosterstore.Section) (map[string]*linkstore.LinkedSet, error) {
	all, err := linkstore.LinkedSets(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	sets := make(map[string]*linkstore.LinkedSet, len(all))
	for i := range all {
		sets[all[i].ID] = &all[i]
	}
	for _, x := range sections {
		if x.SetID == nil || sets[*x.SetID] == nil {
			continue
		}
		set := sets[*x.SetID]
		if !slices.ContainsFunc(set.Sections, func(o rosterstore.Section) bool { return o.ID == x.ID }) {
			set.Sections = append(set.Sections, x)
		}
	}
	return sets, nil
}

func (f Filter) fits(c Card) bool {
	some := func(fits func(rosterstore.Section) bool) bool {
		if c.Set == nil {
			return fits(*c.Section)
		}
		return slices.ContainsFunc(c.Set.Sections, fits)
	}
	text := strings.ToLower(f.Text)
	contains := func(s string) bool { return strings.Contains(strings.ToLower(s), text) }
	return (f.Called == "" || strings.EqualFold(c.Title(), f.Called) || some(func(x rosterstore.Section) bool {
		return x.ID == f.Called || strings.EqualFold(x.Title, f.Called) || strings.EqualFold(x.Code, f.Called)
	})) && (f.Text == "" || contains(c.Title()) || some(func(x rosterstore.Section) bool {
		return contains(x.Title) || contains(x.Code) || contains(x.Course) ||
			slices.ContainsFunc(x.Teachers, contains)
	})) &&
		(f.Term == "" || some(func(x rosterstore.Section) bool { return slices.Contains(x.Terms, f.Term) })) &&
		(f.Teacher == "" || slices.Contains(c.Teachers, f.Teacher)) &&
		(f.Role == "" || slices.Contains(c.Roles, f.Role)) &&
		(f.Organisation == "" || c.Section.Org == f.Organisation) &&
		(f.Course == "" || some(func(x rosterstore.Section) bool {
			return x.Course == f.Course ||
				x.CourseCode == f.Course || x.CourseID == f.Course
		})) &&
		(f.State == "" || c.State == f.State) &&
		(f.Service == "" || c.Interface == f.Service) &&
		c.Learners >= f.AtLeast && (f.AtMost == nil || c.Learners <= *f.AtMost)
}

// pauses tells which interfaces are paused; everything may be.
type pauses struct {
	interfaces map[string]connectionstore.Interface
	everything bool
}

func (p pauses) of(interfaceID string) bool {
	return p.everything || p.interfaces[interfaceID].Paused()
}

func (s *Service) paused(ctx context.Context) (p pauses, err error) {
	all, err := connectionstore.Interfaces(ctx, s.Store)
	if err != nil {
		return p, err
	}
	p.interfaces = make(map[string]connectionstore.Interface, len(all))
	for _, c := range all {
		p.interfaces[c.ID] = c
	}
	m, err := settingstore.FindMaintenance(ctx, s.Store)
	p.everything = m.Since != nil
	return p, err
}

// judge fills in what follows from section, set and pairing.
func (s *Service) judge(c *Card, paused pauses) {
	c.Teachers, c.Roles, c.Learners = c.Section.Teachers, c.Section.Roles, c.Section.Learners
	x := *c.Section
	if c.Set != nil {
		c.Teachers, c.Roles, c.Learners = nil, nil, 0
		for _, o := range c.Set.Sections {
			c.Teachers, c.Roles, c.Learners = append(c.Teachers, o.Teachers...), append(c.Roles,
				o.Roles...), c.Learners+o.Learners
			if o.EndsOn != nil && (x.EndsOn == nil || o.EndsOn.After(*x.EndsOn)) {
				x.EndsOn = o.EndsOn // a set lasts as long as the longest of its sections
			}
			x.Gone = x.Gone || o.Gone
		}
		slices.Sort(c.Teachers)
		slices.Sort(c.Roles)
		c.Teachers, c.Roles = slices.Compact(c.Teachers), slices.Compact(c.Roles)
	}
	there := false
	if c.Pairing != nil {
		c.Interface = paused.interfaces[c.Pairing.InterfaceID].Name
		there = paused.of(c.Pairing.InterfaceID)
	}
	c.standing = c.Pairing.Status(x, there, s.Clock.Now())
	c.State = roster.StateOf(c.standing)
}

// Card gives one pairing's card.
func (s *Service) Card(ctx context.Context, pairingID string) (Card, error) {
	p, err := pairingstore.FindPairing(ctx, s.Store, pairingID)
	if err != nil {
		return Card{}, err
	}
	section, err := rosterstore.FindSection(ctx, s.Store, p.SectionID)
	if err != nil {
		return Card{}, err
	}
	paused, err := s.paused(ctx)
	if err != nil {
		return Card{}, err
	}
	c := Card{Section: &section, Pairing: &p}
	if p.SetID != nil {
		set, err := linkstore.FindLinkedSet(ctx, s.Store, *p.SetID)
		if err != nil {
			return c, err
		}
		c.Set = &set
	}
	s.judge(&c, paused)
	return c, nil
}
