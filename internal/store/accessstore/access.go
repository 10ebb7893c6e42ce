// Package accessstore keeps who may use the service: those who may sign in, their tokens, links to set up and to
// approve, and the answers kept for repeated requests.
package accessstore

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kanban/internal/core/permission"
	"kanban/internal/store/db"
)

// User may sign in.
type User struct {
	ID           string
	Name         string
	Email        string
	PasswordHash string
	PersonID     *string // who of the register they are
	CreatedAt    time.Time
	InvitedBy    string
	SignedInAt   *time.Time // the last time with the password
	Grants       []Grant    `gorm:"-"`
}

// APIToken lets a program act for a user. Only its hash is kept.
type APIToken struct {
	ID         string
	UserID     string
	Name       string
	Hash       []byte
	CreatedAt  time.Time
	LastUsedAt *time.Time
	// Role and scope are at most what it may do, besides what its maker may; all that they may when Role is empty.
	Role      permission.Role
	Scope     permission.ScopeKind
	ScopeID   string
	ExpiresAt *time.Time // nil for never
	ScopeName string     `gorm:"->;-:migration"`
}

// CountUsers counts them.
func CountUsers(ctx context.Context, from db.From) (n int64, err error) {
	err = from.Records(ctx).Model(&User{}).Count(&n).Error
	return n, db.Known(err, "counting users")
}

// Users lists them by name.
func Users(ctx context.Context, from db.From) (all []User, err error) {
	err = from.Records(ctx).Order("name, id").Find(&all).Error
	if err == nil {
		err = grantsOf(ctx, from, all)
	}
	return all, db.Known(err, "listing users")
}

// Approval lets somebody who got a mail approve the removals of a pairing.
type Approval struct {
	TokenHash []byte
	PairingID string
	UserID    string
	CreatedAt time.Time
	UsedAt    *time.Time
}

// approvalLasts is how long such a link can be used.
const approvalLasts = "7 days"

// FindApproval finds one by the hash of its token; used or old ones are ErrNotFound.
func FindApproval(ctx context.Context, from db.From, hash []byte) (a Approval, err error) {
	err = from.Records(ctx).Where("token_hash = ? AND used_at IS NULL AND created_at > now() - interval '"+approvalLasts+"'", hash).First(&a).Error
	return a, db.Known(err, "finding the approval")
}

// UseApproval spends all links that were sent for the pairing.
func UseApproval(ctx context.Context, tx *db.Tx, a Approval) error {
	done, err := db.Exec(ctx, tx, `UPDATE approvals SET used_at = now() WHERE pairing_id = $1 AND used_at IS NULL`,
		a.PairingID)
	if err == nil && done == 0 {
		return fmt.Errorf("using the approval: %w", db.ErrNotFound)
	}
	return db.Known(err, "using the approval")
}

// UserByEmail finds one, ignoring case.
func UserByEmail(ctx context.Context, from db.From, email string) (a User, err error) {
	err = from.Records(ctx).Where("lower(email) = lower(?)", email).First(&a).Error
	return granted(ctx, from, a, err)
}

// FindUser finds one by id.
func FindUser(ctx context.Context, from db.From, id string) (a User, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&a).Error
	return granted(ctx, from, a, err)
}

// granted fills in what a user may be who was found.
func granted(ctx context.Context, from db.From, u User, err error) (User, error) {
	if err != nil {
		return u, db.Known(err, "finding the user")
	}
	one := []User{u}
	err = grantsOf(ctx, from, one)
	return one[0], err
}

// UserByToken finds whom a token stands for, with the token, and notes its use. One that has expired is
// ErrNotFound, and so is one of somebody whose only way in is a provider that is switched off.
func UserByToken(ctx context.Context, from db.From, hash []byte) (u User, t APIToken, err error) {
	found, err := db.Rows[APIToken](ctx, from, "finding the token", `
		WITH used AS (
			UPDATE api_tokens SET last_used_at = now()
			WHERE hash = $1 AND (last_used_at IS NULL OR last_used_at < now() - interval '1 minute')
		)
		`+tokensSQL+` WHERE t.hash = $1 AND (t.expires_at IS NULL OR t.expires_at > now())
			AND (EXISTS (SELECT 1 FROM users u WHERE u.id = t.user_id AND u.password_hash <> '')
				OR NOT EXISTS (SELECT 1 FROM provider_users w WHERE w.user_id = t.user_id)
				OR EXISTS (SELECT 1 FROM provider_users w JOIN providers p ON p.id = w.provider_id
					WHERE w.user_id = t.user_id AND p.active))`, hash)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("finding the token: %w", db.ErrNotFound)
	}
	if err != nil {
		return u, t, err
	}
	u, err = FindUser(ctx, from, found[0].UserID)
	return u, found[0], err
}

// AddSetupLink keeps the hash of a new one-time set-up link and drops older ones.
func AddSetupLink(ctx context.Context, from db.From, hash []byte) error {
	_, err := db.Exec(ctx, from, `WITH old AS (DELETE FROM setup_links WHERE used_at IS NULL) INSERT INTO setup_links
		(token_hash) VALUES ($1)`, hash)
	return db.Known(err, "keeping the set-up link")
}

