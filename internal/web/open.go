package web

import (
	"bytes"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/elnormous/contenttype"
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
	read := func(path string, h http.HandlerFunc) {
		r.Get(path, h)
		r.Head(path, h)
	}
	read("/open/issuers/{id}", s.public(func(r *http.Request, id string) (any, error) {
		return s.Badges.Profile(r.Context(), id)
	}))
	read("/open/badges/{id}", s.public(func(r *http.Request, id string) (any, error) {
		return s.Badges.Achievement(r.Context(), id)
	}))
	read("/open/issuers/{id}/keys/{key}", s.public(func(r *http.Request, id string) (any, error) {
		return s.Badges.PublicKey(r.Context(), id, chi.URLParam(r, "key"))
	}))
	read("/open/issuers/{id}/jwks.json", s.public(func(r *http.Request, id string) (any, error) {
		key, err := s.Badges.PublicKey(r.Context(), id, "")
		if err != nil {
			return nil, err
		}
		set := jwk.NewSet()
		return set, set.AddKey(key)
	}))
	read("/open/issuers/{id}/status/{list}", func(w http.ResponseWriter, r *http.Request) {
		token, err := s.Badges.StatusList(r.Context(), chi.URLParam(r, "id"), chi.URLParam(r, "list"))
		if err != nil {
			s.missing(w, err)
			return
		}
		w.Header().Set("Cache-Control", "public, max-age=300")
		serveOpen(w, r, openbadge.MediaType, []byte(token))
	})
	read("/open/awards/{id}", s.award)
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
		w.Header().Set("Cache-Control", "public, max-age=300")
		s.serveJSON(w, r, "application/json", record)
	}
}

func (s *Server) serveJSON(w http.ResponseWriter, r *http.Request, kind string, record any) {
	text, err := json.Marshal(record)
	if err != nil {
		s.missing(w, err)
		return
	}
	serveOpen(w, r, kind, append(text, '\n'))
}

// serveOpen serves what anyone may read, in browsers too, with an entity tag: whoever has it
// already is told so (RFC 9110 section 13).
func serveOpen(w http.ResponseWriter, r *http.Request, kind string, body []byte) {
	w.Header().Set("Access-Control-Allow-Origin", "*")
	w.Header().Set("Content-Type", kind)
	w.Header().Set("ETag", fmt.Sprintf(`"%016x"`, xxhash.Sum64(body)))
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(body))
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
	kind := awardForms[0].MIME()
	if best, _, err := contenttype.GetAcceptableMediaType(r, awardForms); err == nil {
		kind = best.MIME()
	}
	if r.URL.Query().Get("form") == "jwt" {
		kind = openbadge.MediaType
	}
	switch kind {
	case openbadge.MediaType:
		serveOpen(w, r, kind, []byte(checked.Award.Credential))
	case "text/html":
		s.awardPage(w, r, checked)
	default:
		s.serveJSON(w, r, kind, checked.Credential)
	}
}

// awardForms are the forms of an award, the one for people first: browsers, and whoever does not
// say, get that.
var awardForms = []contenttype.MediaType{
	contenttype.NewMediaType("text/html"), contenttype.NewMediaType(openbadge.MediaType),
	contenttype.NewMediaType("application/json"), contenttype.NewMediaType("application/ld+json"),
	contenttype.NewMediaType("application/vc"),
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
	serveOpen(w, r, "text/html; charset=utf-8", page.Bytes())
}
