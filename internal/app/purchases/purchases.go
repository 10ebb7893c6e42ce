// Package purchases turns purchases and memberships into enrolments and back: an offer
// says to which sections something that is sold gives access, and for how long.
package purchases

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/clock"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
	"kanban/internal/store/purchasestore"
	"kanban/internal/store/rosterstore"
)

// Service is the use case. Fill every field.
type Service struct {
	Store       *db.Database
	Clock       clock.Clock
	Expressions *rule.Expressions
}

// What happens when access ends.
const (
	Unenrol = "unenrol" // the person is taken out of the section
	Mark    = "mark"    // nothing, but it shows
)

// Which section of a course an offer leads to.
const (
	CurrentTerm = "current" // of the term that runs
	NextTerm    = "next"    // of the term that begins next
)

// mostGrace bounds the grace of an offer, in days.
const mostGrace = 366

// Save makes an offer (id empty) or changes one, and lets what follows from it happen.
func (s *Service) Save(ctx context.Context, who, id string, version int, o purchasestore.Offer) (purchasestore.Offer,
	error,
) {
	kept := purchasestore.Offer{ID: db.NewID(), Version: 1}
	if id != "" {
		var err error
		if kept, err = purchasestore.FindOffer(ctx, s.Store, id); err != nil {
			return kept, err
		}
		if version != 0 && version != kept.Version {
			return kept, fmt.Errorf("changing the offer: %w", db.ErrStale)
		}
	}
	if err := s.check(ctx, &o); err != nil {
		return kept, err
	}
	if id != "" {
		o.OffSince = kept.OffSince
	}
	o.ID, o.Version, o.CreatedAt = kept.ID, kept.Version, kept.CreatedAt
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		write, what := func() error { return db.Create(tx, &o, "making the offer") }, "made an offer"
		if id != "" {
			write, what = func() error { return purchasestore.UpdateOffer(tx, &o) }, "changed an offer"
		}
		if err := write(); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, jobs.SettleAccess{OfferID: o.ID}); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, what, "offer/"+o.ID, o); err != nil {
			return err
		}
		return tx.Announce(ctx, "offer", o.ID)
	})
	if errors.Is(err, db.ErrTaken) {
		return o, refusal.Invalid("name", "another offer has this name, or is for the same thing at the service")
	}
	return o, err
}

func (s *Service) check(ctx context.Context, o *purchasestore.Offer) error {
	o.Name, o.Offer = strings.TrimSpace(o.Name), strings.TrimSpace(o.Offer)
	switch {
	case o.Name == "":
		return refusal.Invalid("name", "is missing: say what is sold")
	case o.Offer == "":
		return refusal.Invalid("offer", "is missing: what the service calls it")
	case o.GraceDays < 0 || o.GraceDays > mostGrace:
		return refusal.Invalid("graceDays", "must be between 0 and %d", mostGrace)
	case o.AtEnd != Unenrol && o.AtEnd != Mark:
		return refusal.Invalid("atEnd", "%q is not one of %s, %s", o.AtEnd, Unenrol, Mark)
	case len(o.SectionIDs) == 0 && o.CourseID == nil:
		return refusal.Invalid("sectionIds", "name the sections it gives access to, or a course")
	case len(o.SectionIDs) > 0 && o.CourseID != nil:
		return refusal.Invalid("courseId", "name sections or a course, not both")
	case o.CourseID != nil && o.TermRule != CurrentTerm && o.TermRule != NextTerm:
		return refusal.Invalid("termRule", "with a course, say which term: %s or %s", CurrentTerm, NextTerm)
	}
	if o.CourseID == nil {
		o.TermRule = ""
	}
	if err := s.checkInterface(ctx, "interfaceId", o.InterfaceID, adapter.KindEvents); err != nil {
		return err
	}
	if o.PlatformID != nil {
		if err := s.checkInterface(ctx, "platformId", *o.PlatformID, adapter.KindSCIM,
			adapter.KindPickup); err != nil {
			return err
		}
	}
	for _, id := range o.SectionIDs {
		x, err := rosterstore.FindSection(ctx, s.Store, id)
		switch {
		case errors.Is(err, db.ErrNotFound):
			return refusal.Invalid("sectionIds", "there is no section %q; see which there are: kanban sections list", id)
		case err != nil:
			return err
		case x.List != "":
			return refusal.Invalid("sectionIds", "%s is a list of people, in which nobody can be enrolled", x.Title)
		}
	}
	return nil
}

