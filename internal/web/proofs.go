package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/proofs"
	"kanban/internal/core/learning"
	"kanban/internal/core/permission"
	"kanban/internal/store/proofstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var (
	listProofsOp = operation{
		ID: "list-proofs", Act: permission.Look,
		Method: http.MethodGet, Path: "/proofs", Status: http.StatusOK, Tag: "proofs",
		Summary: "List proofs with test learners, those under way first, then the latest 200",
	}
	startProofOp = operation{
		ID: "start-proof", Act: permission.Rules,
		Method: http.MethodPost, Path: "/proofs", Status: http.StatusCreated, Tag: "proofs",
		Summary: "Let a test learner go the whole way through a section",
	}
	getProofOp = operation{
		ID: "get-proof", Act: permission.Look,
		Method: http.MethodGet, Path: "/proofs/{id}", Status: http.StatusOK, Tag: "proofs",
		Summary: "Show a proof, with what arrived where",
	}
	continueProofOp = operation{
		ID: "continue-proof", Act: permission.Rules,
		Method: http.MethodPost, Path: "/proofs/{id}/continue", Status: http.StatusNoContent,
		Tag: "proofs", Summary: "Try what has not arrived again",
	}
	revertProofOp = operation{
		ID: "revert-proof", Act: permission.Rules,
		Method: http.MethodPost, Path: "/proofs/{id}/revert", Status: http.StatusNoContent,
		Tag: "proofs", Summary: "Revert everything that a proof has done, everywhere",
	}
	testLearnersOp = operation{
		ID: "list-test-learners", Act: permission.Look, Of: permission.OfSection,
		Method: http.MethodGet, Path: "/sections/{id}/test-learners", Status: http.StatusOK,
		Tag: "proofs", Summary: "Say with whom and on what a proof of a section can be started",
	}
)

// proofs registers the operations about proofs.
func (s *Server) proofs(a huma.API) {
	handle(a, listProofsOp, s.listProofs)
	handle(a, startProofOp, s.startProof)
	handle(a, getProofOp, s.getProof)
	handleEmpty(a, continueProofOp, s.continueProof)
	handleEmpty(a, revertProofOp, s.revertProof)
	handle(a, testLearnersOp, s.testLearners)
}

func (s *Server) listProofs(ctx context.Context, _ *struct{}) (api.Page[api.Proof], error) {
	all, err := s.Proofs.List(ctx)
	return api.Page[api.Proof]{Items: each(all, shownProof)}, err
}

func (s *Server) startProof(ctx context.Context, in *with[api.NewProof]) (api.Proof, error) {
	p, err := s.Proofs.Start(ctx, auth.Caller(ctx).Name, proofs.Wish{
		SectionID: in.Body.Section, ModuleID: in.Body.Module, PersonID: in.Body.Person, Email: in.Body.Email,
	})
	return shownProof(p), err
}

func (s *Server) getProof(ctx context.Context, in *byID) (api.Proof, error) {
	p, err := s.Proofs.Find(ctx, in.ID)
	return shownProof(p), err
}

func (s *Server) continueProof(ctx context.Context, in *byID) error {
	return s.Proofs.Again(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) revertProof(ctx context.Context, in *withID[api.EndProof]) error {
	return s.Proofs.Revert(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Anyway)
}

func (s *Server) testLearners(ctx context.Context, in *byID) (api.TestLearners, error) {
	o, err := s.Proofs.Offers(ctx, in.ID)
	return api.TestLearners{
		Learners: each(o.Learners, func(c proofstore.Candidate) api.TestLearner {
			return api.TestLearner{ID: c.PersonID, Name: c.Name, Email: c.Email, Identifier: c.Identifier}
		}),
		Modules: each(o.Modules, func(m learning.Module) api.ProofModule {
			return api.ProofModule{ID: m.ID, Title: m.Title}
		}),
		Under: o.Under,
	}, err
}

func shownProof(p proofs.Proof) api.Proof {
	return api.Proof{
		ID: p.ID, SectionID: p.SectionID, Section: p.Section, PersonID: p.PersonID, Learner: p.Name,
		Address: p.Address,
		Made:    p.Made, State: p.State, Remains: append([]string{}, p.Remains...), StartedBy: p.StartedBy,
		StartedAt: p.StartedAt, DoneAt: p.DoneAt, EndedAt: p.EndedAt,
		Steps: each(p.Steps, func(x proofstore.Step) api.ProofStep { return api.ProofStep(x) }),
	}
}
