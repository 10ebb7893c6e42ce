package connectionstore

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm/clause"

	"kanban/internal/store/db"
)

// Grant is what was granted to an interface by signing in at its service.
type Grant struct {
	InterfaceID string     `gorm:"primaryKey"`
	Pending     bool       `gorm:"primaryKey"` // it waits until somebody says that it is meant
	Account     string     // whose it is, as the service says; empty when it does not
	Scopes      []string   `gorm:"serializer:json"`
	Token       []byte     // sealed
	ExpiresAt   *time.Time // of the access token; nil when the service does not say
	Renews      bool       // whether it is renewed without anybody signing in
	GrantedAt   time.Time
	GrantedBy   string
	Trouble     string // why it is pending, or has ended
}

// Ended reports whether the service takes the grant no more.
func (g Grant) Ended() bool { return !g.Pending && g.Trouble != "" }

// Grants lists what was granted to an interface: what counts, and what is pending.
func Grants(ctx context.Context, from db.From, interfaceID string) (now, pending *Grant, err error) {
	var all []Grant
	err = from.Records(ctx).Where("interface_id = ?", interfaceID).Find(&all).Error
	for i := range all {
		if all[i].Pending {
			pending = &all[i]
		} else {
			now = &all[i]
		}
	}
	return now, pending, db.Known(err, "looking what was granted")
}

// AllGrants lists all of all interfaces, those that are pending too.
func AllGrants(ctx context.Context, from db.From) (all []Grant, err error) {
	err = from.Records(ctx).Order("interface_id, pending").Find(&all).Error
	return all, db.Known(err, "listing grants")
}

// KeepGrant keeps a grant in place of the one before.
func KeepGrant(ctx context.Context, tx *db.Tx, g Grant) error {
	err := tx.Records(ctx).Clauses(clause.OnConflict{
		Columns: []clause.Column{{Name: "interface_id"}, {Name: "pending"}}, UpdateAll: true,
	}).Create(&g).Error
	return db.Known(err, "keeping a grant")
}

// DropGrant drops a grant, the pending one or the one that counts.
func DropGrant(ctx context.Context, tx *db.Tx, interfaceID string, pending bool) error {
	_, err := db.Exec(ctx, tx, `DELETE FROM grants WHERE interface_id = $1 AND pending = $2`, interfaceID, pending)
	return db.Known(err, "dropping a grant")
}

// SignIn is one that somebody has begun.
type SignIn struct {
	State       []byte `gorm:"primaryKey"` // hash of what comes back
	InterfaceID string
	UserID      string
	Verifier    []byte // sealed
	BeganAt     time.Time
}

// KeepSignIn keeps a sign-in, and drops those that began before a time.
func KeepSignIn(ctx context.Context, tx *db.Tx, s SignIn, before time.Time) error {
	if _, err := db.Exec(ctx, tx, `DELETE FROM sign_ins WHERE began_at < $1`, before); err != nil {
		return db.Known(err, "beginning a sign-in")
	}
	return db.Create(tx, &s, "beginning a sign-in")
}

// TakeSignIn takes a sign-in away that somebody comes back from, so that nobody does so twice.
func TakeSignIn(ctx context.Context, tx *db.Tx, state []byte) (s SignIn, err error) {
	s, err = db.Row[SignIn](ctx, tx, "ending a sign-in", `DELETE FROM sign_ins WHERE state = $1
		RETURNING state, interface_id::text, user_id::text, verifier, began_at`, state)
	if errors.Is(err, db.ErrNotFound) {
		return s, fmt.Errorf("ending a sign-in: %w", db.ErrNotFound)
	}
	return s, err
}
