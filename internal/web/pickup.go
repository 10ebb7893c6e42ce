package web

import (
	"net/http"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/web/problem"
	"kanban/internal/wire/oneroster"
)

// pickup gives a course platform the enrolments that were made for it, as a OneRoster
// CSV package in delta mode (OneRoster 1.2 CSV binding). Fetching it twice is harmless.
func (s *Server) pickup(w http.ResponseWriter, r *http.Request) {
	key, secret, ok := r.BasicAuth()
	c, known, err := s.Connections.AuthenticateKind(r.Context(), adapter.KindPickup, key, secret)
	if err != nil {
		s.Log.Error("opening an interface", "cause", err.Error())
		problem.Write(w, http.StatusServiceUnavailable, "the credential could not be checked; try again")
		return
	}
	if !ok || !known {
		w.Header().Set("WWW-Authenticate", `Basic realm="pickup"`)
		problem.Write(w, http.StatusUnauthorized,
			"give the key and the secret that were shown when the interface was made")
		return
	}
	since := time.Time{}
	if text := r.URL.Query().Get("since"); text != "" {
		if since, err = time.Parse(time.RFC3339Nano, text); err != nil {
			problem.Write(w, http.StatusBadRequest, "since is not a time such as 2026-11-23T09:30:00Z")
			return
		}
	}
	list, next, err := s.Deliveries.Pickups(r.Context(), c.ID, since)
	if err != nil {
		s.Log.Error("listing enrolments", "cause", err.Error())
		problem.Write(w, http.StatusInternalServerError, "the enrolments could not be read; try again")
		return
	}
	table := oneroster.Table{Mode: oneroster.Delta}
	for _, p := range list {
		status := map[bool]string{true: "active", false: "tobedeleted"}[p.Active]
		table.Rows = append(table.Rows, map[string]string{
			"sourcedId": "kanban-" + p.Section + "-" + p.Person, "status": status,
			"dateLastModified": p.ChangedAt.UTC().Format("2006-01-02T15:04:05.000Z"),
			"classSourcedId":   p.Section, "userSourcedId": p.Person, "role": p.Role,
		})
	}
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", `attachment; filename="enrolments.zip"`)
	if !next.IsZero() {
		w.Header().Set("Kanban-Next-Since", next.UTC().Format(time.RFC3339Nano))
	}
	if err := oneroster.WritePackage(w, "Kanban",
		map[string]oneroster.Table{oneroster.FileEnrollments: table}); err != nil {
		s.Log.Error("writing enrolments", "cause", err.Error())
	}
}
