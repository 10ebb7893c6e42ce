package matching

import (
	"context"
	"errors"
	"slices"

	"kanban/internal/adapter"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/pairingstore"
)

// Proposals lists the records of a register that look like second accounts or test
// learners, with what speaks for it. Nothing follows from them before somebody says so.
func (s *Service) Proposals(ctx context.Context, interfaceID string) ([]matchstore.Proposal, error) {
	c, err := connectionstore.FindInterface(ctx, s.Store, interfaceID)
	if err != nil {
		return nil, err
	}
	if !adapter.IsRegister(c.Kind) {
		return nil, refusal.Invalid("id", "%s is no register", c.Name)
	}
	return matchstore.Proposals(ctx, s.Store, interfaceID)
}

// Decide accepts proposals, or refuses them, by the ids of the people whom somebody has looked
// at, and gives how many it was about. Every pairing of the register's sections is compared
// anew.
func (s *Service) Decide(ctx context.Context, who, interfaceID string, people []string, accept bool) (int, error) {
	all, err := s.Proposals(ctx, interfaceID)
	if err != nil {
		return 0, err
	}
	if len(people) == 0 {
		return 0, refusal.Invalid("people", "is missing: name those whom you have looked at")
	}
	var chosen []matchstore.Proposal
	for _, id := range people {
		i := slices.IndexFunc(all, func(p matchstore.Proposal) bool { return p.PersonID == id })
		if i < 0 {
			return 0, refusal.Conflict("", "nothing is proposed about %q any more; look at the proposals again", id)
		}
		chosen = append(chosen, all[i])
	}
	return len(chosen), s.marking(ctx, []string{interfaceID}, func(tx *db.Tx) error {
		for _, p := range chosen {
			kind, what := p.Kind,
				"said that a record is a "+map[string]string{
					matchstore.MarkSecond: "second account",
					matchstore.MarkTest:   "test learner",
				}[p.Kind]
			if !accept {
				kind, what = matchstore.MarkNeither,
					"said that a record is neither a second account nor a test learner"
			}
			if err := matchstore.MarkPerson(ctx, tx, p.PersonID, kind, p.OfID, who); err != nil {
				return err
			}
			if err := tx.Audit(ctx, who, what, "person/"+p.PersonID,
				map[string]any{"of": p.OfID, "evidence": p.Evidence}); err != nil {
				return err
			}
		}
		return nil
	})
}

// Undecide drops what was said of a person's record.
func (s *Service) Undecide(ctx context.Context, who, personID string) error {
	registers, err := matchstore.MarkedIn(ctx, s.Store, personID)
	if err != nil {
		return err
	}
	return s.marking(ctx, registers, func(tx *db.Tx) error {
		ok, err := matchstore.UnmarkPerson(ctx, tx, personID)
		if err != nil {
			return err
		}
		if !ok {
			return refusal.Conflict("", "nothing was said of this record")
		}
		return tx.Audit(ctx, who, "dropped what was said of a record", "person/"+personID, nil)
	})
}

// MarkOf gives what was said of a person's record; nil when nothing was.
func (s *Service) MarkOf(ctx context.Context, personID string) (*matchstore.Mark, error) {
	return matchstore.MarkOf(ctx, s.Store, personID)
}

func (s *Service) marking(ctx context.Context, registers []string, do func(*db.Tx) error) error {
	var pairings []pairingstore.Pairing
	for _, id := range registers {
		some, err := matchstore.PairingsOfRegister(ctx, s.Store, id)
		if err != nil {
			return err
		}
		pairings = append(pairings, some...)
	}
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := do(tx); err != nil {
			return err
		}
		if err := pairingstore.AskComparison(ctx, tx, "what records are", false, pairings...); err != nil {
			return err
		}
		for _, id := range registers {
			if err := tx.Enqueue(ctx, jobs.Propose{InterfaceID: id}); err != nil {
				return err
			}
		}
		return tx.Announce(ctx, "section", "")
	})
	if errors.Is(err, db.ErrNotFound) {
		return refusal.Conflict("", "somebody is not in the register any more; look at the proposals again")
	}
	return err
}
