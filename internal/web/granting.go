package web

import (
	"bytes"
	"context"
	"errors"
	"html/template"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/connections"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
	"kanban/internal/wire/call"
)

var (
	signInAtOp = operation{
		ID: "sign-in-at-service", Act: permission.Connect,
		Method: http.MethodPost, Path: "/interfaces/{id}/sign-in",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "Where to sign in at a service, to grant an interface access",
	}
	decideGrantOp = operation{
		ID: "decide-grant", Act: permission.Connect,
		Method: http.MethodPost, Path: "/interfaces/{id}/grant",
		Status: http.StatusOK, Tag: "interfaces",
		Summary: "Take a grant that is pending, or drop it",
	}
	endGrantOp = operation{
		ID: "end-grant", Act: permission.Connect,
		Method: http.MethodDelete, Path: "/interfaces/{id}/grant",
		Status: http.StatusNoContent, Tag: "interfaces",
		Summary: "Give up what was granted",
	}
)

// granting registers the operations about signing in at services.
func (s *Server) granting(a huma.API) {
	handle(a, signInAtOp, s.signInAt)
	handle(a, decideGrantOp, s.decideGrant)
	handleEmpty(a, endGrantOp, s.endGrant)
}

func (s *Server) signInAt(ctx context.Context, in *byID) (api.SignInAt, error) {
	caller := auth.Caller(ctx)
	address, err := s.Connections.BeginSignIn(ctx, caller.ID, caller.Name, in.ID)
	return api.SignInAt{Address: address}, err
}

func (s *Server) decideGrant(ctx context.Context, in *withID[api.GrantDecision]) (api.Interface, error) {
	if err := s.Connections.DecidePending(ctx, auth.Caller(ctx).Name, in.ID, in.Body.Take); err != nil {
		return api.Interface{}, err
	}
	c, err := s.Connections.FindInterface(ctx, in.ID)
	if err != nil {
		return api.Interface{}, err
	}
	return s.oneInterface(ctx, c)
}

func (s *Server) endGrant(ctx context.Context, in *byID) error {
	return s.Connections.EndGrant(ctx, auth.Caller(ctx).Name, in.ID)
}

// shownGrant shows a grant of an interface, nil for none.
func shownGrant(c connectionstore.Interface, g *connectionstore.Grant) *api.Grant {
	if g == nil {
		return nil
	}
	missing := slices.DeleteFunc(strings.Fields(c.Settings["scopes"]),
		func(asked string) bool { return slices.Contains(g.Scopes, asked) })
	return &api.Grant{
		Account: g.Account, Scopes: g.Scopes, Missing: append([]string{}, missing...), GrantedAt: g.GrantedAt,
		GrantedBy: g.GrantedBy, ExpiresAt: g.ExpiresAt, Renews: g.Renews, Trouble: g.Trouble,
	}
}

var grantedPage = template.Must(template.ParseFS(pages, "pages/granted.html"))

// granted is where people come back to from a service at which they have signed in.
func (s *Server) granted(w http.ResponseWriter, r *http.Request) {
	ctx, caller, q := r.Context(), auth.Caller(r.Context()), r.URL.Query()
	data, status := map[string]any{"Public": s.Public}, http.StatusOK
	var g connections.Granted
	var err error
	if caller.ID == "" {
		err = refusal.Forbidden("nobody is signed in to Kanban in this browser; sign in here, then begin again")
	} else {
		g, err = s.Connections.EndSignIn(ctx, caller.ID, caller.Name, connections.Returned{
			State: q.Get("state"), Code: q.Get("code"), Issuer: q.Get("iss"), HasIssuer: q.Has("iss"),
			Error: q.Get("error"), Description: q.Get("error_description"),
		})
	}
	data["Granted"] = g
	if g.Interface.ConnectionID != "" {
		data["Back"] = s.Public + "/connections/" + g.Interface.ConnectionID
	}
	refused, known := refusal.As(err)
	_, outside := call.As(err)
	switch {
	case err == nil:
	case known:
		status, data["Problem"] = http.StatusConflict, refused.Detail
	case outside:
		status, data["Problem"] = http.StatusBadGateway, err.Error()
	case errors.Is(err, db.ErrNotFound):
		status, data["Problem"] = http.StatusNotFound, "The interface is not there any more."
	default:
		s.Log.Error("ending a sign-in", "cause", err.Error())
		status, data["Problem"] = http.StatusInternalServerError, "Something went wrong on our side; begin again."
	}
	var page bytes.Buffer
	if err := grantedPage.Execute(&page, data); err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer") // the address held a code
	w.WriteHeader(status)
	_, _ = w.Write(page.Bytes())
}
