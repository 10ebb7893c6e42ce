// Package walletstore keeps the wallets of holders: which are registered, what their holders let them do, the tokens
// that were given out, and credentials from elsewhere that they brought.
package walletstore

import (
	"context"
	"time"

	"gorm.io/gorm/clause"

	"kanban/internal/store/db"
)

// Wallet is a program in which somebody keeps credentials.
type Wallet struct {
	ID         string // the client_id
	Name, Site string
	Redirects  []string `gorm:"serializer:json"`
	Scopes     string   // the most that it may ask for, with spaces between
	SecretHash []byte   // nil for a program that can keep no secret
	CreatedAt  time.Time
}

// Grant is what a holder lets a wallet do.
type Grant struct {
	WalletID string `gorm:"primaryKey"`
	PersonID string `gorm:"primaryKey"`
	Scopes   string
	GivenAt  time.Time
	UsedAt   *time.Time
}

func (Grant) TableName() string { return "wallet_grants" }

// unused is how long a wallet that nobody lets do anything stays registered.
const unused = 7 * 24 * time.Hour

// Register keeps a new wallet, and drops those that came to nothing.
func Register(ctx context.Context, s *db.Database, w Wallet) error {
	return s.InTx(ctx, func(tx *db.Tx) error {
		_, err := db.Exec(ctx, tx, `DELETE FROM wallets w WHERE created_at < $1
			AND NOT EXISTS (SELECT FROM wallet_grants g WHERE g.wallet_id = w.id)`, w.CreatedAt.Add(-unused))
		if err != nil {
			return db.Known(err, "dropping unused wallets")
		}
		return db.Create(tx, &w, "registering the wallet")
	})
}

// Find finds a wallet by its client_id.
func Find(ctx context.Context, from db.From, id string) (w Wallet, err error) {
	err = from.Records(ctx).Where("id = ?", id).First(&w).Error
	return w, db.Known(err, "finding the wallet")
}

// KeepGrant keeps what a holder lets a wallet do; what was given before does not hold any more.
func KeepGrant(ctx context.Context, tx *db.Tx, g Grant) error {
	if err := DropGrant(ctx, tx, g.WalletID, g.PersonID); err != nil {
		return err
	}
	return db.Create(tx, &g, "keeping what a wallet may do")
}

