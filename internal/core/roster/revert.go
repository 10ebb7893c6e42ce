package roster

import (
	"slices"

	"kanban/internal/core/finding"
)

// Revert works out how the effect of a run is undone: whoever it put in comes
// out again, whoever it took out goes back in, and changed details become what
// they were. done are the entries that the run carried out; target is how the
// service is now. What is no longer as the run left it is left alone, so taking
// back twice does nothing. The plan has exactly one entry per entry of done.
func Revert(done []Entry, target Target) Plan {
	accounts := make(map[string]*Account, len(target.Accounts))
	for i := range target.Accounts {
		accounts[target.Accounts[i].ID] = &target.Accounts[i]
	}
	entries := make([]Entry, len(done))
	for i, d := range done {
		entries[i] = undo(d, accounts[d.AccountID])
	}
	return newPlan(entries)
}

func undo(d Entry, a *Account) Entry {
	e := Entry{PersonID: d.PersonID, AccountID: d.AccountID, Name: d.Name, Role: d.Role}
	same := e.as(OutcomeLeftOut, finding.ChangedSince, "")
	switch {
	case a == nil:
		return same
	case d.Outcome == OutcomeAdd && a.InTarget:
		// An account that the run made or switched on is switched off with it.
		e.Deactivate = (d.Reason == finding.NewAccount || d.Activate) && a.Active
		e.Join, e.Quit = d.Quit, d.Join
		if e.Deactivate {
			return e.as(OutcomeRemove, finding.Reverted, "was put in; the account is switched off again")
		}
		return e.as(OutcomeRemove, finding.Reverted, "was put in")
	case d.Outcome == OutcomeRemove && !a.InTarget:
		e.Want, e.Join, e.Quit = d.Was, d.Quit, d.Join
		e.Activate = d.Deactivate && !a.Active
		return e.as(OutcomeAdd, finding.Reverted, "was taken out")
	case d.Outcome == OutcomeUpdate && d.Want == (Wanted{}):
		if !within(d.Join, a.Groups) {
			return same
		}
		e.Join, e.Quit = d.Quit, d.Join
		return e.as(OutcomeUpdate, finding.Reverted, "was put into another group")
	case d.Outcome == OutcomeUpdate && a.GivenName == d.Want.GivenName && a.FamilyName == d.Want.FamilyName:
		e.Want, e.Was, e.Join, e.Quit = d.Was, d.Want, d.Quit, d.Join
		return e.as(OutcomeUpdate, finding.Reverted, "was changed")
	}
	return same
}

func within(some, all []string) bool {
	for _, x := range some {
		if !slices.Contains(all, x) {
			return false
		}
	}
	return true
}

// Side is one person on both sides of a pairing: as the section has them and as
// the service does. One of the two may be absent.
type Side struct {
	Entry
	Member  *Member
	Account *Account
}

// SideBySide puts both sides of a comparison beside each other, one line per
// entry of its plan, in the plan's order.
func SideBySide(source Source, target Target, plan Plan) []Side {
	members := make(map[string]*Member, len(source.Members))
	for _, p := range onePerPerson(source.Members, nil) {
		members[p.PersonID] = p.Member
	}
	accounts := make(map[string]*Account, len(target.Accounts))
	for i := range target.Accounts {
		accounts[target.Accounts[i].ID] = &target.Accounts[i]
	}
	lines := make([]Side, len(plan.Entries))
	for i, e := range plan.Entries {
		lines[i] = Side{e, members[e.PersonID], accounts[e.AccountID]}
	}
	return lines
}
