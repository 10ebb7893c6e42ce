// Package linking handles several sections of one course and term as one: it says
// which fit together, what becomes shared, keeps a safety copy, links and unlinks.
package linking

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/app/pairings"
	"kanban/internal/app/runs"
	"kanban/internal/core/clock"
	"kanban/internal/core/finding"
	"kanban/internal/core/linking"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
)

// Service is the use case. Fill every field.
type Service struct {
	Store    *db.Database
	Pairings *pairings.Service
	Runs     *runs.Service
	Clock    clock.Clock
}

// school is every section as linking looks at it.
type school struct {
	all   []linking.Section
	index map[string]int
}

func (s *Service) school(ctx context.Context) (school, error) {
	sections, err := rosterstore.Sections(ctx, s.Store)
	if err != nil {
		return school{}, err
	}
	sets, err := linkstore.LinkedSets(ctx, s.Store)
	if err != nil {
		return school{}, err
	}
	services, err := linkstore.ServicesOfSections(ctx, s.Store)
	if err != nil {
		return school{}, err
	}
	names := map[string]string{}
	for _, set := range sets {
		names[set.ID] = set.Name
	}
	x := school{index: map[string]int{}}
	for _, section := range sections {
		if section.List != "" {
			continue // people lists stay by themselves
		}
		if section.Gone && section.SetID == nil && services[section.ID] == nil {
			continue
		}
		one := look(section)
		if section.SetID != nil {
			one.Set = names[*section.SetID]
		} else {
			one.Targets = services[section.ID]
		}
		x.index[section.ID] = len(x.all)
		x.all = append(x.all, one)
	}
	return x, nil
}

// look is a section as the rules of linking look at it.
func look(x rosterstore.Section) linking.Section {
	return linking.Section{
		ID: x.ID, Title: x.Title, Code: x.Code, School: x.Org, TeacherNames: x.Teachers, Register: x.Interface,
		CourseID: x.CourseID, Course: x.Course,
		TermIDs: x.TermIDs, Terms: x.Terms, Teachers: x.TeacherIDs, Learners: x.Learners, Ends: x.EndsOn,
		Gone: x.Gone,
	}
}

func (x school) find(id, field string) (linking.Section, error) {
	i, ok := x.index[id]
	if !ok {
		return linking.Section{}, refusal.Invalid(field,
			"there is no section %q; see which there are: kanban sections list", id)
	}
	return x.all[i], nil
}

// Candidate is a section that could be linked under a lead, or why it cannot.
type Candidate struct {
	linking.Section
	Obstacles []linking.Obstacle
}

// Candidates lists every other section whose title, code, course or code fits the
// text: what can be linked first, then what an administrator may override.
func (s *Service) Candidates(ctx context.Context, leadID, text string) ([]Candidate, error) {
	x, err := s.school(ctx)
	if err != nil {
		return nil, err
	}
	lead, err := x.find(leadID, "lead")
	if err != nil {
		return nil, err
	}
	var list []Candidate
	for _, section := range x.all {
		if section.ID != lead.ID && contains(text, section.Title, section.Code, section.Course) {
			list = append(list, Candidate{section, linking.Obstacles(lead, section, s.Clock.Now())})
		}
	}
	rank := func(c Candidate) int {
		switch {
		case len(c.Obstacles) == 0:
			return 0
		case c.CourseID == lead.CourseID:
			return 1
		case c.Obstacles[0].Overridable:
			return 2
		}
		return 3
	}
	slices.SortStableFunc(list, func(a, b Candidate) int { return cmp.Compare(rank(a), rank(b)) })
	return list, nil
}

func contains(text string, in ...string) bool {
	return slices.ContainsFunc(in, func(x string) bool {
		return strings.Contains(strings.ToLower(x),
			strings.ToLower(text))
	})
}

