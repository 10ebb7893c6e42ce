package pipeline

import (
	"cmp"
	"context"
	"slices"

	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/learningstore"
)

// Reversed is a completion that holds no longer, with what was done for it.
type Reversed struct {
	deliverystore.Consequence
	What string // which activity, module or course it was, in words
}

// Reversals lists what was done for completions that hold no longer and that nothing takes
// back.
func (s *Facts) Reversals(ctx context.Context) ([]Reversed, error) {
	all, err := deliverystore.ConsequencesOfReversed(ctx, s.Store)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	var courses []string
	var pairs []learningstore.ProgressRow
	for _, h := range all {
		courses = append(courses, h.CourseID)
		if g := (learningstore.ProgressRow{PersonID: h.PersonID, SectionID: h.SectionID}); len(pairs) == 0 ||
			orderOf(pairs[len(pairs)-1], g) != 0 {
			pairs = append(pairs, g)
		}
	}
	compiled, err := s.Outlines.CompiledOf(ctx, distinct(courses))
	if err != nil {
		return nil, err
	}
	states := map[learningstore.SectionKey]learning.State{}
	for some := range slices.Chunk(pairs, 1000) {
		read, err := learningstore.States(ctx, s.Store, some)
		if err != nil {
			return nil, err
		}
		for key, state := range read {
			states[key] = state
		}
	}
	var out []Reversed
	for _, h := range all {
		e := compiled[h.CourseID]
		if e.Course == nil {
			continue
		}
		state := states[learningstore.SectionKey{PersonID: h.PersonID, SectionID: h.SectionID}]
		what, done := "", false
		switch rule.Trigger(h.Type) {
		case rule.ActivityCompleted:
			_, a, there := e.Find(h.ActivityID)
			if !there {
				continue // it is not in the outline any more, so it is not open
			}
			what, done = cmp.Or(a.Title, a.ID), learning.Done(a, state)
		case rule.ModuleCompleted:
			i := slices.IndexFunc(e.Outline.Modules, func(m learning.Module) bool { return m.ID == h.ModuleID })
			if i < 0 {
				continue
			}
			m := e.Outline.Modules[i]
			what, done = cmp.Or(m.Title, m.ID), learning.ModuleDone(m, state)
		default:
			what, done = "the course", learning.CourseDone(e.Outline, state)
		}
		if !done {
			out = append(out, Reversed{h, what})
		}
	}
	return out, nil
}
