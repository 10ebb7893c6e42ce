// Package pairing joins sections with targets at outside services and says in
// which state each section is.
package pairing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/store"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *store.Store
	// Now tells the time, for sections that have ended.
	Now func() time.Time
	// NextRun says when a pairing runs next by itself after a moment.
	NextRun func(p store.Pairing, after time.Time) *time.Time
}

// Card is a section with its pairing, if any, and the one state of both.
type Card struct {
	Section    store.Section
	Pairing    *store.Pairing
	Connection string // name of the service
	State      roster.State
}

// Filter narrows a list of cards; empty fields do not.
type Filter struct {
	Text    string // in title, code, course or teacher, ignoring case
	Term    string
	Teacher string
	State   roster.State
	// Aside is for List: the name of a rule, or Everything.
	Aside string
}

// Cards lists every section, the ones that need somebody first.
func (s *Service) Cards(ctx context.Context, f Filter) ([]Card, error) {
	sections, err := s.Store.Sections(ctx)
	if err != nil {
		return nil, err
	}
	pairings, err := s.Store.Pairings(ctx)
	if err != nil {
		return nil, err
	}
	connections, err := s.connections(ctx)
	if err != nil {
		return nil, err
	}
	byID := make(map[string]*store.Pairing, len(pairings))
	for i := range pairings {
		byID[pairings[i].ID] = &pairings[i]
	}
	var cards []Card
	for _, x := range sections {
		c := Card{Section: x}
		if x.PairingID != nil {
			c.Pairing = byID[*x.PairingID]
		}
		s.judge(&c, connections)
		if f.fits(c) {
			cards = append(cards, c)
		}
	}
	order := make(map[roster.State]int, len(roster.States))
	for i, state := range roster.States {
		order[state] = i
	}
	slices.SortStableFunc(cards, func(a, b Card) int { return cmp.Compare(order[a.State], order[b.State]) })
	return cards, nil
}

func (f Filter) fits(c Card) bool {
	contains := func(text string) bool { return strings.Contains(strings.ToLower(text), strings.ToLower(f.Text)) }
	return (f.Text == "" || contains(c.Section.Title) || contains(c.Section.Code) || contains(c.Section.Course) || slices.ContainsFunc(c.Section.Teachers, contains)) &&
		(f.Term == "" || slices.Contains(c.Section.Terms, f.Term)) &&
		(f.Teacher == "" || slices.Contains(c.Section.Teachers, f.Teacher)) &&
		(f.State == "" || c.State == f.State)
}

func (s *Service) connections(ctx context.Context) (map[string]store.Connection, error) {
	all, err := s.Store.Connections(ctx)
	byID := make(map[string]store.Connection, len(all))
	for _, c := range all {
		byID[c.ID] = c
	}
	return byID, err
}

// judge fills in the state of a card.
func (s *Service) judge(c *Card, connections map[string]store.Connection) {
	standing := roster.Standing{Ended: c.Section.EndsOn != nil && s.Now().After(c.Section.EndsOn.AddDate(0, 0, 1))}
	if p := c.Pairing; p != nil {
		connection := connections[p.ConnectionID]
		c.Connection = connection.Name
		standing.Paired = true
		standing.Paused = p.PausedAt != nil || connection.PausedAt != nil
		standing.Ran = p.RanAt != nil
		standing.Failed = p.LastFailed
		standing.Hold = p.Policy.Hold
		standing.Guarded = p.Guarded > 0
		standing.Latest = p.Counts
	}
	c.State = roster.StateOf(standing)
}

// Card gives one pairing's card.
func (s *Service) Card(ctx context.Context, pairingID string) (Card, error) {
	p, err := s.Store.Pairing(ctx, pairingID)
	if err != nil {
		return Card{}, err
	}
	section, err := s.Store.Section(ctx, p.SectionID)
	if err != nil {
		return Card{}, err
	}
	connections, err := s.connections(ctx)
	if err != nil {
		return Card{}, err
	}
	c := Card{Section: section, Pairing: &p}
	s.judge(&c, connections)
	return c, nil
}

// Wish is what to pair.
type Wish struct {
	SectionID    string
	ConnectionID string
	TargetName   string // the section's title when empty
	Policy       *roster.Policy
}