// DropGrant ends what a holder let a wallet do, its tokens with it.
func DropGrant(ctx context.Context, tx *db.Tx, walletID, personID string) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM wallet_grants WHERE wallet_id = $1 AND person_id = $2`, walletID, personID)
	return db.Known(err, "ending what a wallet may do")
}

// Granted is a wallet with what somebody lets it do.
type Granted struct {
	WalletID, Name, Site, Scopes string
	GivenAt                      time.Time
	UsedAt                       *time.Time
}

// GrantsOf lists what somebody lets wallets do, the latest first.
func GrantsOf(ctx context.Context, from db.From, personID string) ([]Granted, error) {
	return db.Rows[Granted](ctx, from, "listing somebody's wallets", `SELECT g.wallet_id, w.name, w.site, g.scopes,
		g.given_at, g.used_at FROM wallet_grants g JOIN wallets w ON w.id = g.wallet_id
		WHERE g.person_id = $1 ORDER BY g.given_at DESC, w.name`, personID)
}

// NoteUse notes that a wallet did something for somebody; once a minute is enough.
func NoteUse(ctx context.Context, from db.From, walletID, personID string, at time.Time) error {
	_, err := db.Exec(ctx, from, `UPDATE wallet_grants SET used_at = $3::timestamptz WHERE wallet_id = $1 AND person_id = $2
		AND (used_at IS NULL OR used_at < $3::timestamptz - interval '1 minute')`, walletID, personID, at)
	return db.Known(err, "noting what a wallet did")
}

// The kinds of tokens.
const (
	Code    = "code"
	Access  = "access"
	Refresh = "refresh"
)

// Token is a code or a token that was given out, by its SHA-256.
type Token struct {
	Hash               []byte `gorm:"primaryKey"`
	Kind, Family       string
	WalletID, PersonID string
	Info               []byte
	UsedAt             *time.Time // of a code: when it was exchanged
	EndsAt             time.Time
}

func (Token) TableName() string { return "wallet_tokens" }

// KeepTokens keeps tokens that are given out, and drops those that have ended a day ago: a code that is tried again is
// known until then.
func KeepTokens(ctx context.Context, s *db.Database, now time.Time, all ...Token) error {
	return s.InTx(ctx, func(tx *db.Tx) error {
		_, err := db.Exec(ctx, tx, `DELETE FROM wallet_tokens WHERE ends_at < $1`, now.Add(-24*time.Hour))
		if err != nil {
			return db.Known(err, "dropping old tokens")
		}
		return db.Create(tx, &all, "keeping tokens")
	})
}

// FindToken finds a token of a kind by its SHA-256.
func FindToken(ctx context.Context, from db.From, kind string, hash []byte) (t Token, err error) {
	err = from.Records(ctx).Where("hash = ? AND kind = ?", hash, kind).First(&t).Error
	return t, db.Known(err, "finding a token")
}

// UseCode notes that a code is exchanged, and reports whether it was not before.
func UseCode(ctx context.Context, from db.From, hash []byte, at time.Time) (first bool, err error) {
	n, err := db.Exec(ctx, from, `UPDATE wallet_tokens SET used_at = $2 WHERE hash = $1 AND kind = 'code'
		AND used_at IS NULL`, hash, at)
	return n == 1, db.Known(err, "using a code")
}

// DropTokens drops a token and those of its family, and reports whether it was there.
func DropTokens(ctx context.Context, from db.From, kind string, hash []byte) (there bool, err error) {
	n, err := db.Exec(ctx, from, `DELETE FROM wallet_tokens WHERE family IN (SELECT family FROM wallet_tokens
		WHERE hash = $1 AND kind = $2)`, hash, kind)
	return n > 0, db.Known(err, "dropping tokens")
}

// Brought is a credential from elsewhere.
type Brought struct {
	ID, PersonID, CredentialID string
	Name, Issuer               string
	Content                    []byte
	JWS                        bool `gorm:"column:jws"`
	Verdict                    string
	Wallet                     string // the name of the wallet that brought it
	BroughtAt                  time.Time
}

func (Brought) TableName() string { return "brought_credentials" }

// KeepBrought keeps a credential, in the place of the one of that name if there is one.
func KeepBrought(ctx context.Context, tx *db.Tx, b Brought) error {
	err := tx.DB.WithContext(ctx).Clauses(clause.OnConflict{
		Columns: []clause.Column{{Name: "person_id"}, {Name: "credential_id"}},
		DoUpdates: clause.AssignmentColumns([]string{
			"name", "issuer", "content", "jws", "verdict", "wallet", "brought_at",
		}),
	}).Create(&b).Error
	return db.Known(err, "keeping a credential from elsewhere")
}

// BroughtOf lists somebody's credentials from elsewhere, the newest first, without what stands in them.
func BroughtOf(ctx context.Context, from db.From, personID string) (all []Brought, err error) {
	err = from.Records(ctx).Omit("content").Where("person_id = ?", personID).Order("brought_at DESC, id DESC").Find(&all).Error
	return all, db.Known(err, "listing credentials from elsewhere")
}

// DropBrought removes one of somebody's credentials from elsewhere; ErrNotFound when it is not theirs.
func DropBrought(ctx context.Context, tx *db.Tx, personID, id string) error {
	n, err := db.Exec(ctx, tx, `DELETE FROM brought_credentials WHERE person_id = $1 AND id::text = $2`, personID, id)
	if err == nil && n == 0 {
		return db.ErrNotFound
	}
	return db.Known(err, "removing a credential from elsewhere")
}

// Held is a credential of somebody's, of this service or from elsewhere.
type Held struct {
	Content []byte
	JWS     bool
}

// Holds reports whether somebody holds a credential byte for byte.
func Holds(ctx context.Context, from db.From, personID string, content []byte) (bool, error) {
	all, err := db.Values[bool](ctx, from, "looking for a credential", `SELECT true WHERE
		EXISTS (SELECT FROM awards WHERE person_id = $1 AND coalesce(document, convert_to(credential, 'UTF8')) = $2::bytea)
		OR EXISTS (SELECT FROM brought_credentials WHERE person_id = $1 AND content = $2::bytea)`, personID, content)
	return len(all) > 0, err
}

// HeldBy gives a part of somebody's credentials in the order in which they came, those that came after a time, and how
// many there are of them.
func HeldBy(ctx context.Context, from db.From, personID string, since time.Time, limit, offset int) (all []Held,
	total int, err error,
) {
	const held = `WITH held AS (
			SELECT id, awarded_at AS at, coalesce(document, convert_to(credential, 'UTF8')) AS content,
				document IS NULL AS jws FROM awards WHERE person_id = $1 AND awarded_at > $2
			UNION ALL
			SELECT id, brought_at, content, jws FROM brought_credentials WHERE person_id = $1 AND brought_at > $2) `
	counts, err := db.Values[int](ctx, from, "counting credentials", held+`SELECT count(*)::int FROM held`, personID, since)
	if err != nil {
		return nil, 0, err
	}
	all, err = db.Rows[Held](ctx, from, "listing credentials", held+`SELECT content, jws FROM held
		ORDER BY at, id LIMIT $3 OFFSET $4`, personID, since, limit, offset)
	return all, counts[0], err
}
