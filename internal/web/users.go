package web

import (
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
	inviteUserOp = operation{
		ID: "invite-user", Act: permission.Users,
		Method: http.MethodPost, Path: "/users", Status: http.StatusCreated, Tag: "users",
		Summary: "Invite somebody: they choose a password by a link",
	}
	editUserOp = operation{
		ID: "edit-user", Act: permission.Users,
		Method: http.MethodPatch, Path: "/users/{id}", Status: http.StatusOK, Tag: "users",
		Summary: "Change somebody's name, address or role",
	}
	removeUserOp = operation{
		ID: "remove-user", Act: permission.Users,
		Method: http.MethodDelete, Path: "/users/{id}", Status: http.StatusNoContent, Tag: "users",
		Summary: "Let somebody in no more; their sessions and tokens end at once",
	}
	inviteAgainOp = operation{
		ID: "invite-user-again", Act: permission.Users,
		Method: http.MethodPost, Path: "/users/{id}/invitation", Status: http.StatusOK, Tag: "users",
		Summary: "Send or give a new link to choose a password by; older ones are void",
	}
	acceptInvitationOp = operation{
		ID: "accept-invitation", Act: permission.Anyone,
		Method: http.MethodPost, Path: "/invitations", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Choose a password by the link of an invitation, and sign in",
	}
	changePasswordOp = operation{
		ID: "change-password", Act: permission.Own,
		Method: http.MethodPut, Path: "/session/password", Status: http.StatusNoContent, Tag: "sign-in",
		Summary: "Choose another password",
	}
)

// users registers the operations about who may sign in.
func (s *Server) users(a huma.API) {
	handle(a, listUsersOp, s.listUsers)
	handle(a, inviteUserOp, s.inviteUser)
	handle(a, editUserOp, s.editUser)
	handleEmpty(a, removeUserOp, s.removeUser)
	handle(a, inviteAgainOp, s.inviteAgain)
	handle(a, acceptInvitationOp, s.acceptInvitation)
	handleEmpty(a, changePasswordOp, s.changePassword)
}

func shownUser(u accessstore.User) api.User {
	state := "active"
	if u.PasswordHash == "" {
		state = "invited"
	}
	return api.User{
		ID: u.ID, Name: u.Name, Email: u.Email, Role: u.Role, State: state, InvitedBy: u.InvitedBy,
		CreatedAt:  u.CreatedAt,
		SignedInAt: u.SignedInAt,
	}
}

func shownInvitation(in access.Invitation) api.Invitation {
	return api.Invitation{User: shownUser(in.User), Mailed: in.Mailed, Link: in.Link, Why: in.Why}
}

func (s *Server) listUsers(ctx context.Context, _ *struct{}) (api.Page[api.User], error) {
	all, err := s.Access.Users(ctx)
	return api.Page[api.User]{Items: each(all, shownUser), Total: len(all)}, err
}

func (s *Server) inviteUser(ctx context.Context, in *with[api.NewUser]) (api.Invitation, error) {
	out, err := s.Access.Invite(ctx, auth.Caller(ctx), in.Body.Name, in.Body.Email, permission.Role(in.Body.Role))
	return shownInvitation(out), err
}

func (s *Server) editUser(ctx context.Context, in *withID[api.EditUser]) (api.User, error) {
	d := access.Draft{Name: in.Body.Name, Email: in.Body.Email}
	if in.Body.Role != nil {
		role := permission.Role(*in.Body.Role)
		d.Role = &role
	}
	u, err := s.Access.ChangeUser(ctx, auth.Caller(ctx), in.ID, d)
	return shownUser(u), err
}

func (s *Server) removeUser(ctx context.Context, in *byID) error {
	return s.Access.RemoveUser(ctx, auth.Caller(ctx), in.ID)
}

func (s *Server) inviteAgain(ctx context.Context, in *byID) (api.Invitation, error) {
	out, err := s.Access.InviteAgain(ctx, auth.Caller(ctx), in.ID)
	return shownInvitation(out), err
}

func (s *Server) acceptInvitation(ctx context.Context, in *with[api.AcceptInvitation]) (api.Caller, error) {
	if err := s.auth.Admit(ctx, ""); err != nil {
		return api.Caller{}, err
	}
	c, err := s.Access.Accept(ctx, in.Body.Secret, in.Body.Password)
	if err != nil {
		return api.Caller{}, err
	}
	return s.enter(ctx, c)
}

func (s *Server) changePassword(ctx context.Context, in *with[api.NewPassword]) error {
	if err := s.auth.Admit(ctx, ""); err != nil {
		return err
	}
	return s.Access.ChangePassword(ctx, auth.Caller(ctx), in.Body.Old, in.Body.Password)
}
