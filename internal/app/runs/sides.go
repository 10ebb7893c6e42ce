package runs

import (
	"context"
	"slices"
	"time"

	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/call"
)

// DirectoryReader sees what a service has about a pairing: every account that could belong
// to one of the people, and every member of the target.
type DirectoryReader interface {
	ReadTarget(ctx context.Context, at workspaces.TargetGroup, wanted []roster.Wanted, ids []string) (workspaces.Seen,
		error)
}

// Target is the other side of a pairing: what a run does to it.
type Target interface {
	DirectoryReader
	EnsureTarget(ctx context.Context, name, key string, details map[string]string) (ref string, err error)
	Rename(ctx context.Context, ref, name string) error
	LookAgain(ctx context.Context, see func() (bool, error)) (bool, error)
	Apply(ctx context.Context, ref string, steps []workspaces.Step, ended workspaces.Ended) error
}

// sides are both sides of a pairing.
type sides struct {
	pairing  pairingstore.Pairing
	groups   map[string]string // by section of a linked set: the group for its people
	made     bool              // the target was made by Kanban for this pairing
	matching roster.Matching
	target   Target
	store    *db.Database
}

func (s *Service) sides(ctx context.Context, p pairingstore.Pairing) (sides, error) {
	x := sides{pairing: p, store: s.Store}
	kept, err := connectionstore.FindInterface(ctx, s.Store, p.InterfaceID)
	if err != nil {
		return x, err
	}
	c, err := s.Connections.Open(ctx, p.InterfaceID)
	if err != nil {
		return x, err
	}
	x.matching, x.target = kept.Recognise(), workspaces.New(c, s.Call)
	x.groups, err = linkstore.Groups(ctx, s.Store, p.ID)
	return x, err
}

func (x sides) place() workspaces.TargetGroup {
	return workspaces.TargetGroup{Ref: x.pairing.TargetRef, Groups: x.groups}
}

// read reads both sides, and notes the target's name.
func (x *sides) read(ctx context.Context) (source roster.Source, target roster.Target, err error) {
	if source, err = pairingstore.Source(ctx, x.store, x.pairing); err != nil {
		return source, target, err
	}
	target, err = x.look(ctx, x.target, &source)
	return source, target, err
}

// look asks for the target's side, and adds to the source whom of the target the register has
// in other sections of the course.
func (x *sides) look(ctx context.Context, at DirectoryReader, source *roster.Source) (roster.Target, error) {
	wanted, ids := source.Lookups(x.matching)
	for _, placed := range source.Placed {
		ids = append(ids, placed.AccountID)
	}
	seen, err := at.ReadTarget(ctx, x.place(), wanted, ids)
	if p, ok := call.As(err); ok && p.Kind == call.NotFound && x.pairing.TargetRef != "" {
		return roster.Target{}, refusal.Conflict(finding.TargetGone,
			"%s is no longer at the service: it was deleted there. Make it anew (kanban pairings renew), or end the pairing", x.pairing.TargetName)
	}
	x.pairing.TargetSeen, x.made = seen.Name, seen.Key == x.pairing.ID
	if err != nil {
		return roster.Target{}, err
	}
	target := roster.Target{Accounts: seen.Accounts}
	if strangers := source.Strangers(target); len(strangers) > 0 {
		source.Others, err = rosterstore.InOtherSections(ctx, x.store, x.pairing.InterfaceID, x.pairing.SectionID,
			strangers)
	}
	return target, err
}

// compare reads both sides and works out what has to happen.
func (x *sides) compare(ctx context.Context) (roster.Plan, error) {
	source, target, err := x.read(ctx)
	if err != nil {
		return roster.Plan{}, err
	}
	return x.work(source, target), nil
}

// work compares, and counts whose places nobody minds where that is still to be decided.
func (x *sides) work(source roster.Source, target roster.Target) roster.Plan {
	plan := roster.Compare(source, target, x.pairing.Policy, x.matching)
	x.pairing.Unminded = 0
	if x.pairing.TakeOver == pairingstore.TakesOverIfAsked && !x.made {
		source.TakesOver = true
		x.pairing.Unminded, _ = roster.Compare(source, target, x.pairing.Policy, x.matching).TakeOvers()
	}
	return plan
}

// refusals gives, for everybody whom the last run could not bring over, the
// service's own words and what had been sent.
func (s *Service) refusals(ctx context.Context, p pairingstore.Pairing) (map[string]runstore.Change, error) {
	if p.LastRunID == nil {
		return nil, nil
	}
	all, err := runstore.RefusedOf(ctx, s.Store, []string{*p.LastRunID})
	return all[*p.LastRunID], err
}

// told is a plan with who was refused the same change last time.
func told(plan roster.Plan, refused map[string]runstore.Change) roster.Plan {
	if len(refused) == 0 {
		return plan
	}
	plan.Entries = slices.Clone(plan.Entries)
	for i := range plan.Entries {
		e := &plan.Entries[i]
		if c, ok := refused[e.Key()]; ok && e.Outcome.Changes() && c.Entry.Want == e.Want {
			e.Refused, e.Detail = finding.Code(c.Code), "last time: "+c.Answer
		}
	}
	return plan
}

// standing gives a plan's counts, and who needs a person. Somebody who was
// refused last time, and of whom nothing has changed since, needs one too.
func standing(plan roster.Plan, p pairingstore.Pairing, refused map[string]runstore.Change, now time.Time) (s stand) {
	policy := p.Policy
	plan = told(plan, refused)
	s = stand{counts: plan.CountsNow(), mend: []pairingstore.Mend{}, quiet: []pairingstore.Mend{}}
	if n, tripped := plan.GuardTripped(policy); tripped {
		s.guarded = n
	}
	for _, e := range plan.Entries {
		who := pairingstore.Mend{
			PersonID: e.PersonID, Name: e.Name, Role: string(e.Role), Outcome: e.Outcome,
			Code: e.Reason, Detail: e.Detail,
		}
		switch {
		case e.Outcome == roster.OutcomeNeedsPerson:
			s.mend = append(s.mend, who)
		case e.Outcome == roster.OutcomeWaiting, e.Outcome == roster.OutcomeLeftOut:
			s.quiet = append(s.quiet, who)
		case e.Refused != "":
			who.Outcome, who.Code, who.Detail = roster.OutcomeNeedsPerson, e.Refused, refused[e.Key()].Answer
			s.mend = append(s.mend, who)
		}
	}
	s.mend, s.quiet = pairingstore.Aged(s.mend, p.Mend, now), pairingstore.Aged(s.quiet, p.LeftAsIs, now)
	return s
}

// stand is what a comparison leaves about a pairing: the counts, who needs a
// person, and who waits or is left out.
type stand struct {
	counts      roster.Counts
	mend, quiet []pairingstore.Mend
	guarded     int // removals that need approval
}

func (s stand) keep(ctx context.Context, tx *db.Tx, p pairingstore.Pairing) error {
	return pairingstore.KeepStatus(ctx, tx, p.ID, p.TargetSeen, s.counts, s.mend, s.quiet, s.guarded, p.Unminded)
}
