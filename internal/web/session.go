package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/adapter"
	"kanban/internal/app/access"
	"kanban/internal/core/finding"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

// signIn registers the operations that let people in.
func (s *Server) signIn(a huma.API) {
	handle(a, operation{
		ID: "set-up", Method: http.MethodPost, Path: "/setup", Status: http.StatusOK,
		Tag: "sign-in", Summary: "Make the first administrator",
	}, func(ctx context.Context, in *with[api.Setup]) (api.Caller, error) {
		if err := s.auth.Admit(ctx, ""); err != nil {
			return api.Caller{}, err
		}
		c, err := s.Access.SetUp(ctx, in.Body.Secret, in.Body.Name, in.Body.Email, in.Body.Password)
		if err != nil {
			return api.Caller{}, err
		}
		return s.enter(ctx, c)
	})
	handle(a, operation{
		ID: "sign-in", Method: http.MethodPost, Path: "/session", Status: http.StatusOK,
		Tag: "sign-in", Summary: "Sign in",
	}, func(ctx context.Context, in *with[api.SignIn]) (api.Caller, error) {
		if err := s.auth.Admit(ctx, in.Body.Email); err != nil {
			return api.Caller{}, err
		}
		c, err := s.Access.SignIn(ctx, in.Body.Email, in.Body.Password)
		if err != nil {
			return api.Caller{}, err
		}
		s.auth.Remember(ctx, in.Body.Email)
		return s.enter(ctx, c)
	})
}

func (s *Server) enter(ctx context.Context, c access.Caller) (api.Caller, error) {
	return api.Caller(c), s.auth.Enter(ctx, c)
}

// installation registers what is about the service itself and its callers.
func (s *Server) installation(a huma.API) {
	handle(a, operation{
		ID: "who-am-i", Method: http.MethodGet, Path: "/session", Status: http.StatusOK,
		Tag: "sign-in", Summary: "Who is signed in",
	}, func(ctx context.Context, _ *struct{}) (api.Caller, error) {
		c := auth.Caller(ctx)
		if c.ID == "" {
			return api.Caller{}, huma.Error401Unauthorized("nobody is signed in")
		}
		return api.Caller(c), nil
	})
	handleEmpty(a, operation{
		ID: "sign-out", Method: http.MethodDelete, Path: "/session", Status: http.StatusNoContent,
		Tag: "sign-in", Summary: "Sign out: the session or the token ends",
	}, func(ctx context.Context, _ *struct{}) error {
		return s.auth.Leave(ctx)
	})
	handle(a, operation{
		ID: "make-token", Method: http.MethodPost, Path: "/tokens", Status: http.StatusCreated,
		Tag: "sign-in", Summary: "Make an API token",
	}, func(ctx context.Context, in *with[api.NewToken]) (api.Token, error) {
		token, err := s.Access.NewToken(ctx, auth.Caller(ctx), in.Body.Name)
		return api.Token{Token: token}, err
	})
	handle(a, operation{
		ID: "installation", Method: http.MethodGet, Path: "/installation", Status: http.StatusOK,
		Tag: "installation", Summary: "Where this service is reached",
	}, func(context.Context, *struct{}) (api.Installation, error) {
		return api.Installation{Version: s.Version, Address: s.Public}, nil
	})
	handle(a, operation{
		ID: "list-kinds", Method: http.MethodGet, Path: "/kinds", Status: http.StatusOK,
		Tag: "installation", Summary: "The kinds of connection and what each needs",
	}, func(context.Context, *struct{}) ([]adapter.Kind, error) {
		return adapter.Kinds, nil
	})
	handle(a, operation{
		ID: "list-codes", Method: http.MethodGet, Path: "/catalogue", Status: http.StatusOK,
		Tag: "installation", Summary: "Everything Kanban can notice, with its remedy",
	}, func(context.Context, *struct{}) ([]finding.Entry, error) {
		return finding.All(), nil
	})
	handle(a, operation{
		ID: "today-rest", Method: http.MethodGet, Path: "/today/rest", Status: http.StatusOK,
		Tag: "installation", Summary: "What, beside that, is not in step or not known to be; empty when everything is",
	}, func(ctx context.Context, _ *struct{}) ([]string, error) {
		said, err := s.Reports.Rest(ctx)
		return append([]string{}, said...), err
	})
	handle(a, operation{
		ID: "today", Method: http.MethodGet, Path: "/today", Status: http.StatusOK,
		Tag: "installation", Summary: "What needs a person, ordered by harm",
	}, func(ctx context.Context, _ *struct{}) ([]api.Finding, error) {
		list, err := s.Reports.Today(ctx)
		return each(list, noticedFinding), err
	})
}
