package web

import (
	"errors"
	"io"
	"net/http"

	"github.com/go-chi/chi/v5"

	"kanban/internal/adapter"
	"kanban/internal/store/db"
	"kanban/internal/web/problem"
	"kanban/internal/wire/webhook"
)

// reported takes CloudEvents from services, signed as Standard Webhooks with the
// interface's secret, or with the earlier one while it is being changed.
func (s *Server) reported(w http.ResponseWriter, r *http.Request) {
	c, err := s.Connections.Open(r.Context(), chi.URLParam(r, "id"))
	switch {
	case errors.Is(err, db.ErrNotFound), err == nil && c.Kind != adapter.KindEvents:
		problem.Write(w, http.StatusNotFound,
			"there is no such service; its address is shown when the interface is made")
		return
	case err != nil:
		s.Log.Error("opening an interface", "cause", err.Error())
		problem.Write(w, http.StatusServiceUnavailable, "the signature could not be checked; send it again")
		return
	}
	s.takeReported(w, r, c)
}

// allowReports answers a service that asks whether it may report events here.
func (s *Server) allowReports(w http.ResponseWriter, r *http.Request) {
	c, err := s.Connections.Open(r.Context(), chi.URLParam(r, "id"))
	if err != nil || c.Kind != adapter.KindEvents {
		problem.Write(w, http.StatusNotFound,
			"there is no such service; its address is shown when the interface is made")
		return
	}
	webhook.Allow(w, r)
	w.WriteHeader(http.StatusOK)
}

// takeReported takes in what a service has signed.
func (s *Server) takeReported(w http.ResponseWriter, r *http.Request, c adapter.Interface) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		problem.Write(w, http.StatusRequestEntityTooLarge, "the request is too large; send fewer events at a time")
		return
	}
	_, err = webhook.Verify(c.Secret["secret"], r.Header, body)
	if err != nil && c.Secret["earlier"] != "" {
		_, err = webhook.Verify(c.Secret["earlier"], r.Header, body)
	}
	if err != nil {
		if err := s.Facts.Unsigned(r.Context(), c.ID, err.Error()); err != nil {
			s.Log.Warn("counting a refused request", "cause", err.Error())
		}
		problem.Write(w, http.StatusUnauthorized,
			"the request is not signed with this interface's secret, or older than five minutes")
		return
	}
	list, batch, err := webhook.Receive(r.Header, body)
	if err != nil {
		problem.Write(w, http.StatusBadRequest, err.Error())
		return
	}
	problems, err := s.Facts.Report(r.Context(), c, list)
	if err != nil {
		s.Log.Error("taking events", "cause", err.Error())
		problem.Write(w, http.StatusInternalServerError, "the events could not be stored; send them again")
		return
	}
	if !batch {
		if problems[0] != nil {
			problem.Write(w, http.StatusBadRequest, problems[0].Error())
			return
		}
		w.WriteHeader(http.StatusNoContent)
		return
	}
	type refused struct {
		Index  int    `json:"index"`
		Detail string `json:"detail"`
	}
	answer := struct {
		Stored  int       `json:"stored"`
		Refused []refused `json:"refused"`
	}{Refused: []refused{}}
	for i, p := range problems {
		if p != nil {
			answer.Refused = append(answer.Refused, refused{i, p.Error()})
		} else {
			answer.Stored++
		}
	}
	writeJSON(w, http.StatusOK, answer)
}
