package web

import (
	"context"
	"mime"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"kanban/internal/app/reports"
	"kanban/internal/core/permission"
	"kanban/internal/core/refusal"
	"kanban/internal/core/report"
	"kanban/internal/web/problem"
	"kanban/internal/wire/api"
)

var (
	listReportsOp = operation{
		ID: "list-reports", Act: permission.Report,
		Method: http.MethodGet, Path: "/reports", Status: http.StatusOK, Tag: "reports",
		Summary: "List the reports that can be asked for",
	}
	getReportOp = operation{
		ID: "get-report", Act: permission.Report,
		Method: http.MethodGet, Path: "/reports/{name}", Status: http.StatusOK, Tag: "reports",
		Summary: "Make a report",
	}
)

// reports registers the operations about reports.
func (s *Server) reports(a huma.API) {
	handle(a, listReportsOp, s.listReports)
	handle(a, getReportOp, s.getReport)
}

func (s *Server) listReports(context.Context, *struct{}) ([]api.ReportKind, error) {
	return each(reports.All, func(d reports.Described) api.ReportKind {
		return api.ReportKind{
			Name: string(d.Name), Title: d.Title, About: d.About,
			Takes: append([]string{}, d.Takes...),
		}
	}), nil
}

type reportInput struct {
	Name         string `path:"name" doc:"The report's name"`
	Organisation string `query:"organisation" doc:"Name or id of an organisation, with all below it"`
	Term         string `query:"term" doc:"Title of a term"`
	Course       string `query:"course" doc:"Title, code or id of a course"`
	Section      string `query:"section" doc:"Title, code or id of a section"`
	Teacher      string `query:"teacher" doc:"Name or id of a teacher"`
	From         string `query:"from" doc:"The first day, such as 2026-10-01"`
	To           string `query:"to" doc:"The last day"`
	By           string `query:"by" enum:",course,section,term,organisation,teacher" doc:"What completion compares"`
	Days         int    `query:"days" minimum:"0" maximum:"3650" doc:"After how many days without activity somebody has stopped; 14 when 0"`
	Mark         string `query:"mark" doc:"A score in percent; 50 when empty"`
	Rows         int    `query:"rows" minimum:"0" maximum:"1000" default:"200" doc:"How many rows of each table to give"`
}

// ask reads what a report is asked for.
func (in *reportInput) ask() (reports.Ask, error) {
	a := reports.Ask{
		Organisation: in.Organisation, Term: in.Term, Course: in.Course, Section: in.Section, Teacher: in.Teacher,
		From: in.From, To: in.To, By: in.By, Days: in.Days,
	}
	if in.Mark == "" {
		return a, nil
	}
	mark, err := strconv.Atoi(in.Mark)
	if err != nil {
		return a, refusal.Invalid("mark", "%q is no whole number of percent", in.Mark)
	}
	a.Mark = &mark
	return a, nil
}

func (s *Server) getReport(ctx context.Context, in *reportInput) (api.MadeReport, error) {
	a, err := in.ask()
	if err != nil {
		return api.MadeReport{}, err
	}
	r, err := s.Reports.Make(ctx, report.Name(in.Name), a)
	if err != nil {
		return api.MadeReport{}, err
	}
	return shownReport(r, in.Rows)
}

func shownReport(r report.Report, most int) (api.MadeReport, error) {
	out := api.MadeReport{
		Name: string(r.Name), Title: r.Title, Scope: append([]string{}, r.Scope...), MadeAt: r.MadeAt,
		Sources: each(r.Sources, func(x report.Source) api.ReportSource { return api.ReportSource(x) }),
		Summary: append([]string{}, r.Summary...), Remarks: append([]string{}, r.Remarks...),
		Parts: []api.ReportPart{},
	}
	for _, p := range r.Parts {
		x := api.ReportPart{Title: p.Title, Empty: p.Empty, Total: p.Total, Rows: [][]any{}}
		for _, c := range p.Columns {
			x.Columns = append(x.Columns, api.ReportColumn{Title: c.Title, Unit: string(c.Unit)})
		}
		for row, err := range p.Rows {
			if err != nil {
				return out, err
			}
			if len(x.Rows) == most {
				break
			}
			x.Rows = append(x.Rows, row)
		}
		if p.Chart != nil {
			x.Chart = &api.ReportChart{Kind: string(p.Chart.Kind), Labels: p.Chart.Labels}
			for _, v := range p.Chart.Series {
				x.Chart.Series = append(x.Chart.Series, api.ReportSeries{
					Title: v.Title, Tone: string(v.Tone),
					Values: v.Values,
				})
			}
		}
		out.Parts = append(out.Parts, x)
	}
	return out, nil
}

// reportFile gives a report as a file: csv, xlsx, svg, png or pdf. Of what has several tables, part says which
// one: a CSV file holds one table, a picture one chart.
func (s *Server) reportFile(w http.ResponseWriter, r *http.Request) {
	name, form := chi.URLParam(r, "name"), chi.URLParam(r, "form")
	made, part, err := s.reportAsked(r, name)
	if err != nil {
		s.reportRefused(w, err)
		return
	}
	kind, there := reports.Forms[form]
	if !there {
		problem.Write(w, http.StatusNotFound, "there is csv, xlsx, svg, png and pdf")
		return
	}
	if h, hides := hiderOf(r.Context()); hides {
		made = made.Reworded(h.Text)
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment",
		map[string]string{"filename": s.Reports.FileName(made, form)}))
	counted := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
	if err := s.Reports.Write(counted, made, part, form); err != nil {
		if counted.BytesWritten() == 0 {
			w.Header().Del("Content-Disposition")
			s.reportRefused(w, err)
			return
		}
		s.Log.Error("writing a report", "cause", err.Error())
		panic(http.ErrAbortHandler) // half of it is sent; nobody must take it for the whole
	}
}

// reportAsked makes the report that a request for a file is about.
func (s *Server) reportAsked(r *http.Request, name string) (made report.Report, part int, err error) {
	fields := map[string]string{}
	for field, values := range r.URL.Query() {
		fields[field] = values[0]
	}
	part = 1
	if text := fields["part"]; text != "" {
		if part, err = strconv.Atoi(text); err != nil {
			return made, 0, refusal.Invalid("part", "%q is no whole number", text)
		}
	}
	delete(fields, "part")
	a, err := reports.AskOf(fields)
	if err != nil {
		return made, 0, err
	}
	if made, err = s.Reports.Make(r.Context(), report.Name(name), a); err != nil {
		return made, 0, err
	}
	if part < 1 || part > len(made.Parts) {
		return made, 0, refusal.Invalid("part", "is %d; there are %d", part, len(made.Parts))
	}
	return made, part - 1, nil
}

// reportRefused says why there is no file.
func (s *Server) reportRefused(w http.ResponseWriter, err error) {
	if refused, is := refusal.As(err); is {
		problem.Write(w, http.StatusUnprocessableEntity, strings.TrimSpace(refused.Field+" "+refused.Detail))
		return
	}
	s.Log.Error("making a report", "cause", err.Error())
	problem.Write(w, http.StatusInternalServerError, "the report could not be made; try again")
}
