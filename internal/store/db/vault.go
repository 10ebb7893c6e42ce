package db

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/insecurecleartextkeyset"
	"github.com/tink-crypto/tink-go/v2/keyset"
	"github.com/tink-crypto/tink-go/v2/tink"
)

// NewKeyset makes a keyset for Options.Keyset (AES-256-GCM). It is kept outside
// the database, so that a copy of the database alone reveals no secret.
func NewKeyset() ([]byte, error) {
	handle, err := keyset.NewHandle(aead.AES256GCMKeyTemplate())
	if err != nil {
		return nil, fmt.Errorf("making the secrets key: %w", err)
	}
	var out bytes.Buffer
	err = insecurecleartextkeyset.Write(handle, keyset.NewJSONWriter(&out))
	return out.Bytes(), err
}

// vault seals and opens secrets.
type vault struct{ aead tink.AEAD }

func openVault(text []byte) (*vault, error) {
	handle, err := insecurecleartextkeyset.Read(keyset.NewJSONReader(bytes.NewReader(text)))
	if err != nil {
		return nil, fmt.Errorf("the secrets key cannot be read: %w", err)
	}
	a, err := aead.New(handle)
	if err != nil {
		return nil, fmt.Errorf("the secrets key cannot be used: %w", err)
	}
	return &vault{a}, nil
}

// Seal encrypts a secret; owner binds it to the record that holds it.
func (v *vault) Seal(secret []byte, owner string) ([]byte, error) {
	if len(secret) == 0 {
		return nil, nil
	}
	return v.aead.Encrypt(secret, []byte(owner))
}

// Unseal decrypts what Seal made for the same owner.
func (v *vault) Unseal(sealed []byte, owner string) ([]byte, error) {
	if len(sealed) == 0 {
		return nil, nil
	}
	secret, err := v.aead.Decrypt(sealed, []byte(owner))
	if err != nil {
		return nil, fmt.Errorf("opening the secret of %s: %w", owner, err)
	}
	return secret, nil
}

const keyCheck = "secrets-key-check"

// checkVault refuses to start with another key than the one in use: secrets
// could be neither read nor, later, written without losing the old ones.
func (s *Database) checkVault(ctx context.Context) error {
	var sealed []byte
	err := s.Pool.QueryRow(ctx, `SELECT value FROM installation WHERE name = $1`, keyCheck).Scan(&sealed)
	if errors.Is(err, pgx.ErrNoRows) {
		fresh, err := s.Seal([]byte("kanban"), keyCheck)
		if err != nil {
			return err
		}
		_, err = s.Pool.Exec(ctx, `INSERT INTO installation (name, value) VALUES ($1, $2) ON CONFLICT DO NOTHING`,
			keyCheck, fresh)
		if err != nil {
			return err
		}
		return s.checkVault(ctx)
	}
	if err != nil {
		return err
	}
	if _, err := s.Unseal(sealed, keyCheck); err != nil {
		return errors.New("the secrets key is not the one this database was made with: give the same key to every replica (KANBAN_SECRETS_KEY, or the file secrets.key of the data folder)")
	}
	return nil
}

// Sealed reports whether a database holds anything that was sealed with a key.
func Sealed(ctx context.Context, url string) (yes bool, err error) {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return false, fmt.Errorf("connecting to the database: %w", err)
	}
	defer conn.Close(ctx)
	if err := conn.QueryRow(ctx, `SELECT to_regclass('installation') IS NOT NULL`).Scan(&yes); err != nil || !yes {
		return false, Known(err, "looking for sealed secrets")
	}
	err = conn.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM installation WHERE name = $1)`, keyCheck).Scan(&yes)
	return yes, Known(err, "looking for sealed secrets")
}
