package web

import (
	"cmp"
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/store/accessstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var (
	listUsersOp = operation{
		ID: "list-users", Act: permission.Users,
		Method: http.MethodGet, Path: "/users", Status: http.StatusOK, Tag: "users",
		Summary: "Who may sign in, and as what",
	}
	listRolesOp = operation{
		ID: "list-roles", Act: permission.Own,
		Method: http.MethodGet, Path: "/roles", Status: http.StatusOK, Tag: "users",
		Summary: "Which roles there are, what each allows, and where it can be had",
	}
	inviteUserOp = operation{
		ID: "invite-user", Act: permission.Users,
		Method: http.MethodPost, Path: "/users", Status: http.StatusCreated, Tag: "users",
		Summary: "Invite somebody: they choose a password by a link",
	}
	editUserOp = operation{
		ID: "edit-user", Act: permission.Users,
		Method: http.MethodPatch, Path: "/users/{id}", Status: http.StatusOK, Tag: "users",
		Summary: "Change somebody's name, address, person of the register, or role in the whole institution",
	}
	removeUserOp = operation{
		ID: "remove-user", Act: permission.Users,
		Method: http.MethodDelete, Path: "/users/{id}", Status: http.StatusNoContent, Tag: "users",
		Summary: "Let somebody in no more; their sessions and tokens end at once",
	}
	grantRoleOp = operation{
		ID: "grant-role", Act: permission.Users,
		Method: http.MethodPost, Path: "/users/{id}/grants", Status: http.StatusOK, Tag: "users",
		Summary: "Give somebody a role, in the whole institution or in a part of it; it holds at once",
	}
	removeGrantOp = operation{
		ID: "remove-grant", Act: permission.Users,
		Method: http.MethodDelete, Path: "/users/{id}/grants/{grant}", Status: http.StatusOK, Tag: "users",
		Summary: "End a role that somebody has; it ends at once",
	}
	inviteAgainOp = operation{
		ID: "invite-user-again", Act: permission.Users,
		Method: http.MethodPost, Path: "/users/{id}/invitation", Status: http.StatusOK, Tag: "users",
		Summary: "Send or give a new link to choose a password by; older ones are void",
	}
	endCodesOfUserOp = operation{
		ID: "end-codes-of-user", Act: permission.Users,
		Method: http.MethodDelete, Path: "/users/{id}/codes", Status: http.StatusNoContent, Tag: "users",
		Summary: "End the one-time codes of somebody who has lost them: they sign in with the password alone",
	}
	acceptInvitationOp = operation{
		ID: "accept-invitation", Act: permission.Anyone,
		Method: http.MethodPost, Path: "/invitations", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Choose a password by the link of an invitation, and sign in",
	}
	changePasswordOp = operation{
		ID: "change-password", Act: permission.Own,
		Method: http.MethodPut, Path: "/session/password", Status: http.StatusNoContent, Tag: "sign-in",
		Summary: "Choose another password; your other sessions end",
	}
)

// users registers the operations about who may sign in.
func (s *Server) users(a huma.API) {
	handle(a, listUsersOp, s.listUsers)
	handle(a, listRolesOp, s.listRoles)
	handle(a, inviteUserOp, s.inviteUser)
	handle(a, editUserOp, s.editUser)
	handleEmpty(a, removeUserOp, s.removeUser)
	handle(a, grantRoleOp, s.grantRole)
	handle(a, removeGrantOp, s.removeGrant)
	handle(a, inviteAgainOp, s.inviteAgain)
	handleEmpty(a, endCodesOfUserOp, s.endCodesOfUser)
	handle(a, acceptInvitationOp, s.acceptInvitation)
	handleEmpty(a, changePasswordOp, s.changePassword)
}

func shownUser(u accessstore.User) api.User {
	state := "active"
	if u.PasswordHash == "" {
		state = "invited"
	}
	return api.User{
		ID: u.ID, Name: u.Name, Email: u.Email, State: state, InvitedBy: u.InvitedBy, CreatedAt: u.CreatedAt,
		SignedInAt: u.SignedInAt, PersonID: orEmpty(u.PersonID),
		Grants: each(u.Grants, func(g accessstore.Grant) api.RoleGrant {
			return api.RoleGrant{
				ID: g.ID, Role: string(g.Role), Scope: string(g.Scope), ScopeID: g.ScopeID, ScopeName: g.ScopeName,
				IssuerID: orEmpty(g.IssuerID), Issuer: g.Issuer, Provider: g.Provider,
			}
		}),
	}
}

func orEmpty(text *string) string {
	if text == nil {
		return ""
	}
	return *text
}

func grant(g api.NewRoleGrant) permission.Grant {
	kind := cmp.Or(permission.ScopeKind(g.Scope), permission.Institution)
	return permission.Grant{
		Role: permission.Role(g.Role), Issuer: g.IssuerID, Scope: permission.Scope{Kind: kind, ID: g.ScopeID},
	}
}

func shownInvitation(in access.Invitation) api.Invitation {
	return api.Invitation{User: shownUser(in.User), Mailed: in.Mailed, Link: in.Link, Why: in.Why}
}

func (s *Server) listUsers(ctx context.Context, _ *struct{}) (api.Page[api.User], error) {
	all, err := s.Access.Users(ctx)
	if err != nil {
		return api.Page[api.User]{}, err
	}
	codes, err := s.Access.WithCodes(ctx)
	if err != nil {
		return api.Page[api.User]{}, err
	}
	ways, err := s.Access.ProviderUsers(ctx)
	return api.Page[api.User]{Total: len(all), Items: each(all, func(u accessstore.User) api.User {
		out := shownUser(u)
		out.Codes = codes[u.ID]
		for _, w := range ways {
			if w.UserID == u.ID {
				out.State, out.Providers = "active", append(out.Providers, w.Provider)
			}
		}
		return out
	})}, err
}

func (s *Server) listRoles(ctx context.Context, _ *struct{}) (api.Page[api.Role], error) {
	all := each(permission.Roles, func(r permission.Role) api.Role {
		everywhere, scopes := permission.Everywhere(r)[0], permission.ScopesOf(r)
		out := api.Role{
			Role: string(r), May: []string{}, MayPart: []string{}, Given: !r.FromRegister(),
			Scopes: each(scopes, func(k permission.ScopeKind) string { return string(k) }),
			Token:  auth.Caller(ctx).MayLimit(everywhere),
		}
		for _, k := range scopes {
			may := &out.MayPart
			if k == permission.Institution {
				may = &out.May
			}
			*may = []string{}
			for _, a := range permission.Acts {
				if (permission.Grant{Role: r, Scope: permission.Scope{Kind: k}}).Allows(a) {
					*may = append(*may, string(a))
				}
			}
		}
		return out
	})
	return api.Page[api.Role]{Items: all, Total: len(all)}, nil
}

func (s *Server) inviteUser(ctx context.Context, in *with[api.NewUser]) (api.Invitation, error) {
	var given *permission.Grant
	if in.Body.Grant != nil {
		g := grant(*in.Body.Grant)
		given = &g
	}
	out, err := s.Access.Invite(ctx, auth.Caller(ctx),
		access.Draft{Name: &in.Body.Name, Email: &in.Body.Email, PersonID: &in.Body.PersonID}, given)
	return shownInvitation(out), err
}

func (s *Server) editUser(ctx context.Context, in *withID[api.EditUser]) (api.User, error) {
	d := access.Draft{Name: in.Body.Name, Email: in.Body.Email, PersonID: in.Body.PersonID}
	if in.Body.Role != nil {
		role := permission.Role(*in.Body.Role)
		d.Role = &role
	}
	u, err := s.Access.ChangeUser(ctx, auth.Caller(ctx), in.ID, d)
	return shownUser(u), err
}

func (s *Server) grantRole(ctx context.Context, in *withID[api.NewRoleGrant]) (api.User, error) {
	u, err := s.Access.Grant(ctx, auth.Caller(ctx), in.ID, grant(in.Body))
	return shownUser(u), err
}

func (s *Server) removeGrant(ctx context.Context, in *grantInput) (api.User, error) {
	u, err := s.Access.RemoveGrant(ctx, auth.Caller(ctx), in.ID, in.Grant)
	return shownUser(u), err
}

type grantInput struct {
	ID    string `path:"id" doc:"The user's id"`
	Grant string `path:"grant" doc:"The grant's id"`
}

func (s *Server) removeUser(ctx context.Context, in *byID) error {
	return s.Access.RemoveUser(ctx, auth.Caller(ctx), in.ID)
}

func (s *Server) inviteAgain(ctx context.Context, in *byID) (api.Invitation, error) {
	out, err := s.Access.InviteAgain(ctx, auth.Caller(ctx), in.ID)
	return shownInvitation(out), err
}

func (s *Server) endCodesOfUser(ctx context.Context, in *byID) error {
	return s.Access.EndCodesOf(ctx, auth.Caller(ctx), in.ID)
}

func (s *Server) acceptInvitation(ctx context.Context, in *with[api.AcceptInvitation]) (api.Caller, error) {
	if err := s.auth.Admit(ctx, ""); err != nil {
		return api.Caller{}, err
	}
	c, err := s.Access.Accept(ctx, in.Body.Secret, in.Body.Password, s.code(ctx, in.Body.Secret, in.Body.Code))
	if err != nil {
		return api.Caller{}, err
	}
	return s.enter(ctx, c)
}

func (s *Server) changePassword(ctx context.Context, in *with[api.NewPassword]) error {
	if err := s.auth.Admit(ctx, auth.Caller(ctx).ID); err != nil {
		return err
	}
	return s.Access.ChangePassword(ctx, auth.Caller(ctx), in.Body.Old, in.Body.Password, auth.Kept(ctx))
}
