package matching

import (
	"context"

	"kanban/internal/store/matchstore"
)

// AccountsOf lists the accounts stored for a person and the decisions about them.
func (s *Service) AccountsOf(ctx context.Context, personID string) ([]matchstore.KnownAccount, error) {
	return matchstore.AccountsOf(ctx, s.Store, personID)
}
