package accessstore

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kanban/internal/core/permission"
	"kanban/internal/store/db"
)

// Provider is an OpenID provider at which people sign in.
type Provider struct {
	ID       string
	Name     string
	Issuer   string
	ClientID string
	Sealed   []byte   // the client's secret; nil for a public client
	Scopes   []string `gorm:"serializer:json"`
	Active   bool
	// Believes says which addresses that it gives are taken for the person's own: none, verified or all.
	Believes string
	// Admits says whom it lets in: invited for those only who are users already, mapped for whoever its claims give
	// something.
	Admits string
	// PersonClaim is the claim by which somebody of the register is known, and PersonKey what it is there: identifier
	// or email.
	PersonClaim string
	PersonKey   string
	Mappings    []ProviderMapping `gorm:"serializer:json"`
	Version     int
	CreatedAt   time.Time
	Users       int `gorm:"->;-:migration"` // who sign in there
}

// ProviderMapping is a permission.Mapping as it is kept.
type ProviderMapping struct {
	Claim    string               `json:"claim"`
	Value    string               `json:"value"`
	Role     permission.Role      `json:"role"`
	Scope    permission.ScopeKind `json:"scope"`
	ScopeID  string               `json:"scopeId,omitempty"`
	IssuerID string               `json:"issuerId,omitempty"`
	// Of the scope and of the issuer; filled in by NameMappings.
	ScopeName string `json:"-"`
	Issuer    string `json:"-"`
}

// Mapping is it as it is computed with.
func (m ProviderMapping) Mapping() permission.Mapping {
	return permission.Mapping{Claim: m.Claim, Value: m.Value, Grant: permission.Grant{
		Role: m.Role, Scope: permission.Scope{Kind: m.Scope, ID: m.ScopeID}, Issuer: m.IssuerID,
	}}
}

// NameMappings fills in what the scopes and issuers of mappings are called; empty where there are none such any more.
func NameMappings(ctx context.Context, from db.From, all []ProviderMapping) error {
	scopes, ids, issuers := make([]string, len(all)), make([]string, len(all)), make([]string, len(all))
	for i, m := range all {
		scopes[i], ids[i], issuers[i] = string(m.Scope), m.ScopeID, m.IssuerID
	}
	named, err := db.Rows[struct{ Scope, Issuer string }](ctx, from, "naming what a provider gives", `SELECT `+
		scopeName("g")+` AS scope, coalesce((SELECT i.name FROM issuers i WHERE i.id::text = g.issuer_id), '') AS issuer
		FROM unnest($1::text[], $2::text[], $3::text[]) WITH ORDINALITY g(scope, scope_id, issuer_id, at) ORDER BY g.at`,
		scopes, ids, issuers)
	for i, n := range named {
		all[i].ScopeName, all[i].Issuer = n.Scope, n.Issuer
	}
	return err
}

const providerColumns = `p.*, (SELECT count(*) FROM provider_users u WHERE u.provider_id = p.id) AS users`

// Providers lists them by name.
func Providers(ctx context.Context, from db.From) (all []Provider, err error) {
	err = from.Records(ctx).Table("providers p").Select(providerColumns).Order("lower(p.name), p.id").Find(&all).Error
	return all, db.Known(err, "listing providers")
}

// FindProvider finds one by id.
func FindProvider(ctx context.Context, from db.From, id string) (p Provider, err error) {
	err = from.Records(ctx).Table("providers p").Select(providerColumns).Where("p.id::text = ?", id).First(&p).Error
	return p, db.Known(err, "finding the provider")
}

// UpdateProvider changes one whose version must still be the one read.
func UpdateProvider(ctx context.Context, tx *db.Tx, p *Provider) error {
	was := p.Version
	p.Version++
	done := tx.Records(ctx).Model(&Provider{}).Where("id = ? AND version = ?", p.ID, was).Select("name", "issuer",
		"client_id", "sealed", "scopes", "active", "believes", "admits", "person_claim", "person_key", "mappings",
		"version").
		Updates(p)
	if done.Error == nil && done.RowsAffected == 0 {
		return fmt.Errorf("changing the provider: %w", db.ErrStale)
	}
	return db.Known(done.Error, "changing the provider")
}

// RemoveProvider removes one with what it gave: links and roles, and tokens of whoever had no other way in. End its
// sessions before.
func RemoveProvider(ctx context.Context, tx *db.Tx, id string) error {
	changed, err := db.Exec(ctx, tx, `WITH tokens AS (DELETE FROM api_tokens t USING users u, provider_users w
			WHERE u.id = t.user_id AND u.password_hash = '' AND w.user_id = u.id AND w.provider_id = $1
				AND NOT EXISTS (SELECT 1 FROM provider_users o WHERE o.user_id = u.id AND o.provider_id <> $1))
		DELETE FROM providers WHERE id = $1`, id)
	if err == nil && changed == 0 {
		return fmt.Errorf("finding the provider: %w", db.ErrNotFound)
	}
	return db.Known(err, "removing the provider")
}

