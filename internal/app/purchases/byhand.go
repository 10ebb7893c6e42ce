package purchases

import (
	"context"
	"errors"
	"strings"
	"time"

	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store/db"
	"kanban/internal/store/purchasestore"
	"kanban/internal/store/rosterstore"
)

// forLater is what a reason is for.
const forLater = "say why, for whoever reads it later"

// Give gives a person by hand what an offer leads to, beside what is bought: until a time,
// or until it is ended when that is nil.
func (s *Service) Give(ctx context.Context, who, offerID, personID string, until *time.Time,
	reason string,
) (purchasestore.Access, error) {
	reason, err := refusal.Reason(reason, forLater)
	if err != nil {
		return purchasestore.Access{}, err
	}
	now := s.Clock.Now()
	if until != nil && !until.After(now) {
		return purchasestore.Access{}, refusal.Invalid("until", "%s has passed; give a time to come, or none",
			until.Format(time.RFC3339))
	}
	o, err := purchasestore.FindOffer(ctx, s.Store, offerID)
	if err != nil {
		return purchasestore.Access{}, err
	}
	if o.OffSince != nil {
		return purchasestore.Access{}, refusal.Conflict("", "%s is off, so it gives nothing; switch it on first", o.Name)
	}
	p, err := rosterstore.FindPerson(ctx, s.Store, personID)
	if errors.Is(err, db.ErrNotFound) {
		return purchasestore.Access{}, refusal.Invalid("personId",
			"there is no person %q; look for them by name: kanban people find", personID)
	}
	if err != nil {
		return purchasestore.Access{}, err
	}
	buyer, err := roster.AddressKey(p.Email)
	if err != nil {
		buyer = "person/" + p.ID
	}
	a := purchasestore.Access{
		ID: db.NewID(), InterfaceID: o.InterfaceID, Offer: o.Offer, Buyer: buyer,
		OfferID: &o.ID, Name: p.Name(), PersonID: &p.ID, StartedAt: &now, Until: until, GivenBy: who, Reason: reason,
	}
	a.OrderRef = "by hand/" + a.ID
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := purchasestore.GiveAccess(ctx, tx, a); err != nil {
			return err
		}
		if err := s.settle(ctx, tx, o, a); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "gave access by hand", "access/"+a.ID,
			map[string]any{"offer": o.Name, "person": p.ID, "until": until, "reason": reason}); err != nil {
			return err
		}
		return tx.Announce(ctx, "offer", o.ID)
	})
	return a, err
}

// End ends access that was given by hand. What was bought is ended where it was sold.
func (s *Service) End(ctx context.Context, who, accessID, reason string) error {
	reason, err := refusal.Reason(reason, forLater)
	if err != nil {
		return err
	}
	now := s.Clock.Now()
	return s.change(ctx, accessID, func(tx *db.Tx, a *purchasestore.Access) error {
		switch {
		case a.GivenBy == "":
			return refusal.Conflict("",
				"this was bought; cancel it at the service that sold it, which then reports so")
		case a.RanOut(now):
			return refusal.Conflict("", "this access has ended already")
		}
		a.Until = &now
		if err := purchasestore.EndAccess(ctx, tx, a.ID, now); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "ended access by hand", "access/"+a.ID, map[string]string{"reason": reason})
	})
}

// Assign says whose a purchase is of which that cannot be told.
func (s *Service) Assign(ctx context.Context, who, accessID, personID string) error {
	p, err := rosterstore.FindPerson(ctx, s.Store, personID)
	if errors.Is(err, db.ErrNotFound) {
		return refusal.Invalid("personId", "there is no person %q; look for them by name: kanban people find", personID)
	}
	if err != nil {
		return err
	}
	return s.change(ctx, accessID, func(tx *db.Tx, a *purchasestore.Access) error {
		if a.PersonID != nil && *a.PersonID != p.ID {
			return refusal.Conflict("", "it is known whose this is already: %s", a.Name)
		}
		if err := purchasestore.AssignAccess(ctx, tx, a.ID, p.ID); err != nil {
			return err
		}
		a.PersonID = &p.ID
		if strings.HasPrefix(a.Buyer, nobody) { // it is told apart by the order as before
			a.Trouble = ""
		}
		return tx.Audit(ctx, who, "said whose a purchase is", "access/"+a.ID,
			map[string]string{"person": p.ID, "buyer": a.Buyer})
	})
}

// change does something with one access and lets what follows from it happen.
func (s *Service) change(ctx context.Context, accessID string,
	do func(tx *db.Tx, a *purchasestore.Access) error,
) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		a, err := purchasestore.AccessOf(ctx, tx, accessID)
		if err != nil {
			return err
		}
		if err := do(tx, &a); err != nil {
			return err
		}
		if a.OfferID == nil {
			return nil
		}
		o, err := purchasestore.FindOffer(ctx, tx, *a.OfferID)
		if err != nil {
			return err
		}
		if o.OffSince != nil {
			return nil // it counts as soon as the offer is on
		}
		if err := s.settle(ctx, tx, o, a); err != nil {
			return err
		}
		return tx.Announce(ctx, "offer", o.ID)
	})
}