// Proposals are sections that could be linked.
type Proposals struct {
	List []linking.Proposal
	// Teachers are the names of the shared teachers of proposals, by person.
	Teachers map[string]string
	// Hidden counts the sections that could be linked too and that lists hide.
	Hidden int
}

// Proposals lists sections that could be linked: of one course and term, with
// sameTeacher taught by the same people, and with everything also those that lists
// hide.
func (s *Service) Proposals(ctx context.Context, sameTeacher, everything bool, within *permission.Reach) (Proposals,
	error,
) {
	out := Proposals{Teachers: map[string]string{}}
	x, err := s.school(ctx)
	if err != nil {
		return out, err
	}
	if within != nil {
		x.all = slices.DeleteFunc(x.all, func(x linking.Section) bool { return !within.Covers(x.ID) })
	}
	all := linking.Propose(x.all, sameTeacher, s.Clock.Now())
	out.List = all
	if !everything {
		left, err := s.Pairings.HiddenSections(ctx)
		if err != nil {
			return out, err
		}
		seen := slices.DeleteFunc(slices.Clone(x.all), func(x linking.Section) bool { return left[x.ID] })
		out.List = linking.Propose(seen, sameTeacher, s.Clock.Now())
		out.Hidden = count(all) - count(out.List)
	}
	var ids []string
	for _, p := range out.List {
		for _, t := range p.SharedTeachers {
			ids = append(ids, t.Teacher)
		}
	}
	people, err := rosterstore.PeopleByID(ctx, s.Store, ids)
	for _, p := range people {
		out.Teachers[p.ID] = p.Name()
	}
	return out, err
}

func count(list []linking.Proposal) (sections int) {
	for _, p := range list {
		sections += len(p.Sections)
	}
	return sections
}

// Wish is what to link.
type Wish struct {
	LeadID string
	Others []string
	Name   string // the course's title when empty
	Reason string // overrides what an administrator may override
}

// Consequence is what linking would mean, shown before anything is done.
type Consequence struct {
	Name     string
	Sections []linking.Section
	Refused  []linking.Refusal      // nothing can be linked while there is any
	People   int                    // who would be handled together, each counted once
	Several  int                    // of them, who are in more than one of the sections
	Pairings []pairingstore.Pairing // of the lead, which would become the set's
	Results  int                    // results of activities that the safety copy would hold
	gathered gathered
}

// Consequences says what linking would mean, without doing anything.
func (s *Service) Consequences(ctx context.Context, w Wish) (Consequence, error) {
	list, err := s.ConsequencesOf(ctx, []Wish{w})
	if err != nil {
		return Consequence{}, err
	}
	return list[0], nil
}

// ConsequencesOf says the same of many.
func (s *Service) ConsequencesOf(ctx context.Context, wishes []Wish) ([]Consequence, error) {
	x, err := s.school(ctx)
	if err != nil {
		return nil, err
	}
	list := make([]Consequence, len(wishes))
	for i, w := range wishes {
		if list[i], err = s.consequence(ctx, x, w); err != nil {
			return nil, err
		}
	}
	return list, nil
}

func (s *Service) consequence(ctx context.Context, x school, w Wish) (c Consequence, err error) {
	lead, err := x.find(w.LeadID, "lead")
	if err != nil {
		return c, err
	}
	if len(w.Others) == 0 {
		return c, refusal.Invalid("sections", "names no other section to link with %s", lead.Title)
	}
	c.Sections = []linking.Section{lead}
	for _, id := range w.Others {
		other, err := x.find(id, "sections")
		if err != nil {
			return c, err
		}
		c.Sections = append(c.Sections, other)
	}
	c.Name = strings.TrimSpace(cmp.Or(w.Name, lead.Course))
	c.Refused = linking.Check(lead, c.Sections[1:], w.Reason, s.Clock.Now())
	if c.Pairings, err = linkstore.PairingsOfSections(ctx, s.Store, []string{lead.ID}); err != nil {
		return c, err
	}
	c.gathered, err = s.gather(ctx, ids(c.Sections), c.Pairings)
	c.People, c.Several, c.Results = c.gathered.people, c.gathered.several, len(c.gathered.results)
	return c, err
}