// UseSetupLink spends a link; it can be spent once.
func UseSetupLink(ctx context.Context, tx *db.Tx, hash []byte) error {
	changed, err := db.Exec(ctx, tx,
		`UPDATE setup_links SET used_at = now() WHERE token_hash = $1 AND used_at IS NULL`, hash)
	if err == nil && changed == 0 {
		return fmt.Errorf("using the set-up link: %w", db.ErrNotFound)
	}
	return db.Known(err, "using the set-up link")
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
func ClaimAnswer(ctx context.Context, from db.From, key string, request []byte) (claimed bool, kept KeptAnswer,
	err error,
) {
	if _, err = db.Exec(ctx, from, `DELETE FROM kept_answers WHERE created_at < now() - interval '1 day' OR key = $1
		AND status IS NULL AND claimed_at < now() - interval '`+claimFor+`'`, key); err != nil {
		return false, kept, db.Known(err, "claiming a key")
	}
	at, err := db.Values[time.Time](ctx, from, "claiming a key", `INSERT INTO kept_answers (key, request)
		VALUES ($1, $2) ON CONFLICT DO NOTHING RETURNING claimed_at`, key, request)
	if err == nil && len(at) == 1 {
		return true, KeptAnswer{Key: key, Request: request, ClaimedAt: at[0]}, nil
	}
	if err == nil {
		err = from.Records(ctx).Where("key = ?", key).First(&kept).Error
	}
	return false, kept, db.Known(err, "finding the kept answer")
}

// KeepAnswer keeps the answer to a request that has claimed its key.
func KeepAnswer(ctx context.Context, from db.From, a KeptAnswer) error {
	header, err := json.Marshal(a.Header)
	if err == nil {
		_, err = db.Exec(ctx, from, `UPDATE kept_answers SET status = $3, body = $4, header = $5
			WHERE key = $1 AND claimed_at = $2 AND status IS NULL`, a.Key, a.ClaimedAt, a.Status, a.Body, string(header))
	}
	return db.Known(err, "keeping the answer")
}

// FreeAnswer lets a key be claimed again, because its request was not carried out.
func FreeAnswer(ctx context.Context, from db.From, a KeptAnswer) error {
	_, err := db.Exec(ctx, from, `DELETE FROM kept_answers WHERE key = $1 AND claimed_at = $2 AND status IS NULL`,
		a.Key, a.ClaimedAt)
	return db.Known(err, "freeing a key")
}

// EndToken removes an API token by its hash.
func EndToken(ctx context.Context, tx *db.Tx, hash []byte) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM api_tokens WHERE hash = $1`, hash)
	return db.Known(err, "ending the token")
}

// SetupLinkOpen reports whether a set-up link can still be spent.
func SetupLinkOpen(ctx context.Context, from db.From, hash []byte) (yes bool, err error) {
	err = db.Into(ctx, from, &yes,
		`SELECT EXISTS (SELECT 1 FROM setup_links WHERE token_hash = $1 AND used_at IS NULL)`, hash)
	return yes, db.Known(err, "looking at the set-up link")
}

// KeepSession keeps what a session holds, by the hash of its token. One that was ended stays ended,
// whatever a request still holds of it that began before.
func KeepSession(ctx context.Context, to db.From, token string, data []byte, until time.Time, of SessionOf) error {
	_, err := db.Exec(ctx, to, `INSERT INTO sessions (token, data, expiry, user_id, agent, address, provider_id,
			provider_session)
		SELECT $1, $2, $3, (SELECT id FROM users WHERE id = nullif($4, '')::uuid), $5, $6,
			(SELECT id FROM providers WHERE id = nullif($7, '')::uuid), $8
		ON CONFLICT (token) DO UPDATE SET data = excluded.data, expiry = excluded.expiry, used_at = now(),
			user_id = coalesce(excluded.user_id, sessions.user_id), agent = excluded.agent, address = excluded.address,
			provider_id = excluded.provider_id, provider_session = excluded.provider_session
		WHERE sessions.data <> ''`, token, data, until, of.UserID, of.Agent, of.Address, of.ProviderID, of.ProviderSession)
	return db.Known(err, "keeping the session")
}

// EndSessionOf ends a session for good by its token's hash. Its token is remembered for longer than any request takes.
func EndSessionOf(ctx context.Context, to db.From, token string) error {
	_, err := db.Exec(ctx, to, `UPDATE sessions SET data = '', expiry = now() + interval '1 hour' WHERE token = $1`, token)
	return db.Known(err, "ending the session")
}

// FindSession gives what a session holds that is not over; there says whether it is one.
func FindSession(ctx context.Context, from db.From, token string) (data []byte, there bool, err error) {
	found, err := db.Values[[]byte](ctx, from, "finding the session", `SELECT data FROM sessions
		WHERE token = $1 AND expiry > now() AND data <> ''`, token)
	if err != nil || len(found) == 0 {
		return nil, false, err
	}
	return found[0], true, nil
}

// RemoveOldSessions removes the sessions that are over.
func RemoveOldSessions(ctx context.Context, from db.From) error {
	_, err := db.Exec(ctx, from, `DELETE FROM sessions WHERE expiry < now()`)
	return db.Known(err, "removing old sessions")
}
