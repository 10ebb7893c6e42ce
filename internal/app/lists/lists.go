// Package lists keeps lists of people that can be paired like a section: everybody of a
// course or of an organisation of a register, or those whom an administrator names.
package lists

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/core/clock"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *db.Database
	Clock clock.Clock
}

// Wish is a list to make.
type Wish struct {
	Kind   string   // one of rosterstore.ListOf…
	OfID   string   // the course's or organisation's id
	Name   string   // that of the course or organisation when empty
	People []string // ids, for a list of named people
}

// mostPeople is how many people a list may name.
const mostPeople = 10000

// Make makes a list.
func (s *Service) Make(ctx context.Context, who string, w Wish) (rosterstore.PeopleList, error) {
	l := rosterstore.PeopleList{
		ID: db.NewID(), Kind: w.Kind, Name: strings.TrimSpace(w.Name), MadeBy: who,
		Version: 1, CreatedAt: s.Clock.Now(),
	}
	title, err := s.of(ctx, &l, w)
	if err != nil {
		return l, err
	}
	if l.Name == "" {
		l.Name = title
	}
	if err := named(l.Name); err != nil {
		return l, err
	}
	return l, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &l, "making a people list"); err != nil {
			return err
		}
		if err := rosterstore.ListPeople(ctx, tx, l.ID, w.People, nil); err != nil {
			return err
		}
		return s.changed(ctx, tx, who, "made a people list", l,
			map[string]any{"kind": l.Kind, "name": l.Name, "people": len(w.People)})
	})
}

// of finds out of which register a list is, and what it would be called.
func (s *Service) of(ctx context.Context, l *rosterstore.PeopleList, w Wish) (title string, err error) {
	switch w.Kind {
	case rosterstore.ListOfCourse:
		l.InterfaceID, l.Ref, title, err = rosterstore.CourseRef(ctx, s.Store, w.OfID)
		if err != nil {
			return "", refusal.Invalid("ofId", "there is no course %q; see which there are: kanban courses list", w.OfID)
		}
		return title, nil
	case rosterstore.ListOfOrganisation:
		orgs, err := rosterstore.Orgs(ctx, s.Store)
		for _, o := range orgs {
			if o.ID == w.OfID {
				l.InterfaceID, l.Ref = o.InterfaceID, o.SourcedID
				return o.Name, nil
			}
		}
		if err == nil {
			err = refusal.Invalid("ofId", "there is no organisation %q; see which there are: kanban lists organisations",
				w.OfID)
		}
		return "", err
	case rosterstore.ListOfNamed:
		l.InterfaceID, err = s.register(ctx, w.People)
		return "", err
	}
	return "", refusal.Invalid("kind", "%q is not one of course, organisation, named", w.Kind)
}

// registers gives the registers in which each of some people is, that of the leading record first.
func (s *Service) registers(ctx context.Context, ids []string) (all [][]string, err error) {
	if len(ids) == 0 {
		return nil, refusal.Invalid("people", "names nobody: a list of named people begins with at least one")
	}
	if len(ids) > mostPeople {
		return nil, refusal.Invalid("people", "%d are more than the %d that a list may name", len(ids), mostPeople)
	}
	registers, err := rosterstore.RegistersOf(ctx, s.Store, ids)
	if errors.Is(err, db.ErrNotFound) {
		return nil, refusal.Invalid("people", "one of these is no id of a person: %s",
			strings.Join(ids[:min(len(ids), 5)], ", "))
	}
	if err != nil {
		return nil, err
	}
	for _, id := range ids {
		if len(registers[id]) == 0 {
			return nil, refusal.Invalid("people", "there is nobody with the id %q in a register", id)
		}
		all = append(all, registers[id])
	}
	return all, nil
}

