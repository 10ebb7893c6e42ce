// Package badges gives out badges as signed credentials that anyone can check.
package badges

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"sync/atomic"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwk"

	"kanban/internal/core/badge"
	"kanban/internal/core/clock"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/proofstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/openbadge"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *db.Database
	// Public is the address under which verifiers reach this installation,
	// without a slash at its end. Credentials carry it for ever.
	Public string
	Clock  clock.Clock
	// Strangers fetches what badges of other issuers name.
	Strangers Fetcher
	// Criteria reads what badges ask for, as programs read it.
	Criteria Criteria

	addresses atomic.Pointer[[]string] // under which it is and was reached
}

// Criteria reads criteria that programs can read.
type Criteria interface {
	// CheckCriteria refuses those that cannot be used.
	CheckCriteria(ctx context.Context, field, of string, all []stage.Criterion) error
	// Say puts them into words.
	Say(ctx context.Context, all []stage.Criterion) ([]string, error)
	// Unmet says what people have not done of them, by person.
	Unmet(ctx context.Context, all []stage.Criterion, people []string) (map[string][]string, error)
}

// Fetcher gets documents at addresses that strangers gave.
type Fetcher interface {
	Get(ctx context.Context, address, accept string) ([]byte, error)
}

// AddIssuer makes an issuer with signing keys of its own.
func (s *Service) AddIssuer(ctx context.Context, who string, i badgestore.Issuer) (badgestore.Issuer, error) {
	if err := checkIssuer(&i); err != nil {
		return i, err
	}
	i.ID = db.NewID()
	keys, err := s.newKeys(i.ID, openbadge.RS256, openbadge.EdDSA)
	if err != nil {
		return i, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &i, "making the issuer"); err != nil {
			return err
		}
		for k := range keys {
			if err := badgestore.AddKey(tx, &keys[k]); err != nil {
				return err
			}
		}
		return tx.Audit(ctx, who, "made an issuer", "issuer/"+i.ID, map[string]string{"name": i.Name})
	})
	if errors.Is(err, db.ErrTaken) {
		return i, refusal.Invalid("name", "another issuer is called %q already", i.Name)
	}
	return i, err
}

// Award gives a badge to a person because of an event. Nobody is awarded twice: the
// award that is there already is returned. One that was revoked stays so when the same
// event comes again; for another event the badge is given anew.
func (s *Service) Award(ctx context.Context, badgeID string, event eventstore.Event, at time.Time) (badgestore.Award,
	error,
) {
	if event.PersonID == nil {
		return badgestore.Award{}, refusal.Invalid("badgeId", "the event is about nobody, so nobody can be awarded")
	}
	held, err := badgestore.AwardOf(ctx, s.Store, badgeID, *event.PersonID, event.ID)
	if err != nil && !errors.Is(err, db.ErrNotFound) {
		return held, err
	}
	there := err == nil
	b, err := badgestore.FindBadge(ctx, s.Store, badgeID)
	if errors.Is(err, db.ErrNotFound) {
		return badgestore.Award{}, refusal.Invalid("badgeId", "there is no badge %q any more", badgeID)
	}
	if err != nil || there && !renews(held, b, event.ID, at) {
		return held, err
	}
	a := badgestore.Award{
		BadgeID: b.ID, PersonID: *event.PersonID, EventID: &event.ID,
		SectionID: event.SectionID, CourseID: event.CourseID, AwardedAt: at,
	}
	if err = s.give(ctx, &a, b, rule.Chain(event.Data)+1, held.ID, nil); errors.Is(err, db.ErrTaken) {
		// Two events at once: the other one was first.
		return badgestore.AwardOf(ctx, s.Store, badgeID, *event.PersonID, event.ID)
	}
	return a, err
}

// renews reports whether another event renews an award that is held.
func renews(held badgestore.Award, b badgestore.Badge, eventID string, at time.Time) bool {
	same := held.EventID != nil && *held.EventID == eventID
	return !same && held.RevokedAt == nil && b.Renewable && badge.Renews(held.ValidUntil, at)
}

