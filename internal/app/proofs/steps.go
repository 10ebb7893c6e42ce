package proofs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/proofstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/call"
)

// Work carries a proof on: it goes through its steps, or reverts them. It is called again after a while when again is
// not 0.
func (s *Service) Work(ctx context.Context, id string, anyway bool) (again time.Duration, err error) {
	p, err := proofstore.FindProof(ctx, s.Store, id)
	if errors.Is(err, db.ErrNotFound) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	switch p.State {
	case proofstore.Running:
		return 0, s.carryOut(ctx, &p)
	case proofstore.Reverting:
		return s.revert(ctx, &p, anyway)
	}
	return 0, nil
}

// carryOut lets the test learner do each step that has not arrived. What goes wrong with one keeps none of the
// others from being tried.
func (s *Service) carryOut(ctx context.Context, p *proofstore.Proof) error {
	x, err := rosterstore.FindSection(ctx, s.Store, p.SectionID)
	if err != nil {
		return err
	}
	if ok, err := s.marked(ctx, *p); err != nil || !ok {
		if err == nil {
			s.fact(p, proofstore.Fact{
				Kind: proofstore.Join, Title: x.Title, State: proofstore.Failed,
				Detail: p.Name + " is no test learner any more; nothing more is done about them",
			})
			err = s.tried(ctx, p)
		}
		return err
	}
	for _, step := range []func(context.Context, *proofstore.Proof, rosterstore.Section) error{
		s.accounts, s.join, s.seats, s.module, s.scores,
	} {
		if err := step(ctx, p, x); err != nil {
			return err
		}
		if err := proofstore.KeepProof(ctx, s.Store, *p); err != nil {
			return err
		}
		now, err := proofstore.FindProof(ctx, s.Store, p.ID)
		if err != nil || now.State != proofstore.Running {
			return err // it is to be reverted meanwhile
		}
	}
	return s.tried(ctx, p)
}

// tried notes that every step was tried.
func (s *Service) tried(ctx context.Context, p *proofstore.Proof) error {
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := proofstore.KeepProof(ctx, tx, *p); err != nil {
			return err
		}
		if err := proofstore.MoveProof(ctx, tx, p.ID, proofstore.Running, proofstore.Done,
			s.Clock.Now()); err != nil {
			return err
		}
		return tx.Announce(ctx, "proof", p.ID)
	})
	if errors.Is(err, db.ErrStale) {
		return nil // it is to be reverted meanwhile
	}
	return err
}

// accounts notes where a test learner of the register had an account beforehand, so that only the others are deleted
// one day. One who was made for the proof had none: nobody else carries their identifier.
func (s *Service) accounts(ctx context.Context, p *proofstore.Proof, _ rosterstore.Section) error {
	if p.Made {
		return nil
	}
	who, err := s.someone(ctx, *p)
	if err != nil {
		return err
	}
	return s.Runs.KnownAt(ctx, who, func(c connectionstore.Interface, has bool, err error) {
		if slices.ContainsFunc(p.Accounts, func(a proofstore.Account) bool { return a.InterfaceID == c.ID }) {
			return // what is found later may be an effect of the proof
		}
		a := proofstore.Account{InterfaceID: c.ID, Had: has}
		if err != nil {
			a.Unknown = err.Error()
		}
		p.Accounts = append(p.Accounts, a)
	})
}

// fact notes what became of something that was to be recorded.
func (s *Service) fact(p *proofstore.Proof, f proofstore.Fact) {
	now := s.Clock.Now()
	f.At = &now
	p.Facts = slices.DeleteFunc(p.Facts, func(o proofstore.Fact) bool { return o.Kind == f.Kind })
	p.Facts = append(p.Facts, f)
}

func has(p *proofstore.Proof, kind string) bool {
	return slices.ContainsFunc(p.Facts, func(f proofstore.Fact) bool {
		return f.Kind == kind && f.State == proofstore.Arrived
	})
}

