package grade

import (
	"cmp"
	"slices"

	"kanban/internal/core/finding"
)

// Reasons is how many results of how many assignments one reason holds.
type Reasons struct {
	Reason         finding.Code
	Outcome        Outcome
	Results, Items int
}

// Summary says of every reason but those of what is in step how much it holds, the most
// first: why there is nothing new to send, such as 4 scores in 2 assignments that are
// still drafts.
func (p Plan) Summary() []Reasons {
	type key struct {
		reason  finding.Code
		outcome Outcome
	}
	by := map[key]*Reasons{}
	for _, item := range p.Items {
		here := map[key]bool{}
		for k := range item.Entries {
			e := &item.Entries[k]
			if e.Outcome == Unchanged || e.Outcome == BookOnly {
				continue
			}
			at := key{e.Reason, e.Outcome}
			if by[at] == nil {
				by[at] = &Reasons{Reason: e.Reason, Outcome: e.Outcome}
			}
			by[at].Results++
			if !here[at] {
				here[at] = true
				by[at].Items++
			}
		}
	}
	list := make([]Reasons, 0, len(by))
	for _, r := range by {
		list = append(list, *r)
	}
	slices.SortFunc(list, func(a, b Reasons) int {
		return cmp.Or(cmp.Compare(b.Results, a.Results), cmp.Compare(a.Reason, b.Reason), cmp.Compare(a.Outcome,
			b.Outcome))
	})
	return list
}

// Again lists the people of each assignment, by its id, whose work was handed in after
// it was marked.
func (p Plan) Again() map[string][]string {
	list := map[string][]string{}
	for _, item := range p.Items {
		for k := range item.Entries {
			if item.Entries[k].Again {
				list[item.ID] = append(list[item.ID], item.Entries[k].Who)
			}
		}
	}
	return list
}
