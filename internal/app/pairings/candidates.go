package pairings

import (
	"context"
	"fmt"
	"slices"

	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/finding"
	"kanban/internal/core/roster"
	"kanban/internal/core/similarity"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
)

// Candidate is a class at a service with the evidence for it, and what speaks
// against pairing it.
type Candidate struct {
	similarity.Candidate
	Remarks []Remark
}

// Candidates lists the classes of a service by how likely each is the section's
// counterpart.
func (s *Service) Candidates(ctx context.Context, sectionID, interfaceID string) ([]Candidate, error) {
	l, err := s.looking(ctx)
	if err != nil {
		return nil, err
	}
	card, err := l.card(sectionID)
	if err != nil {
		return nil, err
	}
	x, err := l.service(ctx, interfaceID)
	if err != nil {
		return nil, err
	}
	return l.rank(ctx, card, x)
}

func (l *looking) rank(ctx context.Context, c Card, x *service) ([]Candidate, error) {
	at := similarity.Section{
		Names: []string{c.Title(), c.Section.Title, c.Section.Code, c.Section.Course},
		Terms: c.Section.Terms,
	}
	// Who of the section has which account is what a comparison finds out.
	p := Outlook{Wish: Wish{InterfaceID: x.via.ID}, Card: c}.Pairing()
	source, err := pairingstore.Source(ctx, l.Store, p)
	if err != nil {
		return nil, err
	}
	matching := x.via.Recognise()
	wanted, ids := source.Lookups(matching)
	seen, err := x.workspace.ReadTarget(ctx, workspaces.TargetGroup{}, wanted, ids)
	if err != nil {
		return nil, err
	}
	for _, e := range roster.Compare(source, roster.Target{Accounts: seen.Accounts}, roster.DefaultPolicy(),
		matching).Entries {
		if e.AccountID == "" {
			continue
		}
		at.Accounts = append(at.Accounts, e.AccountID)
		if e.Role == roster.Teacher {
			at.Teachers = append(at.Teachers, e.AccountID)
		}
	}
	listed, err := x.spaces(ctx)
	if err != nil {
		return nil, err
	}
	spaces := make([]similarity.Space, len(listed))
	for i, s := range listed {
		spaces[i] = similarity.Space(s)
	}
	var list []Candidate
	for _, ranked := range similarity.Rank(at, spaces) {
		remarks, err := l.remarks(ctx, ranked, c, x)
		if err != nil {
			return nil, err
		}
		list = append(list, Candidate{ranked, remarks})
	}
	slices.SortStableFunc(list, func(a, b Candidate) int { return blocks(a) - blocks(b) })
	return list, nil
}

func blocks(c Candidate) int {
	if slices.ContainsFunc(c.Remarks, func(r Remark) bool { return r.Blocks }) {
		return 1
	}
	return 0
}

// remarks says what speaks against a class.
func (l *looking) remarks(ctx context.Context, c similarity.Candidate, card Card, x *service) (list []Remark,
	err error,
) {
	add := func(code finding.Code, blocks bool, format string, args ...any) {
		list = append(list, Remark{code, fmt.Sprintf(format, args...), blocks})
	}
	if i := slices.IndexFunc(x.held, func(h pairingstore.Held) bool { return h.Ref == c.Ref }); i >= 0 {
		add(finding.TargetPaired, true, "%s is paired already, as %s", c.Space.Name, x.held[i].Name)
		return list, nil
	}
	members := c.Shared + c.Others
	if x.via.Settings["emptyOnly"] == "yes" && members > 0 {
		add(finding.TargetNotEmpty, true, "%s has %d members, and %s adopts nobody who is in a class already",
			c.Space.Name, members, x.via.Name)
	}
	if c.Poor() {
		add(finding.PoorOverlap, false, "%d of its %d members are in %s", c.Shared, members, card.Title())
	} else if c.Others > 0 {
		add(finding.TargetStrangers, false, "%d of its %d members are not in %s", c.Others, members, card.Title())
	}
	if c.Ref == "" || c.Score < 25 {
		return list, nil // what it was paired with before matters only for likely ones
	}
	before, err := pairingstore.SectionsOfTarget(ctx, l.Store, x.via.ID, c.Ref)
	if err != nil || len(before) == 0 {
		return list, err
	}
	was, err := rosterstore.SectionsByID(ctx, l.Store, before)
	for _, o := range was {
		if !slices.Equal(o.TermIDs, card.Section.TermIDs) {
			add(finding.OtherTerm, false,
				"it was the class of %s in %s; the first run takes out whom Kanban put in then, and leaves all others", o.Title, named(o.Terms))
		}
	}
	return list, err
}

func named(terms []string) string {
	if len(terms) == 0 {
		return "no term"
	}
	return terms[0]
}