// give signs an award and keeps it, and what is to be kept with it; renews is the id of the one whose place it takes,
// or "". The error wraps ErrTaken where the person holds the badge.
func (s *Service) give(ctx context.Context, a *badgestore.Award, b badgestore.Badge, chain int, renews string,
	with func(*db.Tx) error,
) error {
	if err := awardable(b); err != nil {
		return err
	}
	number, err := badgestore.NextAwardNumber(ctx, s.Store)
	if err != nil {
		return err
	}
	a.ID, a.Number, a.Picture, a.Version = db.NewID(), &number, b.Picture, b.Version
	if until := badge.HoldsUntil(a.AwardedAt, b.ValidDays, b.LastDay); !until.IsZero() {
		if !until.After(a.AwardedAt) {
			return refusal.Conflict("", "the last day of the badge %q is over; change it first", b.Name)
		}
		a.ValidUntil = &until
	}
	if err := s.sign(ctx, a, b); err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if renews != "" {
			if ok, err := badgestore.Renew(ctx, tx, renews, s.Clock.Now()); err != nil || !ok {
				return cmp.Or(err, db.ErrTaken) // somebody else renewed it meanwhile
			}
		}
		test, err := proofstore.LearnerNow(ctx, tx, []string{a.PersonID})
		if err != nil {
			return err
		}
		a.Test = test != ""
		if err := db.Create(tx, a, "keeping the award"); err != nil {
			return err
		}
		if with != nil {
			if err := with(tx); err != nil {
				return err
			}
		}
		return s.tell(ctx, tx, rule.BadgeAwarded, *a, b, a.AwardedAt, "", chain)
	})
}

// tell records that an award was given, revoked or given back; key tells one time from
// another, chain is how many events led to it.
func (s *Service) tell(ctx context.Context, tx *db.Tx, what rule.Trigger, a badgestore.Award, b badgestore.Badge,
	at time.Time, key string, chain int,
) error {
	data := map[string]any{"badge": b.Name, "badgeId": b.ID, "address": s.AwardAddress(a.ID)}
	if chain > 0 {
		data["chain"] = chain
	}
	if what == rule.BadgeRevoked {
		data["reason"] = a.Reason
	}
	if _, err := eventstore.RecordEvents(ctx, tx, []eventstore.Event{{
		Type: string(what), NaturalKey: string(what) + "/" + a.ID + key, PersonID: &a.PersonID,
		SectionID: a.SectionID, CourseID: a.CourseID, Data: data, OccurredAt: at,
	}}); err != nil {
		return err
	}
	return tx.Announce(ctx, "badge", b.ID)
}

// sign gives an award its credential, as a token and with its proof inside.
func (s *Service) sign(ctx context.Context, a *badgestore.Award, b badgestore.Badge) error {
	person, err := rosterstore.FindPerson(ctx, s.Store, a.PersonID)
	if err != nil {
		return err
	}
	if strings.TrimSpace(person.Email) == "" {
		return refusal.Conflict(finding.AddressMissing,
			"%s has no e-mail address, which the credential needs to say whose it is", person.Name())
	}
	issuer, err := badgestore.FindIssuer(ctx, s.Store, b.IssuerID)
	if err != nil {
		return err
	}
	var until time.Time
	if a.ValidUntil != nil {
		until = *a.ValidUntil
	}
	credential, err := badge.Build(badge.Award{
		Until: until, ID: s.AwardAddress(a.ID), Issuer: s.profile(s.Public, issuer),
		Achievement: s.achievement(s.Public, b),
		Address:     person.Email, Salt: rand.Text(), At: a.AwardedAt, Status: s.entries(issuer.ID, *a.Number),
		Note: a.Note, Evidence: evidence(a.Evidence),
	})
	if err != nil {
		return err
	}
	token, err := s.signer(ctx, issuer.ID, openbadge.RS256)
	if err != nil {
		return err
	}
	inside, err := s.signer(ctx, issuer.ID, openbadge.EdDSA)
	if err != nil {
		return err
	}
	published := func(key jwk.Key) string { return keyAddress(s.Public, issuer.ID, openbadge.ID(key)) }
	if a.Credential, err = openbadge.Sign(credential, token, published(token)); err != nil {
		return err
	}
	a.Document, err = openbadge.Embed(credential, inside, published(inside), a.AwardedAt)
	return err
}

func evidence(all []badgestore.Evidence) (out []badge.Evidence) {
	for _, e := range all {
		out = append(out, badge.Evidence{ID: e.Address, Narrative: e.Text})
	}
	return out
}
