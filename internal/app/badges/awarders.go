package badges

import (
	"context"
	"fmt"

	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/reachstore"
)

// Awarder is who awards badges by hand, with what they may.
type Awarder struct {
	Name string
	permission.Rights
}

// Anybody is an awarder who may award every badge to everybody.
func Anybody(name string) Awarder {
	return Awarder{name, permission.Rights{Grants: permission.Everywhere(permission.Administrator)}}
}

// reach says of the people of which sections somebody may award badges of an issuer. It refuses where they may of
// nobody.
func (s *Service) reach(ctx context.Context, who Awarder, issuerID string) (permission.Reach, error) {
	rights := who.ForIssuer(issuerID)
	if !rights.May(permission.Award) {
		return permission.Reach{}, refusal.Forbidden("you may not award badges of this issuer")
	}
	return reachstore.Reach(ctx, s.Store, rights, permission.Award)
}

// reached leaves of people those whom somebody reaches.
func (s *Service) reached(ctx context.Context, people []string, r permission.Reach) (map[string]bool, error) {
	if !r.All {
		return reachstore.Reached(ctx, s.Store, permission.OfPerson, r, people...)
	}
	all := make(map[string]bool, len(people))
	for _, id := range people {
		all[id] = true
	}
	return all, nil
}

// MayDecide refuses to revoke, suspend and restore an award where somebody may not award the badge of its issuer to
// people of its section, or of a section of its holder.
func (s *Service) MayDecide(ctx context.Context, who Awarder, awardID string) error {
	a, err := badgestore.FindAward(ctx, s.Store, awardID)
	if err != nil {
		return err
	}
	b, err := badgestore.FindBadge(ctx, s.Store, a.BadgeID)
	if err != nil {
		return err
	}
	r, err := s.reach(ctx, who, b.IssuerID)
	if err != nil || r.All {
		return err
	}
	sections, err := reachstore.SectionsOf(ctx, s.Store, permission.OfAward, a.ID)
	if err == nil && !r.CoversAny(sections) {
		return fmt.Errorf("finding the award: %w", db.ErrNotFound)
	}
	return err
}

// inReach refuses rows of people whom somebody does not reach: to them, they are not there.
func (s *Service) inReach(ctx context.Context, who Awarder, all []Awarding, used map[string]badgestore.Badge) error {
	for id, b := range used {
		r, err := s.reach(ctx, who, b.IssuerID)
		refused, is := refusal.As(err)
		if err != nil && !is {
			return err
		}
		var people []string
		for _, a := range all {
			if a.BadgeID == id {
				people = append(people, a.PersonID)
			}
		}
		reached, err := s.reached(ctx, people, r)
		if err != nil {
			return err
		}
		for i := range all {
			switch a := &all[i]; {
			case a.BadgeID != id || a.Outcome != "":
			case is:
				a.refuse("%s", refused.Detail)
			case !reached[a.PersonID]:
				a.PersonID, a.Name = "", ""
				a.refuse(nobody, a.Person)
			}
		}
	}
	return nil
}
