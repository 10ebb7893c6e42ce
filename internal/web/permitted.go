package web

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"kanban/internal/app/access"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/web/auth"
	"kanban/internal/web/problem"
)

// declaration is what an operation declares: which act it is, and what its path's id names.
type declaration struct {
	act permission.Act
	of  permission.Subject // empty for what only those do whose role holds for the whole institution
	any bool               // it is enough to reach one of several sections
}

// declarations gives that of each described operation, by its method and the pattern of its route.
func declarations(d *huma.OpenAPI) map[string]declaration {
	all := map[string]declaration{
		"GET /openapi.json": {act: permission.Anyone}, "GET /openapi.yaml": {act: permission.Anyone},
	}
	for path, item := range d.Paths {
		for method, op := range map[string]*huma.Operation{
			http.MethodGet: item.Get, http.MethodPost: item.Post, http.MethodPut: item.Put,
			http.MethodPatch: item.Patch, http.MethodDelete: item.Delete,
		} {
			if op == nil {
				continue
			}
			act, _ := op.Extensions[actName].(string)
			of, _ := op.Extensions[scopeName].(string)
			some, _ := op.Extensions[anyName].(bool)
			all[method+" "+path] = declaration{permission.Act(act), permission.Subject(of), some}
		}
	}
	return all
}

// leaving is the address at which a token ends itself.
const leaving = "/api/v1/session"

// beforeCodes is what somebody may who has no one-time codes yet and needs them.
var beforeCodes = []string{
	leaving, "/api/v1" + codesPath, "/api/v1" + changePasswordOp.Path, "/api/v1/live",
}

// whileViewing is what somebody may of their own who looks as somebody else, and changes nothing.
var whileViewing = []string{
	"GET " + leaving, "DELETE " + leaving, "GET /api/v1/live", "GET /api/v1/roles", "GET /api/v1/maintenance", "GET /api/v1/views",
	"GET /api/v1" + ownPageOp.Path,
	"DELETE /api/v1" + viewPath, "PUT /api/v1" + hideNamesOp.Path,
}

// onlyViewing refuses what is changed, or is the caller's own, while they look as somebody else.
func onlyViewing(c access.Caller, method, pattern string, act permission.Act) string {
	switch {
	case c.Viewing == nil || slices.Contains(whileViewing, method+" "+pattern):
		return ""
	case act == permission.Own || method != http.MethodGet && method != http.MethodHead:
		return "you look as " + c.Viewing.Name + " does, and change nothing meanwhile; look as yourself again first"
	}
	return ""
}

// permitted refuses what the caller's roles do not allow. What declares no act is refused to everybody. What belongs
// to sections that the caller does not reach is, to them, not there.
func (s *Server) permitted(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		route := chi.NewRouteContext()
		if !s.router.Match(route, r.Method, r.URL.Path) {
			next.ServeHTTP(w, r) // there is no such address, or it does not take this method
			return
		}
		d, caller := s.declared[r.Method+" "+route.RoutePattern()], auth.Caller(r.Context())
		if !caller.May(d.act) {
			problem.Write(w, http.StatusForbidden, auth.NotAllowed(caller)+"; ask somebody who is: "+whoMay(d.act))
			return
		}
		if why := onlyViewing(caller, r.Method, route.RoutePattern(), d.act); why != "" {
			problem.Write(w, http.StatusForbidden, why)
			return
		}
		if caller.CodesNeeded && d.act == permission.Own && !slices.Contains(beforeCodes, route.RoutePattern()) {
			problem.Write(w, http.StatusForbidden, auth.NotAllowed(caller))
			return
		}
		changes := r.Method != http.MethodGet && route.RoutePattern() != leaving
		if d.act == permission.Own && caller.Limit != nil && changes {
			problem.Write(w, http.StatusForbidden, "a token that may less than you does not change what is yours")
			return
		}
		if d.act == permission.Anyone || d.act == permission.Own {
			next.ServeHTTP(w, r)
			return
		}
		reach, found, err := s.within(r.Context(), caller, d, route.URLParam("id"))
		switch {
		case err != nil:
			s.Log.Error("finding what the caller reaches", "cause", err.Error())
			problem.Busy(w, "what you may see could not be looked up; try again")
		case !reach.All && d.of == "":
			problem.Write(w, http.StatusForbidden, "your role holds for a part of the institution, and this is about "+
				"the whole of it; ask somebody who is: "+whoMay(d.act))
		case found == elsewhere:
			problem.Write(w, http.StatusNotFound, "there is no such record: finding the "+string(d.of)+": not found")
		case found == shared:
			problem.Write(w, http.StatusForbidden, "this belongs to sections beyond yours too; ask somebody who is: "+
				whoMay(d.act))
		default:
			next.ServeHTTP(w, r.WithContext(auth.Within(r.Context(), reach)))
		}
	})
}

// reached says how much of what somebody names they reach.
type reached int

const (
	elsewhere reached = iota // none of its sections: to them it is not there
	shared                   // some of them, where it takes all
	enough
)

// within says which sections a caller reaches with an act, and whether what they name is among them.
func (s *Server) within(ctx context.Context, c access.Caller, d declaration, id string) (r permission.Reach, n reached,
	err error,
) {
	if r, err = s.Access.Reach(ctx, c, d.act); err != nil || r.All || d.of == "" || d.of == permission.Listed {
		return r, enough, err
	}
	sections, err := s.Access.SectionsOf(ctx, d.of, id)
	switch {
	case !r.CoversAny(sections):
		return r, elsewhere, err
	case d.any || r.CoversEach(sections):
		return r, enough, err
	}
	return r, shared, err
}

// whoMay names the roles that allow an act in the whole institution.
func whoMay(a permission.Act) string {
	var who []string
	for _, role := range permission.Roles {
		if permission.May(permission.Everywhere(role), a) && permission.Holds(role, permission.Institution) {
			who = append(who, string(role))
		}
	}
	return strings.Join(who, ", ")
}

// reach says to which sections a caller is held; nil when to none.
func reach(ctx context.Context) *permission.Reach {
	if r := auth.Reach(ctx); !r.All {
		return &r
	}
	return nil
}

// allOf refuses what is done to sections that the caller does not reach: they are not there.
func allOf(ctx context.Context, sections ...string) error {
	if r := reach(ctx); r != nil && !r.CoversEach(sections) {
		return fmt.Errorf("finding the section: %w", db.ErrNotFound)
	}
	return nil
}

// mayAlso refuses what a caller asks for beside the act of the operation, where they may not do it to all of some
// sections.
func (s *Server) mayAlso(ctx context.Context, a permission.Act, doing string, sections ...string) error {
	r, err := s.Access.Reach(ctx, auth.Caller(ctx), a)
	if err == nil && !r.CoversEach(sections) {
		return refusal.Forbidden("your role does not allow to %s; ask somebody who is: %s", doing, whoMay(a))
	}
	return err
}

// someOf refuses things, such as pairings, that belong to no section that the caller reaches: they are not there.
func (s *Server) someOf(ctx context.Context, of permission.Subject, ids ...string) error {
	r := reach(ctx)
	if r == nil {
		return nil
	}
	for _, id := range ids {
		sections, err := s.Access.SectionsOf(ctx, of, id)
		if err != nil {
			return err
		}
		if !r.CoversAny(sections) {
			return fmt.Errorf("finding the %s: %w", of, db.ErrNotFound)
		}
	}
	return nil
}
