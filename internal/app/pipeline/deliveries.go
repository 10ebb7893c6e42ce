package pipeline

import (
	"context"
	"sync"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/clock"
	"kanban/internal/core/rule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/wire/call"
)

// Connections gives interfaces with their secrets.
type Connections interface {
	adapter.Opener
	// Opened does the same with one that has been read.
	Opened(ctx context.Context, c connectionstore.Interface) (adapter.Interface, error)
}

// Badges awards badges.
type Badges interface {
	Award(ctx context.Context, badgeID string, event eventstore.Event, at time.Time) (badgestore.Award, error)
	// AwardAddress is the address of an award's page.
	AwardAddress(awardID string) string
}

// Deliveries turns events, by rules, into deliveries, and makes those. Fill every field up to
// Expressions.
type Deliveries struct {
	Store       *db.Database
	Connections Connections
	Badges      Badges
	Outlines    Outlines
	// Source is this installation's address, named as the source of events.
	Source string
	Call   call.Options
	// BadgesPage gives somebody the link to the page of their badges; nil for none.
	BadgesPage func(personID, email string) (string, error)
	// MailLimit is how long a mail server may take for one mail, 25 s when zero.
	MailLimit time.Duration
	// Delays between the attempts of a delivery; DefaultDelays when nil.
	Delays []time.Duration
	// Zone is the institution's time zone, for quiet hours; UTC when nil.
	Zone  *time.Location
	Clock clock.Clock

	// Remember is for how long a process goes on with the titles of sections that it has
	// read; 0 reads them every time.
	Remember time.Duration

	Expressions *rule.Expressions

	recent  recent
	books   books
	resting sync.Map // interface and operation → until when it rests
}

func (s *Deliveries) zone() *time.Location {
	if s.Zone == nil {
		return time.UTC
	}
	return s.Zone
}
