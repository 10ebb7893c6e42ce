package roster

import "slices"

// Effect is what becomes of somebody at the other side when nothing, or something else, keeps
// them there.
type Effect string

// The effects.
const (
	Stays    Effect = "stays"     // in the target, and stays in it
	Removed  Effect = "removed"   // in the target, and is taken out
	Added    Effect = "added"     // not in the target, and is put into it
	NotAdded Effect = "not-added" // not in the target, and does not get in
)

// Effects lists them all, what somebody has to know of first.
var Effects = []Effect{Removed, Added, NotAdded, Stays}

// Affected is a person with what becomes of them.
type Affected struct {
	Entry
	Effect Effect
}

// Effects says what becomes of everybody of a plan when it is carried out, or, with ends, when
// nothing is ever done about the target any more. The order is that of Effects, then of the
// plan.
func (p Plan) Effects(target Target, ends bool) []Affected {
	in := make(map[string]bool, len(target.Accounts))
	for _, a := range target.Accounts {
		in[a.ID] = in[a.ID] || a.InTarget
	}
	list := make([]Affected, 0, len(p.Entries))
	for _, e := range p.Entries {
		list = append(list, Affected{e, e.effect(in[e.AccountID], ends)})
	}
	slices.SortStableFunc(list, func(a, b Affected) int {
		return slices.Index(Effects,
			a.Effect) - slices.Index(Effects, b.Effect)
	})
	return list
}

func (e Entry) effect(in, ends bool) Effect {
	switch {
	case in && e.Outcome == OutcomeRemove && !ends:
		return Removed
	case in:
		return Stays
	case e.Outcome == OutcomeAdd && !ends:
		return Added
	}
	return NotAdded
}
