package badges

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"time"

	"kanban/internal/core/refusal"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
)

const (
	mostTags       = 20
	mostAlignments = 20
	longestTag     = 100
	mostValidDays  = 100 * 365
	mostTerms      = 20_000
)

// AddBadge makes a badge. Published, which it is unless it says draft, it can be awarded.
func (s *Service) AddBadge(ctx context.Context, who string, b badgestore.Badge) (badgestore.Badge, error) {
	if b.State == "" {
		b.State = badgestore.Published
	}
	if err := s.checkBadge(ctx, &b); err != nil {
		return b, err
	}
	if _, err := badgestore.FindIssuer(ctx, s.Store, b.IssuerID); errors.Is(err, db.ErrNotFound) {
		return b, refusal.Invalid("issuerId", "there is no issuer %q; make one first", b.IssuerID)
	} else if err != nil {
		return b, err
	}
	b.ID, b.Version, b.Revision = db.NewID(), 1, 1
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

// checkBadge refuses what a badge cannot say or ask for, and trims it.
func (s *Service) checkBadge(ctx context.Context, b *badgestore.Badge) error {
	if err := checkWords(b); err != nil {
		return err
	}
	if b.Asks == nil {
		b.Asks = []stage.Criterion{}
	}
	for _, c := range b.Asks {
		for leaf := range c.Leaves {
			if leaf.Kind == stage.Badge && leaf.BadgeID == b.ID {
				return refusal.Invalid("asks", "%q asks for itself", b.Name)
			}
		}
	}
	return s.Criteria.CheckCriteria(ctx, "asks", b.Name, b.Asks)
}

// checkWords refuses what a badge cannot say, and trims it.
func checkWords(b *badgestore.Badge) error {
	for field, text := range map[string]*string{
		"name": &b.Name, "description": &b.Description, "criteria": &b.Criteria,
	} {
		if *text = strings.TrimSpace(*text); *text == "" {
			return refusal.Invalid(field, "is missing: verifiers show it")
		}
	}
	if !slices.Contains([]string{badgestore.Draft, badgestore.Published, badgestore.Withdrawn}, b.State) {
		return refusal.Invalid("state", "%q is none of draft, published, withdrawn", b.State)
	}
	if b.ValidDays < 0 || b.ValidDays > mostValidDays {
		return refusal.Invalid("validDays", "is between 1 and %d days, or 0 for good", mostValidDays)
	}
	b.Level = strings.TrimSpace(b.Level)
	if len(b.Level) > longestTag {
		return refusal.Invalid("level", "is longer than %d bytes", longestTag)
	}
	if _, err := time.Parse(time.DateOnly, b.LastDay); b.LastDay != "" && err != nil {
		return refusal.Invalid("lastDay", "%q is not written as 2027-07-31", b.LastDay)
	}
	if b.Renewable && b.ValidDays == 0 && b.LastDay == "" {
		return refusal.Invalid("renewable", "is for badges that end: say for how many days an award holds, or its last day")
	}
	tags := []string{}
	for _, tag := range b.Tags {
		tag = strings.TrimSpace(tag)
		same := func(had string) bool { return strings.EqualFold(had, tag) }
		if tag != "" && !slices.ContainsFunc(tags, same) {
			tags = append(tags, tag)
		}
		if len(tag) > longestTag || len(tags) > mostTags {
			return refusal.Invalid("tags", "there can be %d tags of %d bytes", mostTags, longestTag)
		}
	}
	b.Tags = tags
	if b.Alignments == nil {
		b.Alignments = []badgestore.Alignment{}
	}
	if len(b.Alignments) > mostAlignments {
		return refusal.Invalid("alignments", "there can be %d", mostAlignments)
	}
	for i := range b.Alignments {
		x := &b.Alignments[i]
		x.Name, x.Address = strings.TrimSpace(x.Name), strings.TrimSpace(x.Address)
		u, err := url.Parse(x.Address)
		if x.Name == "" {
			return refusal.Invalid(fmt.Sprintf("alignments[%d].name", i), "is missing: what is the goal called?")
		}
		if err != nil || !u.IsAbs() || u.Host == "" {
			return refusal.Invalid(fmt.Sprintf("alignments[%d].address", i), "%q is not a full address", x.Address)
		}
	}
	return nil
}

// EditBadge is what is to be changed of a badge; what is nil stays.
type EditBadge struct {
	Name, Description, Criteria, State *string
	Tags                               *[]string
	Asks                               *[]stage.Criterion
	Alignments                         *[]badgestore.Alignment
	ValidDays                          *int
	LastDay, Level                     *string
	Renewable                          *bool
}

// EditBadge changes a badge whose revision must still be the one that was read, 0 for any. What it says after it was
// awarded is a new version: whoever holds it keeps it as it was. Its state alone makes none.
func (s *Service) EditBadge(ctx context.Context, who, id string, revision int, e EditBadge) (badgestore.Badge, error) {
	was, err := badgestore.FindBadge(ctx, s.Store, id)
	if err != nil {
		return was, err
	}
	if revision != 0 && revision != was.Revision {
		return was, fmt.Errorf("changing the badge: %w", db.ErrStale)
	}
	b := e.of(was)
	if err := s.checkBadge(ctx, &b); err != nil {
		return was, err
	}
	if !saysMore(was, b) && b.State == was.State && b.Renewable == was.Renewable {
		return was, nil
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		use, err := badgestore.FindUseOfBadge(ctx, tx, id)
		if err != nil {
			return err
		}
		switch {
		case use.Awards > 0 && b.State == badgestore.Draft:
			return refusal.Conflict("", "%q was awarded, so it is no draft any more; withdraw it instead", was.Name)
		case use.Awards > 0 && saysMore(was, b):
			b.Version = was.Version + 1
		}
		if err := badgestore.EditBadge(ctx, tx, was, b, who, s.Clock.Now()); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "changed a badge", "badge/"+id,
			map[string]any{"name": b.Name, "version": b.Version, "state": b.State}); err != nil {
			return err
		}
		return tx.Announce(ctx, "badge", id)
	})
	if errors.Is(err, db.ErrTaken) {
		return was, refusal.Invalid("name", "another badge is called %q already", b.Name)
	}
	b.Revision = was.Revision + 1
	return b, err
}

