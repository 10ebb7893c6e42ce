package wallets

import (
	"bytes"
	"context"
	"encoding/json"
	"regexp"
	"strings"
	"time"

	"kanban/internal/core/badge"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/walletstore"
	"kanban/internal/wire/openbadge"
)

// mostBrought bounds the credentials from elsewhere of one holder, LongestCredential each in bytes.
const (
	mostBrought       = 100
	LongestCredential = 256 << 10
)

// jws is the form of a compact JWS (RFC 7515, section 7.1).
var jws = regexp.MustCompile(`^[\w-]+\.[\w-]+\.[\w-]+$`)

// Credentials gives a part of a holder's credentials, those that came after a time, and how many there are of them.
func (s *Service) Credentials(ctx context.Context, personID string, since time.Time, limit, offset int) (
	c openbadge.Credentials, total int, err error,
) {
	all, total, err := walletstore.HeldBy(ctx, s.Store, personID, since, limit, offset)
	for _, x := range all {
		if x.JWS {
			c.CompactJWS = append(c.CompactJWS, string(x.Content))
		} else {
			c.Credential = append(c.Credential, json.RawMessage(x.Content))
		}
	}
	return c, total, err
}

// Outcome of bringing a credential.
type Outcome int

// The outcomes.
const (
	New Outcome = iota
	Replaced
	Unchanged
)

// Bring keeps a credential from elsewhere for a holder, if it is one, is theirs and was not altered. The same again
// changes nothing.
func (s *Service) Bring(ctx context.Context, personID, walletID string, content []byte) (Outcome, error) {
	content = bytes.TrimSpace(content)
	isJWS := jws.Match(content)
	if !isJWS && !bytes.HasPrefix(content, []byte("{")) || len(content) > LongestCredential {
		return New, refusal.Invalid("credential", "is neither a JSON document nor a compact JWS of at most %d kB",
			LongestCredential>>10)
	}
	p, err := rosterstore.FindPerson(ctx, s.Store, personID)
	if err != nil {
		return New, err
	}
	held, err := walletstore.Holds(ctx, s.Store, personID, content)
	if err != nil || held {
		return Unchanged, err
	}
	w, err := walletstore.Find(ctx, s.Store, walletID)
	if err != nil {
		return New, err
	}
	x, err := s.Badges.CheckFile(ctx, content)
	switch {
	case err != nil:
		return New, err
	case x.Seen.ID == "" || x.Verdict == openbadge.Unchecked && x.Secured == "":
		return New, refusal.Invalid("credential", "is not a badge of Open Badges 3.0: %s", x.Why)
	case x.Verdict == openbadge.Altered, x.Verdict == openbadge.UnknownIssuer:
		return New, refusal.Invalid("credential", "does not hold: %s", x.Why)
	case !x.Seen.BelongsTo(p.Email):
		return New, refusal.Invalid("credential",
			"was not awarded to the e-mail address that the school knows; only its holder can bring it")
	}
	if strings.HasPrefix(x.Seen.ID, s.Badges.AwardAddress("")) {
		return Unchanged, nil // of this service, in another form than the one that it gives
	}
	b := walletstore.Brought{
		ID: db.NewID(), PersonID: personID, CredentialID: x.Seen.ID, Name: x.Seen.Achievement.Name,
		Issuer: x.Seen.Issuer.Name, Content: content, JWS: isJWS, Verdict: string(x.Verdict),
		Wallet: w.Name, BroughtAt: s.Clock.Now(),
	}
	if b.Issuer == "" {
		b.Issuer = x.Seen.Issuer.ID
	}
	return s.keep(ctx, b)
}

func (s *Service) keep(ctx context.Context, b walletstore.Brought) (out Outcome, err error) {
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		all, err := walletstore.BroughtOf(ctx, tx, b.PersonID)
		if err != nil {
			return err
		}
		out = New
		for _, x := range all {
			if x.CredentialID == b.CredentialID {
				out = Replaced
			}
		}
		if out == New && len(all) >= mostBrought {
			return refusal.Conflict("", "%d credentials from elsewhere are kept already; remove some first", mostBrought)
		}
		if err := walletstore.KeepBrought(ctx, tx, b); err != nil {
			return err
		}
		return tx.Audit(ctx, "the holder", "brought a credential", "person/"+b.PersonID,
			map[string]any{"credential": b.CredentialID, "wallet": b.Wallet})
	})
	return out, err
}

// Brought lists a holder's credentials from elsewhere, the newest first.
func (s *Service) Brought(ctx context.Context, personID string) ([]walletstore.Brought, error) {
	return walletstore.BroughtOf(ctx, s.Store, personID)
}

// RemoveBrought removes one of a holder's credentials from elsewhere.
func (s *Service) RemoveBrought(ctx context.Context, personID, id string) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := walletstore.DropBrought(ctx, tx, personID, id); err != nil {
			return err
		}
		return tx.Audit(ctx, "the holder", "removed a credential from elsewhere", "person/"+personID, nil)
	})
}

// Profile is what a wallet is told about a holder.
func (s *Service) Profile(ctx context.Context, personID string) (openbadge.HolderProfile, error) {
	p, h, err := s.Holders.Who(ctx, personID)
	return openbadge.HolderProfile{
		Context: badge.Contexts, ID: "urn:uuid:" + p.ID, Type: []string{"Profile"}, Name: h.ShownName, Email: p.Email,
	}, err
}

// SetProfile corrects the name under which others see a holder. The e-mail address is the school's.
func (s *Service) SetProfile(ctx context.Context, personID string, to openbadge.HolderProfile) (
	openbadge.HolderProfile, error,
) {
	now, err := s.Profile(ctx, personID)
	if err != nil {
		return now, err
	}
	if to.Email != "" && !strings.EqualFold(to.Email, now.Email) {
		return now, refusal.Invalid("email", "is kept by the school; ask there to have it changed")
	}
	if to.Name != now.Name {
		if err := s.Holders.SetName(ctx, personID, to.Name); err != nil {
			return now, err
		}
	}
	return s.Profile(ctx, personID)
}
