package wiring

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"kanban/internal/app/findings"
	"kanban/internal/app/pairings"
	"kanban/internal/app/pipeline"
	"kanban/internal/app/purchases"
	"kanban/internal/core/finding"
	"kanban/internal/core/permission"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
)

// sectionStates tells findings how sections stand.
type sectionStates struct {
	store    *db.Database
	pairings *pairings.Service
}

// States counts the sections that lists show by state, and those that are being run.
func (s sectionStates) States(ctx context.Context, within *permission.Reach) (map[roster.State]int, int, error) {
	list, err := s.pairings.List(ctx, pairings.Filter{Within: within})
	if err != nil {
		return nil, 0, err
	}
	counts := map[roster.State]int{}
	at := 0
	for _, c := range list.Cards {
		counts[c.State]++
		if c.Running {
			at++
		}
	}
	if within != nil {
		return counts, at, nil
	}
	running, err := runstore.CountRunning(ctx, s.store)
	return counts, running, err
}

// disagreements tells findings where access and enrolment disagree.
type disagreements struct{ *purchases.Service }

// Disagreements are those between access and enrolment.
func (p disagreements) Disagreements(ctx context.Context) (out []findings.Disagreement, err error) {
	sides, err := p.Sides(ctx, "")
	for _, x := range sides {
		if x.Verdict == purchases.Missing || x.Verdict == purchases.Surplus {
			d := findings.Disagreement{
				Code: finding.Code(x.Verdict), Person: x.Person, Section: x.Section,
				Offer: x.Offer, OfferID: x.OfferID,
			}
			if x.PersonID != nil {
				d.PersonID = *x.PersonID
			}
			out = append(out, d)
		}
	}
	return out, err
}

// reversals tells findings what was done for completions that hold no longer.
type reversals struct{ *pipeline.Facts }

// Reversals are what was done for completions that hold no longer.
func (p reversals) Reversals(ctx context.Context) (out []findings.Reversal, err error) {
	all, err := p.Facts.Reversals(ctx)
	for _, r := range all {
		done := fmt.Sprintf("%s by %q", strings.Join(slices.DeleteFunc([]string{
			strings.ReplaceAll(r.Kind, "-", " "),
			r.Operation, r.Service,
		}, func(x string) bool { return x == "" }), " "), r.Origin)
		if r.Badge != "" {
			done = fmt.Sprintf("the badge %q by %q", r.Badge, r.Origin)
		}
		out = append(out, findings.Reversal{
			Person: r.Person, PersonID: r.PersonID, What: r.What, Done: done,
			Kind: r.Type, CourseID: r.CourseID,
		})
	}
	return out, err
}
