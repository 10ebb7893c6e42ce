package runs

import (
	"cmp"
	"context"
	"errors"
	"slices"

	"kanban/internal/adapter"
	"kanban/internal/adapter/workspaces"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/wire/call"
)

// Seated says how a test learner stands in the class of a pairing.
type Seated struct {
	In     bool
	Failed bool   // somebody has to mend it; else it waits
	Why    string // why they are not in it, or what else is to be said
}

// PutTest puts a test learner into the class of a pairing as a learner, by the rules by which it puts learners, and
// looks whether they arrived; before is called when they are not in it and are about to be put there. Kanban does not
// mind their place: runs go on to leave them out.
func (s *Service) PutTest(ctx context.Context, pairingID, personID string, before func() error) (Seated, error) {
	x, err := s.testSides(ctx, pairingID)
	if err != nil {
		return refusedSeat(err)
	}
	e, err := x.oneEntry(ctx, personID)
	if err != nil {
		return refusedSeat(err)
	}
	if e.Outcome == roster.OutcomeAdd {
		if err := before(); err != nil {
			return Seated{}, err
		}
		if err := x.applyOne(ctx, workspaces.Step{
			Outcome: e.Outcome, AccountID: e.AccountID, Want: e.Want, Activate: e.Activate,
			Notify: x.pairing.Policy.Notify, Join: x.refs(e.Join),
		}); err != nil {
			return refusedSeat(err)
		}
		in, err := x.target.LookAgain(ctx, func() (bool, error) {
			e, err = x.oneEntry(ctx, personID)
			return e.Outcome == roster.OutcomeInStep || e.Outcome == roster.OutcomeUpdate, err
		})
		if err != nil || !in && e.Outcome == roster.OutcomeAdd {
			return refusedSeat(cmp.Or(err, refusal.Conflict(finding.NotArrived,
				"accepted by the service, but not there when read back")))
		}
	}
	switch e.Outcome {
	case roster.OutcomeInStep:
		return Seated{In: true}, nil
	case roster.OutcomeUpdate: // in the class, and a run would still change something
		return Seated{In: true, Why: "a run would still change something: " + why(e)}, nil
	case roster.OutcomeWaiting:
		return Seated{Why: why(e)}, nil
	}
	return Seated{Failed: true, Why: why(e)}, nil
}

// TakeTest takes a test learner out of the class of a pairing, which may have ended meanwhile, and looks whether they
// are gone. A class that is gone has nobody.
func (s *Service) TakeTest(ctx context.Context, pairingID, personID string) error {
	p, err := pairingstore.FindPairing(ctx, s.Store, pairingID)
	if err != nil || p.TargetRef == "" {
		return err
	}
	c, err := connectionstore.FindInterface(ctx, s.Store, p.InterfaceID)
	if err != nil {
		return err
	}
	if c.Paused() {
		return refusal.Conflict("", "%s is paused; resume it first", c.Name)
	}
	x, err := s.sides(ctx, p)
	if err != nil {
		return err
	}
	account, in, err := x.seatOf(ctx, personID)
	if r, ok := refusal.As(err); ok && r.Code == finding.TargetGone {
		return nil
	}
	if err != nil || !in {
		return err
	}
	step := workspaces.Step{Outcome: roster.OutcomeRemove, AccountID: account}
	for _, ref := range x.groups {
		step.Quit = append(step.Quit, ref)
	}
	if err := x.applyOne(ctx, step); err != nil {
		return err
	}
	out, err := x.target.LookAgain(ctx, func() (bool, error) {
		_, in, err := x.seatOf(ctx, personID)
		return !in, err
	})
	if err == nil && !out {
		err = refusal.Conflict(finding.NotArrived, "accepted by the service, but still there when read back")
	}
	return err
}

// seatOf gives a test learner's account and whether it is in the class.
func (x *sides) seatOf(ctx context.Context, personID string) (account string, in bool, err error) {
	e, err := x.oneEntry(ctx, personID)
	if err != nil {
		return "", false, err
	}
	if e.Outcome == roster.OutcomeNeedsPerson {
		return "", false, refusal.Conflict(e.Reason, "whose account it is cannot be told (%s): look at the class by hand",
			why(e))
	}
	if e.AccountID == "" {
		return "", false, nil
	}
	seen, err := x.target.ReadTarget(ctx, x.place(), nil, []string{e.AccountID})
	return e.AccountID, slices.ContainsFunc(seen.Accounts, func(a roster.Account) bool {
		return a.ID == e.AccountID && a.InTarget
	}), err
}

