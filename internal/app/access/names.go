package access

import (
	"context"
	"sync"
	"time"

	"kanban/internal/core/permission"
	"kanban/internal/core/pseudonym"
	"kanban/internal/store/personstore"
)

// namesFor is for how long the names of everybody are kept before they are looked up anew, while names are hidden.
const namesFor = 5 * time.Second

// knownNames are the names of everybody, as they were a moment ago.
type knownNames struct {
	mu    sync.Mutex
	names *pseudonym.Names
	at    time.Time
}

// Names are those of everybody who is known, which are replaced where names are hidden.
func (s *Service) Names(ctx context.Context) (*pseudonym.Names, error) {
	s.names.mu.Lock()
	defer s.names.mu.Unlock()
	at := s.Clock.Now()
	if s.names.names != nil && at.Sub(s.names.at) < namesFor {
		return s.names.names, nil
	}
	names := pseudonym.NewNames()
	err := personstore.EachName(ctx, s.Store, func(n personstore.Named) error {
		if n.Title != "" {
			names.Keep(n.Title)
			return nil
		}
		names.Person(n.Given, n.Family, n.Login)
		return nil
	})
	if err != nil {
		return nil, err
	}
	s.names.names, s.names.at = names, at
	return names, nil
}

// SeesNames reports whether somebody's roles let them see who people are; others see made-up names.
func (c Caller) SeesNames() bool { return c.May(permission.Look) || !c.May(permission.Report) }
