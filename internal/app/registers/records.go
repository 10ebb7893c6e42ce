package registers

import (
	"context"
	"time"

	"kanban/internal/core/permission"
	"kanban/internal/store/mirror"
	"kanban/internal/store/rosterstore"
)

// Differences lists whose records a read changed; more says that there were others, which
// were not kept.
func (s *Service) Differences(ctx context.Context, runID string) ([]mirror.Difference, bool, error) {
	return mirror.Differences(ctx, s.Store, runID)
}

// FindPeopleList finds one by id.
func (s *Service) FindPeopleList(ctx context.Context, id string) (rosterstore.PeopleList, error) {
	return rosterstore.FindPeopleList(ctx, s.Store, id)
}

// FindPerson finds one by id.
func (s *Service) FindPerson(ctx context.Context, id string) (rosterstore.Person, error) {
	return rosterstore.FindPerson(ctx, s.Store, id)
}

// FindSection finds one, a vanished one too.
func (s *Service) FindSection(ctx context.Context, id string) (rosterstore.Section, error) {
	return rosterstore.FindSection(ctx, s.Store, id)
}

// Movements lists who joined and left a section after its first read, newest first.
func (s *Service) Movements(ctx context.Context, sectionID string, limit int) ([]rosterstore.RosterLine, error) {
	return rosterstore.Movements(ctx, s.Store, sectionID, limit)
}

// Orgs lists the organisations of all registers by name.
func (s *Service) Orgs(ctx context.Context) ([]rosterstore.Org, error) {
	return rosterstore.Orgs(ctx, s.Store)
}

// People finds people by a part of their name, address, user name or identifier; those of whom
// one of the latter three is the whole text come first. Of some sections, now or before, or of all when within is nil.
func (s *Service) People(ctx context.Context, text string, limit int, within *permission.Reach) (
	rosterstore.FoundPeople, error,
) {
	return rosterstore.People(ctx, s.Store, text, limit, within)
}

// PeopleLists lists them all by name.
func (s *Service) PeopleLists(ctx context.Context) ([]rosterstore.PeopleList, error) {
	return rosterstore.PeopleLists(ctx, s.Store)
}

// PeopleOf gives who is on a list now, each once.
func (s *Service) PeopleOf(ctx context.Context, listID string) ([]rosterstore.Listing, error) {
	return rosterstore.PeopleOf(ctx, s.Store, listID)
}

// RosterOn lists who was in a section at a time, with when they joined and left.
// What a first read found counts from the enrolment's first day.
func (s *Service) RosterOn(ctx context.Context, sectionID string, at time.Time) ([]rosterstore.RosterLine, error) {
	return rosterstore.RosterOn(ctx, s.Store, sectionID, at)
}

// WhereaboutsOf lists a person's sections, present ones first. What was reached
// in a section that was left stays with it. Those of their second accounts are among them.
func (s *Service) WhereaboutsOf(ctx context.Context, personID string) ([]rosterstore.Whereabouts, error) {
	return rosterstore.WhereaboutsOf(ctx, s.Store, personID)
}

// SourcedIDs gives the register's own ids of sections, by id.
func (s *Service) SourcedIDs(ctx context.Context, ids []string) (map[string]string, error) {
	return rosterstore.SourcedIDs(ctx, s.Store, ids)
}

// PersonInRegister gives the register's interface and own id of a person.
func (s *Service) PersonInRegister(ctx context.Context, id string) (interfaceID, sourcedID string, err error) {
	return rosterstore.PersonInRegister(ctx, s.Store, id)
}
