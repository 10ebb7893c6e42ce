package proofs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/proofstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
)

// lookAgain is after how long it is looked whether what reverts has come to an end.
const lookAgain = time.Second

// revert reverts what a proof has done, step by step, each harmless when it is done again. What cannot be reverted
// keeps the proof from ending until somebody says that it may stay.
func (s *Service) revert(ctx context.Context, p *proofstore.Proof, anyway bool) (again time.Duration, err error) {
	p.Remains = nil
	open, waiting, err := s.Deliveries.UndoAll(ctx, p.PersonID, p.StartedAt)
	if err != nil {
		return 0, err
	}
	running, err := s.revertScores(ctx, p)
	if err != nil {
		return 0, err
	}
	if open > waiting || running {
		return lookAgain, nil
	}
	if waiting > 0 {
		p.Remains = append(p.Remains, fmt.Sprintf("%d of the deliveries that revert something: each failed every "+
			"time; mend the cause and try them again", waiting))
	}
	if err := s.leaveClasses(ctx, p); err != nil {
		return 0, err
	}
	if err := s.dropAccounts(ctx, p); err != nil {
		return 0, err
	}
	if len(p.Remains) > 0 && !anyway {
		return 0, s.Store.InTx(ctx, func(tx *db.Tx) error {
			if err := proofstore.KeepProof(ctx, tx, *p); err != nil {
				return err
			}
			return tx.Announce(ctx, "proof", p.ID)
		})
	}
	return 0, s.end(ctx, p)
}

// revertScores puts back what was carried; running says that it is being done.
func (s *Service) revertScores(ctx context.Context, p *proofstore.Proof) (running bool, err error) {
	for _, o := range p.Scores {
		if o.RunID == "" {
			continue
		}
		r, err := runstore.FindRun(ctx, s.Store, o.RunID)
		if err != nil {
			return false, err
		}
		back, err := proofstore.RevertOf(ctx, s.Store, o.RunID)
		if err != nil {
			return false, err
		}
		switch {
		case r.Active() || back == "active":
			running = true
		case back == "":
			if _, err := s.Scores.RevertTest(ctx, p.StartedBy, o.RunID); err == nil {
				running = true
			} else if _, none := refusal.As(err); !none || r.Done > 0 {
				p.Remains = append(p.Remains, "scores in "+o.Book+": "+err.Error())
			}
		case back != runstore.Finished:
			p.Remains = append(p.Remains, "scores in "+o.Book+": reverting them failed")
		}
	}
	return running, nil
}

// leaveClasses takes the test learner out of the classes in which they were not beforehand.
func (s *Service) leaveClasses(ctx context.Context, p *proofstore.Proof) error {
	for _, x := range p.Seats {
		if !x.Tried {
			continue
		}
		err := s.Runs.TakeTest(ctx, x.PairingID, p.PersonID)
		if errors.Is(err, db.ErrNotFound) {
			continue
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if err != nil {
			p.Remains = append(p.Remains, fmt.Sprintf("the place in %s (%s): %v", x.Target, x.Service, err))
		}
	}
	return nil
}

// dropAccounts deletes the accounts that the test learner did not have beforehand.
func (s *Service) dropAccounts(ctx context.Context, p *proofstore.Proof) error {
	who, err := s.someone(ctx, *p)
	if err != nil {
		return err
	}
	for _, a := range p.Accounts {
		if a.Had {
			continue
		}
		if a.Unknown != "" {
			p.Remains = append(p.Remains, fmt.Sprintf("an account at %s, if there is one: whether they had one beforehand is not known (%s)",
				a.Service, a.Unknown))
			continue
		}
		off, err := s.Runs.DropAccount(ctx, a.InterfaceID, who.Identifier)
		if err := ctx.Err(); err != nil {
			return err
		}
		switch {
		case errors.Is(err, db.ErrNotFound):
		case err != nil:
			p.Remains = append(p.Remains, fmt.Sprintf("the account at %s: %v", a.Service, err))
		case off:
			p.Remains = append(p.Remains, "the account at "+a.Service+": the service deletes none, so it is switched off")
		}
	}
	return nil
}

// end forgets the test learner; what there was to see of the proof is kept.
func (s *Service) end(ctx context.Context, p *proofstore.Proof) (err error) {
	if p.Steps, err = s.steps(ctx, *p); err != nil {
		return err
	}
	more, err := s.remaining(ctx, *p)
	if err != nil {
		return err
	}
	p.Remains = append(p.Remains, more...)
	now := s.Clock.Now()
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if _, err := proofstore.RevokeAwards(ctx, tx, p.PersonID, p.StartedBy, "awarded to a test learner"); err != nil {
			return err
		}
		var carried []string
		for _, o := range p.Scores {
			if o.RunID != "" {
				carried = append(carried, o.RunID)
			}
		}
		if err := proofstore.ForgetRuns(ctx, tx, carried); err != nil {
			return err
		}
		if err := proofstore.ForgetLearner(ctx, tx, *p); err != nil {
			return err
		}
		if err := proofstore.KeepProof(ctx, tx, *p); err != nil {
			return err
		}
		if err := proofstore.MoveProof(ctx, tx, p.ID, proofstore.Reverting, proofstore.Reverted, now); err != nil {
			return err
		}
		for _, x := range p.Seats {
			pairing, err := pairingstore.FindPairing(ctx, tx, x.PairingID)
			if err != nil || pairing.EndedAt != nil || pairing.RanAt == nil {
				continue
			}
			if err := pairingstore.AskComparison(ctx, tx, p.StartedBy, false, pairing); err != nil {
				return err
			}
		}
		return s.noted(ctx, tx, p.StartedBy, "ended a proof", *p)
	})
}

// remaining says what nothing takes away again: mails that were sent, and what names no way back.
func (s *Service) remaining(ctx context.Context, p proofstore.Proof) (out []string, err error) {
	list, err := deliverystore.Deliveries(ctx, s.Store, deliverystore.DeliveryFilter{PersonID: p.PersonID, Limit: 500})
	for _, d := range list {
		if d.Undoes == nil || d.Code != string(finding.CannotRevert) {
			continue
		}
		if d.Action.Kind == rule.Mail {
			out = append(out, "the mail of the rule "+d.Rule+" that was sent to "+p.Address)
			continue
		}
		out = append(out, fmt.Sprintf("what the rule %s did at %s: nothing is named there that reverts it", d.Rule, d.Interface))
	}
	if err != nil {
		return nil, err
	}
	for _, o := range p.Scores {
		if o.RunID == "" {
			continue
		}
		changes, err := scorestore.Changes(ctx, s.Store, o.RunID)
		if err != nil {
			return nil, err
		}
		for _, c := range changes {
			if c.State == runstore.ChangeDone && (c.What == scorestore.AboutAssignment ||
				c.What == scorestore.AboutCategory) {
				out = append(out, fmt.Sprintf("the %s %s that was made in %s", c.What, c.Title, o.Book))
			}
		}
	}
	return out, nil
}