// register gives the one register from which people come: that of their leading records, else the one that has all.
func (s *Service) register(ctx context.Context, ids []string) (string, error) {
	all, err := s.registers(ctx, ids)
	if err != nil {
		return "", err
	}
	common := slices.Clone(all[0])
	var leading []string
	for _, r := range all {
		leading = append(leading, r[0])
		common = slices.DeleteFunc(common, func(x string) bool { return !slices.Contains(r, x) })
	}
	slices.Sort(leading)
	if leading = slices.Compact(leading); len(leading) > 1 {
		leading = common
	}
	if len(leading) != 1 {
		return "", refusal.Invalid("people", "the people come from two registers; make a list for each")
	}
	return leading[0], nil
}

func named(name string) error {
	if n := len([]rune(name)); n == 0 || n > pairingstore.MaxTargetName {
		return refusal.Invalid("name", "must have 1 to %d characters, this has %d", pairingstore.MaxTargetName, n)
	}
	return nil
}

// Edit is what is to change about a list; nil leaves the name.
type Edit struct {
	Name      *string
	Add, Drop []string // ids of people, for a list of named people
}

// Change edits a list. version must be the one that was read, or 0. Its class is compared
// anew.
func (s *Service) Change(ctx context.Context, who, id string, version int, e Edit) (rosterstore.PeopleList, error) {
	l, err := rosterstore.FindPeopleList(ctx, s.Store, id)
	switch {
	case err != nil:
		return l, err
	case version != 0 && version != l.Version:
		return l, fmt.Errorf("changing the people list: %w", db.ErrStale)
	case l.Kind != rosterstore.ListOfNamed && len(e.Add)+len(e.Drop) > 0:
		return l, refusal.Conflict("",
			"who is on %s comes from the register; only lists of named people can be changed by hand", l.Name)
	}
	if len(e.Add) > 0 {
		registers, err := s.registers(ctx, e.Add)
		if err != nil {
			return l, err
		}
		for _, r := range registers {
			if !slices.Contains(r, l.InterfaceID) {
				return l, refusal.Invalid("add", "they come from another register than the others on %s", l.Name)
			}
		}
	}
	if e.Name != nil {
		l.Name = strings.TrimSpace(*e.Name)
		if err := named(l.Name); err != nil {
			return l, err
		}
	}
	return l, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := rosterstore.UpdatePeopleList(ctx, tx, &l); err != nil {
			return err
		}
		if err := rosterstore.ListPeople(ctx, tx, id, e.Add, e.Drop); err != nil {
			return err
		}
		return s.changed(ctx, tx, who, "changed a people list", l,
			map[string]any{"name": l.Name, "added": len(e.Add), "taken off": len(e.Drop)})
	})
}

// Remove removes a list that is not paired.
func (s *Service) Remove(ctx context.Context, who, id string) error {
	l, err := rosterstore.FindPeopleList(ctx, s.Store, id)
	if err != nil {
		return err
	}
	pairings, err := linkstore.PairingsOfSections(ctx, s.Store, []string{id})
	if err != nil {
		return err
	}
	if len(pairings) > 0 {
		return refusal.Conflict("",
			"%s is paired with %s; end that pairing first, which says what becomes of its people", l.Name,
			pairings[0].TargetName)
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := rosterstore.RemovePeopleList(ctx, tx, id); err != nil {
			return err
		}
		return s.changed(ctx, tx, who, "removed a people list", l, map[string]any{"name": l.Name})
	})
}

// changed lets lists show what changed, and the list's class be compared.
func (s *Service) changed(ctx context.Context, tx *db.Tx, who, what string, l rosterstore.PeopleList,
	detail map[string]any,
) error {
	if err := rosterstore.RefreshPeopleLists(ctx, tx, l.InterfaceID); err != nil {
		return err
	}
	pairings, err := linkstore.PairingsOfSections(ctx, tx, []string{l.ID})
	if err != nil {
		return err
	}
	for _, p := range pairings {
		if p.RanAt == nil {
			continue
		}
		if err := pairingstore.AskComparison(ctx, tx, who, p.Policy.Schedule.ReactsToReads() && p.PausedAt == nil,
			p); err != nil {
			return err
		}
	}
	if err := tx.Audit(ctx, who, what, "people-list/"+l.ID, detail); err != nil {
		return err
	}
	return tx.Announce(ctx, "section", l.ID)
}
