package web

import (
	"bytes"
	"context"
	"errors"
	"html/template"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"kanban/internal/app/history"
	"kanban/internal/app/pairings"
	"kanban/internal/core/naming"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

type namesInput struct {
	Target string `query:"target" doc:"For example {course} · {teacher}"`
}

var (
	listTemplatesOp = operation{
		ID: "list-templates", Act: permission.Look,
		Method: http.MethodGet, Path: "/templates", Status: http.StatusOK, Tag: "settings",
		Summary: "How pairings are made, the institution's usual way first",
	}
	editTemplatesOp = operation{
		ID: "edit-templates", Act: permission.Rosters,
		Method: http.MethodPut, Path: "/templates", Status: http.StatusOK, Tag: "settings",
		Summary: "Change how pairings are made from now on",
	}
	tryTemplateOp = operation{
		ID: "try-template", Act: permission.Look,
		Method: http.MethodGet, Path: "/templates/names",
		Status: http.StatusOK, Tag: "settings",
		Summary: "What a template would call the classes of all sections that lists show",
	}
	getMaintenanceOp = operation{
		ID: "get-maintenance", Act: permission.Own,
		Method: http.MethodGet, Path: "/maintenance", Status: http.StatusOK, Tag: "settings",
		Summary: "Whether everything is paused",
	}
	editMaintenanceOp = operation{
		ID: "edit-maintenance", Act: permission.Settings,
		Method: http.MethodPut, Path: "/maintenance",
		Status: http.StatusOK, Tag: "settings",
		Summary: "Pause everything, or go on",
	}
	getFullComparisonOp = operation{
		ID: "get-full-comparison", Act: permission.Look,
		Method: http.MethodGet, Path: "/full-comparison",
		Status: http.StatusOK, Tag: "settings",
		Summary: "When all pairings are compared, whatever reads found",
	}
	editFullComparisonOp = operation{
		ID: "edit-full-comparison", Act: permission.Settings,
		Method: http.MethodPut, Path: "/full-comparison",
		Status: http.StatusOK, Tag: "settings",
		Summary: "Change when all pairings are compared",
	}
	getHistoryOp = operation{
		ID: "get-history", Act: permission.Look,
		Method: http.MethodGet, Path: "/history", Status: http.StatusOK, Tag: "settings",
		Summary: "For how long what happened is kept, and what there is",
	}
	editHistoryOp = operation{
		ID: "edit-history", Act: permission.Settings,
		Method: http.MethodPut, Path: "/history", Status: http.StatusOK, Tag: "settings",
		Summary: "Change for how long what happened is kept; months that are older go within minutes",
	}
	listViewsOp = operation{
		ID: "list-views", Act: permission.Own,
		Method: http.MethodGet, Path: "/views", Status: http.StatusOK, Tag: "settings",
		Summary: "Your saved ways to look at sections",
	}
	editViewsOp = operation{
		ID: "edit-views", Act: permission.Own,
		Method: http.MethodPut, Path: "/views", Status: http.StatusOK, Tag: "settings",
		Summary: "Change your saved ways to look at sections",
	}
)

// settings registers the operations about settings.
func (s *Server) settings(a huma.API) {
	handle(a, listTemplatesOp, s.listTemplates)
	handle(a, editTemplatesOp, s.editTemplates)
	handle(a, tryTemplateOp, s.tryTemplate)
	handle(a, getMaintenanceOp, s.getMaintenance)
	handle(a, editMaintenanceOp, s.editMaintenance)
	handle(a, getFullComparisonOp, s.getFullComparison)
	handle(a, editFullComparisonOp, s.editFullComparison)
	handle(a, getHistoryOp, s.getHistory)
	handle(a, editHistoryOp, s.editHistory)
	handle(a, listViewsOp, s.listViews)
	handle(a, editViewsOp, s.editViews)
}

func (s *Server) listTemplates(ctx context.Context, _ *struct{}) ([]api.Template, error) {
	return s.templates(ctx)
}

func (s *Server) editTemplates(ctx context.Context, in *with[[]api.Template]) ([]api.Template, error) {
	if err := s.Pairings.SetTemplates(ctx, auth.Caller(ctx).Name,
		each(in.Body, func(t api.Template) pairings.Template { return pairings.Template(t) })); err != nil {
		return nil, err
	}
	return s.templates(ctx)
}

func (s *Server) tryTemplate(ctx context.Context, in *namesInput) (naming.Naming, error) {
	return s.Pairings.Names(ctx, in.Target)
}

func (s *Server) getMaintenance(ctx context.Context, _ *struct{}) (api.Maintenance, error) {
	return s.maintenance(ctx)
}

func (s *Server) editMaintenance(ctx context.Context, in *with[api.Maintenance]) (api.Maintenance, error) {
	if err := s.Runs.Pause(ctx, auth.Caller(ctx).Name, in.Body.Note, in.Body.On); err != nil {
		return api.Maintenance{}, err
	}
	return s.maintenance(ctx)
}

func (s *Server) getFullComparison(ctx context.Context, _ *struct{}) (api.FullComparison, error) {
	w, err := s.Runs.FullComparison(ctx)
	return api.FullComparison(w), err
}

func (s *Server) editFullComparison(ctx context.Context, in *with[api.FullComparison]) (api.FullComparison, error) {
	if err := s.Runs.SetFullComparison(ctx, auth.Caller(ctx).Name, in.Body.Schedule); err != nil {
		return api.FullComparison{}, err
	}
	w, err := s.Runs.FullComparison(ctx)
	return api.FullComparison(w), err
}

func (s *Server) getHistory(ctx context.Context, _ *struct{}) (api.History, error) {
	h, err := s.History.Show(ctx)
	return shownHistory(h), err
}

func (s *Server) editHistory(ctx context.Context, in *with[api.HistoryEdit]) (api.History, error) {
	h, err := s.History.Keep(ctx, auth.Caller(ctx).Name, in.Body.Months, in.Body.Gone)
	return shownHistory(h), err
}

func (s *Server) listViews(ctx context.Context, _ *struct{}) ([]api.View, error) {
	return s.views(ctx)
}

func (s *Server) editViews(ctx context.Context, in *with[[]api.View]) ([]api.View, error) {
	names := map[string]bool{}
	for _, v := range in.Body {
		if v.Name == "" || names[v.Name] {
			return nil, refusal.Invalid("name", "every view needs a name of its own")
		}
		names[v.Name] = true
	}
	if err := s.Access.SaveViews(ctx, auth.Caller(ctx).ID, in.Body); err != nil {
		return nil, err
	}
	return s.views(ctx)
}

func shownHistory(h history.History) api.History {
	return api.History{Months: h.Months, Kept: each(h.Kept, func(m history.Month) api.HistoryMonth {
		return api.HistoryMonth{Month: m.First.Format("2006-01"), Events: m.Events, Bytes: m.Bytes, GoesAt: m.GoesAt}
	})}
}

func (s *Server) templates(ctx context.Context) ([]api.Template, error) {
	list, err := s.Pairings.Templates(ctx)
	return each(list, func(t pairings.Template) api.Template { return api.Template(t) }), err
}

func (s *Server) views(ctx context.Context) ([]api.View, error) {
	list := []api.View{}
	_, err := s.Access.FindSetting(ctx, "views/"+auth.Caller(ctx).ID, &list)
	return list, err
}

func (s *Server) maintenance(ctx context.Context) (api.Maintenance, error) {
	m, err := s.Access.FindMaintenance(ctx)
	return api.Maintenance{On: m.Since != nil, Since: m.Since, By: m.By, Note: m.Note}, err
}

var approvalPage = template.Must(template.ParseFS(pages, "pages/approval.html"))

// approval shows what a link from a mail is about, and does it.
func (s *Server) approval(w http.ResponseWriter, r *http.Request) {
	ctx, token := r.Context(), chi.URLParam(r, "token")
	data := map[string]any{}
	status := http.StatusOK
	var err error
	if r.Method == http.MethodPost {
		var run runstore.Run
		if run, err = s.Runs.Approve(ctx, token, r.PostFormValue("preview")); err == nil {
			data["Done"], data["Run"] = true, s.Public+"/runs/"+run.ID
		}
	} else {
		data["Asked"], err = s.Runs.Approvable(ctx, token)
	}
	refused, known := refusal.As(err)
	switch {
	case err == nil:
	case errors.Is(err, db.ErrNotFound):
		status, data["Problem"] = http.StatusNotFound, "This link was used already, or is older than a week."
	case known:
		status, data["Problem"] = http.StatusConflict, refused.Detail
	default:
		s.Log.Error("showing an approval", "cause", err.Error())
		status, data["Problem"] = http.StatusBadGateway,
			"The service could not be asked just now. Open the link again in a moment."
	}
	var page bytes.Buffer
	if err := approvalPage.Execute(&page, data); err != nil {
		s.missing(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer") // the address holds the right to approve
	w.WriteHeader(status)
	_, _ = w.Write(page.Bytes())
}
