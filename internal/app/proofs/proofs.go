// Package proofs lets a test learner go the whole way through a section before real people do: they join, are put into
// its classes, finish a module, and whatever rules do about that is done for them. All of it is seen in one place,
// counts nowhere, and is reverted at once.
package proofs

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"

	"kanban/internal/adapter/workspaces"
	"kanban/internal/app/pipeline"
	"kanban/internal/app/runs"
	"kanban/internal/app/scores"
	"kanban/internal/core/clock"
	"kanban/internal/core/finding"
	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/matchstore"
	"kanban/internal/store/proofstore"
	"kanban/internal/store/rosterstore"
)

// Outlines gives courses by their present outlines, those that have one.
type Outlines interface {
	CompiledOf(ctx context.Context, courseIDs []string) (map[string]learning.CompiledOutline, error)
}

// Service is the use case. Fill every field.
type Service struct {
	Store      *db.Database
	Runs       *runs.Service
	Scores     *scores.Service
	Facts      *pipeline.Facts
	Deliveries *pipeline.Deliveries
	Outlines   Outlines
	Clock      clock.Clock
}

// Wish is a proof to start.
type Wish struct {
	SectionID string
	ModuleID  string // the first one that counts when empty
	PersonID  string // a test learner of the section; empty for one that is made
	Email     string // of one that is made
}

// Proof is a proof with what there is to see of it.
type Proof struct {
	proofstore.Proof
	Section string
}

// mostListed bounds the list of proofs.
const mostListed = 200

// List lists proofs, those under way first, then the latest.
func (s *Service) List(ctx context.Context) ([]Proof, error) {
	all, err := proofstore.Proofs(ctx, s.Store, mostListed)
	if err != nil {
		return nil, err
	}
	out := make([]Proof, len(all))
	for i, p := range all {
		if out[i], err = s.shown(ctx, p); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Find gives one, with its steps as they are now or, when it is being reverted or was, as they were before.
func (s *Service) Find(ctx context.Context, id string) (Proof, error) {
	p, err := proofstore.FindProof(ctx, s.Store, id)
	if err != nil {
		return Proof{}, err
	}
	return s.shown(ctx, p)
}

func (s *Service) shown(ctx context.Context, p proofstore.Proof) (Proof, error) {
	x, err := rosterstore.FindSection(ctx, s.Store, p.SectionID)
	if err != nil && !errors.Is(err, db.ErrNotFound) {
		return Proof{}, err
	}
	if p.State == proofstore.Running || p.State == proofstore.Done {
		if p.Steps, err = s.steps(ctx, p); err != nil {
			return Proof{}, err
		}
	}
	return Proof{p, x.Title}, nil
}

// Offer is with whom and on what a proof of a section can be started.
type Offer struct {
	Learners []proofstore.Candidate // test learners whom the register has there
	Modules  []learning.Module
	Under    string // the id of the proof that is under way there, if any
}

// Offers says that.
func (s *Service) Offers(ctx context.Context, sectionID string) (o Offer, err error) {
	x, err := rosterstore.FindSection(ctx, s.Store, sectionID)
	if err != nil {
		return o, err
	}
	if o.Learners, err = proofstore.Candidates(ctx, s.Store, sectionID); err != nil {
		return o, err
	}
	all, err := s.Outlines.CompiledOf(ctx, []string{x.CourseID})
	if err != nil {
		return o, err
	}
	if c := all[x.CourseID]; c.Course != nil {
		o.Modules = c.Outline.Modules
	}
	p, err := proofstore.UnderWay(ctx, s.Store, sectionID)
	if errors.Is(err, db.ErrNotFound) {
		return o, nil
	}
	o.Under = p.ID
	return o, err
}

// Start lets a test learner go through a section.
func (s *Service) Start(ctx context.Context, who string, w Wish) (Proof, error) {
	x, err := rosterstore.FindSection(ctx, s.Store, w.SectionID)
	if errors.Is(err, db.ErrNotFound) {
		return Proof{}, refusal.Invalid("section", "there is no section %q", w.SectionID)
	}
	if err != nil {
		return Proof{}, err
	}
	if x.Gone || x.List != "" {
		return Proof{}, refusal.Invalid("section", "%s is no section that the register has now", x.Title)
	}
	offer, err := s.Offers(ctx, x.ID)
	if err != nil {
		return Proof{}, err
	}
	isModule := func(m learning.Module) bool { return m.ID == w.ModuleID }
	if w.ModuleID != "" && !slices.ContainsFunc(offer.Modules, isModule) {
		return Proof{}, refusal.Invalid("module", "the course has no module %q", w.ModuleID)
	}
	p := proofstore.Proof{
		ID: db.NewID(), SectionID: x.ID, ModuleID: w.ModuleID, State: proofstore.Running, StartedBy: who,
	}
	enrol, err := s.learner(ctx, &p, w, offer)
	if err != nil {
		return Proof{}, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := enrol(tx); err != nil {
			return err
		}
		if err := proofstore.BeginProof(ctx, tx, &p); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, jobs.WorkProof{ProofID: p.ID}); err != nil {
			return err
		}
		return s.noted(ctx, tx, who, "started a proof with a test learner", p)
	})
	if errors.Is(err, db.ErrTaken) {
		return Proof{}, refusal.Conflict("", "a proof of this section, or with this test learner, is under way: look at it, and revert it first")
	}
	return Proof{p, x.Title}, err
}

func (s *Service) noted(ctx context.Context, tx *db.Tx, who, what string, p proofstore.Proof) error {
	if err := tx.Audit(ctx, who, what, "proof/"+p.ID, map[string]any{
		"section": p.SectionID, "person": p.PersonID, "address": p.Address, "module": p.ModuleID,
	}); err != nil {
		return err
	}
	return tx.Announce(ctx, "proof", p.ID)
}

