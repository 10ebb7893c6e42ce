package web

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"

	"kanban/internal/app/reacting"
	"kanban/internal/wire/xapi"
)

// xapi registers the endpoint to which course platforms report (xAPI 1.0.3
// Communication 2.1). Each xAPI connection has a key and a secret of its own.
func (s *Server) xapi(r chi.Router) {
	r.Get("/xapi/about", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set(xapi.VersionHeader, xapi.Version)
		writeJSON(w, http.StatusOK, map[string]any{"version": []string{xapi.Version}})
	})
	r.Post("/xapi/statements", s.statements)
	r.Put("/xapi/statements", s.statements)
}

func writeJSON(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func (s *Server) statements(w http.ResponseWriter, r *http.Request) {
	w.Header().Set(xapi.VersionHeader, xapi.Version)
	key, secret, _ := r.BasicAuth()
	connection, ok, err := s.Connecting.Authenticate(r.Context(), key, secret)
	switch {
	case err != nil:
		s.Log.Error("checking a platform's credentials", "cause", err.Error())
		writeProblem(w, http.StatusServiceUnavailable, "the credentials could not be checked; try again")
		return
	case !ok:
		w.Header().Set("WWW-Authenticate", `Basic realm="xAPI"`)
		writeProblem(w, http.StatusUnauthorized, "the key or the secret is not right; both are shown when the connection is made")
		return
	case !strings.HasPrefix(r.Header.Get(xapi.VersionHeader), "1.0"):
		writeProblem(w, http.StatusBadRequest, xapi.VersionHeader+" must be 1.0.x")
		return
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		writeProblem(w, http.StatusRequestEntityTooLarge, "the request is too large; send fewer statements at a time")
		return
	}
	list, raw, err := xapi.Parse(body)
	if err == nil && r.Method == http.MethodPut {
		err = onlyOne(list, r.URL.Query().Get("statementId"))
	}
	if err != nil {
		writeProblem(w, http.StatusBadRequest, err.Error())
		return
	}
	ids, err := s.Reacting.Take(r.Context(), connection.ID, list, raw)
	switch {
	case errors.Is(err, reacting.ErrConflict):
		writeProblem(w, http.StatusConflict, err.Error())
	case err != nil:
		s.Log.Error("taking statements", "cause", err.Error())
		writeProblem(w, http.StatusInternalServerError, "the statements could not be stored; send them again")
	case r.Method == http.MethodPut:
		w.WriteHeader(http.StatusNoContent)
	default:
		writeJSON(w, http.StatusOK, ids)
	}
}

// onlyOne checks a PUT: one statement, whose id is that of the address.
func onlyOne(list []xapi.Statement, id string) error {
	if len(list) != 1 || id == "" {
		return errors.New("PUT takes one statement and its statementId")
	}
	if list[0].ID != "" && !strings.EqualFold(list[0].ID, id) {
		return errors.New("the statement's id is not the statementId of the address")
	}
	list[0].ID = strings.ToLower(id)
	return list[0].Check()
}
