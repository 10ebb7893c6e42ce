package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// Administrator may sign in.
type Administrator struct {
	ID           string
	Name         string
	Email        string
	PasswordHash string
	Role         string
	CreatedAt    time.Time
}

// APIToken lets a program act for an administrator. Only its hash is kept.
type APIToken struct {
	ID              string
	AdministratorID string
	Name            string
	Hash            []byte
	CreatedAt       time.Time
	LastUsedAt      *time.Time
}

// Administrators counts them.
func (s *Store) Administrators(ctx context.Context) (n int64, err error) {
	err = s.reader(ctx).Model(&Administrator{}).Count(&n).Error
	return n, known(err, "counting administrators")
}

// AllAdministrators lists them by name.
func (s *Store) AllAdministrators(ctx context.Context) (all []Administrator, err error) {
	err = s.reader(ctx).Order("name, id").Find(&all).Error
	return all, known(err, "listing administrators")
}

// Approval lets somebody who got a mail approve the removals of a pairing.
type Approval struct {
	TokenHash       []byte
	PairingID       string
	AdministratorID string
	CreatedAt       time.Time
	UsedAt          *time.Time
}

// approvalLasts is how long such a link can be used.
const approvalLasts = "7 days"

// Approval finds one by the hash of its token; used or old ones are ErrNotFound.
func (s *Store) Approval(ctx context.Context, hash []byte) (a Approval, err error) {
	err = s.reader(ctx).Where("token_hash = ? AND used_at IS NULL AND created_at > now() - interval '"+approvalLasts+"'", hash).First(&a).Error
	return a, known(err, "finding the approval")
}

// UseApproval spends all links that were sent for the pairing.
func (tx *Tx) UseApproval(ctx context.Context, a Approval) error {
	done, err := tx.PGX.Exec(ctx, `UPDATE approvals SET used_at = now() WHERE pairing_id = $1 AND used_at IS NULL`, a.PairingID)
	if err == nil && done.RowsAffected() == 0 {
		return fmt.Errorf("using the approval: %w", ErrNotFound)
	}
	return known(err, "using the approval")
}

// Told notes that removals of a pairing were announced by mail.
func (tx *Tx) Told(ctx context.Context, pairingID string, removals int) error {
	_, err := tx.PGX.Exec(ctx, `UPDATE pairings SET guard_told = $2 WHERE id = $1`, pairingID, removals)
	return known(err, "noting a mail")
}

// AdministratorByEmail finds one, ignoring case.
func (s *Store) AdministratorByEmail(ctx context.Context, email string) (a Administrator, err error) {
	err = s.reader(ctx).Where("lower(email) = lower(?)", email).First(&a).Error
	return a, known(err, "finding the administrator")
}

// Administrator finds one by id.
func (s *Store) Administrator(ctx context.Context, id string) (a Administrator, err error) {
	err = s.reader(ctx).Where("id = ?", id).First(&a).Error
	return a, known(err, "finding the administrator")
}

// AdministratorByToken finds whom a token stands for and notes its use.
func (s *Store) AdministratorByToken(ctx context.Context, hash []byte) (a Administrator, err error) {
	err = s.reader(ctx).Raw(`
		WITH used AS (
			UPDATE api_tokens SET last_used_at = now()
			WHERE hash = ? AND (last_used_at IS NULL OR last_used_at < now() - interval '1 minute')
		)
		SELECT a.* FROM administrators a JOIN api_tokens t ON t.administrator_id = a.id WHERE t.hash = ?`, hash, hash).Scan(&a).Error
	if err == nil && a.ID == "" {
		return a, fmt.Errorf("finding the token: %w", ErrNotFound)
	}
	return a, known(err, "finding the token")
}

// AddSetupLink keeps the hash of a new one-time set-up link and drops older ones.
func (s *Store) AddSetupLink(ctx context.Context, hash []byte) error {
	_, err := s.Pool.Exec(ctx, `WITH old AS (DELETE FROM setup_links WHERE used_at IS NULL) INSERT INTO setup_links (token_hash) VALUES ($1)`, hash)
	return known(err, "keeping the set-up link")
}

