package rulestore

import (
	"context"
	"time"

	"kanban/internal/store/db"
)

// Unsubscribe says that an address gets no more mails of a rule.
type Unsubscribe struct {
	RuleID     string
	AddressKey string // as addresses are compared
	Address    string
	At         time.Time
}

// Unsubscribed reports whether an address wants no more mails of a rule.
func Unsubscribed(ctx context.Context, from *db.Database, ruleID, addressKey string) (yes bool, err error) {
	err = db.Into(ctx, from.Quickly(), &yes, `SELECT EXISTS (SELECT 1 FROM unsubscribes
		WHERE rule_id = $1 AND address_key = $2)`, ruleID, addressKey)
	return yes, db.Known(err, "looking who unsubscribed")
}

// Unsubscribes lists who wants no more mails of a rule, the latest first.
func Unsubscribes(ctx context.Context, from db.From, ruleID string) (all []Unsubscribe, err error) {
	err = from.Records(ctx).Where("rule_id = ?", ruleID).Order("at DESC, address_key").Find(&all).Error
	return all, db.Known(err, "listing who unsubscribed")
}

// KeepUnsubscribe notes that an address wants no more mails of a rule; once more changes
// nothing.
func KeepUnsubscribe(ctx context.Context, tx *db.Tx, u Unsubscribe) error {
	_, err := db.Exec(ctx, tx, `INSERT INTO unsubscribes (rule_id, address_key, address) SELECT id, $2, $3 FROM rules
		WHERE id = $1 ON CONFLICT DO NOTHING`, u.RuleID, u.AddressKey, u.Address)
	return db.Known(err, "unsubscribing")
}

// DropUnsubscribe lets an address have mails of a rule again; ok is false when it did.
func DropUnsubscribe(ctx context.Context, tx *db.Tx, ruleID, addressKey string) (ok bool, err error) {
	changed, err := db.Exec(ctx, tx, `DELETE FROM unsubscribes WHERE rule_id = $1 AND address_key = $2`, ruleID,
		addressKey)
	return changed > 0, db.Known(err, "subscribing again")
}