// Pair joins a section with a new target. The target itself is made by the
// first run, so that nothing happens at the service before somebody has seen
// the preview.
func (s *Service) Pair(ctx context.Context, who string, w Wish) (store.Pairing, error) {
	section, err := s.Store.Section(ctx, w.SectionID)
	if errors.Is(err, store.ErrNotFound) {
		return store.Pairing{}, refusal.Invalid("sectionId", "there is no section %q; list them with: kanban sections list", w.SectionID)
	}
	if err != nil {
		return store.Pairing{}, err
	}
	connection, err := s.Store.Connection(ctx, w.ConnectionID)
	if errors.Is(err, store.ErrNotFound) {
		return store.Pairing{}, refusal.Invalid("connectionId", "there is no connection %q; list them with: kanban connections list", w.ConnectionID)
	}
	if err != nil {
		return store.Pairing{}, err
	}
	policy := roster.DefaultPolicy()
	if w.Policy != nil {
		policy = *w.Policy
	}
	name := strings.TrimSpace(cmp.Or(w.TargetName, section.Title))
	if err := s.check(section, connection, name, policy); err != nil {
		return store.Pairing{}, err
	}
	p := store.Pairing{ID: store.NewID(), SectionID: section.ID, ConnectionID: connection.ID, TargetName: name, Policy: policy, Version: 1}
	p.NextAt = s.NextRun(p, s.Now())
	err = s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := store.Create(tx, &p, "making the pairing"); err != nil {
			return err
		}
		return s.audit(ctx, tx, who, "paired a section", p)
	})
	if errors.Is(err, store.ErrTaken) {
		return p, refusal.Conflict("", "%s is paired through %s already; a section has one target per service", section.Title, connection.Name)
	}
	return p, err
}

func (s *Service) check(section store.Section, connection store.Connection, name string, policy roster.Policy) error {
	if connection.Kind != adapter.KindSCIM {
		return refusal.Invalid("connectionId", "%s cannot take people; choose a connection of kind %s", connection.Name, adapter.KindSCIM)
	}
	if section.EndsOn != nil && s.Now().After(section.EndsOn.AddDate(0, 0, 1)) {
		return refusal.Conflict("", "%s ended on %s; pair a section whose term is running or to come", section.Title, section.EndsOn.Format("2 January 2006"))
	}
	if n := len([]rune(name)); n == 0 || n > store.MaxTargetName {
		return refusal.Invalid("targetName", "must have 1 to %d characters, this has %d", store.MaxTargetName, n)
	}
	return CheckPolicy(policy)
}

// CheckPolicy reports the first value of a policy that cannot be.
func CheckPolicy(p roster.Policy) error {
	switch {
	case len(p.Roles) == 0:
		return refusal.Invalid("policy.roles", "names no role, so nobody would be carried; use student, teacher or both")
	case !slices.Contains([]roster.Leavers{roster.LeaversRemove, roster.LeaversDeactivate, roster.LeaversKeep}, p.Leavers):
		return refusal.Invalid("policy.leavers", "%q is not one of remove, deactivate, keep", p.Leavers)
	case p.RemovalShare < 0 || p.RemovalShare > 1:
		return refusal.Invalid("policy.removalShare", "%v is not between 0 and 1", p.RemovalShare)
	case p.RemovalNumber < 0:
		return refusal.Invalid("policy.removalNumber", "%d is negative", p.RemovalNumber)
	}
	if err := p.Schedule.Check(); err != nil {
		return refusal.Invalid("policy.schedule", "%v", err)
	}
	return nil
}

func (s *Service) audit(ctx context.Context, tx *store.Tx, who, what string, p store.Pairing) error {
	detail := map[string]any{"section": p.SectionID, "target": p.TargetName, "policy": p.Policy, "paused": p.PausedAt != nil}
	if err := tx.Audit(ctx, who, what, "pairing/"+p.ID, detail); err != nil {
		return err
	}
	return tx.Announce(ctx, "pairing", p.ID)
}

// Edit is what can be changed about a pairing; nil leaves it.
type Edit struct {
	Policy *roster.Policy
	Paused *bool
}

// Change edits a pairing. version must be the one that was read, or 0.
func (s *Service) Change(ctx context.Context, who, id string, version int, e Edit) (store.Pairing, error) {
	p, err := s.Store.Pairing(ctx, id)
	if err != nil {
		return p, err
	}
	if version != 0 && version != p.Version {
		return p, fmt.Errorf("changing the pairing: %w", store.ErrStale)
	}
	if e.Policy != nil {
		if err := CheckPolicy(*e.Policy); err != nil {
			return p, err
		}
		p.Policy = *e.Policy
		p.NextAt = s.NextRun(p, s.Now())
		if !p.Policy.Hold {
			p.OpensAt = nil
		}
	}
	if e.Paused != nil {
		p.PausedAt = nil
		if *e.Paused {
			now := s.Now().UTC()
			p.PausedAt = &now
		}
	}
	return p, s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.UpdatePairing(&p); err != nil {
			return err
		}
		return s.audit(ctx, tx, who, "changed a pairing", p)
	})
}

// Unpair ends a pairing. The target and its members stay at the service.
func (s *Service) Unpair(ctx context.Context, who, id string) error {
	p, err := s.Store.Pairing(ctx, id)
	if err != nil {
		return err
	}
	if p.EndedAt != nil {
		return nil
	}
	if active, err := s.Store.ActiveRun(ctx, "pairing_id", id); err == nil {
		return refusal.Conflict("", "run %s is still at work on this pairing; wait until it is done", active.ID)
	}
	now := s.Now().UTC()
	p.EndedAt = &now
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := tx.UpdatePairing(&p); err != nil {
			return err
		}
		return s.audit(ctx, tx, who, "unpaired a section", p)
	})
}