// join records that the test learner joined the section, as a learner.
func (s *Service) join(ctx context.Context, p *proofstore.Proof, x rosterstore.Section) error {
	if has(p, proofstore.Join) {
		return nil
	}
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		_, err := eventstore.RecordEvents(ctx, tx, []eventstore.Event{{
			Type: string(rule.SectionJoined), NaturalKey: string(rule.SectionJoined) + "/proof/" + p.ID,
			PersonID: &p.PersonID, SectionID: &x.ID, CourseID: &x.CourseID,
			Data: map[string]any{"role": "student", "moved": false}, OccurredAt: s.Clock.Now(),
		}})
		return err
	})
	if err == nil {
		s.fact(p, proofstore.Fact{Kind: proofstore.Join, Title: x.Title, State: proofstore.Arrived})
	}
	return err
}

// seats puts the test learner into the classes of the section.
func (s *Service) seats(ctx context.Context, p *proofstore.Proof, x rosterstore.Section) error {
	all, err := linkstore.PairingsOfSections(ctx, s.Store, []string{x.ID})
	if err != nil {
		return err
	}
	for _, pairing := range all {
		i := slices.IndexFunc(p.Seats, func(t proofstore.Seat) bool { return t.PairingID == pairing.ID })
		if i >= 0 && p.Seats[i].State == proofstore.Arrived {
			continue
		}
		if i < 0 {
			c, err := connectionstore.FindInterface(ctx, s.Store, pairing.InterfaceID)
			if err != nil {
				return err
			}
			i = len(p.Seats)
			p.Seats = append(p.Seats, proofstore.Seat{
				PairingID: pairing.ID, Target: pairing.TargetName, InterfaceID: c.ID, Service: c.Name,
			})
		}
		seat := &p.Seats[i]
		seated, err := s.Runs.PutTest(ctx, pairing.ID, p.PersonID, func() error {
			seat.Tried = true
			return proofstore.KeepProof(ctx, s.Store, *p)
		})
		if err != nil {
			return err
		}
		now := s.Clock.Now()
		seat.State, seat.Detail, seat.At = proofstore.Waits, seated.Why, &now
		switch {
		case seated.In:
			seat.State = proofstore.Arrived
		case seated.Failed:
			seat.State = proofstore.Failed
		}
	}
	return nil
}

// module records that the test learner finished a module.
func (s *Service) module(ctx context.Context, p *proofstore.Proof, x rosterstore.Section) error {
	if has(p, proofstore.Module) {
		return nil
	}
	m, n, err := s.Facts.Finish(ctx, p.ID, p.PersonID, x, p.ModuleID, s.Clock.Now())
	f := proofstore.Fact{
		Kind: proofstore.Module, Title: m.Title, State: proofstore.Arrived, Detail: fmt.Sprintf("activities done: %d", n),
	}
	if r, refused := refusal.As(err); refused {
		f.State, f.Detail = proofstore.NotSetUp, r.Detail
	} else if err != nil {
		return err
	}
	s.fact(p, f)
	return nil
}