func (s *Service) checkInterface(ctx context.Context, field, id string, kinds ...string) error {
	c, err := connectionstore.FindInterface(ctx, s.Store, id)
	if errors.Is(err, db.ErrNotFound) {
		return refusal.Invalid(field, "there is no interface %q; see which there are: kanban interfaces list", id)
	}
	if err == nil && !slices.Contains(kinds, c.Kind) {
		return refusal.Invalid(field, "%s is of kind %s, this needs one of kind %s", c.Name, c.Kind,
			strings.Join(kinds, " or "))
	}
	return err
}

// Switch switches an offer on or off. While it is off it gives nothing and takes nothing; what is bought
// or ended meanwhile counts as soon as it is on.
func (s *Service) Switch(ctx context.Context, who, id string, on bool) (purchasestore.Offer, error) {
	o, err := purchasestore.FindOffer(ctx, s.Store, id)
	if err != nil || on == (o.OffSince == nil) {
		return o, err
	}
	what := "switched an offer on"
	if o.OffSince = nil; !on {
		now := s.Clock.Now()
		o.OffSince, what = &now, "switched an offer off"
	}
	return o, s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := purchasestore.UpdateOffer(tx, &o); err != nil {
			return err
		}
		if err := tx.Enqueue(ctx, jobs.SettleAccess{OfferID: o.ID}); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, what, "offer/"+o.ID, map[string]string{"name": o.Name}); err != nil {
			return err
		}
		return tx.Announce(ctx, "offer", o.ID)
	})
}

// Remove removes an offer. Whoever it enrolled stays enrolled.
func (s *Service) Remove(ctx context.Context, who, id string) error {
	o, err := purchasestore.FindOffer(ctx, s.Store, id)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := purchasestore.RemoveOffer(ctx, tx, id); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "removed an offer", "offer/"+id, o); err != nil {
			return err
		}
		return tx.Announce(ctx, "offer", id)
	})
}

// nobody stands before a buyer who cannot be told from what the service reported.
const nobody = "unknown/"

// Reported takes in what a service reported, in the transaction that records it: whether
// somebody's access starts or ends. Everybody goes through what was told in one order, so
// that two who tell about the same purchases never wait for each other.
func (s *Service) Reported(ctx context.Context, tx *db.Tx, c adapter.Interface, events []eventstore.Event) error {
	type told struct {
		purchasestore.Access
		starts bool
		at     time.Time
	}
	var all []told
	for _, e := range events {
		if a, starts, ok := s.access(c, e); ok {
			all = append(all, told{a, starts, e.OccurredAt.UTC()})
		}
	}
	slices.SortStableFunc(all, func(a, b told) int {
		return cmp.Or(cmp.Compare(a.Offer, b.Offer), cmp.Compare(a.Buyer, b.Buyer),
			cmp.Compare(a.OrderRef, b.OrderRef))
	})
	for _, x := range all {
		a := x.Access
		o, mapped, err := purchasestore.OfferOf(ctx, tx, c.ID, a.Offer)
		if err != nil {
			return err
		}
		if mapped {
			a.OfferID = &o.ID
		}
		if a, err = purchasestore.KeepAccessNews(ctx, tx, a, x.starts, x.at); err != nil {
			return err
		}
		if mapped && o.OffSince == nil {
			if err := s.settle(ctx, tx, o, a); err != nil {
				return err
			}
		}
	}
	return nil
}

// access is what an event says about somebody's access; ok is false when it says nothing.
func (s *Service) access(c adapter.Interface, e eventstore.Event) (a purchasestore.Access, starts, ok bool) {
	says := s.Expressions.Read(c.Settings, e.Data)
	// neither, or it cannot be told; or nothing that could be offered here
	if says.Starts == says.Ends || says.Offer == "" {
		return a, false, false
	}
	buyer, err := roster.AddressKey(says.Person)
	switch {
	case err != nil && e.PersonID != nil:
		buyer = "person/" + *e.PersonID // told apart by the register's identifier
	case err != nil:
		buyer = nobody + says.Person
		if says.Person == "" && says.Order == "" { // nothing tells it from others: it stands for itself
			says.Order = "event/" + e.NaturalKey
		}
	}
	return purchasestore.Access{
		ID: db.NewID(), InterfaceID: c.ID, Offer: says.Offer, Buyer: buyer,
		OrderRef: says.Order, Name: says.BuyerName, PersonID: e.PersonID,
	}, says.Starts, true
}

