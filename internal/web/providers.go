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
	listProvidersOp = operation{
		ID: "list-providers", Act: permission.Users,
		Method: http.MethodGet, Path: "/providers", Status: http.StatusOK, Tag: "users",
		Summary: "OpenID providers at which people sign in",
	}
	addProviderOp = operation{
		ID: "add-provider", Act: permission.Users,
		Method: http.MethodPost, Path: "/providers", Status: http.StatusCreated, Tag: "users",
		Summary: "Add an OpenID provider",
	}
	getProviderOp = operation{
		ID: "get-provider", Act: permission.Users,
		Method: http.MethodGet, Path: "/providers/{id}", Status: http.StatusOK, Tag: "users",
		Summary: "Show an OpenID provider, with the values that are entered there",
	}
	editProviderOp = operation{
		ID: "edit-provider", Act: permission.Users,
		Method: http.MethodPut, Path: "/providers/{id}", Status: http.StatusOK, Tag: "users",
		Summary: "Say what an OpenID provider is from now on; off ends the sessions that were begun there",
	}
	removeProviderOp = operation{
		ID: "remove-provider", Act: permission.Users,
		Method: http.MethodDelete, Path: "/providers/{id}", Status: http.StatusNoContent, Tag: "users",
		Summary: "Remove an OpenID provider with the roles that it gave; sessions that were begun there end",
	}
	checkProviderOp = operation{
		ID: "check-provider", Act: permission.Users,
		Method: http.MethodPost, Path: "/providers/{id}/check", Status: http.StatusOK, Tag: "users",
		Summary: "Ask an OpenID provider for its addresses and keys now",
	}
	tryClaimsOp = operation{
		ID: "try-claims", Act: permission.Users,
		Method: http.MethodPost, Path: "/providers/{id}/trial", Status: http.StatusOK, Tag: "users",
		Summary: "What somebody would get of whom the provider says some claims; nothing changes",
	}
	listOwnProvidersOp = operation{
		ID: "list-own-providers", Act: permission.Own,
		Method: http.MethodGet, Path: "/session/providers", Status: http.StatusOK, Tag: "sign-in",
		Summary: "Providers at which you can sign in, or do",
	}
	endOwnProviderOp = operation{
		ID: "end-own-provider", Act: permission.Own,
		Method: http.MethodDelete, Path: "/session/providers/{id}", Status: http.StatusNoContent, Tag: "sign-in",
		Summary: "Sign in at a provider no more; the roles that it gave end",
	}
)

// providers registers the operations about OpenID providers.
func (s *Server) providers(a huma.API) {
	handle(a, listProvidersOp, s.listProviders)
	handleTagged(a, addProviderOp, s.addProvider)
	handleTagged(a, getProviderOp, s.getProvider)
	handleTagged(a, editProviderOp, s.editProvider)
	handleEmpty(a, removeProviderOp, s.removeProvider)
	handle(a, checkProviderOp, s.checkProvider)
	handle(a, tryClaimsOp, s.tryClaims)
	handle(a, listOwnProvidersOp, s.listOwnProviders)
	handleEmpty(a, endOwnProviderOp, s.endOwnProvider)
}

func (s *Server) shownProvider(p accessstore.Provider) api.Provider {
	return api.Provider{
		ID: p.ID, Name: p.Name, Issuer: p.Issuer, ClientID: p.ClientID, HasSecret: len(p.Sealed) > 0, Scopes: p.Scopes,
		On: p.Active, Believes: p.Believes, Admits: p.Admits, PersonClaim: p.PersonClaim, PersonKey: p.PersonKey,
		Users: p.Users, BackTo: s.Access.BackAddress(p.ID), LogoutAt: s.Access.LogoutAddress(p.ID),
		SignedOut: s.Access.SignInPage(), Version: p.Version,
		Mappings: each(p.Mappings, func(m accessstore.ProviderMapping) api.ProviderMapping {
			return api.ProviderMapping{
				Claim: m.Claim, Value: m.Value, ScopeName: m.ScopeName, Issuer: m.Issuer, Grant: api.NewRoleGrant{
					Role: string(m.Role), Scope: string(m.Scope), ScopeID: m.ScopeID, IssuerID: m.IssuerID,
				},
			}
		}),
	}
}

