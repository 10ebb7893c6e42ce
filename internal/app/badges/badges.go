// Package badges gives out badges as signed credentials that anyone can check.
package badges

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwk"

	"kanban/internal/core/badge"
	"kanban/internal/core/clock"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
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
}

// IssuerAddress is the public profile of an issuer.
func (s *Service) IssuerAddress(id string) string { return s.Public + "/issuers/" + id }
func (s *Service) badgeAddress(id string) string  { return s.Public + "/badges/" + id }

// AwardAddress is the public page of an award.
func (s *Service) AwardAddress(id string) string { return s.Public + "/awards/" + id }

func (s *Service) keyAddress(issuerID, keyID string) string {
	return s.IssuerAddress(issuerID) + "/keys/" + keyID
}

// AddIssuer makes an issuer with a signing key of its own.
func (s *Service) AddIssuer(ctx context.Context, who string, i badgestore.Issuer) (badgestore.Issuer, error) {
	if i.Name = strings.TrimSpace(i.Name); i.Name == "" {
		return i, refusal.Invalid("name", "is missing: it is shown on every badge")
	}
	if u, err := url.Parse(i.URL); i.URL != "" && (err != nil || !u.IsAbs()) {
		return i, refusal.Invalid("url", "%q is not a full address", i.URL)
	}
	key, err := openbadge.NewKey()
	if err != nil {
		return i, err
	}
	text, err := json.Marshal(key)
	if err != nil {
		return i, err
	}
	i.ID, i.KeyID = db.NewID(), openbadge.ID(key)
	if i.Key, err = s.Store.Seal(text, "issuer/"+i.ID); err != nil {
		return i, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &i, "making the issuer"); err != nil {
			return err
		}
		return tx.Audit(ctx, who, "made an issuer", "issuer/"+i.ID, map[string]string{"name": i.Name})
	})
	if errors.Is(err, db.ErrTaken) {
		return i, refusal.Invalid("name", "another issuer is called %q already", i.Name)
	}
	return i, err
}

// AddBadge makes a badge that rules can award.
func (s *Service) AddBadge(ctx context.Context, who string, b badgestore.Badge) (badgestore.Badge, error) {
	for field, text := range map[string]*string{
		"name": &b.Name, "description": &b.Description,
		"criteria": &b.Criteria,
	} {
		if *text = strings.TrimSpace(*text); *text == "" {
			return b, refusal.Invalid(field, "is missing: verifiers show it")
		}
	}
	if _, err := badgestore.FindIssuer(ctx, s.Store, b.IssuerID); errors.Is(err, db.ErrNotFound) {
		return b, refusal.Invalid("issuerId", "there is no issuer %q; make one first", b.IssuerID)
	} else if err != nil {
		return b, err
	}
	b.ID = db.NewID()
	err := s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &b, "making the badge"); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "made a badge", "badge/"+b.ID, map[string]string{"name": b.Name}); err != nil {
			return err
		}
		return tx.Announce(ctx, "badge", b.ID)
	})
	if errors.Is(err, db.ErrTaken) {
		return b, refusal.Invalid("name", "another badge is called %q already", b.Name)
	}
	return b, err
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
	if a, err := badgestore.AwardOf(ctx, s.Store, badgeID, *event.PersonID, event.ID); !errors.Is(err,
		db.ErrNotFound) {
		return a, err
	}
	b, err := badgestore.FindBadge(ctx, s.Store, badgeID)
	if errors.Is(err, db.ErrNotFound) {
		return badgestore.Award{}, refusal.Invalid("badgeId", "there is no badge %q any more", badgeID)
	}
	if err != nil {
		return badgestore.Award{}, err
	}
	chain := rule.Chain(event.Data) + 1
	a := badgestore.Award{
		ID: db.NewID(), BadgeID: b.ID, PersonID: *event.PersonID, EventID: &event.ID,
		SectionID: event.SectionID, CourseID: event.CourseID, AwardedAt: at,
	}
	number, err := badgestore.NextAwardNumber(ctx, s.Store)
	if err != nil {
		return badgestore.Award{}, err
	}
	a.Number = &number
	if a.Credential, err = s.credential(ctx, a, b); err != nil {
		return badgestore.Award{}, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &a, "keeping the award"); err != nil {
			return err
		}
		return s.tell(ctx, tx, rule.BadgeAwarded, a, b, at, "", chain)
	})
	if errors.Is(err, db.ErrTaken) { // two events at once: the other one was first
		return badgestore.AwardOf(ctx, s.Store, badgeID, *event.PersonID, event.ID)
	}
	return a, err
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

