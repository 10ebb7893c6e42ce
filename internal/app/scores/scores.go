// Package scores carries scores from where work is marked (the source) to the book of record: it reads both sides,
// shows what a run would do, does exactly that, reads back and reports.
package scores

import (
	"context"
	"errors"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/adapter/gradebooks"
	"kanban/internal/core/clock"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/scorestore"
	"kanban/internal/store/settingstore"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *db.Database
	// Connections gives interfaces with their secrets.
	Connections adapter.Opener
	Call        call.Options
	// Zone is the institution's, for schedules by the time of day; UTC when nil.
	Zone  *time.Location
	Clock clock.Clock
	// Outlines and Statements are of the courses whose activities assignments are.
	Outlines   Outlines
	Statements Statements
	// Rosters brings in step whose scores are carried.
	Rosters Rosters
}

// book is where scores are written.
type book interface {
	PutCategory(ctx context.Context, c grade.Category) (id string, err error)
	PutItem(ctx context.Context, x gradebooks.Item) (id string, err error)
	PutResult(ctx context.Context, id, item, student string, m grade.Mark, at time.Time) (string, error)
	DeleteResult(ctx context.Context, id string) error
	Record(ctx context.Context, collection, id string) (r oneroster.Record, found bool, err error)
	Grants(ctx context.Context) (read, write, remove bool, err error)
}

// openBook gives the book of an interface, and whether it takes files.
func (s *Service) openBook(ctx context.Context, interfaceID string) (book, bool, error) {
	c, err := connectionstore.FindInterface(ctx, s.Store, interfaceID)
	if err == nil && c.Kind == adapter.KindScoreFile {
		return fileBook{s, interfaceID}, true, nil
	}
	b, _, err := s.open(ctx, interfaceID)
	return b, false, err
}

// open gives the gradebook of an interface that is reached over REST.
func (s *Service) open(ctx context.Context, interfaceID string) (*gradebooks.Gradebook, gradebooks.Declared, error) {
	c, err := s.Connections.Open(ctx, interfaceID)
	if errors.Is(err, db.ErrNotFound) {
		return nil, gradebooks.Declared{}, refusal.Conflict("",
			"a gradebook of this score link was removed; restore it first: kanban interfaces restore")
	}
	if err != nil {
		return nil, gradebooks.Declared{}, err
	}
	if c.Kind != adapter.KindGradebook {
		return nil, gradebooks.Declared{}, refusal.Conflict("", "%s is not a gradebook", c.Name)
	}
	return gradebooks.New(c, gradebooks.Scopes, s.Call), gradebooks.Declare(c.Settings), nil
}

// allowed reports why a link cannot run now.
func (s *Service) allowed(ctx context.Context, l scorestore.Link) error {
	m, err := settingstore.FindMaintenance(ctx, s.Store)
	if err != nil {
		return err
	}
	switch {
	case m.Since != nil:
		return refusal.Conflict("", "everything is paused since %s by %s; resume it first: kanban maintenance off",
			m.Since.Format("2 January 15:04"), m.By)
	case l.EndedAt != nil:
		return refusal.Conflict("", "this score link has ended; make a new one")
	case l.PausedAt != nil:
		return refusal.Conflict("", "this score link is paused; resume it first")
	}
	for _, id := range []string{l.SourceInterfaceID, l.BookInterfaceID} {
		c, err := connectionstore.FindInterface(ctx, s.Store, id)
		if err != nil {
			return err
		}
		if c.Paused() {
			return refusal.Conflict("", "%s is paused; resume it first", c.Name)
		}
	}
	return nil
}

// policyOf gives a link's policy as scores are compared by it, at a book that holds what it declares.
func policyOf(p scorestore.Policy, book grade.Book) grade.Policy {
	out := grade.Policy{Mode: p.Mode, Comments: p.Comments, Book: book, Flags: map[grade.Flags]grade.FlagRule{}}
	for name, f := range p.Flags {
		out.Flags[grade.FlagNamed(name)] = grade.FlagRule{Value: f.Value, Drop: f.Drop}
	}
	return out
}

// UsualPolicy is what a link begins with: blanks are filled and what was carried is updated, missing and exempt
// scores have no value, categories are matched by name, and the due date says in which grading period one is.
func UsualPolicy() scorestore.Policy {
	p := scorestore.Policy{PeriodKind: "gradingPeriod", Flags: map[string]scorestore.Flag{}}
	for flag, rule := range grade.DefaultPolicy().Flags {
		p.Flags[flag.String()] = scorestore.Flag{Value: rule.Value, Drop: rule.Drop}
	}
	return p
}
