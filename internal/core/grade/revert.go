package grade

import "kanban/internal/core/finding"

// Change is what a run did with one person's result: what the book had before,
// and what was sent.
type Change struct {
	Item, Who    string
	Before, Sent Mark
}

// Revert is what undoing a change means.
type Revert struct {
	Change
	Outcome Outcome
	Reason  finding.Code
	Now     Mark
	// Deletes says that the book had nothing before: the result is deleted, where the book grants that.
	Deletes bool
}

// RevertOf says what undoing changes means by what the book has now: what nobody
// has changed since is put back as it was; what somebody has changed stays.
// now gives a result of the book, false when it has none.
func RevertOf(changes []Change, now func(item, who string) (Mark, bool), policy Policy) []Revert {
	list := make([]Revert, 0, len(changes))
	for _, c := range changes {
		r := Revert{Change: c, Outcome: Update, Reason: finding.Reverted}
		mark, has := now(c.Item, c.Who)
		r.Now = mark
		switch {
		case policy.same(&mark, &c.Before):
			r.Outcome, r.Reason = Unchanged, finding.ScoreSame
		case !has && !c.Sent.Blank() || !policy.same(&mark, &c.Sent):
			r.Outcome, r.Reason = Conflict, finding.ChangedSince
		default:
			r.Deletes = c.Before.Blank()
		}
		list = append(list, r)
	}
	return list
}
