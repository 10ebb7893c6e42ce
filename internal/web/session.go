package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var (
	setUpOp = operation{
		ID: "set-up", Act: permission.Anyone,
		Method: http.MethodPost, Path: "/setup", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Make the first administrator",
	}
	signInOp = operation{
		ID: "sign-in", Act: permission.Anyone,
		Method: http.MethodPost, Path: "/session", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Sign in",
	}
	whoAmIOp = operation{
		ID: "who-am-i", Act: permission.Anyone,
		Method: http.MethodGet, Path: "/session", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Who is signed in",
	}
	signOutOp = operation{
		ID: "sign-out", Act: permission.Own,
		Method: http.MethodDelete, Path: "/session", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Sign out: the session or the token ends; says where you sign out of a provider too",
	}
	makeTokenOp = operation{
		ID: "make-token", Act: permission.Own,
		Method: http.MethodPost, Path: "/tokens", Status: http.StatusCreated, Tag: "sign-in",
		Summary: "Make an API token",
	}
)

// signInAndOut registers the operations about letting people in.
func (s *Server) signInAndOut(a huma.API) {
	handle(a, setUpOp, s.setUp)
	handle(a, signInOp, s.signIn)
	handle(a, whoAmIOp, s.whoAmI)
	handle(a, signOutOp, s.signOut)
	handle(a, makeTokenOp, s.makeToken)
}

func (s *Server) setUp(ctx context.Context, in *with[api.Setup]) (api.Caller, error) {
	if err := s.auth.Admit(ctx, ""); err != nil {
		return api.Caller{}, err
	}
	c, err := s.Access.SetUp(ctx, in.Body.Secret, in.Body.Name, in.Body.Email, in.Body.Password)
	if err != nil {
		return api.Caller{}, err
	}
	return s.enter(ctx, c)
}

func (s *Server) signIn(ctx context.Context, in *with[api.SignIn]) (api.Caller, error) {
	if err := s.auth.Admit(ctx, in.Body.Email); err != nil {
		return api.Caller{}, err
	}
	c, err := s.Access.SignIn(ctx, in.Body.Email, in.Body.Password, s.code(ctx, in.Body.Email, in.Body.Code))
	if err != nil {
		return api.Caller{}, err
	}
	s.auth.Remember(ctx, in.Body.Email)
	return s.enter(ctx, c)
}

// code is one with which somebody tries to get in; its tries are counted for an account.
func (s *Server) code(ctx context.Context, account, text string) access.Code {
	return access.Code{Text: text, Admit: func() error { return s.auth.AdmitCode(ctx, account) }}
}

func (s *Server) whoAmI(ctx context.Context, _ *struct{}) (api.Caller, error) {
	c := auth.Caller(ctx)
	if c.ID == "" {
		return api.Caller{}, huma.Error401Unauthorized("nobody is signed in")
	}
	out := shownCaller(c)
	_, hidden := hiderOf(ctx)
	out.NamesHidden = hidden || !out.SeesNames
	return out, nil
}

func shownCaller(c access.Caller) api.Caller {
	out := api.Caller{
		ID: c.ID, Name: c.Name, PersonID: c.PersonID, May: []string{}, MayAll: []string{},
		Roles: each(c.Roles(), func(r permission.Role) string { return string(r) }), CodesNeeded: c.CodesNeeded,
		SeesNames: c.SeesNames(),
	}
	if c.Viewing != nil {
		out.Viewing = &api.Viewed{PersonID: c.Viewing.PersonID, Name: c.Viewing.Name}
	}
	for _, a := range permission.Acts {
		if c.May(a) {
			out.May = append(out.May, string(a))
		}
		if c.Everywhere(a) {
			out.MayAll = append(out.MayAll, string(a))
		}
	}
	return out
}

func (s *Server) signOut(ctx context.Context, _ *struct{}) (out api.SignedOut, err error) {
	if way := s.auth.Came(ctx); way.Provider != "" {
		out.Next = s.Access.SignOutAddress(ctx, way.Provider, way.IDToken)
	}
	return out, s.auth.Leave(ctx)
}

func (s *Server) makeToken(ctx context.Context, in *with[api.NewToken]) (api.Token, error) {
	d := access.TokenDraft{Name: in.Body.Name, Days: in.Body.Days}
	if in.Body.Role != "" {
		most := grant(api.NewRoleGrant{Role: in.Body.Role, Scope: in.Body.Scope, ScopeID: in.Body.ScopeID})
		d.Most = &most
	}
	token, err := s.Access.NewToken(ctx, auth.Caller(ctx), d)
	return api.Token{Token: token}, err
}

func (s *Server) enter(ctx context.Context, c access.Caller) (api.Caller, error) {
	return shownCaller(c), s.auth.Enter(ctx, c, auth.Way{})
}
