package scores

import (
	"context"
	"slices"

	"kanban/internal/core/refusal"
	"kanban/internal/core/rollover"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/scorestore"
)

// Following is a score link whose term ends, with what its copy for the next term would be.
type Following struct {
	Link Listed
	// Moves are its sections with those that follow them, as far as they are known.
	Moves []rollover.Move
	// SourceClass is the class at the source, "" when somebody has to choose it.
	SourceClass string
	// Why says what is missing; "" when it can be copied.
	Why string

	next NewLink
}

// Following lists the score links whose sections' term ends within ahead days or has ended, with the sections that
// follow.
func (s *Service) Following(ctx context.Context, ahead int) ([]Following, error) {
	links, err := s.List(ctx, "")
	if err != nil {
		return nil, err
	}
	sections, err := rosterstore.Sections(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	until := s.Clock.Now().AddDate(0, 0, ahead)
	linked := map[string]bool{}
	for _, l := range links {
		for _, x := range l.Sections {
			linked[x.ID] = true
		}
	}
	var all, ending []rollover.Section
	by := map[string]rosterstore.Section{}
	for _, x := range sections {
		if x.List != "" {
			continue
		}
		by[x.ID] = x
		r := rollover.Section{
			ID: x.ID, Title: x.Title, Code: x.Code, CourseCode: x.CourseCode, Teachers: x.TeacherIDs,
			Begins: x.BeginsOn, Ends: x.EndsOn, Taken: linked[x.ID] || x.Gone,
		}
		all = append(all, r)
		if linked[x.ID] && x.EndsOn != nil && x.EndsOn.Before(until) {
			ending = append(ending, r)
		}
	}
	moves := map[string]rollover.Move{}
	for _, m := range rollover.Propose(ending, all, s.Clock.Now()) {
		moves[m.From.ID] = m
	}
	var out []Following
	for _, l := range links {
		f := Following{Link: l}
		for _, x := range l.Sections {
			if m, ends := moves[x.ID]; ends {
				f.Moves = append(f.Moves, m)
			}
		}
		if len(f.Moves) == 0 {
			continue
		}
		if err := s.follow(ctx, &f, by); err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// follow works out what the copy of a link would be.
func (s *Service) follow(ctx context.Context, f *Following, by map[string]rosterstore.Section) error {
	var from, to []string
	sets := map[string]bool{}
	for _, m := range f.Moves {
		if m.To.ID == "" {
			f.Why = "no section follows " + m.From.Title + " yet"
			return nil
		}
		from, to = append(from, m.From.ID), append(to, m.To.ID)
		set := ""
		if x := by[m.To.ID]; x.SetID != nil {
			set = *x.SetID
		}
		sets[set] = true
	}
	switch set := by[to[0]].SetID; {
	case len(f.Moves) < len(f.Link.Sections):
		f.Why = "not all of its sections end"
		return nil
	case len(sets) > 1, len(to) > 1 && sets[""]:
		f.Why = "link the sections that follow first; its own are linked"
		return nil
	case set != nil:
		f.next.SetID = *set
	default:
		f.next.SectionID = to[0]
	}
	f.next.SourceInterfaceID, f.next.BookInterfaceID = f.Link.SourceInterfaceID, f.Link.BookInterfaceID
	f.next.Policy = &f.Link.Policy
	ids, err := rosterstore.SourcedIDs(ctx, s.Store, append(slices.Clone(from), to...))
	if err != nil {
		return err
	}
	for _, id := range from {
		if f.Link.BookClasses[id] != ids[id] {
			f.Why = "the book does not call classes as the register does; make the score link by hand"
			f.next = NewLink{}
			return nil
		}
	}
	if f.SourceClass, err = s.classAfter(ctx, f.Link, from, to, ids); f.SourceClass == "" {
		f.Why = "choose the class at " + f.Link.Source
	}
	f.next.SourceClass = f.SourceClass
	return err
}

// classAfter is the class of the source that follows a link's: the register's own id of the section that follows where
// the source calls classes so, or the class with which that section is paired where the link's is the one of its own
// pairing. It is empty when neither is so.
func (s *Service) classAfter(ctx context.Context, l Listed, from, to []string, ids map[string]string) (string, error) {
	for i := range from {
		if ids[from[i]] == l.SourceClass {
			return ids[to[i]], nil
		}
	}
	had, err := linkstore.PairingsOfSections(ctx, s.Store, from)
	if err != nil {
		return "", err
	}
	has, err := linkstore.PairingsOfSections(ctx, s.Store, to)
	if err != nil {
		return "", err
	}
	class := ""
	for _, p := range had {
		if p.TargetRef != l.SourceClass {
			continue
		}
		for _, n := range has {
			switch {
			case n.InterfaceID != p.InterfaceID || n.TargetRef == "" || n.TargetRef == class:
			case class != "":
				return "", nil // more than one: somebody chooses
			default:
				class = n.TargetRef
			}
		}
	}
	return class, nil
}

// Follow makes the copy of a link for the term that follows, with the same policy. class is the class of the
// source when it is not known by itself; ahead is as in Following. The old link stays as it is.
func (s *Service) Follow(ctx context.Context, who, linkID, class string, ahead int, anyway bool) (
	scorestore.Link, error,
) {
	all, err := s.Following(ctx, ahead)
	if err != nil {
		return scorestore.Link{}, err
	}
	i := slices.IndexFunc(all, func(f Following) bool { return f.Link.ID == linkID })
	if i < 0 {
		if _, err := scorestore.FindLink(ctx, s.Store, linkID); err != nil {
			return scorestore.Link{}, err
		}
		return scorestore.Link{}, refusal.Conflict("", "the term of this score link does not end within %d days", ahead)
	}
	f := all[i]
	if class != "" {
		f.next.SourceClass = class
	}
	if f.next.SetID == "" && f.next.SectionID == "" || f.next.SourceClass == "" {
		return scorestore.Link{}, refusal.Conflict("", "it cannot be copied yet: %s", f.Why)
	}
	f.next.Anyway = anyway
	return s.Make(ctx, who, f.next)
}
