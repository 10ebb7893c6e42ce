package purchases

import (
	"context"
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/purchasestore"
)

// Verdict says whether access and enrolment agree about one person in one section.
type Verdict string

// The verdicts.
const (
	Agrees   Verdict = "agrees"
	OnItsWay Verdict = "on-its-way" // done or being done; the register shows it after the next read
	Marked   Verdict = "marked"     // access ended, and the offer keeps people in the section
	Missing  Verdict = Verdict(finding.AccessNoEnrolment)
	Surplus  Verdict = Verdict(finding.EnrolmentNoAccess)
)

// patience is how long a delivery that was made may wait for the register to show it
// before that is a disagreement.
const patience = 48 * time.Hour

// Side is one person in one section, as access and enrolment see it.
type Side struct {
	purchasestore.Side
	Verdict Verdict
}

// Sides sets access and enrolment side by side, for an offer, or for all when the id is
// empty.
func (s *Service) Sides(ctx context.Context, offerID string) ([]Side, error) {
	now := s.Clock.Now()
	all, err := purchasestore.Sides(ctx, s.Store, offerID, now)
	out := make([]Side, len(all))
	for i, x := range all {
		out[i] = Side{x, judge(x, now)}
	}
	return out, err
}

func judge(x purchasestore.Side, now time.Time) Verdict {
	holds := x.Access == "active" || x.Access == "grace"
	if holds == x.Enrolled {
		return Agrees
	}
	if !holds && x.Access == "ended" && x.AtEnd == Mark {
		return Marked
	}
	switch x.State {
	case deliverystore.DeliveryPlanned, deliverystore.DeliveryQueued, deliverystore.DeliveryRetrying:
		return OnItsWay
	case deliverystore.DeliveryDelivered: // the register shows it after its next read
		if x.FinishedAt != nil && (x.LastRead == nil || x.LastRead.Before(*x.FinishedAt)) &&
			now.Sub(*x.FinishedAt) < patience {
			return OnItsWay
		}
	}
	if holds {
		return Missing
	}
	return Surplus
}
