package connections

import (
	"context"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/adapter/mails"
	"kanban/internal/store/connectionstore"
)

// mailPatience is how long the mail server may take for a mail of the service's own.
const mailPatience = 20 * time.Second

// Mailer sends mails of the service's own through the first mail server that is connected; nil when there is none.
func (s *Service) Mailer(ctx context.Context) (*mails.Mailer, error) {
	all, err := connectionstore.Interfaces(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	for _, c := range all {
		if c.Kind != adapter.KindSMTP || c.Paused() {
			continue
		}
		opened, err := s.Open(ctx, c.ID)
		if err != nil {
			return nil, err
		}
		return mails.New(opened, mailPatience), nil
	}
	return nil, nil //nolint:nilnil // there is none
}
