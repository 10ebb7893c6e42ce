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

	"kanban/internal/core/permission"
	"kanban/internal/store/deliverystore"
	"kanban/internal/web/problem"
	"kanban/internal/wire/sheet"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
)

var listSheetsOp = operation{
	ID: "list-sheets", Act: permission.Look,
	Method: http.MethodGet, Path: "/sheets", Status: http.StatusOK, Tag: "sheets",
	Summary: "List the sheets that rules fill",
}

// sheets registers the operations about the sheets that deliveries write.
func (s *Server) sheets(a huma.API) {
	handle(a, listSheetsOp, s.listSheets)
}

func (s *Server) listSheets(ctx context.Context, _ *struct{}) ([]deliverystore.Sheet, error) {
	return s.Deliveries.Sheets(ctx)
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
	hideCells(r.Context(), cells)
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment",
		map[string]string{"filename": strings.ReplaceAll(file, "/", "-")}))
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
