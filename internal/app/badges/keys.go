package badges

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"github.com/lestrrat-go/jwx/v3/jwk"

	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/wire/openbadge"
)

// newKeys makes keys of the given algorithms; they are not kept yet.
func (s *Service) newKeys(issuerID string, algorithms ...openbadge.Algorithm) (all []badgestore.IssuerKey, err error) {
	for _, a := range algorithms {
		key, err := openbadge.NewKey(a)
		if err != nil {
			return nil, err
		}
		text, err := json.Marshal(key)
		if err != nil {
			return nil, err
		}
		k := badgestore.IssuerKey{
			ID:        openbadge.ID(key),
			IssuerID:  issuerID,
			Algorithm: string(a),
			CreatedAt: s.Clock.Now(),
		}
		if k.Key, err = s.Store.Seal(text, "issuer/"+issuerID); err != nil {
			return nil, err
		}
		all = append(all, k)
	}
	return all, nil
}

// signer is the key with which an issuer signs by an algorithm. Issuers that were made before there was one of the
// algorithm get it now.
func (s *Service) signer(ctx context.Context, issuerID string, algorithm openbadge.Algorithm) (jwk.Key, error) {
	find := func() (jwk.Key, error) {
		keys, err := badgestore.IssuerKeys(ctx, s.Store, issuerID)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(keys, func(k badgestore.IssuerKey) bool {
			return k.RetiredAt == nil && k.Algorithm == string(algorithm)
		})
		if i < 0 {
			return nil, fmt.Errorf("the issuer's %s key: %w", algorithm, db.ErrNotFound)
		}
		return s.unsealed(keys[i])
	}
	key, err := find()
	if !errors.Is(err, db.ErrNotFound) {
		return key, err
	}
	made, err := s.newKeys(issuerID, algorithm)
	if err != nil {
		return nil, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error { return badgestore.AddKey(tx, &made[0]) })
	if err != nil && !errors.Is(err, db.ErrTaken) { // two at once: the other one was first
		return nil, err
	}
	return find()
}

func (s *Service) unsealed(k badgestore.IssuerKey) (jwk.Key, error) {
	text, err := s.Store.Unseal(k.Key, "issuer/"+k.IssuerID)
	if err != nil {
		return nil, err
	}
	return jwk.ParseKey(text)
}

// Keys lists an issuer's keys, those that sign first.
func (s *Service) Keys(ctx context.Context, issuerID string) ([]badgestore.IssuerKey, error) {
	if _, err := badgestore.FindIssuer(ctx, s.Store, issuerID); err != nil {
		return nil, err
	}
	return badgestore.IssuerKeys(ctx, s.Store, issuerID)
}

// RotateKeys gives an issuer new keys to sign with. The old ones stay published: what they signed keeps verifying.
func (s *Service) RotateKeys(ctx context.Context, who, issuerID string) ([]badgestore.IssuerKey, error) {
	i, err := badgestore.FindIssuer(ctx, s.Store, issuerID)
	if err != nil {
		return nil, err
	}
	made, err := s.newKeys(issuerID, openbadge.RS256, openbadge.EdDSA)
	if err != nil {
		return nil, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := badgestore.RetireKeys(ctx, tx, issuerID, s.Clock.Now()); err != nil {
			return err
		}
		for k := range made {
			if err := badgestore.AddKey(tx, &made[k]); err != nil {
				return err
			}
		}
		if err := tx.Audit(ctx, who, "gave an issuer new keys", "issuer/"+issuerID, map[string]string{"name": i.Name}); err != nil {
			return err
		}
		return tx.Announce(ctx, "badge", issuerID)
	})
	if err != nil {
		return nil, err
	}
	return badgestore.IssuerKeys(ctx, s.Store, issuerID)
}