// Says says in words what becomes shared.
func (c Consequence) Says() string {
	var titles []string
	for _, x := range c.Sections {
		titles = append(titles, x.Title)
	}
	said := []string{fmt.Sprintf("%s become one: %d people, %d of them in more than one of the sections",
		strings.Join(titles, ", "), c.People, c.Several)}
	for _, p := range c.Pairings {
		said = append(said, fmt.Sprintf("%s, the class of %s, becomes the class of all, with a group for each section", p.TargetName, c.Sections[0].Title))
	}
	return strings.Join(append(said, fmt.Sprintf("a safety copy of the rosters and of %d results is kept first",
		c.Results)), "; ")
}

func ids(sections []linking.Section) (list []string) {
	for _, x := range sections {
		list = append(list, x.ID)
	}
	return list
}

// Link makes a set. The lead's pairings become the set's. Rosters and results as
// they are now are kept in a safety copy first.
func (s *Service) Link(ctx context.Context, who string, w Wish) (linkstore.LinkedSet, error) {
	return s.LinkWith(ctx, who, w, func(*db.Tx, linkstore.LinkedSet) error { return nil })
}

// LinkWith does the same and also what is to happen in the same transaction.
func (s *Service) LinkWith(ctx context.Context, who string, w Wish,
	also func(*db.Tx, linkstore.LinkedSet) error,
) (linkstore.LinkedSet, error) {
	c, err := s.Consequences(ctx, w)
	if err != nil {
		return linkstore.LinkedSet{}, err
	}
	if err := refused(c.Refused); err != nil {
		return linkstore.LinkedSet{}, err
	}
	if n := len([]rune(c.Name)); n == 0 || n > pairingstore.MaxTargetName {
		return linkstore.LinkedSet{}, refusal.Invalid("name", "must have 1 to %d characters, this has %d",
			pairingstore.MaxTargetName, n)
	}
	sections, err := rosterstore.SectionsByID(ctx, s.Store, ids(c.Sections))
	if err != nil {
		return linkstore.LinkedSet{}, err
	}
	set := linkstore.LinkedSet{
		ID: db.NewID(), Name: c.Name, LeadID: w.LeadID, Reason: strings.TrimSpace(w.Reason),
		MadeBy: who, Version: 1, CreatedAt: s.Clock.Now(), Sections: sections,
	}
	kept, err := c.gathered.keep(set.ID, s.Clock.Now())
	if err != nil {
		return set, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := linkstore.LinkSections(ctx, tx, &set); err != nil {
			return err
		}
		if err := db.Create(tx, &kept, "keeping the safety copy"); err != nil {
			return err
		}
		if err := regroup(ctx, tx, who, c.Pairings, true,
			func(p *pairingstore.Pairing) { p.SetID = &set.ID }); err != nil {
			return err
		}
		detail := map[string]any{"name": set.Name, "sections": ids(c.Sections), "reason": set.Reason}
		if err := tx.Audit(ctx, who, "linked sections", "set/"+set.ID, detail); err != nil {
			return err
		}
		if err := also(tx, set); err != nil {
			return err
		}
		return tx.Announce(ctx, "section", "")
	})
	return set, linkedMeanwhile(err)
}

// linkedMeanwhile says it when a section was linked between the look and the deed.
func linkedMeanwhile(err error) error {
	if errors.Is(err, db.ErrTaken) {
		return refusal.Conflict(finding.LinkTwice, "one of these sections was linked in the meantime; look again")
	}
	return err
}

