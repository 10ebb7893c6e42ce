package web

import (
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"kanban/internal/core/permission"
	"kanban/internal/web/auth"
	"kanban/internal/web/problem"
)

// actsOf gives the act of each described operation, by its method and the pattern of its route.
func actsOf(d *huma.OpenAPI) map[string]permission.Act {
	acts := map[string]permission.Act{"GET /openapi.json": permission.Anyone, "GET /openapi.yaml": permission.Anyone}
	for path, item := range d.Paths {
		for method, op := range map[string]*huma.Operation{
			http.MethodGet: item.Get, http.MethodPost: item.Post, http.MethodPut: item.Put,
			http.MethodPatch: item.Patch, http.MethodDelete: item.Delete,
		} {
			if op == nil {
				continue
			}
			act, _ := op.Extensions[actName].(string)
			acts[method+" "+path] = permission.Act(act)
		}
	}
	return acts
}

// permitted refuses what the caller's role does not allow. What declares no act is refused to everybody.
func (s *Server) permitted(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		route := chi.NewRouteContext()
		if !s.router.Match(route, r.Method, r.URL.Path) {
			next.ServeHTTP(w, r) // there is no such address, or it does not take this method
			return
		}
		act, caller := s.acts[r.Method+" "+route.RoutePattern()], auth.Caller(r.Context())
		if caller.May(act) {
			next.ServeHTTP(w, r)
			return
		}
		var who []string
		for _, role := range permission.Roles {
			if permission.May(role, act) {
				who = append(who, string(role))
			}
		}
		problem.Write(w, http.StatusForbidden, "your role ("+string(caller.Role)+") does not allow this; ask somebody who is: "+
			strings.Join(who, ", "))
	})
}
