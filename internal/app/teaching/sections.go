package teaching

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"kanban/internal/app/pairings"
	"kanban/internal/app/scores"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/reachstore"
	"kanban/internal/store/teachingstore"
)

// Section is a section, or the linked set that it belongs to, as a teacher has it in their own list.
type Section struct {
	pairings.Card
	teachingstore.TaughtSection // of the section that is theirs; of a set, the first of theirs

	Held             bool // learners wait until the teacher opens the class
	Missing, Waiting int  // people, by the latest comparison
	Tasks            int  // that are open, without what was handed on
	Percent          *int // how far its learners have come on average; nil when nobody has begun

	outlined bool // its course has an outline
}

// Current reports whether it has not ended.
func (x Section) Current() bool { return x.State != roster.Ended }

// Sections lists the sections that somebody of the register teaches now, as a user has arranged them: those that have
// not ended first.
func (s *Service) Sections(ctx context.Context, userID, personID string) ([]Section, error) {
	if personID == "" {
		return nil, nil
	}
	taught, err := s.Taught(ctx, personID)
	if err != nil || len(taught) == 0 {
		return nil, err
	}
	list, err := s.arranged(ctx, userID, taught)
	place := func(x Section) int { // behind those that were put into an order, and behind all when it has ended
		n := cmp.Or(x.Position, len(taught)+1)
		if !x.Current() {
			n += len(taught) + 1
		}
		return n
	}
	slices.SortStableFunc(list, func(a, b Section) int {
		return cmp.Or(cmp.Compare(place(a), place(b)), cmp.Compare(a.Title(), b.Title()))
	})
	return list, err
}

// Taught gives the ids of the sections that somebody of the register teaches now.
func (s *Service) Taught(ctx context.Context, personID string) ([]string, error) {
	return reachstore.SectionsIn(ctx, s.Store, []permission.Scope{{Kind: permission.Taught, ID: personID}})
}

// arranged gives the sections that a user names as theirs, as they have arranged them.
func (s *Service) arranged(ctx context.Context, userID string, theirs []string) ([]Section, error) {
	within := permission.Reach{Sections: map[string]bool{}}
	for _, id := range theirs {
		within.Sections[id] = true
	}
	cards, err := s.Pairings.Cards(ctx, pairings.Filter{Within: &within})
	if err != nil {
		return nil, err
	}
	own, err := teachingstore.TaughtSections(ctx, s.Store, userID)
	if err != nil {
		return nil, err
	}
	var all, paired []string
	for _, c := range cards {
		all = append(all, parts(c)...)
		if c.Pairing != nil {
			paired = append(paired, c.Pairing.ID)
		}
	}
	there, err := teachingstore.SetUps(ctx, s.Store, all)
	if err != nil {
		return nil, err
	}
	kept, err := s.Pairings.PairingsByID(ctx, paired)
	if err != nil {
		return nil, err
	}
	list := make([]Section, len(cards))
	for i, c := range cards {
		x := Section{Card: c}
		x.add(there)
		at := slices.IndexFunc(parts(c), within.Covers)
		x.TaughtSection = own[parts(c)[at]]
		x.SectionID = parts(c)[at]
		if c.Pairing != nil {
			x.Held = kept[c.Pairing.ID].Policy.Hold
			x.Missing, x.Waiting = c.Pairing.Counts[roster.OutcomeNeedsPerson], c.Pairing.Counts[roster.OutcomeWaiting]
		}
		list[i] = x
	}
	return list, nil
}

// add sums up what there is of the sections of a card.
func (x *Section) add(there map[string]teachingstore.SetUp) {
	begun, percents := 0, 0
	for _, id := range parts(x.Card) {
		t := there[id]
		x.outlined = x.outlined || t.Outline
		x.Tasks += t.Tasks
		begun, percents = begun+t.Begun, percents+t.Percents
	}
	if begun > 0 {
		average := percents / begun
		x.Percent = &average
	}
}

// parts are the sections of a card.
func parts(c pairings.Card) (ids []string) {
	if c.Set == nil {
		return []string{c.Section.ID}
	}
	for _, x := range c.Set.Sections {
		ids = append(ids, x.ID)
	}
	return ids
}

// Page is a section with who is missing and what is set up elsewhere.
type Page struct {
	Section
	People    []Missing
	Scores    []scores.Listed
	Elsewhere []Elsewhere
	Compared  *time.Time
}

// Parts are the ids of the section and of those that are linked to it.
func (p Page) Parts() []string { return parts(p.Card) }

// Elsewhere is something that a teacher does not do themselves, with whom they ask.
type Elsewhere struct {
	What string
	Ask  []string // names and addresses
}

// Page shows a section as a user has arranged it.
func (s *Service) Page(ctx context.Context, userID, sectionID string) (page Page, err error) {
	page.Section, err = s.one(ctx, userID, sectionID)
	if err != nil {
		return page, err
	}
	p, there, err := s.paired(ctx, page.Section)
	if err != nil {
		return page, err
	}
	if there {
		page.Compared = p.ComparedAt
		if page.People, err = s.missing(ctx, p, parts(page.Card)); err != nil {
			return page, err
		}
	}
	if page.Scores, err = s.Scores.List(ctx, sectionID); err != nil {
		return page, err
	}
	page.Elsewhere, err = s.elsewhere(ctx, page)
	return page, err
}

func (s *Service) one(ctx context.Context, userID, sectionID string) (Section, error) {
	list, err := s.arranged(ctx, userID, []string{sectionID})
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("finding the section: %w", db.ErrNotFound)
	}
	if err != nil {
		return Section{}, err
	}
	return list[0], nil
}

// elsewhere says what of a section is not set up, or done by others, and whom to ask.
func (s *Service) elsewhere(ctx context.Context, page Page) ([]Elsewhere, error) {
	out := []Elsewhere{{
		What: "Who is in the section is decided in the register: whoever is missing there is not here either.",
		Ask:  []string{"the register office"},
	}}
	users, err := s.Access.Users(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range []struct {
		there bool
		what  string
		act   permission.Act
	}{
		{page.Pairing != nil, "The section has no class outside yet.", permission.Rosters},
		{len(page.Scores) > 0, "Scores of this section are not carried anywhere.", permission.CarryScores},
		{page.outlined, "The course has no outline yet, so that progress is not known.", permission.Learning},
	} {
		if x.there {
			continue
		}
		who, err := s.may(ctx, users, x.act, page.SectionID)
		if err != nil {
			return nil, err
		}
		out = append(out, Elsewhere{What: x.what, Ask: who})
	}
	return out, nil
}

// may names the users who may do an act to a section, by a role that somebody gave them.
func (s *Service) may(ctx context.Context, users []accessstore.User, a permission.Act, sectionID string) (who []string,
	err error,
) {
	for _, u := range users {
		r, err := reachstore.Reach(ctx, s.Store, permission.Rights{Grants: u.Granted()}, a)
		if err != nil {
			return nil, err
		}
		if r.Covers(sectionID) {
			who = append(who, u.Name+" <"+u.Email+">")
		}
	}
	return who, nil
}

// paired finds the pairing of a section's class; there is false where it has none.
func (s *Service) paired(ctx context.Context, x Section) (p pairingstore.Pairing, there bool, err error) {
	if x.Pairing == nil {
		return p, false, nil
	}
	p, err = s.Pairings.FindPairing(ctx, x.Pairing.ID)
	return p, true, err
}