// UseSetupLink spends a link; it can be spent once.
func (tx *Tx) UseSetupLink(ctx context.Context, hash []byte) error {
	tag, err := tx.PGX.Exec(ctx, `UPDATE setup_links SET used_at = now() WHERE token_hash = $1 AND used_at IS NULL`, hash)
	if err == nil && tag.RowsAffected() == 0 {
		return fmt.Errorf("using the set-up link: %w", ErrNotFound)
	}
	return known(err, "using the set-up link")
}

// Audit adds an entry to the audit trail. detail must not hold secrets.
func (tx *Tx) Audit(ctx context.Context, who, what, subject string, detail any) error {
	text, err := json.Marshal(detail)
	if err != nil {
		return err
	}
	_, err = tx.PGX.Exec(ctx, `INSERT INTO audit_entries (who, what, subject, detail) VALUES ($1, $2, $3, $4)`, who, what, subject, string(text))
	return known(err, "writing the audit trail")
}

// Create inserts a record of any kind.
func Create[T any](tx *Tx, record *T, doing string) error {
	return known(tx.DB.Create(record).Error, doing)
}

// KeptAnswer is the answer to a request that carried an Idempotency-Key.
type KeptAnswer struct {
	Key       string
	Request   []byte // hash of method, path and body
	Status    *int   // nil while nobody has answered
	Body      []byte
	Header    map[string]string `gorm:"serializer:json"`
	ClaimedAt time.Time
}

// claimFor is how long a request may take before its key can be claimed by a repeat.
const claimFor = "2 minutes"

// ClaimAnswer takes a key for a request. claimed is false when it was taken during the
// last day, and kept is for what, with the answer if there is one by now.
func (s *Store) ClaimAnswer(ctx context.Context, key string, request []byte) (claimed bool, kept KeptAnswer, err error) {
	if _, err = s.Pool.Exec(ctx, `DELETE FROM kept_answers WHERE created_at < now() - interval '1 day' OR key = $1 AND status IS NULL AND claimed_at < now() - interval '`+claimFor+`'`, key); err != nil {
		return false, kept, known(err, "claiming a key")
	}
	rows, err := s.Pool.Query(ctx, `INSERT INTO kept_answers (key, request) VALUES ($1, $2) ON CONFLICT DO NOTHING RETURNING claimed_at`, key, request)
	if err != nil {
		return false, kept, known(err, "claiming a key")
	}
	at, err := pgx.CollectRows(rows, pgx.RowTo[time.Time])
	if err == nil && len(at) == 1 {
		return true, KeptAnswer{Key: key, Request: request, ClaimedAt: at[0]}, nil
	}
	if err == nil {
		err = s.reader(ctx).Where("key = ?", key).First(&kept).Error
	}
	return false, kept, known(err, "finding the kept answer")
}

// KeepAnswer keeps the answer to a request that has claimed its key.
func (s *Store) KeepAnswer(ctx context.Context, a KeptAnswer) error {
	header, err := json.Marshal(a.Header)
	if err == nil {
		_, err = s.Pool.Exec(ctx, `UPDATE kept_answers SET status = $3, body = $4, header = $5 WHERE key = $1 AND claimed_at = $2 AND status IS NULL`, a.Key, a.ClaimedAt, a.Status, a.Body, string(header))
	}
	return known(err, "keeping the answer")
}

// FreeAnswer lets a key be claimed again, because its request was not carried out.
func (s *Store) FreeAnswer(ctx context.Context, a KeptAnswer) error {
	_, err := s.Pool.Exec(ctx, `DELETE FROM kept_answers WHERE key = $1 AND claimed_at = $2 AND status IS NULL`, a.Key, a.ClaimedAt)
	return known(err, "freeing a key")
}

// EndToken removes an API token by its hash.
func (tx *Tx) EndToken(ctx context.Context, hash []byte) error {
	_, err := tx.PGX.Exec(ctx, `DELETE FROM api_tokens WHERE hash = $1`, hash)
	return known(err, "ending the token")
}

// SetupLinkOpen reports whether a set-up link can still be spent.
func (s *Store) SetupLinkOpen(ctx context.Context, hash []byte) (yes bool, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM setup_links WHERE token_hash = $1 AND used_at IS NULL)`, hash).Scan(&yes)
	return yes, known(err, "looking at the set-up link")
}