// regroup gives a set's pairings to what become says, and with ask has those that were run
// compared.
func regroup(ctx context.Context, tx *db.Tx, who string, pairings []pairingstore.Pairing, ask bool,
	become func(*pairingstore.Pairing),
) error {
	for _, p := range pairings {
		become(&p)
		if err := pairingstore.UpdatePairing(tx, &p); err != nil {
			return err
		}
		if ask && p.RanAt != nil {
			if err := pairingstore.AskComparison(ctx, tx, who, false, p); err != nil {
				return err
			}
		}
	}
	return nil
}

// Linked is a set with what is paired with it.
type Linked struct {
	linkstore.LinkedSet
	Pairings []pairingstore.Pairing
}

// Set finds one, ended ones too.
func (s *Service) Set(ctx context.Context, id string) (Linked, error) {
	set, err := linkstore.FindLinkedSet(ctx, s.Store, id)
	if err != nil || set.UnlinkedAt != nil {
		return Linked{LinkedSet: set}, err
	}
	pairings, err := linkstore.PairingsOfSections(ctx, s.Store, []string{set.LeadID})
	return Linked{set, pairings}, err
}

// Fate says what becomes of a set's targets when it is unlinked.
type Fate string

// What can become of them.
const (
	// ToLead leaves the target to the lead section: the next run takes the people of
	// the other sections out, once that is approved where the guard asks for it.
	ToLead Fate = "lead"
	// Ended ends the pairing: the target and everybody in it stay as they are.
	Ended Fate = "end"
)

// Unlinking says, for each class of a set, what becomes of everybody when the set is
// unlinked with that fate of its classes.
func (s *Service) Unlinking(ctx context.Context, id string, fate Fate) ([]ClassEffects, error) {
	set, err := s.Set(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.effects(ctx, set.Pairings, fate == Ended, func(p *pairingstore.Pairing) {
		if fate == ToLead {
			p.SetID = nil
		}
	})
}

// ClassEffects is a class of a set with what becomes of everybody.
type ClassEffects struct {
	Pairing pairingstore.Pairing
	People  []roster.Affected
}

func (s *Service) effects(ctx context.Context, pairings []pairingstore.Pairing, ends bool,
	become func(*pairingstore.Pairing),
) (list []ClassEffects, err error) {
	for _, p := range pairings {
		x := ClassEffects{Pairing: p}
		become(&p)
		if x.People, err = s.Runs.Effects(ctx, p, ends); err != nil {
			return nil, err
		}
		list = append(list, x)
	}
	return list, nil
}

// Unlink handles the sections of a set one by one again. version must be the one
// that was read, or 0.
func (s *Service) Unlink(ctx context.Context, who, id string, version int, fate Fate) error {
	set, err := s.Set(ctx, id)
	switch {
	case err != nil:
		return err
	case set.UnlinkedAt != nil:
		return refusal.Conflict("", "%s is unlinked already", set.Name)
	case version != 0 && version != set.Version:
		return fmt.Errorf("unlinking: %w", db.ErrStale)
	case fate == "" && len(set.Pairings) > 0:
		return refusal.Invalid("target",
			"say what becomes of the class at the service: lead (it stays the lead section's, the others' people come out) or end (everybody stays, nothing keeps it in step)")
	case fate != "" && fate != ToLead && fate != Ended:
		return refusal.Invalid("target", "%q is not one of lead, end", fate)
	}
	if err := s.Pairings.AtRest(ctx, set.Pairings...); err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := linkstore.Unlink(ctx, tx, set.LinkedSet); err != nil {
			return err
		}
		now := s.Clock.Now()
		err := regroup(ctx, tx, who, set.Pairings, fate == ToLead, func(p *pairingstore.Pairing) {
			p.SetID = nil
			if fate == Ended {
				p.EndedAt = &now
			}
		})
		if err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "unlinked sections", "set/"+set.ID,
			map[string]any{"name": set.Name, "target": fate}); err != nil {
			return err
		}
		return tx.Announce(ctx, "section", "")
	})
}
