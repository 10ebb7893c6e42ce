package badges

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/wire/call"
	"kanban/internal/wire/openbadge"
)

// Checked is what checking an award's credential gave.
type Checked struct {
	Award badgestore.Award
	// What was seen in the form that verifies worst; the one with its proof inside where both do as well.
	openbadge.Examination
}

// Check verifies an award's credential, in each of its forms, with the issuer's published keys and status lists, the
// same way a stranger would.
func (s *Service) Check(ctx context.Context, awardID string) (Checked, error) {
	a, err := badgestore.FindAward(ctx, s.Store, awardID)
	if err != nil {
		return Checked{}, err
	}
	c, here := Checked{Award: a}, &documents{Service: s, kept: map[string][]byte{}}
	c.Examination = openbadge.Examine(ctx, []byte(a.Credential), s.Clock.Now(), here)
	if len(a.Document) > 0 { // what was signed before there were proofs inside has none
		inside := openbadge.Examine(ctx, a.Document, s.Clock.Now(), here)
		if !openbadge.Worse(c.Verdict, inside.Verdict) {
			c.Examination = inside
		}
	}
	c.compare()
	return c, nil
}

// compare says when the issuer's records and its status lists do not agree.
func (c *Checked) compare() {
	revoked, suspended := c.Award.RevokedAt != nil, c.Award.SuspendedAt != nil
	switch {
	case len(c.Seen.Status) == 0 && revoked && c.Verdict == openbadge.Valid: // it was signed before there were lists
		c.Verdict, c.Why = openbadge.Revoked, "Its issuer revoked it: it does not hold any more."
	case c.Verdict == openbadge.Valid && (revoked || suspended), c.Verdict == openbadge.Suspended && !suspended,
		c.Verdict == openbadge.Revoked && !revoked:
		c.Verdict, c.Why = openbadge.Unchecked, "Its status list does not say what its issuer's records say."
	}
}

// CheckFile looks at a badge of any issuer: a picture that carries one, a credential, or the address of either.
func (s *Service) CheckFile(ctx context.Context, file []byte) (openbadge.Examination, error) {
	if address := strings.TrimSpace(string(file)); isAddress(address) {
		return s.checkAddress(ctx, address)
	}
	return s.examine(ctx, file), nil
}

func (s *Service) checkAddress(ctx context.Context, address string) (openbadge.Examination, error) {
	if _, path, ok := s.own(address); ok {
		id, _ := strings.CutPrefix(path, "awards/")
		id, _, _ = strings.Cut(id, "?")
		c, err := s.Check(ctx, id)
		if errors.Is(err, db.ErrNotFound) {
			return openbadge.Unreadable("There is no badge at " + address + "."), nil
		}
		return c.Examination, err
	}
	file, err := s.Strangers.Get(ctx, address, badgeForms)
	switch {
	case err != nil:
		return openbadge.Unreadable(fmt.Sprintf("The badge at %s cannot be had: %v.", address, err)), nil
	case bytes.HasPrefix(bytes.TrimSpace(bytes.ToLower(file[:min(len(file), 200)])), []byte("<!doctype html")):
		return openbadge.Unreadable("There is a page at " + address +
			", and no badge; download the badge there and check the file."), nil
	}
	return s.examine(ctx, file), nil
}

// badgeForms are the forms in which a badge can be read.
const badgeForms = "application/vc+jwt, application/vc;q=0.9, application/ld+json;q=0.8, application/json;q=0.7, image/png;q=0.6, image/svg+xml;q=0.5"

func isAddress(text string) bool {
	if len(text) > 2000 {
		return false
	}
	u, err := url.Parse(text)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != ""
}

func (s *Service) examine(ctx context.Context, file []byte) openbadge.Examination {
	return openbadge.Examine(ctx, file, s.Clock.Now(),
		&documents{Service: s, strangers: true, kept: map[string][]byte{}})
}

// documents gets what a credential names: from here what is this installation's, the rest from strangers, if they are
// asked.
type documents struct {
	*Service
	strangers bool
	kept      map[string][]byte // of this installation, for the other form of the same
}

// Fetch gives the document at an address.
func (d *documents) Fetch(ctx context.Context, address string) ([]byte, error) {
	if base, path, ok := d.own(address); ok {
		if body, ok := d.kept[address]; ok {
			return body, nil
		}
		body, err := d.asked(ctx, base, path)
		if errors.Is(err, db.ErrNotFound) {
			return nil, fmt.Errorf("%s: %w", address, openbadge.ErrNothing)
		}
		d.kept[address] = body
		return body, err
	}
	if !d.strangers {
		return nil, errors.New("it is not an address of this installation")
	}
	body, err := d.Strangers.Get(ctx, address,
		"application/did+json, application/jwk+json, application/vc+jwt, application/vc;q=0.9, application/json;q=0.8, */*;q=0.1")
	if errors.Is(err, call.ErrNothingThere) {
		return nil, fmt.Errorf("%s: %w", address, openbadge.ErrNothing)
	}
	return body, err
}