func (s *Service) credential(ctx context.Context, a badgestore.Award, b badgestore.Badge) (string, error) {
	person, err := rosterstore.FindPerson(ctx, s.Store, a.PersonID)
	if err != nil {
		return "", err
	}
	if strings.TrimSpace(person.Email) == "" {
		return "", refusal.Conflict(finding.AddressMissing,
			"%s has no e-mail address, which the credential needs to say whose it is", person.Name())
	}
	issuer, key, err := s.issuer(ctx, b.IssuerID)
	if err != nil {
		return "", err
	}
	credential, err := badge.Build(badge.Award{
		ID: s.AwardAddress(a.ID), Issuer: s.profile(issuer), Achievement: s.achievement(b),
		Address: person.Email, Salt: rand.Text(), At: a.AwardedAt, Status: badge.StatusAt(s.listAddress(issuer.ID,
			*a.Number/badge.Entries), int(*a.Number%badge.Entries)),
	})
	if err != nil {
		return "", err
	}
	return openbadge.Sign(credential, key, s.keyAddress(issuer.ID, issuer.KeyID))
}

func (s *Service) issuer(ctx context.Context, id string) (badgestore.Issuer, jwk.Key, error) {
	i, err := badgestore.FindIssuer(ctx, s.Store, id)
	if err != nil {
		return i, nil, err
	}
	text, err := s.Store.Unseal(i.Key, "issuer/"+i.ID)
	if err != nil {
		return i, nil, err
	}
	key, err := jwk.ParseKey(text)
	return i, key, err
}

func (s *Service) profile(i badgestore.Issuer) badge.Profile {
	return badge.Profile{
		ID: s.IssuerAddress(i.ID), Type: []string{"Profile"}, Name: i.Name, URL: i.URL,
		Email: i.Email, Description: i.Description,
	}
}

func (s *Service) achievement(b badgestore.Badge) badge.Achievement {
	return badge.Achievement{
		ID: s.badgeAddress(b.ID), Type: []string{"Achievement"}, AchievementType: "Badge",
		Name: b.Name, Description: b.Description, Criteria: badge.Criteria{Narrative: b.Criteria},
	}
}

// Profile is the public profile of an issuer.
func (s *Service) Profile(ctx context.Context, issuerID string) (badge.Profile, error) {
	i, err := badgestore.FindIssuer(ctx, s.Store, issuerID)
	return s.profile(i), err
}

// Achievement is the public description of a badge.
func (s *Service) Achievement(ctx context.Context, badgeID string) (badge.Achievement, error) {
	b, err := badgestore.FindBadge(ctx, s.Store, badgeID)
	return s.achievement(b), err
}

// PublicKey is the key with which an issuer's credentials are checked, under the id by which they
// name it. keyID is the last part of its address; "" is whichever the issuer has.
func (s *Service) PublicKey(ctx context.Context, issuerID, keyID string) (jwk.Key, error) {
	_, key, err := s.issuer(ctx, issuerID)
	if err != nil {
		return nil, err
	}
	id := openbadge.ID(key)
	if keyID != "" && keyID != id {
		return nil, db.ErrNotFound
	}
	public, err := openbadge.Public(key)
	if err != nil {
		return nil, err
	}
	return openbadge.Named(public, s.keyAddress(issuerID, id))
}

// Checked is what checking an award's credential gave.
type Checked struct {
	Award      badgestore.Award
	Credential badge.Credential
	// Problem says why it does not verify; empty when it does. What was revoked is
	// signed and unchanged all the same: the award says when and why.
	Problem string
}

// Check verifies an award's credential with the issuer's published key, the same
// way a stranger would.
func (s *Service) Check(ctx context.Context, awardID string) (Checked, error) {
	a, err := badgestore.FindAward(ctx, s.Store, awardID)
	if err != nil {
		return Checked{}, err
	}
	b, err := badgestore.FindBadge(ctx, s.Store, a.BadgeID)
	if err != nil {
		return Checked{}, err
	}
	keyAt := func(kid string) (jwk.Key, error) {
		key, err := s.PublicKey(ctx, b.IssuerID, "")
		if err != nil {
			return nil, err
		}
		if want := openbadge.ID(key); kid != want {
			return nil, fmt.Errorf("the issuer's key is at %s", want)
		}
		return key, nil
	}
	credential, err := openbadge.Verify(a.Credential, s.Clock.Now(), keyAt)
	revoked := false
	if err == nil {
		revoked, err = openbadge.Revoked(credential, s.Clock.Now(), func(address string) (string, error) {
			place, there := strings.CutPrefix(address, s.IssuerAddress(b.IssuerID)+"/status/")
			if !there {
				return "", db.ErrNotFound
			}
			return s.StatusList(ctx, b.IssuerID, place)
		}, keyAt)
	}
	c := Checked{Award: a, Credential: credential}
	switch {
	case err != nil:
		c.Problem = err.Error()
	case revoked && a.RevokedAt == nil:
		c.Problem = "its status list says that it is revoked, which nobody has done"
	case !revoked && a.RevokedAt != nil && credential.Status != nil:
		c.Problem = "it was revoked, which its status list does not say"
	}
	return c, nil
}