// learner finds the test learner, or gives what makes one.
func (s *Service) learner(ctx context.Context, p *proofstore.Proof, w Wish, o Offer) (func(*db.Tx) error, error) {
	if w.PersonID != "" {
		c, err := oneOf(o.Learners, w.PersonID)
		if err != nil {
			return nil, err
		}
		p.PersonID, p.Name, p.Address = c.PersonID, c.Name, c.Email
		n, err := proofstore.Progressed(ctx, s.Store, c.PersonID, p.SectionID)
		if err == nil && n > 0 {
			err = refusal.Invalid("person", "%s has done something in this section already, so that nothing would follow "+
				"anew: choose another test learner, or let one be made", c.Name)
		}
		return func(*db.Tx) error { return nil }, err
	}
	email := strings.TrimSpace(w.Email)
	key, err := roster.AddressKey(email)
	if err != nil {
		return nil, refusal.Invalid("email", "%q is not an e-mail address: give one whose mails you can read", email)
	}
	_, err = rosterstore.PersonByAddress(ctx, s.Store, email)
	if err == nil {
		return nil, refusal.Invalid("email", "somebody has the address %s already: give one that nobody has", email)
	}
	if !errors.Is(err, db.ErrNotFound) {
		return nil, err
	}
	short := p.ID[len(p.ID)-6:]
	p.Made, p.Name, p.Address = true, "Test Learner "+short, email
	return func(tx *db.Tx) error {
		p.PersonID, err = proofstore.MakeLearner(ctx, tx, p.SectionID, "kanban-test-"+p.ID, "Test", "Learner "+short,
			email, key)
		return err
	}, nil
}

// oneOf finds a test learner by the id, or by an identifier that no other has.
func oneOf(all []proofstore.Candidate, called string) (proofstore.Candidate, error) {
	var found []proofstore.Candidate
	for _, c := range all {
		switch called {
		case c.PersonID:
			return c, nil
		case c.Identifier:
			found = append(found, c)
		}
	}
	switch len(found) {
	case 0:
		return proofstore.Candidate{}, refusal.Invalid("person",
			"%q is no test learner of the section: let one be made by giving an address, or accept the proposal that they are one",
			called)
	case 1:
		return found[0], nil
	}
	return proofstore.Candidate{}, refusal.Invalid("person", "%d test learners have the identifier %q: say which by the id",
		len(found), called)
}

// Again lets a proof go on with what has not arrived.
func (s *Service) Again(ctx context.Context, who, id string) error {
	p, err := proofstore.FindProof(ctx, s.Store, id)
	if err != nil {
		return err
	}
	if p.State != proofstore.Done {
		return refusal.Conflict("", "only a proof that has come to its end can go on; this one is %s", p.State)
	}
	return s.set(ctx, who, "went on with a proof", p, proofstore.Running, false)
}

// Revert lets everything be reverted that a proof has done. With anyway it ends even where something cannot be
// reverted now: what that is stays with it.
func (s *Service) Revert(ctx context.Context, who, id string, anyway bool) error {
	p, err := proofstore.FindProof(ctx, s.Store, id)
	if err != nil {
		return err
	}
	if p.State == proofstore.Reverted {
		return refusal.Conflict("", "this proof was reverted already")
	}
	if anyway && p.State != proofstore.Reverting {
		return refusal.Conflict("", "revert it first; what cannot be reverted can be left then")
	}
	x, err := s.shown(ctx, p) // reverting stops what has not arrived, and nobody would see why it had not
	if err != nil {
		return err
	}
	return s.set(ctx, who, "reverted a proof", x.Proof, proofstore.Reverting, anyway)
}

// set lets a proof stand elsewhere, and be worked at.
func (s *Service) set(ctx context.Context, who, what string, p proofstore.Proof, state string, anyway bool) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := proofstore.MoveProof(ctx, tx, p.ID, p.State, state, s.Clock.Now()); err != nil {
			return err
		}
		if state == proofstore.Reverting {
			if err := proofstore.KeepSteps(ctx, tx, p.ID, p.Steps); err != nil {
				return err
			}
		}
		if err := tx.Enqueue(ctx, jobs.WorkProof{ProofID: p.ID, Anyway: anyway}); err != nil {
			return err
		}
		return s.noted(ctx, tx, who, what, p)
	})
}

// someone is the test learner as a service may know them.
func (s *Service) someone(ctx context.Context, p proofstore.Proof) (workspaces.Someone, error) {
	who, err := rosterstore.FindPerson(ctx, s.Store, p.PersonID)
	if err != nil {
		return workspaces.Someone{}, err
	}
	return workspaces.Someone{
		Identifier: who.Identifier, Email: who.Email, UserName: cmp.Or(who.UserName, who.Identifier),
		GivenName: who.GivenName, FamilyName: who.FamilyName,
	}, nil
}

// title of a finding, with a detail.
func titled(code, detail string) string {
	if code == "" {
		return detail
	}
	text := finding.Title(finding.Code(code))
	if detail != "" {
		text += ": " + detail
	}
	return text
}

// marked reports whether somebody is still a test learner of the register.
func (s *Service) marked(ctx context.Context, p proofstore.Proof) (bool, error) {
	if p.Made {
		return true, nil
	}
	m, err := matchstore.MarkOf(ctx, s.Store, p.PersonID)
	if err != nil || m != nil {
		return m != nil && m.Kind == matchstore.MarkTest, err
	}
	all, err := proofstore.Candidates(ctx, s.Store, p.SectionID)
	return slices.ContainsFunc(all, func(c proofstore.Candidate) bool { return c.PersonID == p.PersonID }), err
}
