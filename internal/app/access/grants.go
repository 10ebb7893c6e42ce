package access

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/google/uuid"

	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/accessstore"
	"kanban/internal/store/db"
	"kanban/internal/store/personstore"
	"kanban/internal/store/reachstore"
	"kanban/internal/store/rosterstore"
)

// described says what a user was granted, for the trail.
func described(u accessstore.User) []string {
	out := make([]string, 0, len(u.Grants))
	for _, g := range u.Grants {
		text := string(g.Role)
		if g.Scope != permission.Institution {
			text += ": " + string(g.Scope) + " " + g.ScopeID
		}
		if g.IssuerID != nil {
			text += ", badges of " + *g.IssuerID
		}
		out = append(out, text)
	}
	return out
}

// toBe says as what somebody is invited.
func toBe(u accessstore.User) string {
	var roles []string
	for _, g := range u.Grants {
		roles = append(roles, string(g.Role))
	}
	if len(roles) == 0 {
		return ""
	}
	return " as " + strings.Join(roles, " and ")
}

// fromRegister fills in name and address of somebody of the register who is invited, where none are given.
func (s *Service) fromRegister(ctx context.Context, d *Draft) error {
	if err := s.personThere(ctx, d.PersonID); err != nil || d.PersonID == nil || *d.PersonID == "" {
		return err
	}
	p, err := rosterstore.FindPerson(ctx, s.Store, *d.PersonID)
	if err != nil {
		return err
	}
	if name := p.Name(); d.Name == nil || strings.TrimSpace(*d.Name) == "" {
		d.Name = &name
	}
	if d.Email == nil || strings.TrimSpace(*d.Email) == "" {
		d.Email = &p.Email
	}
	if *d.Email == "" {
		return refusal.Invalid("email", "is missing: the register has no address of %s", p.Name())
	}
	return nil
}

// personThere refuses somebody whom no register has.
func (s *Service) personThere(ctx context.Context, id *string) error {
	if id == nil || *id == "" {
		return nil
	}
	_, err := rosterstore.FindPerson(ctx, s.Store, *id)
	if uuid.Validate(*id) != nil || errors.Is(err, db.ErrNotFound) {
		return refusal.Invalid("personId", "no register has this person")
	}
	return err
}

// give grants a user a role in a scope.
func (s *Service) give(ctx context.Context, tx *db.Tx, c Caller, u *accessstore.User, g permission.Grant) error {
	if err := s.checkGrant(ctx, c, g); err != nil {
		return err
	}
	one := accessstore.GrantOf(u.ID, g, c.Name)
	if slices.Contains(u.Granted(), g) {
		return refusal.Conflict("", "%s has this role there already", u.Name)
	}
	if err := accessstore.AddGrant(ctx, tx, &one); err != nil {
		return err
	}
	u.Grants = append(u.Grants, one)
	return nil
}

func (s *Service) checkGrant(ctx context.Context, c Caller, g permission.Grant) error {
	switch err := checkRole(g); {
	case err != nil:
		return err
	case g.Issuer != "" && g.Role != permission.Awarder:
		return refusal.Invalid("issuerId", "limits whose badges may be awarded; the role %s is not limited by it", g.Role)
	case !c.MayGive(g):
		return refusal.Forbidden("you cannot give a role that may do more than your own")
	}
	if err := s.scopeThere(ctx, g.Scope); err != nil || g.Issuer == "" {
		return err
	}
	there, err := accessstore.IssuerThere(ctx, s.Store, g.Issuer)
	if err == nil && !there {
		return refusal.Invalid("issuerId", "there is no such issuer")
	}
	return err
}

// checkRole refuses roles that there are not, that nobody gives, or that cannot be had where they are meant.
func checkRole(g permission.Grant) error {
	switch {
	case !g.Role.Known():
		return refusal.Invalid("role", "%q is not one of administrator, operator, support, reader, awarder", g.Role)
	case g.Role.FromRegister():
		return refusal.Invalid("role", "teachers and learners come from the register: say who of it the user is")
	case !permission.Holds(g.Role, g.Scope.Kind):
		return refusal.Invalid("scope", "the role %s cannot be had in a %s, only in the whole institution", g.Role,
			g.Scope.Kind)
	}
	return nil
}

// scopeThere refuses a scope that no register has.
func (s *Service) scopeThere(ctx context.Context, scope permission.Scope) error {
	there, err := reachstore.ScopeThere(ctx, s.Store, scope)
	if err == nil && !there {
		return refusal.Invalid("scopeId", "no register has this %s", scope.Kind)
	}
	return err
}

// checkMost refuses to limit a token to what its maker may not do, or to what there is not.
func (s *Service) checkMost(ctx context.Context, c Caller, g permission.Grant) error {
	if err := checkRole(g); err != nil {
		return err
	}
	if !c.MayLimit(g) {
		return refusal.Forbidden("a token cannot have a role that may do more than your own")
	}
	return s.scopeThere(ctx, g.Scope)
}

// instead gives a user a role in the whole institution in place of those that they have there.
func (s *Service) instead(ctx context.Context, tx *db.Tx, c Caller, u *accessstore.User, r permission.Role) error {
	given := permission.Everywhere(r)[0]
	var left []accessstore.Grant
	for _, g := range u.Grants {
		if g.Scope == permission.Institution && g.Role != r && g.IssuerID == nil {
			if err := accessstore.RemoveGrant(ctx, tx, u.ID, g.ID); err != nil {
				return err
			}
			continue
		}
		left = append(left, g)
	}
	u.Grants = left
	if slices.Contains(u.Granted(), given) {
		return nil
	}
	return s.give(ctx, tx, c, u, given)
}

// Grant gives a user a role in a scope, besides those that they have.
func (s *Service) Grant(ctx context.Context, c Caller, id string, g permission.Grant) (accessstore.User, error) {
	return s.altered(ctx, c, id, "granted a role", func(tx *db.Tx, _ []accessstore.User, u *accessstore.User) error {
		return s.give(ctx, tx, c, u, g)
	})
}

// RemoveGrant ends what a user may be in a scope; it ends at once. There is always an administrator who can sign in.
func (s *Service) RemoveGrant(ctx context.Context, c Caller, id, grant string) (accessstore.User, error) {
	return s.altered(ctx, c, id, "ended a role", func(tx *db.Tx, _ []accessstore.User, u *accessstore.User) error {
		u.Grants = slices.DeleteFunc(u.Grants, func(g accessstore.Grant) bool { return g.ID == grant })
		return accessstore.RemoveGrant(ctx, tx, id, grant)
	})
}

// Reach says which sections a caller may do an act to, now.
func (s *Service) Reach(ctx context.Context, c Caller, a permission.Act) (permission.Reach, error) {
	return reachstore.Reach(ctx, s.Store, c.Rights, a)
}

// Reached gives the ids of what belongs to a section somebody reaches.
func (s *Service) Reached(ctx context.Context, of permission.Subject, r permission.Reach) (map[string]bool, error) {
	return reachstore.Reached(ctx, s.Store, of, r)
}

// SectionsOf gives the sections to which something belongs; none where there is no such thing. People are found by ids
// that they had before they were merged too.
func (s *Service) SectionsOf(ctx context.Context, of permission.Subject, id string) ([]string, error) {
	if of == permission.OfPerson && uuid.Validate(id) == nil {
		now, err := personstore.PeopleNow(ctx, s.Store, id)
		if err != nil {
			return nil, err
		}
		id = now[id]
	}
	return reachstore.SectionsOf(ctx, s.Store, of, id)
}
