package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"kanban/internal/app/reports"
	"kanban/internal/core/permission"
	"kanban/internal/core/report"
	"kanban/internal/store/reportstore"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
)

var (
	listReportMailsOp = operation{
		ID: "list-report-mails", Act: permission.Look,
		Method: http.MethodGet, Path: "/report-mails", Status: http.StatusOK, Tag: "reports",
		Summary: "List the reports that are sent by mail by the clock, the one that is due next first",
	}
	makeReportMailOp = operation{
		ID: "make-report-mail", Act: permission.SendReports,
		Method: http.MethodPost, Path: "/report-mails", Status: http.StatusCreated,
		Tag:     "reports",
		Summary: "Let a report be sent by mail by the clock",
	}
	editReportMailOp = operation{
		ID: "edit-report-mail", Act: permission.SendReports,
		Method: http.MethodPut, Path: "/report-mails/{id}", Status: http.StatusOK,
		Tag:     "reports",
		Summary: "Change when, how or to whom a report is sent",
	}
	removeReportMailOp = operation{
		ID: "remove-report-mail", Act: permission.SendReports,
		Method: http.MethodDelete, Path: "/report-mails/{id}", Status: http.StatusNoContent,
		Tag: "reports", Summary: "Let a report be sent no longer",
	}
	sendReportMailOp = operation{
		ID: "send-report-mail", Act: permission.SendReports,
		Method: http.MethodPost, Path: "/report-mails/{id}/send", Status: http.StatusNoContent,
		Tag: "reports", Summary: "Send a report now, besides when it is due",
	}
)

// reportMails registers the operations about reports that are sent.
func (s *Server) reportMails(a huma.API) {
	handle(a, listReportMailsOp, s.listReportMails)
	handleTagged(a, makeReportMailOp, s.makeReportMail)
	handleTagged(a, editReportMailOp, s.editReportMail)
	handleEmpty(a, removeReportMailOp, s.removeReportMail)
	handleEmpty(a, sendReportMailOp, s.sendReportMail)
}

func (s *Server) listReportMails(ctx context.Context, _ *struct{}) (api.Page[api.ReportMail], error) {
	all, err := s.Reports.Mails(ctx)
	return api.Page[api.ReportMail]{Items: each(all, shownReportMail)}, err
}

func (s *Server) makeReportMail(ctx context.Context, in *with[api.NewReportMail]) (api.ReportMail, int, error) {
	w, err := wished(in.Body)
	if err != nil {
		return api.ReportMail{}, 0, err
	}
	m, err := s.Reports.AddMail(ctx, auth.Caller(ctx).Name, w)
	return shownReportMail(reports.Mail{ReportMail: m}), m.Version, err
}

func (s *Server) editReportMail(ctx context.Context, in *edit[api.NewReportMail]) (api.ReportMail, int, error) {
	was, err := version(in.IfMatch)
	if err != nil {
		return api.ReportMail{}, 0, err
	}
	w, err := wished(in.Body)
	if err != nil {
		return api.ReportMail{}, 0, err
	}
	m, err := s.Reports.EditMail(ctx, auth.Caller(ctx).Name, in.ID, was, w)
	return shownReportMail(reports.Mail{ReportMail: m}), m.Version, err
}

func (s *Server) removeReportMail(ctx context.Context, in *byID) error {
	return s.Reports.RemoveMail(ctx, auth.Caller(ctx).Name, in.ID)
}

func (s *Server) sendReportMail(ctx context.Context, in *byID) error {
	return s.Reports.SendNow(ctx, auth.Caller(ctx).Name, in.ID)
}

// wished reads what is wanted.
func wished(x api.NewReportMail) (reports.Wish, error) {
	a, err := reports.AskOf(x.Narrowed)
	return reports.Wish{
		Report: report.Name(x.Report), Ask: a, Form: x.Form, Schedule: x.Schedule, Recipients: x.Recipients,
		Paused: x.Paused,
	}, err
}

func shownReportMail(m reports.Mail) api.ReportMail {
	out := api.ReportMail{
		NewReportMail: api.NewReportMail{
			Report: m.Report, Narrowed: m.Ask, Form: m.Form, Schedule: m.Schedule, Recipients: m.Recipients,
			Paused: m.PausedAt != nil,
		},
		ID: m.ID, Title: m.Title, MadeBy: m.MadeBy, Version: m.Version,
		Last: each(m.Last, func(x reportstore.SentReport) api.SentReport {
			return api.SentReport{To: x.Recipient, DueAt: x.DueAt, SentAt: x.SentAt, Trouble: x.Trouble}
		}),
	}
	if m.PausedAt == nil {
		out.NextAt = &m.NextAt
	}
	return out
}