// scores carries the test learner's scores of each score link of the section.
func (s *Service) scores(ctx context.Context, p *proofstore.Proof, x rosterstore.Section) error {
	links, err := s.Scores.List(ctx, x.ID)
	if err != nil {
		return err
	}
	for _, l := range links {
		i := slices.IndexFunc(p.Scores, func(o proofstore.Score) bool { return o.LinkID == l.ID })
		if l.EndedAt != nil || i >= 0 && p.Scores[i].RunID != "" {
			continue
		}
		if i < 0 {
			i = len(p.Scores)
			p.Scores = append(p.Scores, proofstore.Score{LinkID: l.ID, Source: l.Source, Book: l.Book})
		}
		if err := s.score(ctx, p, &p.Scores[i]); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) score(ctx context.Context, p *proofstore.Proof, o *proofstore.Score) error {
	now := s.Clock.Now()
	o.At = &now
	if p.Made {
		o.State = proofstore.NotSetUp
		o.Detail = "gradebooks know nobody whom the register does not have: prove it with a test learner of the register"
		return nil
	}
	done, err := s.Scores.CarryTest(ctx, p.StartedBy, o.LinkID, p.PersonID)
	problem, passing := call.As(err)
	refused, no := refusal.As(err)
	switch {
	case no:
		o.State, o.Detail = proofstore.Waits, refused.Detail
	case passing:
		o.State, o.Detail = proofstore.Failed, problem.Error()
	case err != nil:
		return err
	case done.There:
		o.State, o.Detail = proofstore.Arrived, done.Why
	default:
		o.State, o.Detail, o.RunID = proofstore.Waits, done.Why, done.RunID
	}
	return nil
}

// steps says what there is to see of a proof now.
func (s *Service) steps(ctx context.Context, p proofstore.Proof) (all []proofstore.Step, err error) {
	for _, f := range p.Facts {
		if f.Kind == proofstore.Join {
			all = append(all, proofstore.Step{
				Kind: f.Kind, Title: f.Title, State: f.State, Detail: f.Detail, At: f.At,
				Link: "/sections/" + p.SectionID + "/roster",
			})
		}
	}
	for _, x := range p.Seats {
		all = append(all, proofstore.Step{
			Kind: proofstore.Class, Title: x.Target, Where: x.Service, State: x.State, Detail: x.Detail,
			Link: "/pairings/" + x.PairingID, At: x.At,
		})
	}
	if p.DoneAt != nil && len(p.Seats) == 0 {
		all = append(all, none(proofstore.Class, "the section has no class at any service"))
	}
	for _, f := range p.Facts {
		if f.Kind == proofstore.Module {
			all = append(all, proofstore.Step{
				Kind: f.Kind, Title: f.Title, State: f.State, Detail: f.Detail,
				At: f.At,
			})
		}
	}
	done, err := s.reactions(ctx, p)
	if err != nil {
		return nil, err
	}
	all = append(all, done...)
	scores, err := s.scoreSteps(ctx, p)
	return append(all, scores...), err
}

func none(kind, why string) proofstore.Step {
	return proofstore.Step{Kind: kind, State: proofstore.NotSetUp, Detail: why}
}

// deliveries are all that came to be for the test learner since the proof began, the latest first.
func (s *Service) deliveries(ctx context.Context, p proofstore.Proof) (all []deliverystore.ListedDelivery, err error) {
	f := deliverystore.DeliveryFilter{PersonID: p.PersonID, Since: p.StartedAt, Limit: 200}
	for {
		some, err := deliverystore.Deliveries(ctx, s.Store, f)
		if err != nil {
			return nil, err
		}
		if all = append(all, some...); len(some) < f.Limit {
			return all, nil
		}
		f.Before = some[len(some)-1].ID
	}
}

// reactions are what rules do for the test learner: awards and mails apart.
func (s *Service) reactions(ctx context.Context, p proofstore.Proof) (all []proofstore.Step, err error) {
	list, err := s.deliveries(ctx, p)
	if err != nil {
		return nil, err
	}
	awards, err := badgestore.Awards(ctx, s.Store, badgestore.AwardFilter{PersonID: p.PersonID, Limit: 100})
	if err != nil {
		return nil, err
	}
	slices.Reverse(list)
	for _, kind := range []string{proofstore.Rule, proofstore.Badge, proofstore.Message} {
		n := len(all)
		for _, d := range list {
			if d.Undoes == nil && kindOf(d) == kind {
				all = append(all, reaction(p, d, kind, awards))
			}
		}
		if len(all) == n && p.DoneAt != nil {
			all = append(all, none(kind, map[string]string{
				proofstore.Rule:  "no other rule reacted",
				proofstore.Badge: "no rule awarded a badge", proofstore.Message: "no rule sent a message",
			}[kind]))
		}
	}
	return all, nil
}

func kindOf(d deliverystore.ListedDelivery) string {
	switch d.Action.Kind {
	case rule.Award:
		return proofstore.Badge
	case rule.Mail:
		return proofstore.Message
	}
	return proofstore.Rule
}

// reaction says what became of a delivery.
func reaction(p proofstore.Proof, d deliverystore.ListedDelivery, kind string,
	awards []badgestore.ListedAward,
) proofstore.Step {
	x := proofstore.Step{
		Kind: kind, Title: d.Rule, Where: d.Interface, Link: "/events/" + d.EventID, At: d.FinishedAt,
		State: proofstore.Waits,
	}
	switch d.State {
	case deliverystore.DeliveryDelivered:
		x.State = proofstore.Arrived
	case deliverystore.DeliveryWaiting:
		x.State, x.Detail = proofstore.Failed, titled(d.Code, d.LastError)
	case deliverystore.DeliverySkipped:
		x.State, x.Detail = proofstore.Skipped, "its condition did not hold"
	case deliverystore.DeliveryStopped:
		x.State, x.Detail = proofstore.Skipped, "it was stopped"
	case deliverystore.DeliveryRetrying:
		x.Detail = "is tried again: " + d.LastError
	case deliverystore.DeliveryPlanned:
		x.Detail = "comes when what the rule does before it is done"
	default:
		if d.DueAt != nil && d.DueAt.After(time.Now()) {
			x.Detail = "comes on " + d.DueAt.UTC().Format("2 January 2006 15:04 MST")
		}
	}
	if x.State != proofstore.Arrived {
		return x
	}
	if _, x.Detail = d.Action.Target(); kind == proofstore.Message {
		x.Detail = "taken by the mail server, to " + p.Address
	}
	if id, _ := d.Result["awardId"].(string); id != "" {
		for _, a := range awards {
			if a.ID == id {
				x.Detail, x.Where, x.Link = a.Badge, a.Issuer, "/awards"
			}
		}
	}
	return x
}

// scoreSteps say what became of scores.
func (s *Service) scoreSteps(ctx context.Context, p proofstore.Proof) (all []proofstore.Step, err error) {
	if p.DoneAt != nil && len(p.Scores) == 0 {
		return []proofstore.Step{none(proofstore.Scored, "the section has no score link")}, nil
	}
	for _, o := range p.Scores {
		x := proofstore.Step{
			Kind: proofstore.Scored, Title: o.Source, Where: o.Book, State: o.State, Detail: o.Detail, At: o.At,
			Link: "/scores/" + o.LinkID,
		}
		if o.RunID != "" {
			r, err := runstore.FindRun(ctx, s.Store, o.RunID)
			if err != nil {
				return nil, err
			}
			changes, err := scorestore.Changes(ctx, s.Store, o.RunID)
			if err != nil {
				return nil, err
			}
			said(&x, r, changes)
		}
		all = append(all, x)
	}
	return all, nil
}

// said says how a run ended that carried scores.
func said(x *proofstore.Step, r runstore.Run, changes []scorestore.Change) {
	carried := 0
	for _, c := range changes {
		switch {
		case c.What == scorestore.AboutScore && c.State == runstore.ChangeDone:
			carried++
		case c.State == runstore.ChangeRefused || c.State == runstore.ChangeNotArrived:
			x.State, x.Detail = proofstore.Failed, c.Title+": "+titled(c.Code, c.Answer)
		}
	}
	x.At = r.FinishedAt
	switch {
	case x.State == proofstore.Failed:
	case r.State == runstore.Finished || r.State == runstore.NeedsPerson:
		x.State, x.Detail = proofstore.Arrived, finding.Number(carried, "score")+" carried"
	case !r.Active():
		x.State, x.Detail = proofstore.Failed, r.Error
	default:
		x.Detail = fmt.Sprintf("being carried: %s", r.Step)
	}
}