// settledAtOnce is how many accesses are worked out in one transaction.
const settledAtOnce = 200

// Settle works out anew what an offer gives and takes, as after it was changed.
func (s *Service) Settle(ctx context.Context, offerID string) error {
	if err := s.Store.InTx(ctx, func(tx *db.Tx) error { return purchasestore.AssignAccesses(ctx, tx) }); err != nil {
		return err
	}
	o, err := purchasestore.FindOffer(ctx, s.Store, offerID)
	if errors.Is(err, db.ErrNotFound) {
		return nil // removed in the meantime
	}
	if err != nil || o.OffSince != nil {
		return err
	}
	for after, more := "", true; more; {
		err := s.Store.InTx(ctx, func(tx *db.Tx) error {
			list, err := purchasestore.AccessesFor(ctx, tx, o.ID, after, settledAtOnce)
			if more = len(list) == settledAtOnce; more {
				after = list[len(list)-1].ID
			}
			if err != nil {
				return err
			}
			return s.settleAll(ctx, tx, map[string]purchasestore.Offer{o.ID: o}, list)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// Tick works out what has changed by itself: what the register has come to know since,
// what has run out, and what gives nothing although it should. What did not change is
// not looked at.
func (s *Service) Tick(ctx context.Context) error {
	if err := s.Store.InTx(ctx, func(tx *db.Tx) error { return purchasestore.AssignAccesses(ctx, tx) }); err != nil {
		return err
	}
	ids, err := purchasestore.Unsettled(ctx, s.Store, s.Clock.Now())
	if err != nil || len(ids) == 0 {
		return err
	}
	all, err := purchasestore.Offers(ctx, s.Store)
	if err != nil {
		return err
	}
	offers := map[string]purchasestore.Offer{}
	for _, o := range all {
		offers[o.ID] = o
	}
	for part := range slices.Chunk(ids, settledAtOnce) {
		err := s.Store.InTx(ctx, func(tx *db.Tx) error {
			list, err := purchasestore.AccessesByID(ctx, tx, part)
			if err != nil {
				return err
			}
			return s.settleAll(ctx, tx, offers, list)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) settleAll(ctx context.Context, tx *db.Tx, offers map[string]purchasestore.Offer,
	list []purchasestore.Access,
) error {
	for _, a := range list {
		if o, ok := offers[*a.OfferID]; ok {
			if err := s.settle(ctx, tx, o, a); err != nil {
				return err
			}
		}
	}
	return nil
}

// settle gives a buyer what an access leads to and has not given yet, and reverts
// what it leads to no longer.
func (s *Service) settle(ctx context.Context, tx *db.Tx, o purchasestore.Offer, a purchasestore.Access) error {
	now := s.Clock.Now() // as finely as the database keeps it
	a.EndsOn = nil
	if a.Over() {
		ends := a.EndedAt.AddDate(0, 0, o.GraceDays)
		a.EndsOn = &ends
	}
	if a.Until != nil && (a.EndsOn == nil || a.Until.Before(*a.EndsOn)) {
		a.EndsOn = a.Until
	}
	shared := false
	if a.PersonID == nil && a.Holds(now) && !strings.HasPrefix(a.Buyer, nobody) {
		var err error
		if shared, err = purchasestore.ShareAddress(ctx, tx, a.Buyer); err != nil {
			return err
		}
	}
	var want []string
	a.Trouble = ""
	switch {
	case !a.Holds(now):
	case strings.HasPrefix(a.Buyer, nobody) && a.PersonID == nil:
		a.Trouble = string(finding.BuyerUnknown)
	case shared: // what it gave before stays
		a.Trouble, want = string(finding.BuyerAmbiguous), a.SectionIDs
	default:
		var err error
		if want, err = s.sections(ctx, o, a, now); err != nil {
			return err
		}
		if len(want) == 0 {
			a.Trouble = string(finding.OfferNoSection)
		}
	}
	for _, id := range want {
		if !slices.Contains(a.SectionIDs, id) {
			if err := s.grant(ctx, tx, o, a, id, now); err != nil {
				return err
			}
		}
	}
	for _, id := range a.SectionIDs {
		if !slices.Contains(want, id) {
			if err := s.end(ctx, tx, o, a, id, now); err != nil {
				return err
			}
		}
	}
	a.SectionIDs, a.ClosedAt = want, nil
	if (a.Over() || a.RanOut(now)) && len(want) == 0 {
		a.ClosedAt = &now
	}
	return purchasestore.KeepAccess(ctx, tx, a)
}

// sections are where an access leads. One that was chosen out of a course stays.
func (s *Service) sections(ctx context.Context, o purchasestore.Offer, a purchasestore.Access,
	now time.Time,
) ([]string, error) {
	if o.CourseID == nil {
		return o.SectionIDs, nil
	}
	all, err := purchasestore.SectionsOfCourse(ctx, s.Store, *o.CourseID)
	if err != nil {
		return nil, err
	}
	var fits []purchasestore.Fitting
	for _, x := range all {
		if slices.Contains(a.SectionIDs, x.ID) && !roster.Over(x.EndsOn, now) {
			return []string{x.ID}, nil
		}
		begun := x.BeginsOn == nil || !x.BeginsOn.After(now)
		if !roster.Over(x.EndsOn, now) && begun == (o.TermRule == CurrentTerm) {
			fits = append(fits, x)
		}
	}
	if len(fits) == 0 {
		return nil, nil
	}
	if o.TermRule == NextTerm { // the term that begins first; in it, the emptiest section
		first := slices.MinFunc(fits, func(a, b purchasestore.Fitting) int { return a.BeginsOn.Compare(*b.BeginsOn) })
		fits = slices.DeleteFunc(fits,
			func(x purchasestore.Fitting) bool { return !x.BeginsOn.Equal(*first.BeginsOn) })
	}
	return []string{fits[0].ID}, nil
}

func (s *Service) grant(ctx context.Context, tx *db.Tx, o purchasestore.Offer, a purchasestore.Access,
	sectionID string, now time.Time,
) error {
	return s.record(ctx, tx, o, a, sectionID, rule.AccessGranted, *a.StartedAt, now, rule.Enrol, true)
}

func (s *Service) end(ctx context.Context, tx *db.Tx, o purchasestore.Offer, a purchasestore.Access, sectionID string,
	now time.Time,
) error {
	elsewhere, err := purchasestore.HeldElsewhere(ctx, tx, a, sectionID, now)
	if err != nil || elsewhere {
		return err // another purchase gives the same
	}
	since := now
	switch {
	case a.RanOut(now):
		since = *a.Until
	case a.EndedAt != nil:
		since = *a.EndedAt
	}
	return s.record(ctx, tx, o, a, sectionID, rule.AccessEnded, since, now, rule.Unenrol, o.AtEnd == Unenrol)
}

// record writes the event that access was granted or has ended and, when somebody is
// to be enrolled or taken out, the delivery that does so.
func (s *Service) record(ctx context.Context, tx *db.Tx, o purchasestore.Offer, a purchasestore.Access,
	sectionID string, kind rule.Trigger, since, now time.Time, action string, act bool,
) error {
	x, err := rosterstore.FindSection(ctx, tx, sectionID)
	if errors.Is(err, db.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	email := a.Buyer
	if !strings.Contains(email, "@") || strings.HasPrefix(email, nobody) {
		email = ""
	}
	e := eventstore.Event{
		Type: string(kind), NaturalKey: fmt.Sprintf("%s/%s/%s/%d", kind, a.ID, sectionID, since.UnixNano()),
		PersonID: a.PersonID, SectionID: &sectionID, CourseID: &x.CourseID, OccurredAt: since,
		Data: map[string]any{
			"offer": o.Offer, "name": a.Name, "email": email, "accessId": a.ID, "order": a.OrderRef,
			"offerName": o.Name,
		},
	}
	events := []eventstore.Event{e}
	fresh, err := eventstore.RecordEvents(ctx, tx, events)
	if err != nil || len(fresh) == 0 || !act || o.PlatformID == nil {
		return err
	}
	d := deliverystore.Delivery{
		ID: db.NewID(), EventID: events[0].ID, OfferID: &o.ID, RuleVersion: o.Version, InterfaceID: o.PlatformID,
		PersonID: a.PersonID, SectionID: &sectionID,
		Action: rule.Action{
			Kind: action, InterfaceID: *o.PlatformID,
			SectionID: sectionID,
		}, State: deliverystore.DeliveryPlanned, DueAt: &now,
	}
	if _, err := deliverystore.AddDeliveries(ctx, tx, []deliverystore.Delivery{d}); err != nil {
		return err
	}
	return deliverystore.QueuePlanned(ctx, tx, now, d.ID)
}
