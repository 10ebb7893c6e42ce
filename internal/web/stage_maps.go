package web

import (
	"errors"
	"net/http"

	"github.com/go-chi/chi/v5"

	"kanban/internal/core/badge"
	"kanban/internal/store/db"
	"kanban/internal/web/problem"
	"kanban/internal/wire/drawing"
)

// mapWidth is how wide a map is as PNG, in pixels.
const mapWidth = 1520

// stageMap draws a stage plan with how many stand where: as svg, png or pdf.
func (s *Server) stageMap(w http.ResponseWriter, r *http.Request) {
	d, err := s.Stages.Map(r.Context(), chi.URLParam(r, "id"), r.URL.Query().Get("section"))
	if errors.Is(err, db.ErrNotFound) {
		problem.Write(w, http.StatusNotFound, "there is no such stage plan")
		return
	}
	if err != nil {
		s.Log.Error("drawing a stage plan", "cause", err.Error())
		problem.Write(w, http.StatusInternalServerError, "the map could not be drawn; try again")
		return
	}
	s.serveDrawing(w, chi.URLParam(r, "form"), d)
}

// serveDrawing serves what was drawn: as svg, png or pdf.
func (s *Server) serveDrawing(w http.ResponseWriter, form string, d *drawing.Drawing) {
	var kind string
	var content []byte
	var err error
	switch form {
	case "svg":
		kind, content = badge.SVG, d.SVG()
	case "png":
		kind = badge.PNG
		content, err = d.PNG(mapWidth)
	case "pdf":
		kind = "application/pdf"
		content, err = d.PDF(s.Stages.Clock.Now())
	default:
		problem.Write(w, http.StatusNotFound, "there is svg, png and pdf")
		return
	}
	if err != nil {
		s.Log.Error("writing a drawing", "cause", err.Error())
		problem.Write(w, http.StatusInternalServerError, "it could not be drawn; try again")
		return
	}
	w.Header().Set("Content-Type", kind)
	_, _ = w.Write(content)
}

// holderMap draws the way of whoever opened a link to their badges.
func (s *Server) holderMap(w http.ResponseWriter, r *http.Request) {
	person := s.visitor(r)
	if person == "" {
		problem.Write(w, http.StatusForbidden, "open the link in your mail first")
		return
	}
	d, err := s.Stages.MapOf(r.Context(), person, chi.URLParam(r, "id"))
	if err != nil {
		s.missing(w, err)
		return
	}
	s.serveDrawing(w, "svg", d)
}
