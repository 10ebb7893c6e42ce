package accessstore

import (
	"context"
	"encoding/json"
	"time"

	"kanban/internal/store/db"
)

// AuditEntry is one of the audit trail: who did what to what, and when.
type AuditEntry struct {
	ID      int64
	At      time.Time
	Who     string // a name, as it was then; what was done by the service itself has its own
	What    string
	Subject string          // its kind and its id, such as pairing/…
	Detail  json.RawMessage `gorm:"type:jsonb"`
}

// AuditFilter narrows the trail. What is empty narrows nothing.
type AuditFilter struct {
	Text    string // a part of what was done, or of the name of who did it
	Subject string // of a record: its kind and its id; or the kind alone
	Since   time.Time
	Until   time.Time
	Before  int64 // only older ones than that with this id
	Limit   int
}

// AuditEntries lists the trail, the newest first.
func AuditEntries(ctx context.Context, from db.From, f AuditFilter) ([]AuditEntry, error) {
	return db.Rows[AuditEntry](ctx, from, "listing the audit trail", `
		SELECT id, at, who, what, subject, coalesce(detail, 'null') AS detail FROM audit_entries
		WHERE ($1 = '' OR strpos(lower(who || ' ' || what), lower($1)) > 0)
			AND ($2 = '' OR subject = $2 OR starts_with(subject, $2 || '/'))
			AND ($3::timestamptz IS NULL OR at >= $3) AND ($4::timestamptz IS NULL OR at < $4)
			AND ($5 = 0 OR id < $5)
		ORDER BY id DESC LIMIT $6`, f.Text, f.Subject, db.OrNil(f.Since), db.OrNil(f.Until), f.Before, f.Limit)
}
