package store

import (
	"context"
	"time"
)

// Unsubscribe says that an address gets no more mails of a rule.
type Unsubscribe struct {
	RuleID     string
	AddressKey string // as addresses are compared
	Address    string
	At         time.Time
}

// Unsubscribed reports whether an address wants no more mails of a rule.
func (s *Store) Unsubscribed(ctx context.Context, ruleID, addressKey string) (yes bool, err error) {
	err = s.Quick.QueryRow(ctx, `SELECT EXISTS (SELECT 1 FROM unsubscribes WHERE rule_id = $1 AND address_key = $2)`, ruleID, addressKey).Scan(&yes)
	return yes, known(err, "looking who unsubscribed")
}

// Unsubscribes lists who wants no more mails of a rule, the latest first.
func (s *Store) Unsubscribes(ctx context.Context, ruleID string) (all []Unsubscribe, err error) {
	err = s.reader(ctx).Where("rule_id = ?", ruleID).Order("at DESC, address_key").Find(&all).Error
	return all, known(err, "listing who unsubscribed")
}

// KeepUnsubscribe notes that an address wants no more mails of a rule; once more changes
// nothing.
func (tx *Tx) KeepUnsubscribe(ctx context.Context, u Unsubscribe) error {
	_, err := tx.PGX.Exec(ctx, `INSERT INTO unsubscribes (rule_id, address_key, address) SELECT id, $2, $3 FROM rules WHERE id = $1 ON CONFLICT DO NOTHING`, u.RuleID, u.AddressKey, u.Address)
	return known(err, "unsubscribing")
}

// DropUnsubscribe lets an address have mails of a rule again; ok is false when it did.
func (tx *Tx) DropUnsubscribe(ctx context.Context, ruleID, addressKey string) (ok bool, err error) {
	tag, err := tx.PGX.Exec(ctx, `DELETE FROM unsubscribes WHERE rule_id = $1 AND address_key = $2`, ruleID, addressKey)
	return tag.RowsAffected() > 0, known(err, "subscribing again")
}
