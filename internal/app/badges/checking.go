package badges

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"kanban/internal/core/refusal"
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
	// Forms is what was seen in each of its forms. What was signed before there were two has one.
	Forms []openbadge.Examination
}

// Check verifies an award's credential, in each of its forms, with the issuer's published keys and status lists, the
// same way a stranger would.
func (s *Service) Check(ctx context.Context, awardID string) (Checked, error) {
	a, err := badgestore.FindAward(ctx, s.Store, awardID)
	if err != nil {
		return Checked{}, err
	}
	c, here := Checked{Award: a}, &documents{Service: s, kept: map[string][]byte{}}
	for _, form := range [][]byte{a.Document, []byte(a.Credential)} {
		if len(form) == 0 {
			continue
		}
		seen := openbadge.Examine(ctx, form, s.Clock.Now(), here)
		c.Forms = append(c.Forms, seen)
		if len(c.Forms) == 1 || openbadge.Worse(seen.Verdict, c.Verdict) {
			c.Examination = seen
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

// CheckFile looks at a badge of any issuer: a picture that carries one, or a credential.
func (s *Service) CheckFile(ctx context.Context, file []byte) openbadge.Examination {
	if address := strings.TrimSpace(string(file)); len(address) < 2000 && isAddress(address) {
		x, err := s.CheckAddress(ctx, address)
		if err != nil {
			return openbadge.Examination{
				Verdict: openbadge.Unchecked, Why: err.Error(),
				Checks: []openbadge.Check{{What: openbadge.CheckRead, Outcome: openbadge.Failed, Detail: err.Error()}},
			}
		}
		return x
	}
	return s.examine(ctx, file)
}

// CheckAddress looks at the badge at an address.
func (s *Service) CheckAddress(ctx context.Context, address string) (openbadge.Examination, error) {
	address = strings.TrimSpace(address)
	if !isAddress(address) {
		return openbadge.Examination{}, refusal.Invalid("address", "%q is not a full address", address)
	}
	if _, path, ok := s.own(address); ok {
		id, ok := strings.CutPrefix(path, "awards/")
		if !ok || strings.Contains(id, "/") {
			return openbadge.Examination{}, refusal.Invalid("address", "there is no badge at %s", address)
		}
		c, err := s.Check(ctx, strings.SplitN(id, "?", 2)[0])
		if errors.Is(err, db.ErrNotFound) {
			return openbadge.Examination{}, refusal.Invalid("address", "there is no badge at %s", address)
		}
		return c.Examination, err
	}
	file, err := s.Strangers.Get(ctx, address, badgeForms)
	if err != nil {
		return openbadge.Examination{}, refusal.Invalid("address", "the badge at %s cannot be had: %v", address, err)
	}
	if bytes.HasPrefix(bytes.TrimSpace(bytes.ToLower(file[:min(len(file), 200)])), []byte("<!doctype html")) {
		return openbadge.Examination{}, refusal.Invalid("address",
			"there is a page at %s, and no badge; download the badge there and check the file", address)
	}
	return s.examine(ctx, file), nil
}

// badgeForms are the forms in which a badge can be read.
const badgeForms = "application/vc+jwt, application/vc;q=0.9, application/ld+json;q=0.8, application/json;q=0.7, image/png;q=0.6, image/svg+xml;q=0.5"

func isAddress(text string) bool {
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
	if !d.strangers || d.Strangers == nil {
		return nil, errors.New("it is not an address of this installation")
	}
	body, err := d.Strangers.Get(ctx, address,
		"application/did+json, application/jwk+json, application/vc+jwt, application/vc;q=0.9, application/json;q=0.8, */*;q=0.1")
	if errors.Is(err, call.ErrNothingThere) {
		return nil, fmt.Errorf("%s: %w", address, openbadge.ErrNothing)
	}
	return body, err
}
