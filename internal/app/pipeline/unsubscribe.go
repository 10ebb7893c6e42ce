package pipeline

import (
	"cmp"
	"context"
	"encoding/base64"
	"fmt"
	"strings"

	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/rulestore"
)

// heldUnsubscribed is why a mail is skipped.
const heldUnsubscribed = "unsubscribed"

// linkOwner binds what stands in an address to its purpose.
const linkOwner = "unsubscribe"

// Subscription is what a link in a mail is about: one rule's mails to one address.
type Subscription struct {
	Rule    rulestore.Rule
	Address string
	Ended   bool
}

// recipient is the address of a mail.
func (s *Deliveries) recipient(a rule.Action, values rule.Values) (string, error) {
	to, err := s.Expressions.Value(cmp.Or(a.To, "person.email"), values)
	if err != nil {
		return "", refuseText("to", err)
	}
	address, _ := to.(string)
	if address == "" {
		return "", refusal.Conflict(finding.AddressMissing, "there is no address to send to")
	}
	return address, nil
}

// unsubscribed skips a mail that its recipient wants no more of. A test goes out.
func (s *Deliveries) unsubscribed(ctx context.Context, t *turn) (bool, error) {
	d := &t.delivery
	if d.Action.Kind != rule.Mail || d.RuleID == nil {
		return false, nil
	}
	address, err := s.recipient(d.Action, t.values)
	if err != nil {
		return false, nil //nolint:nilerr // the attempt says so
	}
	key, err := roster.AddressKey(address)
	if err != nil {
		return false, nil //nolint:nilerr // the attempt says so
	}
	yes, err := rulestore.Unsubscribed(ctx, s.Store, *d.RuleID, key)
	if err == nil && yes {
		now := s.Clock.Now()
		d.State, d.Held, d.FinishedAt, d.NextAt, t.settled = deliverystore.DeliverySkipped, heldUnsubscribed, &now,
			nil, true
	}
	return yes, err
}

// unsubscribeLink is the address under which somebody ends a rule's mails to an address.
// It tells nobody who that is.
func (s *Deliveries) unsubscribeLink(ruleID, address string) (string, error) {
	sealed, err := s.Store.Seal([]byte(ruleID+"\n"+address), linkOwner)
	return s.Source + "/open/unsubscribe/" + base64.RawURLEncoding.EncodeToString(sealed), err
}

// SubscriptionOf gives what a link in a mail is about; db.ErrNotFound when it is none of
// ours, or its rule is gone.
func (s *Deliveries) SubscriptionOf(ctx context.Context, token string) (x Subscription, err error) {
	sealed, err := base64.RawURLEncoding.DecodeString(token)
	if err != nil || len(sealed) == 0 {
		return x, fmt.Errorf("reading the link: %w", db.ErrNotFound)
	}
	text, err := s.Store.Unseal(sealed, linkOwner)
	if err != nil {
		return x, fmt.Errorf("reading the link: %w", db.ErrNotFound)
	}
	var ruleID string
	ruleID, x.Address, _ = strings.Cut(string(text), "\n")
	if x.Rule, err = rulestore.FindRule(ctx, s.Store, ruleID); err != nil {
		return x, err
	}
	key, err := roster.AddressKey(x.Address)
	if err != nil {
		return x, fmt.Errorf("reading the link: %w", db.ErrNotFound)
	}
	x.Ended, err = rulestore.Unsubscribed(ctx, s.Store, ruleID, key)
	return x, err
}

// Subscribe ends a rule's mails to an address, or begins them again.
func (s *Deliveries) Subscribe(ctx context.Context, who, ruleID, address string, wanted bool) error {
	key, err := roster.AddressKey(address)
	if err != nil {
		return refusal.Invalid("address", "%q is not an e-mail address", address)
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		what := "unsubscribed from a rule's mails"
		if wanted {
			what = "subscribed to a rule's mails again"
			ok, err := rulestore.DropUnsubscribe(ctx, tx, ruleID, key)
			if err != nil || !ok {
				return err
			}
		} else if err := rulestore.KeepUnsubscribe(ctx, tx, rulestore.Unsubscribe{
			RuleID: ruleID, AddressKey: key,
			Address: address,
		}); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, what, "rule/"+ruleID, nil); err != nil {
			return err
		}
		return tx.Announce(ctx, "rule", ruleID)
	})
}
