package pipeline

import (
	"cmp"
	"context"
	"errors"
	"math/rand/v2"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"kanban/internal/adapter"
	"kanban/internal/adapter/hooks"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/wire/call"
)

// DefaultDelays are the pauses after the first, second, … failed attempt. After
// the last one the delivery waits for a person. Together they span three days.
var DefaultDelays = []time.Duration{
	2 * time.Second, 10 * time.Second, time.Minute, 5 * time.Minute, 30 * time.Minute, 2 * time.Hour, 8 * time.Hour,
	24 * time.Hour, 36 * time.Hour,
}

// settle decides what an attempt means for its delivery.
func (s *Deliveries) settle(d *deliverystore.Delivery, a *deliverystore.Attempt, out outcome,
	failure error,
) (again time.Duration) {
	now := s.Clock.Now()
	d.NextAt, d.LastError, d.Code, d.Held = nil, "", "", ""
	if failure == nil {
		d.State, d.FinishedAt, d.Result = deliverystore.DeliveryDelivered, &now, out.result
		return 0
	}
	d.LastError = mask(failure.Error(), nil)
	a.Error = d.LastError
	delays := s.Delays
	if delays == nil {
		delays = DefaultDelays
	}
	p, isCall := call.As(failure)
	if isCall && p.Passing() && d.Attempts <= len(delays) {
		pause := delays[d.Attempts-1]
		if s.Delays == nil { // so that those that failed together do not come back together
			pause -= rand.N(pause/4 + 1)
		}
		again = max(pause, p.RetryAfter)
		at := now.Add(again)
		d.State, d.NextAt, d.Code = deliverystore.DeliveryRetrying, &at, string(adapter.CodeOf(failure))
		return again
	}
	d.State, d.FinishedAt = deliverystore.DeliveryWaiting, &now
	d.Code = string(finding.DeliveryWaiting)
	if errors.Is(failure, hooks.ErrEnded) {
		d.Code = string(finding.SubscriptionEnded)
	} else if r, ok := refusal.As(failure); ok {
		d.Code = cmp.Or(string(r.Code), d.Code)
	} else if isCall && !p.Passing() && p.Kind != call.Refused {
		d.Code = string(adapter.CodeOf(failure))
	}
	return 0
}

var addresses = regexp.MustCompile(`([\p{L}\d._%+-])[\p{L}\d._%+-]*(@|%40)`)

// mask hides e-mail addresses, and the name of the person it is about, in what is kept
// for looking at.
func mask(text string, person map[string]any) string {
	const most = 2000
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + " …"
	}
	if strings.Contains(text, "@") || strings.Contains(text, "%40") {
		text = addresses.ReplaceAllString(text, "$1…$2")
	}
	for _, part := range []string{"name", "givenName", "familyName", "userName"} {
		if name, _ := person[part].(string); utf8.RuneCountInString(name) > 1 {
			first, _ := utf8.DecodeRuneInString(name)
			text = strings.ReplaceAll(text, name, string(first)+"…")
		}
	}
	return text
}

// Retry queues a delivery that waits for a person, or that would be tried later.
func (s *Deliveries) Retry(ctx context.Context, who, deliveryID string) error {
	d, err := deliverystore.FindDelivery(ctx, s.Store, deliveryID)
	if err != nil {
		return err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := deliverystore.RequeueOne(ctx, tx, deliveryID); err != nil {
			return err
		}
		if d.InterfaceID != nil { // somebody says that it works again
			key, _ := d.Action.Target()
			for _, operation := range []string{"", key} {
				if _, err := deliverystore.EndFailures(ctx, tx, *d.InterfaceID, operation); err != nil {
					return err
				}
			}
		}
		return tx.Audit(ctx, who, "retried a delivery", "delivery/"+deliveryID, nil)
	})
	if errors.Is(err, db.ErrStale) {
		return refusal.Conflict("", "only a delivery that waits or is to be tried again can be retried")
	}
	return err
}

// GiveUp stops deliveries that are still to come, with a reason, and gives how many it
// stopped and how many are being made at this moment and end by themselves.
func (s *Deliveries) GiveUp(ctx context.Context, who string, f deliverystore.DeliveryFilter, reason string) (stopped,
	underWay int, err error,
) {
	if f.ID == "" && f.RuleID == "" && f.InterfaceID == "" && f.OfferID == "" {
		return 0, 0, refusal.Invalid("ruleId", "say which to give up: one, those of a rule, or those to an interface")
	}
	if reason, err = refusal.Reason(reason, "say why they are given up"); err != nil {
		return 0, 0, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if stopped, underWay, err = deliverystore.GiveUp(ctx, tx, f, "given up by "+who+": "+reason); err != nil ||
			stopped == 0 {
			return err
		}
		return tx.Audit(ctx, who, "gave deliveries up", "deliveries",
			map[string]any{
				"count": stopped, "delivery": f.ID, "rule": f.RuleID, "interface": f.InterfaceID,
				"state": f.State, "reason": reason,
			})
	})
	if err == nil && f.ID != "" && stopped+underWay == 0 {
		return 0, 0, refusal.Conflict("", "only a delivery that is still to come can be given up")
	}
	return stopped, underWay, err
}

// RetryAll queues every delivery that fits the filter and waits for a person, or
// would be tried later, and gives how many there were. Each keeps its id, so that
// receivers can drop what they have had.
func (s *Deliveries) RetryAll(ctx context.Context, who string, f deliverystore.DeliveryFilter) (n int, err error) {
	if f.RuleID == "" && f.InterfaceID == "" && f.OfferID == "" && f.Since.IsZero() {
		return 0, refusal.Invalid("since",
			"say which to try again: those of a rule, of an interface, or everything since a time")
	}
	again := func(tx *db.Tx) error {
		ids, err := deliverystore.Requeue(ctx, tx, f)
		if n = len(ids); err != nil || n == 0 {
			return err
		}
		services, err := deliverystore.InterfacesOf(ctx, tx, ids)
		if err != nil {
			return err
		}
		for _, id := range services { // somebody says that they work again
			if err := deliverystore.EndAllFailures(ctx, tx, id); err != nil {
				return err
			}
		}
		return tx.Audit(ctx, who, "retried deliveries", "deliveries",
			map[string]any{"count": n, "rule": f.RuleID, "interface": f.InterfaceID, "since": f.Since})
	}
	err = db.Again(func() error { return s.Store.InTx(ctx, again) })
	return n, err
}
