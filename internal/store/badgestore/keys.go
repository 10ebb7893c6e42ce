package badgestore

import (
	"context"
	"time"

	"kanban/internal/store/db"
)

// IssuerKey is a key with which an issuer signs, or did.
type IssuerKey struct {
	ID        string // its thumbprint (RFC 7638)
	IssuerID  string
	Algorithm string
	Key       []byte // sealed private JWK
	CreatedAt time.Time
	RetiredAt *time.Time // since then nothing is signed with it
}

// IssuerKeys lists an issuer's, those that sign first, then the newest.
func IssuerKeys(ctx context.Context, from db.From, issuerID string) (all []IssuerKey, err error) {
	err = from.Records(ctx).Where("issuer_id = ?", issuerID).
		Order("retired_at IS NOT NULL, created_at DESC, algorithm").Find(&all).Error
	return all, db.Known(err, "listing the issuer's keys")
}

// AddKey keeps a key; the error wraps ErrTaken where another of its algorithm signs.
func AddKey(tx *db.Tx, k *IssuerKey) error { return db.Create(tx, k, "keeping the key") }

// RetireKeys ends signing with an issuer's keys.
func RetireKeys(ctx context.Context, tx *db.Tx, issuerID string, at time.Time) error {
	_, err := db.Exec(ctx, tx, `UPDATE issuer_keys SET retired_at = $2 WHERE issuer_id = $1 AND retired_at IS NULL`, issuerID, at)
	return db.Known(err, "retiring the issuer's keys")
}

// NotePublicAddress notes under which address the installation is reached from now on.
func NotePublicAddress(ctx context.Context, from db.From, address string) error {
	_, err := db.Exec(ctx, from, `INSERT INTO public_addresses (address) VALUES ($1)
		ON CONFLICT (address) DO UPDATE SET last_at = now()`, address)
	return db.Known(err, "noting the address")
}

// PublicAddresses are all under which the installation was ever reached.
func PublicAddresses(ctx context.Context, from db.From) ([]string, error) {
	return db.Values[string](ctx, from, "listing the installation's addresses",
		`SELECT address FROM public_addresses ORDER BY last_at DESC, address`)
}