// of gives the badge with what is changed of it.
func (e EditBadge) of(b badgestore.Badge) badgestore.Badge {
	for into, from := range map[*string]*string{
		&b.Name: e.Name, &b.Description: e.Description, &b.Criteria: e.Criteria, &b.State: e.State,
		&b.LastDay: e.LastDay, &b.Level: e.Level,
	} {
		if from != nil {
			*into = *from
		}
	}
	if e.Tags != nil {
		b.Tags = *e.Tags
	}
	if e.Asks != nil {
		b.Asks = slices.Clone(*e.Asks)
	}
	if e.Alignments != nil {
		b.Alignments = slices.Clone(*e.Alignments)
	}
	if e.ValidDays != nil {
		b.ValidDays = *e.ValidDays
	}
	if e.Renewable != nil {
		b.Renewable = *e.Renewable
	}
	return b
}

// saysMore reports whether two versions of a badge say something else.
func saysMore(a, b badgestore.Badge) bool {
	return a.Name != b.Name || a.Description != b.Description || a.Criteria != b.Criteria ||
		a.ValidDays != b.ValidDays || a.LastDay != b.LastDay || a.Level != b.Level ||
		!reflect.DeepEqual(append([]stage.Criterion{}, a.Asks...), append([]stage.Criterion{}, b.Asks...)) ||
		!slices.Equal(a.Tags, b.Tags) || !slices.Equal(a.Alignments, b.Alignments)
}

// Versions lists the versions of a badge that were, the latest first.
func (s *Service) Versions(ctx context.Context, id string) ([]badgestore.Former, error) {
	if _, err := badgestore.FindBadge(ctx, s.Store, id); err != nil {
		return nil, err
	}
	return badgestore.FormerBadges(ctx, s.Store, id)
}

// awardable refuses to award a badge that is not published.
func awardable(b badgestore.Badge) error {
	switch b.State {
	case badgestore.Draft:
		return refusal.Conflict("", "the badge %q is a draft; publish it first", b.Name)
	case badgestore.Withdrawn:
		return refusal.Conflict("", "the badge %q is withdrawn; publish it again first", b.Name)
	}
	return nil
}

// EditIssuer changes what an issuer says of itself; what was signed before stays as it was.
func (s *Service) EditIssuer(ctx context.Context, who string, i badgestore.Issuer) (badgestore.Issuer, error) {
	was, err := badgestore.FindIssuer(ctx, s.Store, i.ID)
	if err != nil {
		return was, err
	}
	i.CreatedAt, i.Picture = was.CreatedAt, was.Picture
	if err := checkIssuer(&i); err != nil || i == was {
		return was, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := badgestore.EditIssuer(ctx, tx, i); err != nil {
			return err
		}
		if err := tx.Audit(ctx, who, "changed an issuer", "issuer/"+i.ID,
			map[string]any{"before": was, "after": i}); err != nil {
			return err
		}
		return tx.Announce(ctx, "badge", "")
	})
	if errors.Is(err, db.ErrTaken) {
		return was, refusal.Invalid("name", "another issuer is called %q already", i.Name)
	}
	return i, err
}

// checkIssuer refuses what an issuer cannot say of itself.
func checkIssuer(i *badgestore.Issuer) error {
	if i.Terms = strings.TrimSpace(i.Terms); len(i.Terms) > mostTerms {
		return refusal.Invalid("terms", "are longer than %d bytes", mostTerms)
	}
	if i.Name = strings.TrimSpace(i.Name); i.Name == "" {
		return refusal.Invalid("name", "is missing: it is shown on every badge")
	}
	if u, err := url.Parse(i.URL); i.URL != "" && (err != nil || !u.IsAbs()) {
		return refusal.Invalid("url", "%q is not a full address", i.URL)
	}
	return nil
}