func (s *Server) listProviders(ctx context.Context, _ *struct{}) (api.Page[api.Provider], error) {
	all, err := s.Access.Providers(ctx)
	return api.Page[api.Provider]{Items: each(all, s.shownProvider), Total: len(all)}, err
}

func (s *Server) getProvider(ctx context.Context, in *byID) (api.Provider, int, error) {
	p, err := s.Access.FindProvider(ctx, in.ID)
	return s.shownProvider(p), p.Version, err
}

func providerDraft(e api.EditProvider) access.ProviderDraft {
	d := access.ProviderDraft{
		Name: e.Name, Issuer: e.Issuer, ClientID: e.ClientID, Secret: e.Secret, Scopes: e.Scopes, Active: e.On,
		Believes: e.Believes, Admits: e.Admits, PersonClaim: e.PersonClaim, PersonKey: e.PersonKey,
		Mappings: each(e.Mappings, func(m api.ProviderMapping) permission.Mapping {
			return permission.Mapping{Claim: m.Claim, Value: m.Value, Grant: grant(m.Grant)}
		}),
	}
	if e.Scopes == nil {
		d.Scopes = []string{"profile", "email"}
	}
	return d
}

func (s *Server) addProvider(ctx context.Context, in *with[api.EditProvider]) (api.Provider, int, error) {
	p, err := s.Access.AddProvider(ctx, auth.Caller(ctx), providerDraft(in.Body))
	return s.shownProvider(p), p.Version, err
}

func (s *Server) editProvider(ctx context.Context, in *edit[api.EditProvider]) (api.Provider, int, error) {
	seen, err := version(in.IfMatch)
	if err != nil {
		return api.Provider{}, 0, err
	}
	p, err := s.Access.EditProvider(ctx, auth.Caller(ctx), in.ID, seen, providerDraft(in.Body))
	return s.shownProvider(p), p.Version, err
}

func (s *Server) removeProvider(ctx context.Context, in *byID) error {
	return s.Access.RemoveProvider(ctx, auth.Caller(ctx), in.ID)
}

func (s *Server) checkProvider(ctx context.Context, in *byID) (api.ProviderCheck, error) {
	c, err := s.Access.CheckProvider(ctx, in.ID)
	return api.ProviderCheck{
		OK: err == nil && c.Trouble == "", Trouble: c.Trouble, Lacks: append([]string{}, c.Lacks...),
	}, err
}

func (s *Server) tryClaims(ctx context.Context, in *withID[api.TryClaims]) (api.ClaimsTrial, error) {
	t, err := s.Access.TryClaims(ctx, in.ID, in.Body.Claims)
	return api.ClaimsTrial{
		Person: t.Person, Why: t.Why, User: t.User, New: t.IsNew, Refused: t.Refused,
		Mappings: each(t.Mapped, func(m permission.Mapped) api.MappingTrial {
			return api.MappingTrial{
				Claim: m.Claim, Value: m.Value, Role: string(m.Grant.Role), Holds: m.Holds, Why: m.Why,
			}
		}),
	}, err
}

func (s *Server) listOwnProviders(ctx context.Context, _ *struct{}) (api.Page[api.OwnProvider], error) {
	there, err := s.Access.WaysIn(ctx)
	if err != nil {
		return api.Page[api.OwnProvider]{}, err
	}
	own, err := s.Access.OwnProviders(ctx, auth.Caller(ctx))
	items := each(there, func(p accessstore.Provider) api.OwnProvider {
		out := api.OwnProvider{ID: p.ID, Name: p.Name}
		for _, w := range own {
			if w.ProviderID == p.ID {
				out.Email, out.SignedInAt = w.Email, &w.SignedInAt
			}
		}
		return out
	})
	return api.Page[api.OwnProvider]{Items: items, Total: len(items)}, err
}

func (s *Server) endOwnProvider(ctx context.Context, in *byID) error {
	return s.Access.EndOwnProvider(ctx, auth.Caller(ctx), in.ID)
}
