package pairings

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/similarity"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
)

// Unpaired is a class at a service that belongs to no pairing.
type Unpaired struct {
	Ref, Name string
	Members   int
	Ignored   *pairingstore.IgnoredClass // somebody said that it is no business of Kanban's
	Guesses   []Guess                    // the sections that it probably copies, the likeliest first
}

// Guess is a section that a class probably copies, with the evidence.
type Guess struct {
	Card     Card
	Evidence similarity.Candidate
	Paired   string // the class with which it is paired at this service already
}

const (
	likely      = 25  // of 100: from which evidence on a section is a guess
	mostGuesses = 3   // how many are shown
	alikeNames  = 0.6 // of 1: from which likeness of names on a section is tried without shared people
)

// Unpaired lists the classes of a service that belong to no pairing, with the sections that
// they probably copy; those that are ignored only when asked for.
func (s *Service) Unpaired(ctx context.Context, interfaceID string, ignored bool) ([]Unpaired, error) {
	l, err := s.looking(ctx)
	if err != nil {
		return nil, err
	}
	x, err := l.service(ctx, interfaceID)
	if err != nil {
		return nil, err
	}
	survey, err := x.workspace.Survey(ctx)
	if err != nil {
		return nil, err
	}
	left, err := linkstore.LeftGroups(ctx, s.Store, interfaceID)
	if err != nil {
		return nil, err
	}
	said, err := pairingstore.IgnoredClasses(ctx, s.Store, interfaceID)
	if err != nil {
		return nil, err
	}
	taken := map[string]bool{}
	for _, h := range x.held {
		taken[h.Ref] = true
	}
	for _, g := range left {
		taken[g.Ref] = true
	}
	ignoring := map[string]*pairingstore.IgnoredClass{}
	for i := range said {
		ignoring[said[i].Ref] = &said[i]
	}
	var list []Unpaired
	var spaces []similarity.Space
	for _, space := range survey.Spaces() {
		if taken[space.Ref] || (ignoring[space.Ref] != nil) != ignored {
			continue
		}
		list = append(list, Unpaired{
			Ref: space.Ref, Name: space.Name, Members: len(space.Members),
			Ignored: ignoring[space.Ref],
		})
		spaces = append(spaces, similarity.Space(space))
	}
	g, err := l.guesser(ctx, interfaceID, spaces, survey.Accounts())
	if err != nil {
		return nil, err
	}
	for i := range list {
		list[i].Guesses = g.guesses(spaces[i])
	}
	return list, nil
}

// guesser knows who of a service's classes is in which section.
type guesser struct {
	cards  map[string]Card   // by section; of its set when it is linked
	paired map[string]string // the class at this service, by section
	seats  map[string][]pairingstore.Seat
	people map[string]*similarity.Section // by section
}

func (l *looking) guesser(ctx context.Context, interfaceID string, spaces []similarity.Space,
	accounts []roster.Account,
) (guesser, error) {
	g := guesser{cards: map[string]Card{}, paired: map[string]string{}, people: map[string]*similarity.Section{}}
	for _, c := range l.cards {
		sections := []rosterstore.Section{*c.Section}
		if c.Set != nil {
			sections = c.Set.Sections
		}
		for _, x := range sections {
			if c.Section.Ended(l.Clock.Now()) || c.Section.Gone {
				continue
			}
			if _, known := g.cards[x.ID]; !known {
				g.cards[x.ID] = c
			}
			if c.Pairing != nil && c.Pairing.InterfaceID == interfaceID {
				g.paired[x.ID] = c.Pairing.TargetName
			}
		}
	}
	sits := map[string]bool{}
	for _, space := range spaces {
		for _, m := range space.Members {
			sits[m] = true
		}
	}
	var holders []pairingstore.Holder
	for _, a := range accounts {
		if sits[a.ID] {
			key, _ := roster.AddressKey(a.Email)
			holders = append(holders, pairingstore.Holder{
				ID: a.ID, ExternalID: a.ExternalID,
				UserName: strings.ToLower(strings.TrimSpace(a.UserName)), EmailKey: key,
			})
		}
	}
	var err error
	g.seats, err = pairingstore.SeatsOf(ctx, l.Store, interfaceID, holders)
	for account, seats := range g.seats {
		for _, seat := range seats {
			x := g.section(seat.SectionID)
			if x == nil {
				continue
			}
			x.Accounts = append(x.Accounts, account)
			if seat.Teacher {
				x.Teachers = append(x.Teachers, account)
			}
		}
	}
	return g, err
}

// section gives a section with whoever is known of it; nil for one that is over or gone.
func (g guesser) section(id string) *similarity.Section {
	c, ok := g.cards[id]
	if !ok {
		return nil
	}
	lead := c.Section.ID
	if g.people[lead] == nil {
		g.people[lead] = &similarity.Section{Names: []string{
			c.Title(), c.Section.Title, c.Section.Code,
			c.Section.Course,
		}, Terms: c.Section.Terms}
	}
	return g.people[lead]
}

// guesses are the likeliest sections for a class: those with its people, and those with a
// name like its own.
func (g guesser) guesses(space similarity.Space) (list []Guess) {
	tried := map[string]bool{}
	try := func(id string) {
		x := g.section(id)
		if x == nil {
			return
		}
		c := g.cards[id]
		if tried[c.Section.ID] {
			return
		}
		tried[c.Section.ID] = true
		if r := similarity.Rank(*x, []similarity.Space{space})[0]; r.Score >= likely {
			list = append(list, Guess{Card: c, Evidence: r, Paired: g.paired[id]})
		}
	}
	for _, m := range space.Members {
		for _, seat := range g.seats[m] {
			try(seat.SectionID)
		}
	}
	for id, c := range g.cards {
		if similarity.Alike(c.Section.Title, space.Name) >= alikeNames ||
			similarity.Alike(c.Section.Code, space.Name) >= alikeNames ||
			similarity.Alike(c.Title(), space.Name) >= alikeNames {
			try(id)
		}
	}
	slices.SortFunc(list, func(a, b Guess) int {
		return cmp.Or(cmp.Compare(b.Evidence.Score, a.Evidence.Score), cmp.Compare(a.Card.Title(), b.Card.Title()),
			cmp.Compare(a.Card.Section.ID, b.Card.Section.ID))
	})
	return list[:min(len(list), mostGuesses)]
}

// Ignore says of classes at a service that they are no business of Kanban's, or that they
// are one after all.
func (s *Service) Ignore(ctx context.Context, who, interfaceID string, refs []string, ignore bool) error {
	if len(refs) == 0 {
		return refusal.Invalid("refs", "names no class")
	}
	if _, err := connectionstore.FindInterface(ctx, s.Store, interfaceID); err != nil {
		return err
	}
	what := "ignores classes at a service"
	if !ignore {
		what = "no longer ignores classes at a service"
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := pairingstore.IgnoreClasses(ctx, tx, who, interfaceID, refs, ignore); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, what, "interface/"+interfaceID, map[string]any{"classes": refs}); err != nil {
			return err
		}
		return tx.Announce(ctx, "interface", interfaceID)
	})
}
