package access

import (
	"context"

	"kanban/internal/store/accessstore"
)

// Audit lists who did what to what, the newest first.
func (s *Service) Audit(ctx context.Context, f accessstore.AuditFilter) ([]accessstore.AuditEntry, error) {
	return accessstore.AuditEntries(ctx, s.Store, f)
}