// testSides are the sides of a pairing that may run now and whose class is made.
func (s *Service) testSides(ctx context.Context, pairingID string) (x sides, err error) {
	p, err := pairingstore.FindPairing(ctx, s.Store, pairingID)
	if err != nil {
		return x, err
	}
	if err := s.allowed(ctx, p, false); err != nil {
		return x, err
	}
	if p.TargetRef == "" {
		return x, refusal.Conflict("", "the class is not made yet: bring the section in step first")
	}
	return s.sides(ctx, p)
}

// oneEntry compares as though the section had one learner only.
func (x *sides) oneEntry(ctx context.Context, personID string) (roster.Entry, error) {
	source, err := pairingstore.Source(ctx, x.store, x.pairing)
	if err != nil {
		return roster.Entry{}, err
	}
	i := slices.IndexFunc(source.Members, func(m roster.Member) bool { return m.PersonID == personID })
	if i < 0 {
		return roster.Entry{}, refusal.Conflict("", "the test learner is not in the section any more")
	}
	one := source.Members[i]
	one.Role, one.Begins, one.SecondOf = roster.Student, nil, ""
	source = roster.Source{Members: []roster.Member{one}}
	target, err := x.look(ctx, x.target, &source)
	if err != nil {
		return roster.Entry{}, err
	}
	policy, matching := x.pairing.Policy, x.matching
	policy.OwnTarget = false
	matching.Exclude = slices.DeleteFunc(slices.Clone(matching.Exclude),
		func(e roster.Exclusion) bool { return e.TestLearners })
	for _, e := range roster.Compare(source, target, policy, matching).Entries {
		if e.PersonID == personID {
			return e, nil
		}
	}
	return roster.Entry{}, errors.New("a comparison has an entry for everybody")
}

func (x *sides) applyOne(ctx context.Context, step workspaces.Step) error {
	var refused error
	err := x.target.Apply(ctx, x.pairing.TargetRef, []workspaces.Step{step}, func(_ int, _ string, err error) error {
		refused = err
		return nil
	})
	return errors.Join(err, refused)
}

// refusedSeat says what keeps a test learner out; an error of ours stays one.
func refusedSeat(err error) (Seated, error) {
	if p, ok := call.As(err); ok {
		return Seated{Failed: true, Why: p.Error()}, nil
	}
	if r, ok := refusal.As(err); ok {
		return Seated{Failed: r.Code != "", Why: r.Detail}, nil
	}
	return Seated{}, err
}

func why(e roster.Entry) string {
	text := finding.Title(e.Reason)
	if e.Detail != "" {
		text += ": " + e.Detail
	}
	return text
}

// KnownAt says of each workspace that is not paused whether a person has an account there.
func (s *Service) KnownAt(ctx context.Context, who workspaces.Someone,
	do func(c connectionstore.Interface, has bool, err error),
) error {
	all, err := connectionstore.Interfaces(ctx, s.Store)
	if err != nil {
		return err
	}
	for _, kept := range all {
		if kept.Kind != adapter.KindSCIM || kept.Paused() {
			continue
		}
		account := ""
		c, err := s.Connections.Open(ctx, kept.ID)
		if err == nil {
			account, err = workspaces.New(c, s.Call).AccountOf(ctx, who)
		}
		do(kept, account != "", err)
	}
	return nil
}

// DropAccount deletes the account of a test learner at a workspace; off says that the service deletes none, so that
// it was switched off.
func (s *Service) DropAccount(ctx context.Context, interfaceID, identifier string) (off bool, err error) {
	kept, err := connectionstore.FindInterface(ctx, s.Store, interfaceID)
	if err != nil {
		return false, err
	}
	if kept.Paused() {
		return false, refusal.Conflict("", "%s is paused; resume it first", kept.Name)
	}
	c, err := s.Connections.Open(ctx, interfaceID)
	if err != nil {
		return false, err
	}
	return workspaces.New(c, s.Call).Drop(ctx, identifier)
}
