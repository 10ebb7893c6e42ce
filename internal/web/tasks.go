package web

import (
	"context"
	"fmt"
	"maps"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"kanban/internal/adapter"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/taskstore"
	"kanban/internal/web/auth"
	"kanban/internal/web/problem"
	"kanban/internal/wire/api"
	"kanban/internal/wire/oneroster"
	"kanban/internal/wire/sheet"
)

type tasksInput struct {
	Done  bool `query:"done" doc:"Those that are done, the latest first, instead of the open ones"`
	Limit int  `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}

func (s *Server) tasks(a huma.API) {
	handle(a, operation{
		ID: "list-tasks", Method: http.MethodGet, Path: "/tasks", Status: http.StatusOK,
		Tag: "tasks", Summary: "List what rules gave people to do, the most urgent first",
	}, func(ctx context.Context, in *tasksInput) (api.Page[api.Task], error) {
		all, err := s.Tasks.Tasks(ctx, in.Done, in.Limit)
		return api.Page[api.Task]{Items: each(all, shownTask)}, err
	})
	handleEmpty(a, operation{
		ID: "end-task", Method: http.MethodPost, Path: "/tasks/{id}/done", Status: http.StatusNoContent,
		Tag: "tasks", Summary: "Mark a task as done",
	}, func(ctx context.Context, in *byID) error {
		return s.Tasks.EndTask(ctx, auth.Caller(ctx).Name, in.ID, true)
	})
	handleEmpty(a, operation{
		ID: "reopen-task", Method: http.MethodPost, Path: "/tasks/{id}/open", Status: http.StatusNoContent,
		Tag: "tasks", Summary: "Open a task again",
	}, func(ctx context.Context, in *byID) error {
		return s.Tasks.EndTask(ctx, auth.Caller(ctx).Name, in.ID, false)
	})
	handle(a, operation{
		ID: "list-sheets", Method: http.MethodGet, Path: "/sheets", Status: http.StatusOK,
		Tag: "sheets", Summary: "List the sheets that rules fill",
	}, func(ctx context.Context, _ *struct{}) ([]deliverystore.Sheet, error) {
		return s.Deliveries.Sheets(ctx)
	})
}

func shownTask(t taskstore.ListedTask) api.Task {
	out := api.Task{
		ID: t.ID, Title: t.Title, Detail: t.Detail, Owner: t.Owner, Person: t.Person, Section: t.Section, Rule: t.Rule, DeliveryID: t.DeliveryID,
		DueAt: t.DueAt, DoneAt: t.DoneAt, DoneBy: t.DoneBy, CreatedAt: t.CreatedAt,
	}
	if t.PersonID != nil {
		out.PersonID = *t.PersonID
	}
	return out
}

// sheetFile gives a sheet as CSV or XLSX, by the ending of the address.
func (s *Server) sheetFile(w http.ResponseWriter, r *http.Request) {
	file := chi.URLParam(r, "file")
	if r.URL.RawPath != "" { // a name with a slash in it is matched as it was escaped
		if plain, err := url.PathUnescape(file); err == nil {
			file = plain
		}
	}
	dot := strings.LastIndexByte(file, '.')
	kind := file[dot+1:]
	if dot < 1 || kind != "csv" && kind != "xlsx" {
		problem.Write(w, http.StatusNotFound, "a sheet's address ends with .csv or .xlsx")
		return
	}
	rows, err := s.Deliveries.SheetRows(r.Context(), file[:dot])
	if err != nil {
		s.Log.Error("reading a sheet", "cause", err.Error())
		problem.Write(w, http.StatusInternalServerError, "the sheet could not be read; try again")
		return
	}
	if len(rows) == 0 {
		problem.Write(w, http.StatusNotFound, "there is no sheet of this name, or it has no row yet")
		return
	}
	header, cells := tableOf(rows)
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": strings.ReplaceAll(file, "/", "-")}))
	if kind == "csv" {
		w.Header().Set("Content-Type", "text/csv; charset=utf-8")
		_ = sheet.CSV(w, header, cells)
		return
	}
	w.Header().Set("Content-Type", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet")
	if err := sheet.XLSX(w, file[:dot], header, cells); err != nil {
		s.Log.Error("writing a sheet", "cause", err.Error())
	}
}

// tableOf gives one column per cell name that any row has, in the order of the
// alphabet, behind the time of the row.
func tableOf(rows []deliverystore.SheetRow) (header []string, cells [][]string) {
	names := map[string]bool{}
	for _, r := range rows {
		for name := range r.Cells {
			names[name] = true
		}
	}
	columns := slices.Sorted(maps.Keys(names))
	for _, r := range rows {
		line := []string{r.At.UTC().Format(time.RFC3339)}
		for _, c := range columns {
			text := ""
			if v, ok := r.Cells[c]; ok && v != nil {
				text = fmt.Sprint(v)
			}
			line = append(line, text)
		}
		cells = append(cells, line)
	}
	return append([]string{"at"}, columns...), cells
}

// pickup gives a course platform the enrolments that were made for it, as a OneRoster
// CSV package in delta mode (OneRoster 1.2 CSV binding). Fetching it twice is harmless.
func (s *Server) pickup(w http.ResponseWriter, r *http.Request) {
	key, secret, ok := r.BasicAuth()
	c, known, err := s.Connections.AuthenticateKind(r.Context(), adapter.KindPickup, key, secret)
	if err != nil {
		s.Log.Error("opening a connection", "cause", err.Error())
		problem.Write(w, http.StatusServiceUnavailable, "the credential could not be checked; try again")
		return
	}
	if !ok || !known {
		w.Header().Set("WWW-Authenticate", `Basic realm="pickup"`)
		problem.Write(w, http.StatusUnauthorized, "give the key and the secret that were shown when the connection was made")
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
			"sourcedId": "kanban-" + p.Section + "-" + p.Person, "status": status, "dateLastModified": p.ChangedAt.UTC().Format("2006-01-02T15:04:05.000Z"),
			"classSourcedId": p.Section, "userSourcedId": p.Person, "role": p.Role,
		})
	}
	w.Header().Set("Content-Type", "application/zip")
	w.Header().Set("Content-Disposition", `attachment; filename="enrolments.zip"`)
	if !next.IsZero() {
		w.Header().Set("Kanban-Next-Since", next.UTC().Format(time.RFC3339Nano))
	}
	if err := oneroster.WritePackage(w, "Kanban", map[string]oneroster.Table{oneroster.FileEnrollments: table}); err != nil {
		s.Log.Error("writing enrolments", "cause", err.Error())
	}
}
