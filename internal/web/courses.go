package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"kanban/internal/app/outlines"
	"kanban/internal/core/learning"
	"kanban/internal/core/permission"
	"kanban/internal/store/learningstore"
	"kanban/internal/web/auth"
	"kanban/internal/web/problem"
	"kanban/internal/wire/api"
	"kanban/internal/wire/sheet"
)

type coursesInput struct {
	Text  string `query:"text" doc:"A part of title or code"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" doc:"At most so many; all when absent"`
}

var (
	listCoursesOp = operation{
		ID: "list-courses", Act: permission.Look, Of: permission.Listed,
		Method: http.MethodGet, Path: "/courses", Status: http.StatusOK, Tag: "courses",
		Summary: "List courses",
	}
	getOutlineOp = operation{
		ID: "get-outline", Act: permission.Look, Of: permission.OfCourse,
		Method: http.MethodGet, Path: "/courses/{id}/outline",
		Status: http.StatusOK, Tag: "courses",
		Summary: "Show a course's outline",
	}
	setOutlineOp = operation{
		ID: "set-outline", Act: permission.Learning,
		Method: http.MethodPut, Path: "/courses/{id}/outline",
		Status: http.StatusNoContent, Tag: "courses",
		Summary: "Set a course's outline",
	}
	loadCartridgeOp = operation{
		ID: "load-cartridge", Act: permission.Learning,
		Method: http.MethodPut, Path: "/courses/{id}/cartridge",
		Status: http.StatusOK, Tag: "courses",
		Summary: "Set a course's outline from a Common Cartridge: a package (.imscc) or its manifest",
	}
	getLearningSettingsOp = operation{
		ID: "get-learning-settings", Act: permission.Look,
		Method: http.MethodGet, Path: "/learning-settings",
		Status: http.StatusOK, Tag: "outlines",
		Summary: "How progress is counted",
	}
	setLearningSettingsOp = operation{
		ID: "set-learning-settings", Act: permission.Learning,
		Method: http.MethodPut, Path: "/learning-settings",
		Status: http.StatusOK, Tag: "outlines",
		Summary: "Say how progress is counted; switched on, it is worked out anew for everybody",
	}
	readOutlineOp = operation{
		ID: "read-outline", Act: permission.Learning,
		Method: http.MethodPost, Path: "/outlines/read", Status: http.StatusOK, Tag: "courses",
		Summary: "Read an outline out of a manifest, an address or a table, without keeping it",
	}
	previewOutlineOp = operation{
		ID: "preview-outline", Act: permission.Learning,
		Method: http.MethodPost, Path: "/courses/{id}/outline/preview",
		Status: http.StatusOK, Tag: "courses",
		Summary: "Whom another outline would complete or reopen",
	}
	listVerbsOp = operation{
		ID: "list-verbs", Act: permission.Look,
		Method: http.MethodGet, Path: "/verbs", Status: http.StatusOK, Tag: "courses",
		Summary: "What platforms' verbs mean: the default ones and the institution's own, which win",
	}
	setVerbsOp = operation{
		ID: "set-verbs", Act: permission.Learning,
		Method: http.MethodPut, Path: "/verbs", Status: http.StatusNoContent, Tag: "courses",
		Summary: "Set the institution's own verbs",
	}
)

// courses registers the operations about courses and their outlines.
func (s *Server) courses(a huma.API) {
	handle(a, listCoursesOp, s.listCourses)
	handle(a, getOutlineOp, s.getOutline)
	handleEmpty(a, setOutlineOp, s.setOutline)
	handle(a, loadCartridgeOp, s.loadCartridge)
	handle(a, getLearningSettingsOp, s.getLearningSettings)
	handle(a, setLearningSettingsOp, s.setLearningSettings)
	handle(a, readOutlineOp, s.readOutline)
	handle(a, previewOutlineOp, s.previewOutline)
	handle(a, listVerbsOp, s.listVerbs)
	handleEmpty(a, setVerbsOp, s.setVerbs)
}

func (s *Server) listCourses(ctx context.Context, in *coursesInput) (api.Page[api.Course], error) {
	all, total, err := s.Outlines.FindCourses(ctx, in.Text, in.Limit, reach(ctx))
	return api.Page[api.Course]{Total: total, Items: each(all, func(c learningstore.Course) api.Course {
		return api.Course{ID: c.ID, Title: c.Title, Code: c.Code, Activities: c.OutlineSize}
	})}, err
}

func (s *Server) getOutline(ctx context.Context, in *byID) (api.Outline, error) {
	return s.Outlines.Outline(ctx, in.ID)
}

func (s *Server) setOutline(ctx context.Context, in *withID[api.Outline]) error {
	return s.Outlines.SetOutline(ctx, auth.Caller(ctx).Name, in.ID, in.Body)
}

func (s *Server) loadCartridge(ctx context.Context, in *cartridgeInput) (api.Outline, error) {
	return s.Outlines.LoadCartridge(ctx, auth.Caller(ctx).Name, in.ID, in.Prefix, in.RawBody)
}

func (s *Server) getLearningSettings(ctx context.Context, _ *struct{}) (api.LearningSettings, error) {
	on, err := s.Facts.Across(ctx)
	return api.LearningSettings{Across: on}, err
}

func (s *Server) setLearningSettings(ctx context.Context, in *with[api.LearningSettings]) (api.LearningSettings,
	error,
) {
	return in.Body, s.Facts.SetAcross(ctx, auth.Caller(ctx).Name, in.Body.Across)
}

func (s *Server) readOutline(ctx context.Context, in *with[api.OutlineSource]) (api.Outline, error) {
	return s.Outlines.ReadOutline(ctx, outlines.Source(in.Body))
}

func (s *Server) previewOutline(ctx context.Context, in *withID[api.Outline]) (api.OutlinePreview, error) {
	p, err := s.Outlines.PreviewOutline(ctx, in.ID, in.Body)
	return api.OutlinePreview{
		People: p.People, Completes: p.Completes, Reopens: p.Reopens,
		Misses: append([]string{}, p.Misses...), Touched: each(p.Touched,
			func(t outlines.OutlineTouch) api.OutlineTouch { return api.OutlineTouch(t) }),
	}, err
}

func (s *Server) listVerbs(ctx context.Context, _ *struct{}) (api.Verbs, error) {
	own, err := s.Facts.Verbs(ctx)
	return api.Verbs{Own: append([]learning.VerbRule{}, own...), Default: learning.DefaultVerbs}, err
}

func (s *Server) setVerbs(ctx context.Context, in *with[api.OwnVerbs]) error {
	return s.Facts.SetVerbs(ctx, auth.Caller(ctx).Name, in.Body.Own)
}

// outlineTable gives a course's outline as CSV, which can be edited and read again.
func (s *Server) outlineTable(w http.ResponseWriter, r *http.Request) {
	o, err := s.Outlines.Outline(r.Context(), chi.URLParam(r, "id"))
	if err != nil {
		problem.Write(w, http.StatusNotFound, "the course has no outline")
		return
	}
	w.Header().Set("Content-Type", "text/csv; charset=utf-8")
	rows := o.Table()
	_ = sheet.CSV(w, rows[0], rows[1:])
}

type cartridgeInput struct {
	ID      string `path:"id" doc:"The course's id"`
	Prefix  string `query:"prefix" required:"true" doc:"With an item's identifier it gives the IRI under which the activity's statements come"`
	RawBody []byte `contentType:"application/xml"`
}
