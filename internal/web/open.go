package web

import (
	"bytes"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/elnormous/contenttype"
	"github.com/go-chi/chi/v5"

	"kanban/internal/app/badges"
	"kanban/internal/core/badge"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/web/problem"
	"kanban/internal/wire/openbadge"
)

//go:embed pages/*.html pages/*.js
var pages embed.FS

var (
	awardPage = template.Must(template.ParseFS(pages, "pages/award.html", "pages/parts.html"))
	checkPage = template.Must(template.ParseFS(pages, "pages/check.html", "pages/parts.html"))
)

// open registers what anyone may read: issuers, their keys, badges and awards.
func (s *Server) open(r chi.Router) {
	read := func(path string, h http.HandlerFunc) {
		r.Get(path, h)
		r.Head(path, h)
	}
	read("/open/issuers/{id}", s.public(func(r *http.Request, base, id string) (any, error) {
		return s.Badges.Issuer(r.Context(), base, id)
	}))
	read("/open/issuers/{id}/did.json", s.public(func(r *http.Request, base, id string) (any, error) {
		return s.Badges.DID(r.Context(), base, id)
	}))
	read("/open/badges/{id}", s.public(func(r *http.Request, base, id string) (any, error) {
		return s.Badges.Achievement(r.Context(), base, id)
	}))
	read("/open/badges/{id}/criteria", s.public(func(r *http.Request, base, id string) (any, error) {
		return s.Badges.CriteriaOf(r.Context(), base, id)
	}))
	read("/open/issuers/{id}/keys/{key}", s.public(func(r *http.Request, base, id string) (any, error) {
		return s.Badges.PublicKey(r.Context(), base, id, chi.URLParam(r, "key"))
	}))
	read("/open/issuers/{id}/jwks.json", s.public(func(r *http.Request, base, id string) (any, error) {
		return s.Badges.KeySet(r.Context(), base, id)
	}))
	read("/open/issuers/{id}/status/{list}", s.statusList(badge.Revocation))
	read("/open/issuers/{id}/suspensions/{list}", s.statusList(badge.Suspension))
	read("/open/check", s.checkPage)
	r.With(s.slowedDown).Post("/open/check", s.checkPage)
	read("/open/pictures/{id}", s.picture)
	read("/open/awards/{id}", s.award)
	s.holders(r)
	s.wallets(r)
	r.Get("/open/unsubscribe/{token}", s.unsubscribe)
	r.Post("/open/unsubscribe/{token}", s.unsubscribe)
}

// base is the address of this installation by which something is asked for. Behind a proxy that ends TLS, the
// proxy says by which scheme; whoever lies about that is given what stands at an address of ours all the same.
func (s *Server) base(r *http.Request) string {
	scheme := r.Header.Get("X-Forwarded-Proto")
	if r.TLS != nil {
		scheme = "https"
	}
	return s.Badges.Base(scheme, r.Host)
}

// statusList serves the signed lists of one purpose.
func (s *Server) statusList(purpose string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		kind := wanted(r, listForms)
		list, err := s.Badges.StatusList(r.Context(), s.base(r), purpose, chi.URLParam(r, "id"),
			chi.URLParam(r, "list"), kind != openbadge.MediaType)
		if err != nil {
			s.missing(w, err)
			return
		}
		w.Header().Set("Vary", "Accept")
		w.Header().Set("Cache-Control", "public, max-age=300")
		serveOpen(w, r, kind, list)
	}
}

// public serves one public record as JSON, as it is under the address by which it was asked for.
func (s *Server) public(find func(r *http.Request, base, id string) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		record, err := find(r, s.base(r), chi.URLParam(r, "id"))
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
	if form := r.URL.Query().Get("form"); form == "png" || form == "svg" {
		s.bakedAward(w, r, form)
		return
	}
	checked, err := s.Badges.Check(r.Context(), chi.URLParam(r, "id"))
	if err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Vary", "Accept")
	kind := wanted(r, awardForms)
	s.looked(r, checked.Award, kind)
	switch r.URL.Query().Get("form") {
	case "jwt":
		kind = openbadge.MediaType
	case "json":
		kind = openbadge.MediaTypeJSON
	}
	switch kind {
	case openbadge.MediaType:
		serveOpen(w, r, kind, []byte(checked.Award.Credential))
	case "text/html":
		s.awardPage(w, r, checked)
	default:
		document := checked.Award.Document
		if len(document) == 0 { // it was signed before there were proofs inside
			if document, err = openbadge.Plain(checked.Award.Credential); err != nil {
				s.missing(w, err)
				return
			}
		}
		serveOpen(w, r, kind, document)
	}
}

