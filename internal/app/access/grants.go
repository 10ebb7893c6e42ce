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
	one := accessstore.Grant{
		ID: db.NewID(), UserID: u.ID, Role: g.Role, Scope: g.Scope.Kind, ScopeID: g.Scope.ID, MadeBy: c.Name,
	}
	if g.Issuer != "" {
		one.IssuerID = &g.Issuer
	}
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
	switch {
	case !g.Role.Known():
		return refusal.Invalid("role", "%q is not one of administrator, operator, support, reader, awarder", g.Role)
	case g.Role.FromRegister():
		return refusal.Invalid("role", "teachers and learners come from the register: say who of it the user is")
	case !permission.Holds(g.Role, g.Scope.Kind):
		return refusal.Invalid("scope", "the role %s cannot be had in a %s, only in the whole institution", g.Role,
			g.Scope.Kind)
	case g.Issuer != "" && g.Role != permission.Awarder:
		return refusal.Invalid("issuerId", "limits whose badges may be awarded; the role %s is not limited by it", g.Role)
	case !permission.MayGive(c.Grants, g), c.Limit != nil && !permission.MayGive(c.Limit, g):
		return refusal.Forbidden("you cannot give a role that may do more than your own")
	}
	there, err := accessstore.ScopeThere(ctx, s.Store, g.Scope)
	if err == nil && !there {
		return refusal.Invalid("scopeId", "no register has this %s", g.Scope.Kind)
	}
	if err == nil && g.Issuer != "" {
		if there, err = accessstore.IssuerThere(ctx, s.Store, g.Issuer); err == nil && !there {
			return refusal.Invalid("issuerId", "there is no such issuer")
		}
	}
	return err
}

// checkMost refuses to limit a token to what its maker may not do, or to what there is not.
func (s *Service) checkMost(ctx context.Context, c Caller, g permission.Grant) error {
	switch {
	case !g.Role.Known() || g.Role.FromRegister():
		return refusal.Invalid("role", "%q is not one of administrator, operator, support, reader, awarder", g.Role)
	case !permission.Holds(g.Role, g.Scope.Kind):
		return refusal.Invalid("scope", "the role %s cannot be had in a %s, only in the whole institution", g.Role,
			g.Scope.Kind)
	}
	for _, a := range permission.Acts {
		if a != permission.Own && a != permission.Anyone && g.Allows(a) && !permission.May(c.Grants, a) {
			return refusal.Forbidden("a token cannot have a role that may do more than your own")
		}
	}
	there, err := accessstore.ScopeThere(ctx, s.Store, g.Scope)
	if err == nil && !there {
		return refusal.Invalid("scopeId", "no register has this %s", g.Scope.Kind)
	}
	return err
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
	return s.regrant(ctx, c, id, "granted a role", func(tx *db.Tx, u *accessstore.User) error {
		return s.give(ctx, tx, c, u, g)
	})
}

// RemoveGrant ends what a user may be in a scope; it ends at once. There is always an administrator who can sign in.
func (s *Service) RemoveGrant(ctx context.Context, c Caller, id, grant string) (accessstore.User, error) {
	return s.regrant(ctx, c, id, "ended a role", func(tx *db.Tx, u *accessstore.User) error {
		u.Grants = slices.DeleteFunc(u.Grants, func(g accessstore.Grant) bool { return g.ID == grant })
		return accessstore.RemoveGrant(ctx, tx, id, grant)
	})
}

func (s *Service) regrant(ctx context.Context, c Caller, id, what string,
	do func(*db.Tx, *accessstore.User) error,
) (u accessstore.User, err error) {
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		all, err := accessstore.LockUsers(ctx, tx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(all, func(o accessstore.User) bool { return o.ID == id })
		if i < 0 {
			return errNoUser
		}
		if err := do(tx, &all[i]); err != nil {
			return err
		}
		if err := somebodyLeft(all); err != nil {
			return err
		}
		return s.changed(ctx, tx, c, what, all[i])
	})
	if err != nil {
		return u, err
	}
	return accessstore.FindUser(ctx, s.Store, id) // with the names of what it is about
}

// Reach says which sections a caller may do an act to, now.
func (s *Service) Reach(ctx context.Context, c Caller, a permission.Act) (permission.Reach, error) {
	r, err := accessstore.Reach(ctx, s.Store, c.Grants, a)
	if err != nil || c.Limit == nil {
		return r, err
	}
	most, err := accessstore.Reach(ctx, s.Store, c.Limit, a)
	return r.And(most), err
}

// Reached gives the ids of the pairings, score links or tasks that belong to a section somebody reaches.
func (s *Service) Reached(ctx context.Context, of permission.Subject, r permission.Reach) (map[string]bool, error) {
	return accessstore.Reached(ctx, s.Store, of, r)
}

// SectionsOf gives the sections to which something belongs; none where there is no such thing.
func (s *Service) SectionsOf(ctx context.Context, of permission.Subject, id string) ([]string, error) {
	if uuid.Validate(id) != nil {
		return nil, nil
	}
	return accessstore.SectionsOf(ctx, s.Store, of, id)
}