// ProviderUser says who of a provider is which user.
type ProviderUser struct {
	ProviderID string
	Subject    string
	UserID     string
	Email      string // as the provider said last
	LinkedAt   time.Time
	SignedInAt time.Time
	Provider   string `gorm:"->;-:migration"` // its name
}

const providerUserSQL = `SELECT u.provider_id::text, u.subject, u.user_id::text, u.email, u.linked_at, u.signed_in_at,
	p.name AS provider FROM provider_users u JOIN providers p ON p.id = u.provider_id `

// ProviderUsers lists those of some users, or of all when none is given, by the providers' names.
func ProviderUsers(ctx context.Context, from db.From, userIDs ...string) ([]ProviderUser, error) {
	return db.Rows[ProviderUser](ctx, from, "listing who signs in where", providerUserSQL+
		`WHERE cardinality($1::text[]) = 0 OR u.user_id = ANY ($1::text[]::uuid[]) ORDER BY lower(p.name), u.subject`,
		append([]string{}, userIDs...))
}

// FindProviderUser finds which user somebody of a provider is; there says whether it is any.
func FindProviderUser(ctx context.Context, from db.From, providerID, subject string) (u ProviderUser, there bool,
	err error,
) {
	u, err = db.Row[ProviderUser](ctx, from, "finding who of the provider it is",
		providerUserSQL+`WHERE u.provider_id = $1 AND u.subject = $2`, providerID, subject)
	if errors.Is(err, db.ErrNotFound) {
		return u, false, nil
	}
	return u, err == nil, err
}

// KeepProviderUser says that somebody of a provider is a user, and signed in now. A user who is somebody else of it
// already is db.ErrTaken.
func KeepProviderUser(ctx context.Context, tx *db.Tx, u ProviderUser) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO provider_users (provider_id, subject, user_id, email, linked_at, signed_in_at)
		VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT (provider_id, subject) DO UPDATE
		SET email = excluded.email, signed_in_at = excluded.signed_in_at`, u.ProviderID, u.Subject, u.UserID, u.Email,
		u.LinkedAt, u.SignedInAt)
	return db.Known(err, "keeping who of the provider it is")
}

// RemoveProviderUser ends that a user signs in at a provider, with the roles that it gave.
func RemoveProviderUser(ctx context.Context, tx *db.Tx, providerID, userID string) error {
	changed, err := db.Exec(ctx, tx, `WITH roles AS (DELETE FROM user_grants WHERE provider_id = $1 AND user_id = $2)
		DELETE FROM provider_users WHERE provider_id = $1 AND user_id = $2`, providerID, userID)
	if err == nil && changed == 0 {
		return fmt.Errorf("finding the way in: %w", db.ErrNotFound)
	}
	return db.Known(err, "ending a way in")
}

// UsersOfPerson gives the users who are somebody of the register.
func UsersOfPerson(ctx context.Context, from db.From, personID string) (all []User, err error) {
	err = from.Records(ctx).Where("person_id = ?", personID).Order("name, id").Find(&all).Error
	if err == nil {
		err = grantsOf(ctx, from, all)
	}
	return all, db.Known(err, "finding users by person")
}

// EndProviderSessions ends the sessions that were begun at a provider: those of a user, those that it calls by a name,
// or, with both, those that are both; all of the provider's with neither.
func EndProviderSessions(ctx context.Context, to db.From, providerID, userID, session string) ([]Session, error) {
	return db.Rows[Session](ctx, to, "ending sessions", endSessionsSQL+`provider_id = $1 AND ($2 = '' OR user_id::text = $2) AND ($3 = '' OR provider_session = $3)
		RETURNING `+sessionColumns, providerID, userID, session)
}

// NoteLogout notes the message of a provider that a session is over; fresh says whether it is new. Old ones are
// forgotten after a day: they are not believed for longer.
func NoteLogout(ctx context.Context, tx *db.Tx, providerID, token string, at time.Time) (fresh bool, err error) {
	if _, err := db.Exec(ctx, tx, `DELETE FROM provider_logouts WHERE at < $1::timestamptz - interval '1 day'`,
		at); err != nil {
		return false, db.Known(err, "forgetting old messages")
	}
	made, err := db.Exec(ctx, tx, `INSERT INTO provider_logouts (provider_id, token, at) VALUES ($1, $2, $3)
		ON CONFLICT DO NOTHING`, providerID, token, at)
	return made == 1, db.Known(err, "noting a message")
}