// picture gives the picture of a badge; it does nothing but draw, whatever is in it.
func (s *Server) picture(w http.ResponseWriter, r *http.Request) {
	p, err := s.Badges.Picture(r.Context(), chi.URLParam(r, "id"))
	if err != nil {
		s.missing(w, err)
		return
	}
	keep := "public, max-age=31536000, immutable"
	if p.ID == badges.Emblem { // another version may draw it otherwise
		keep = "public, max-age=300"
	}
	w.Header().Set("Cache-Control", keep)
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; sandbox")
	serveOpen(w, r, p.Kind, p.Content)
}

// bakedAward gives an award as a picture that carries it, to be kept as a file.
func (s *Server) bakedAward(w http.ResponseWriter, r *http.Request, form string) {
	picture, err := s.Badges.Baked(r.Context(), chi.URLParam(r, "id"), form)
	if refused, ok := refusal.As(err); ok {
		problem.Write(w, http.StatusNotFound, refused.Detail)
		return
	}
	if err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Content-Disposition", `attachment; filename="badge.`+form+`"`)
	w.Header().Set("Content-Security-Policy", "sandbox")
	serveOpen(w, r, map[string]string{"png": "image/png", "svg": "image/svg+xml"}[form], picture)
}

// wanted is the form of several that a caller likes best, the first where it does not say.
func wanted(r *http.Request, forms []contenttype.MediaType) string {
	if best, _, err := contenttype.GetAcceptableMediaType(r, forms); err == nil {
		return best.MIME()
	}
	return forms[0].MIME()
}

// listForms are the forms of a status list.
var listForms = []contenttype.MediaType{
	contenttype.NewMediaType(openbadge.MediaType), contenttype.NewMediaType(openbadge.MediaTypeJSON),
	contenttype.NewMediaType("application/json"), contenttype.NewMediaType("application/ld+json"),
}

// awardForms are the forms of an award, the one for people first: browsers, and whoever does not
// say, get that.
var awardForms = []contenttype.MediaType{
	contenttype.NewMediaType("text/html"), contenttype.NewMediaType(openbadge.MediaType),
	contenttype.NewMediaType("application/json"), contenttype.NewMediaType("application/ld+json"),
	contenttype.NewMediaType(openbadge.MediaTypeJSON),
}

func (s *Server) awardPage(w http.ResponseWriter, r *http.Request, checked badges.Checked) {
	address := s.Badges.AwardAddress(checked.Award.ID)
	forms, err := s.Badges.Forms(r.Context(), checked.Award)
	if err != nil {
		s.missing(w, err)
		return
	}
	name, err := s.Holders.Shown(r.Context(), checked.Award)
	if err != nil {
		s.missing(w, err)
		return
	}
	if name == "" { // what only its holder may make public
		checked.Seen.Narrative, checked.Seen.Evidence = "", nil
	}
	issuer, err := s.Badges.IssuerOf(r.Context(), checked.Award)
	if err != nil {
		s.missing(w, err)
		return
	}
	s.openPage(w, r, awardPage, map[string]any{
		"Issuer": issuer, "IssuerPicture": badges.PicturePath(issuer.Picture),
		"Holder": name, "Seen": checked.Seen, "Address": address, "Forms": forms,
		"Picture": badges.PicturePath(checked.Award.Picture),
		"Verdict": verdictOf(checked.Examination, checked.Award), "Checks": checked.Checks,
		"Belongs": belongs(checked.Seen, r.URL.Query().Get("address")),
	})
}

// openPage serves a page that anybody may see.
func (s *Server) openPage(w http.ResponseWriter, r *http.Request, t *template.Template, data any) {
	var page bytes.Buffer
	if err := t.Execute(&page, data); err != nil {
		s.missing(w, err)
		return
	}
	serveOpen(w, r, "text/html; charset=utf-8", page.Bytes())
}
