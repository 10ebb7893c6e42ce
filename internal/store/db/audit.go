package db

import (
	"context"
	"encoding/json"
)

// Audit adds an entry to the audit trail. detail must not hold secrets.
func (tx *Tx) Audit(ctx context.Context, who, what, subject string, detail any) error {
	text, err := json.Marshal(detail)
	if err != nil {
		return err
	}
	_, err = tx.PGX.Exec(ctx, `INSERT INTO audit_entries (who, what, subject, detail) VALUES ($1, $2, $3, $4)`, who,
		what, subject, string(text))
	return Known(err, "writing the audit trail")
}

// Create inserts a record of any kind.
func Create[T any](tx *Tx, record *T, doing string) error {
	return Known(tx.DB.Create(record).Error, doing)
}
