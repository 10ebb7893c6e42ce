package accessstore

import (
	"context"
	"fmt"
	"time"

	"kanban/internal/core/permission"
	"kanban/internal/store/db"
)

// Grant is a role that a user has in a scope.
type Grant struct {
	ID         string
	UserID     string
	Role       permission.Role
	Scope      permission.ScopeKind
	ScopeID    string
	IssuerID   *string // of the badges that may be awarded; all when nil
	MadeBy     string
	CreatedAt  time.Time
	ProviderID *string // whose claims give it; nil when somebody gave it
	// Of the organisation, course or section, and of the issuer; empty where the register has it no more.
	ScopeName string `gorm:"->;-:migration"`
	Issuer    string `gorm:"->;-:migration"`
	Provider  string `gorm:"->;-:migration"` // its name
}

// TableName names the table for GORM.
func (Grant) TableName() string { return "user_grants" }

// scopeName is the name of what a grant or a token is about; empty where the registers have it no more.
func scopeName(of string) string {
	return `coalesce(CASE ` + of + `.scope
		WHEN 'organisation' THEN (SELECT o.name FROM orgs o WHERE o.id = ` + of + `.scope_id::uuid AND o.gone_at IS NULL)
		WHEN 'course' THEN (SELECT c.title FROM courses c WHERE c.id = ` + of + `.scope_id::uuid AND c.gone_at IS NULL)
		WHEN 'section' THEN (SELECT x.title FROM sections x WHERE x.id = ` + of + `.scope_id::uuid AND x.gone_at IS NULL)
	END, '')`
}

// grantsSQL lists grants with the names of what they are about.
var grantsSQL = `SELECT g.id::text, g.user_id::text, g.role, g.scope, g.scope_id, g.issuer_id::text, g.made_by,
		g.created_at, ` + scopeName("g") + ` AS scope_name, coalesce((SELECT i.name FROM issuers i WHERE i.id = g.issuer_id), '') AS issuer,
		g.provider_id::text, coalesce((SELECT p.name FROM providers p WHERE p.id = g.provider_id), '') AS provider
	FROM user_grants g`

// grantsOf fills in what users may be.
func grantsOf(ctx context.Context, from db.From, users []User) error {
	at, ids := make(map[string]*User, len(users)), make([]string, len(users))
	for i := range users {
		at[users[i].ID], ids[i] = &users[i], users[i].ID
	}
	all, err := db.Rows[Grant](ctx, from, "listing grants", grantsSQL+` WHERE g.user_id = ANY ($1::text[]::uuid[])
		ORDER BY g.scope <> 'institution', g.created_at, g.id`, ids)
	for _, g := range all {
		at[g.UserID].Grants = append(at[g.UserID].Grants, g)
	}
	return err
}

// Granted gives what a user was granted, without what follows from the register.
func (u User) Granted() []permission.Grant {
	out := make([]permission.Grant, len(u.Grants))
	for i, g := range u.Grants {
		out[i] = g.Granted()
	}
	return out
}

// Granted is it as it is computed with.
func (g Grant) Granted() permission.Grant {
	one := permission.Grant{Role: g.Role, Scope: permission.Scope{Kind: g.Scope, ID: g.ScopeID}}
	if g.IssuerID != nil {
		one.Issuer = *g.IssuerID
	}
	return one
}

// GrantOf is the record of a role that somebody gives a user.
func GrantOf(userID string, g permission.Grant, by string) Grant {
	one := Grant{
		ID: db.NewID(), UserID: userID, Role: g.Role, Scope: g.Scope.Kind, ScopeID: g.Scope.ID, MadeBy: by,
	}
	if g.Issuer != "" {
		one.IssuerID = &g.Issuer
	}
	return one
}

// AddGrant gives a user a role in a scope; one that they have already is db.ErrTaken.
func AddGrant(ctx context.Context, tx *db.Tx, g *Grant) error {
	return db.Create(tx, g, "granting the role")
}

// RemoveGrant ends what a user may be in a scope.
func RemoveGrant(ctx context.Context, tx *db.Tx, userID, id string) error {
	changed, err := db.Exec(ctx, tx, `DELETE FROM user_grants WHERE user_id = $1 AND id = $2`, userID, id)
	if err == nil && changed == 0 {
		return fmt.Errorf("finding the grant: %w", db.ErrNotFound)
	}
	return db.Known(err, "removing the grant")
}

// IssuerThere reports whether there is an issuer with this id.
func IssuerThere(ctx context.Context, from db.From, id string) (yes bool, err error) {
	err = db.Into(ctx, from, &yes, `SELECT EXISTS (SELECT 1 FROM issuers WHERE id::text = $1)`, id)
	return yes, db.Known(err, "finding the issuer")
}
