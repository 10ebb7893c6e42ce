package linking

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/core/linking"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
)

// Edit is what is to change about a set.
type Edit struct {
	Add    []string // sections that come in
	Drop   []string // sections of it that go out
	LeadID string   // another lead; it stays when empty
	Reason string   // overrides what an administrator may override
}

// Edited is what an edit would mean.
type Edited struct {
	Set      Linked
	Sections []linking.Section // as they would be, the lead first
	Refused  []linking.Refusal // nothing can be changed while there is any
	Classes  []ClassEffects
	after    []rosterstore.Section
}

// Editing says what changing a set would mean for everybody, without doing anything.
func (s *Service) Editing(ctx context.Context, id string, e Edit) (Edited, error) {
	x, err := s.edited(ctx, id, e)
	if err != nil || len(x.Refused) > 0 {
		return x, err
	}
	sections := sectionIDs(x.after)
	x.Classes, err = s.effects(ctx, x.Set.Pairings, false,
		func(p *pairingstore.Pairing) { p.SectionID, p.Sections = x.after[0].ID, sections })
	return x, err
}

func (s *Service) edited(ctx context.Context, id string, e Edit) (x Edited, err error) {
	if x.Set, err = s.Set(ctx, id); err != nil {
		return x, err
	}
	if x.Set.UnlinkedAt != nil {
		return x, refusal.Conflict("", "%s is unlinked; link its sections again instead", x.Set.Name)
	}
	school, err := s.school(ctx)
	if err != nil {
		return x, err
	}
	var ids []string
	for _, section := range x.Set.Sections {
		if !slices.Contains(e.Drop, section.ID) {
			ids = append(ids, section.ID)
		}
	}
	for _, id := range e.Drop {
		if !slices.ContainsFunc(x.Set.Sections, func(in rosterstore.Section) bool { return in.ID == id }) {
			return x, refusal.Invalid("drop", "%q is no section of %s", id, x.Set.Name)
		}
	}
	ids = append(ids, e.Add...)
	leadID := cmp.Or(e.LeadID, x.Set.LeadID)
	at := slices.Index(ids, leadID)
	switch {
	case len(e.Add)+len(e.Drop) == 0 && leadID == x.Set.LeadID:
		return x, refusal.Invalid("add",
			"nothing is to be changed: name sections to add or to take out, or another lead")
	case at < 0 && e.LeadID == "":
		return x, refusal.Invalid("lead", "the lead section is to be taken out: say which of the others leads then")
	case at < 0:
		return x, refusal.Invalid("lead", "the section that is to lead is none of those that would be linked")
	case len(ids) < 2:
		return x, refusal.Invalid("drop", "a set of one section is none: unlink it instead")
	}
	ids = slices.Concat([]string{leadID}, slices.Delete(slices.Clone(ids), at, at+1))
	for _, id := range ids {
		section, err := school.find(id, "sections")
		if err != nil {
			return x, err
		}
		if section.Set == x.Set.Name && slices.ContainsFunc(x.Set.Sections,
			func(in rosterstore.Section) bool { return in.ID == id }) {
			section.Set, section.Gone = "", false // it is in this very set, gone or not
		}
		x.Sections = append(x.Sections, section)
	}
	x.Refused = linking.Check(x.Sections[0], x.Sections[1:], cmp.Or(strings.TrimSpace(e.Reason), x.Set.Reason),
		s.Clock.Now())
	x.after, err = rosterstore.SectionsByID(ctx, s.Store, ids)
	return x, err
}

// Change changes a set. version must be the one that was read, or 0. A safety copy of what
// its sections are then is kept first; its classes' next runs bring their people to what
// was shown.
func (s *Service) Change(ctx context.Context, who, id string, version int, e Edit) error {
	x, err := s.edited(ctx, id, e)
	if err != nil {
		return err
	}
	if version != 0 && version != x.Set.Version {
		return fmt.Errorf("changing the set: %w", db.ErrStale)
	}
	if err := refused(x.Refused); err != nil {
		return err
	}
	if err := s.Pairings.AtRest(ctx, x.Set.Pairings...); err != nil {
		return err
	}
	g, err := s.gather(ctx, ids(x.Sections), x.Set.Pairings)
	if err != nil {
		return err
	}
	kept, err := g.keep(x.Set.ID, s.Clock.Now())
	if err != nil {
		return err
	}
	set := x.Set.LinkedSet
	before := sectionIDs(set.Sections)
	set.LeadID, set.Sections = x.after[0].ID, x.after
	if reason := strings.TrimSpace(e.Reason); reason != "" {
		set.Reason = reason
	}
	return linkedMeanwhile(s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := linkstore.EditSet(ctx, tx, &set); err != nil {
			return err
		}
		if err := db.Create(tx, &kept, "keeping the safety copy"); err != nil {
			return err
		}
		if err := regroup(ctx, tx, who, x.Set.Pairings, true,
			func(p *pairingstore.Pairing) { p.SectionID = set.LeadID }); err != nil {
			return err
		}
		detail := map[string]any{
			"name": set.Name, "before": before, "after": sectionIDs(set.Sections),
			"reason": set.Reason,
		}
		if err := tx.Audit(ctx, who, "changed a linked set", "set/"+set.ID, detail); err != nil {
			return err
		}
		return tx.Announce(ctx, "section", "")
	}))
}

func sectionIDs(sections []rosterstore.Section) (list []string) {
	for _, x := range sections {
		list = append(list, x.ID)
	}
	return list
}

// refused says why sections cannot be linked; nil when they can.
func refused(list []linking.Refusal) error {
	if len(list) == 0 {
		return nil
	}
	r, hint := list[0], ""
	if r.Overridable {
		hint = "; to link it all the same, give a reason"
	}
	return refusal.Conflict(r.Code, "%s cannot be linked: %s%s", r.Section.Title, r.Detail, hint)
}
