package api

import (
	"encoding/json"
	"time"
)

// AuditEntry is one of the audit trail: who did what to what, and when.
type AuditEntry struct {
	ID      string          `json:"id"`
	At      time.Time       `json:"at"`
	Who     string          `json:"who" doc:"The name they had then, or what the service did by itself"`
	What    string          `json:"what" doc:"In words"`
	Subject string          `json:"subject" doc:"Kind and id of the record, such as pairing/ID"`
	Detail  json.RawMessage `json:"detail,omitempty" doc:"What it was before and is after, by the kind of entry; never a secret"`
}
