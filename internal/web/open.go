package web

import (
	"bytes"
	"embed"
	"errors"
	"html/template"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"
	"github.com/lestrrat-go/jwx/v3/jwk"

	"kanban/internal/app/badges"
	"kanban/internal/store/db"
	"kanban/internal/web/problem"
	"kanban/internal/wire/openbadge"
)

//go:embed pages/*.html
var pages embed.FS

var awardPage = template.Must(template.ParseFS(pages, "pages/award.html"))

// open registers what anyone may read: issuers, their keys, badges and awards.
func (s *Server) open(r chi.Router) {
	r.Get("/open/issuers/{id}", s.public(func(r *http.Request, id string) (any,
		error,
	) {
		return s.Badges.Profile(r.Context(), id)
	}))
	r.Get("/open/badges/{id}", s.public(func(r *http.Request, id string) (any,
		error,
	) {
		return s.Badges.Achievement(r.Context(), id)
	}))
	r.Get("/open/issuers/{id}/keys/{key}", s.public(func(r *http.Request, id string) (any, error) {
		key, err := s.Badges.PublicKey(r.Context(), id)
		if err == nil && openbadge.ID(key) != chi.URLParam(r, "key") {
			return nil, db.ErrNotFound
		}
		return key, err
	}))
	r.Get("/open/issuers/{id}/jwks.json", s.public(func(r *http.Request, id string) (any, error) {
		key, err := s.Badges.PublicKey(r.Context(), id)
		if err != nil {
			return nil, err
		}
		set := jwk.NewSet()
		return set, set.AddKey(key)
	}))
	r.Get("/open/issuers/{id}/status/{list}", func(w http.ResponseWriter, r *http.Request) {
		token, err := s.Badges.StatusList(r.Context(), chi.URLParam(r, "id"), chi.URLParam(r, "list"))
		if err != nil {
			s.missing(w, err)
			return
		}
		w.Header().Set("Access-Control-Allow-Origin", "*")
		w.Header().Set("Cache-Control", "public, max-age=300")
		w.Header().Set("Content-Type", openbadge.MediaType)
		_, _ = w.Write([]byte(token))
	})
	r.Get("/open/awards/{id}", s.award)
	r.Get("/open/unsubscribe/{token}", s.unsubscribe)
	r.Post("/open/unsubscribe/{token}", s.unsubscribe)
}

// public serves one public record as JSON.
func (s *Server) public(find func(r *http.Request, id string) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		record, err := find(r, chi.URLParam(r, "id"))
		if err != nil {
			s.missing(w, err)
			return
		}
		w.Header().Set("Access-Control-Allow-Origin", "*") // verifiers run in browsers too
		w.Header().Set("Cache-Control", "public, max-age=300")
		writeJSON(w, http.StatusOK, record)
	}
}

func (s *Server) missing(w http.ResponseWriter, err error) {
	if errors.Is(err, db.ErrNotFound) {
		problem.Write(w, http.StatusNotFound, "there is nothing at this address")
		return
	}
	s.Log.Error("serving a public record", "cause", err.Error())
	problem.Write(w, http.StatusInternalServerError, "this cannot be shown now; try again")
}

// award gives the credential itself to programs and a page to people. The page
// checks the credential each time it is opened.
func (s *Server) award(w http.ResponseWriter, r *http.Request) {
	checked, err := s.Badges.Check(r.Context(), chi.URLParam(r, "id"))
	if err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Vary", "Accept")
	w.Header().Set("Access-Control-Allow-Origin", "*")
	if accept := r.Header.Get("Accept"); strings.Contains(accept, openbadge.MediaType) ||
		r.URL.Query().Get("form") == "jwt" {
		w.Header().Set("Content-Type", openbadge.MediaType)
		_, _ = w.Write([]byte(checked.Award.Credential))
		return
	} else if strings.Contains(accept, "json") {
		writeJSON(w, http.StatusOK, checked.Credential)
		return
	}
	s.awardPage(w, r, checked)
}

func (s *Server) awardPage(w http.ResponseWriter, r *http.Request, checked badges.Checked) {
	data := map[string]any{
		"Checked": checked, "Credential": checked.Credential,
		"JWT": s.Badges.AwardAddress(checked.Award.ID) + "?form=jwt",
	}
	if claimed := strings.TrimSpace(r.URL.Query().Get("address")); claimed != "" {
		data["Claimed"], data["Belongs"] = claimed, checked.Credential.BelongsTo(claimed)
	}
	var page bytes.Buffer
	if err := awardPage.Execute(&page, data); err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write(page.Bytes())
}
