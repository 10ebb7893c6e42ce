package web

import (
	"bytes"
	"errors"
	"html/template"
	"net/http"

	"github.com/go-chi/chi/v5"

	"kanban/internal/store/db"
)

var unsubscribePage = template.Must(template.ParseFS(pages, "pages/unsubscribe.html"))

// unsubscribe shows what the link in a mail is about and, on POST, ends those mails at
// once, without sign-in or redirect (RFC 8058). A look at it changes nothing: programs
// that check mails follow links.
func (s *Server) unsubscribe(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer")
	x, err := s.Deliveries.SubscriptionOf(r.Context(), chi.URLParam(r, "token"))
	if errors.Is(err, db.ErrNotFound) {
		s.unsubscribeAnswer(w, http.StatusNotFound, map[string]any{"Gone": true, "Rule": ""})
		return
	}
	again := false
	if err == nil && r.Method == http.MethodPost {
		again = r.PostFormValue("again") == "yes"
		err = s.Deliveries.Subscribe(r.Context(), "the recipient", x.Rule.ID, x.Address, again)
		x.Ended = !again
	}
	if err != nil {
		s.missing(w, err)
		return
	}
	s.unsubscribeAnswer(w, http.StatusOK, map[string]any{
		"Rule": x.Rule.Name, "Address": x.Address, "Ended": x.Ended,
		"Done": again,
	})
}

func (s *Server) unsubscribeAnswer(w http.ResponseWriter, status int, data map[string]any) {
	var page bytes.Buffer
	if err := unsubscribePage.Execute(&page, data); err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(page.Bytes())
}
