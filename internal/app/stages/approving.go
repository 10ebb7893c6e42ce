package stages

import (
	"context"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/refusal"
	"kanban/internal/core/stage"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/stagestore"
)

// mostApproved bounds how many people are approved at a time.
const mostApproved = 1000

// Approving is what somebody says of people.
type Approving struct {
	ApprovalID string // of a criterion of the stage plan
	People     []string
	Note       string
	Withdraw   bool // an approval that was given before
}

// Approve keeps that somebody approves something for people, or withdraws it, and works out how far they have come.
func (s *Service) Approve(ctx context.Context, who, planID string, a Approving) error {
	p, err := stagestore.FindStagePlan(ctx, s.Store, planID)
	if err != nil {
		return err
	}
	what := p.Plan().Approves(a.ApprovalID)
	switch {
	case what == "":
		return refusal.Invalid("approvalId", "is of no approval of this stage plan")
	case len(a.People) == 0 || len(a.People) > mostApproved:
		return refusal.Invalid("people", "name 1 to %d people", mostApproved)
	}
	about, err := s.evidenceOf(ctx, s.Store, p, a.People)
	if err != nil {
		return err
	}
	now := s.Clock.Now()
	given := make([]stagestore.Approval, len(a.People))
	for i, id := range a.People {
		if about[id].section == nil {
			who, err := rosterstore.FindPerson(ctx, s.Store, id)
			if err != nil {
				return err
			}
			return refusal.Invalid("people", "%s has nothing to do with the course of this stage plan", who.Name())
		}
		given[i] = stagestore.Approval{
			ApprovalID: a.ApprovalID, PersonID: id, ByName: who, Note: strings.TrimSpace(a.Note), GivenAt: now,
		}
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		done := "approved for people"
		if a.Withdraw {
			done = "withdrew approvals"
			if err := stagestore.Unapprove(ctx, tx, a.ApprovalID, a.People); err != nil {
				return err
			}
		} else if err := stagestore.Approve(ctx, tx, given); err != nil {
			return err
		}
		return tx.Audit(ctx, who, done, "stage-plan/"+planID,
			map[string]any{"what": what, "people": a.People, "note": a.Note})
	})
	if err != nil {
		return err
	}
	for list := range slices.Chunk(a.People, atOnce) {
		if err := s.workOut(ctx, planID, list); err != nil {
			return err
		}
	}
	return nil
}

// Times says how long each stage takes, and who is at it for some time and longer, in one section if given.
func (s *Service) Times(ctx context.Context, p stagestore.StagePlan, sectionID string, stuck time.Duration) (
	[]stage.Times, error,
) {
	all, err := stagestore.Reachings(ctx, s.Store, p, sectionID)
	return p.Plan().Times(all, s.Clock.Now(), stuck), err
}
