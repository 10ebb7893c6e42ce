package proofs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
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
	asked := len(p.Remains) > 0 // somebody reverts once more
	p.Remains = nil
	open, waiting, err := s.Deliveries.UndoAll(ctx, p.PersonID, p.StartedAt)
	if err != nil {
		return 0, err
	}
	running, err := s.revertScores(ctx, p, asked)
	if err != nil {
		return 0, err
	}
	if open > waiting || running {
		p.Remains = nil // what remains is known when that has come to its end
		return lookAgain, proofstore.KeepProof(ctx, s.Store, *p)
	}
	if waiting > 0 {
		p.Remains = append(p.Remains, fmt.Sprintf("%d of the deliveries that revert something: each failed every "+
			"time; mend the cause and try them again", waiting))
	}
	if err := s.leaveClasses(ctx, p); err != nil {
		return 0, err
	}
	stay, err := s.dropAccounts(ctx, p)
	if err != nil {
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
	p.Remains = append(p.Remains, stay...)
	return 0, s.end(ctx, p)
}

// revertScores puts back what was carried; running says that it is being done. When it was tried before and asked is
// true, it is tried once more.
func (s *Service) revertScores(ctx context.Context, p *proofstore.Proof, asked bool) (running bool, err error) {
	for _, o := range p.Scores {
		if o.RunID == "" {
			continue
		}
		r, err := runstore.FindRun(ctx, s.Store, o.RunID)
		if err != nil {
			return false, err
		}
		back, err := runstore.LatestRevert(ctx, s.Store, o.RunID)
		begun := err == nil
		if err != nil && !errors.Is(err, db.ErrNotFound) {
			return false, err
		}
		if r.Active() || begun && back.Active() {
			running = true
			continue
		}
		why := ""
		if begun {
			if why, err = s.notPutBack(ctx, back); err != nil {
				return false, err
			}
		}
		if !begun || why != "" && asked {
			_, err := s.Scores.RevertTest(ctx, p.StartedBy, o.RunID)
			_, refused := refusal.As(err)
			switch {
			case err == nil:
				running, why = true, ""
			case !refused || begun || r.Done > 0:
				why = err.Error()
			}
		}
		if why != "" {
			p.Remains = append(p.Remains, "scores in "+o.Book+": "+why)
		}
	}
	return running, nil
}

// notPutBack says what a run that puts scores back has not done. What else its comparison found is not about them.
func (s *Service) notPutBack(ctx context.Context, back runstore.Run) (string, error) {
	if back.State != runstore.Finished && back.State != runstore.NeedsPerson {
		return fmt.Sprintf("the run that puts them back came to no good end (%s: %s)", back.State, back.Error), nil
	}
	changes, err := scorestore.Changes(ctx, s.Store, back.ID)
	for _, c := range changes {
		if c.State != runstore.ChangeDone {
			return c.Title + " was not put back: " + titled(c.Code, c.Answer), err
		}
	}
	return "", err
}

// leaveClasses takes the test learner out of the classes into which the proof put them.
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

// dropAccounts deletes the accounts of the test learner that the proof may have made: at the services to which it
// went. What cannot be deleted is in the way; stay are those that are switched off instead, and those of which it is
// not known whether they were there before.
func (s *Service) dropAccounts(ctx context.Context, p *proofstore.Proof) (stay []string, err error) {
	who, err := s.someone(ctx, *p)
	if err != nil {
		return nil, err
	}
	touched, err := s.touched(ctx, *p)
	if err != nil {
		return nil, err
	}
	for _, c := range touched {
		if !p.Made {
			i := slices.IndexFunc(p.Accounts, func(a proofstore.Account) bool { return a.InterfaceID == c.ID })
			if i >= 0 && p.Accounts[i].Had {
				continue
			}
			if i < 0 || p.Accounts[i].Unknown != "" {
				stay = append(stay, "an account at "+c.Name+", if there is one: whether they had it before is not known")
				continue
			}
		}
		off, err := s.Runs.DropAccount(ctx, c.ID, who.Identifier)
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case err != nil:
			p.Remains = append(p.Remains, fmt.Sprintf("the account at %s: %v", c.Name, err))
		case off:
			stay = append(stay, "the account at "+c.Name+": the service deletes none, so it is switched off")
		}
	}
	return stay, nil
}

// touched are the workspaces to which the proof went.
func (s *Service) touched(ctx context.Context, p proofstore.Proof) ([]connectionstore.Interface, error) {
	ids := map[string]bool{}
	for _, x := range p.Seats {
		ids[x.InterfaceID] = ids[x.InterfaceID] || x.Tried
	}
	list, err := s.deliveries(ctx, p)
	if err != nil {
		return nil, err
	}
	for _, d := range list {
		if d.InterfaceID != nil && d.Attempts > 0 {
			ids[*d.InterfaceID] = true
		}
	}
	all, err := connectionstore.Interfaces(ctx, s.Store)
	return slices.DeleteFunc(all, func(c connectionstore.Interface) bool {
		return c.Kind != adapter.KindSCIM || !ids[c.ID]
	}), err
}

// end forgets the test learner.
func (s *Service) end(ctx context.Context, p *proofstore.Proof) error {
	more, err := s.remaining(ctx, *p)
	if err != nil {
		return err
	}
	p.Remains = append(p.Remains, more...)
	now := s.Clock.Now()
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := proofstore.RevokeAwards(ctx, tx, p.PersonID, p.StartedBy, "awarded to a test learner"); err != nil {
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
	list, err := s.deliveries(ctx, p)
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
