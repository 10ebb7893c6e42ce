package reports

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"kanban/internal/adapter/mails"
	"kanban/internal/core/refusal"
	"kanban/internal/core/report"
	"kanban/internal/core/roster"
	"kanban/internal/core/schedule"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/reportstore"
	"kanban/internal/store/settingstore"
)

// What a mail may hold: a server refuses more, and nobody reads it.
const (
	mostRecipients = 50
	mostMails      = 200
	mostBytes      = 10 << 20
)

// keptSent is how long it is known what became of a mail.
const keptSent = 90 * 24 * time.Hour

// Mail is a report that is sent by the clock, with what became of it the last time.
type Mail struct {
	reportstore.ReportMail
	Title string
	Last  []reportstore.SentReport
}

// Wish is a mail of a report to make or change.
type Wish struct {
	Report     report.Name
	Ask        Ask
	Form       string
	Schedule   schedule.Schedule
	Recipients []string
	Paused     bool
}

// Mails lists the reports that are sent by the clock, the one that is due next first.
func (s *Service) Mails(ctx context.Context) ([]Mail, error) {
	all, err := reportstore.ReportMails(ctx, s.Store)
	if err != nil {
		return nil, err
	}
	last, err := reportstore.LastSent(ctx, s.Store)
	out := make([]Mail, len(all))
	for i, m := range all {
		out[i] = Mail{ReportMail: m, Title: titleOf(report.Name(m.Report))}
		for _, x := range last {
			if x.MailID == m.ID {
				out[i].Last = append(out[i].Last, x)
			}
		}
	}
	return out, err
}

func titleOf(name report.Name) string {
	for _, d := range All {
		if d.Name == name {
			return d.Title
		}
	}
	return string(name)
}

// AddMail lets a report be sent by the clock. It is made once at once, so that what cannot be made is refused.
func (s *Service) AddMail(ctx context.Context, who string, w Wish) (reportstore.ReportMail, error) {
	m := reportstore.ReportMail{ID: db.NewID(), MadeBy: who, CreatedAt: s.Clock.Now(), Version: 1}
	if err := s.take(ctx, &m, w); err != nil {
		return m, err
	}
	return m, s.Store.InTx(ctx, func(tx *db.Tx) error {
		all, err := reportstore.ReportMails(ctx, tx)
		if err != nil {
			return err
		}
		if len(all) >= mostMails {
			return refusal.Conflict("", "there are %d mails of reports already; remove one first", mostMails)
		}
		if err := db.Create(tx, &m, "making the mail of a report"); err != nil {
			return err
		}
		return s.noted(ctx, tx, who, "let a report be sent", m)
	})
}

// EditMail changes one; version is the one that was read, 0 for whatever there is.
func (s *Service) EditMail(ctx context.Context, who, id string, version int, w Wish) (reportstore.ReportMail, error) {
	m, err := reportstore.FindReportMail(ctx, s.Store, id)
	if err != nil {
		return m, err
	}
	if version != 0 && version != m.Version {
		return m, fmt.Errorf("changing the mail of a report: %w", db.ErrStale)
	}
	if w.Report != report.Name(m.Report) {
		return m, refusal.Invalid("report", "cannot be changed: make another mail for another report")
	}
	if err := s.take(ctx, &m, w); err != nil {
		return m, err
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := reportstore.EditReportMail(ctx, tx, m); err != nil {
			return err
		}
		return s.noted(ctx, tx, who, "changed when a report is sent", m)
	})
	m.Version++
	return m, err
}

// RemoveMail lets a report be sent no longer.
func (s *Service) RemoveMail(ctx context.Context, who, id string) error {
	m, err := reportstore.FindReportMail(ctx, s.Store, id)
	if err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := reportstore.RemoveReportMail(ctx, tx, id); err != nil {
			return err
		}
		return s.noted(ctx, tx, who, "let a report be sent no longer", m)
	})
}

func (s *Service) noted(ctx context.Context, tx *db.Tx, who, what string, m reportstore.ReportMail) error {
	return tx.Audit(ctx, who, what, "report-mail/"+m.ID, map[string]any{
		"report": m.Report, "when": m.Schedule.String(), "to": m.Recipients, "form": m.Form, "narrowed": m.Ask,
	})
}

// take checks a wish and puts it into a mail.
func (s *Service) take(ctx context.Context, m *reportstore.ReportMail, w Wish) error {
	if _, there := Forms[w.Form]; !there {
		return refusal.Invalid("form", "%q is not one of csv, xlsx, pdf, png, svg", w.Form)
	}
	if w.Schedule.Kind != schedule.Daily {
		return refusal.Invalid("schedule", "a report is sent at a time of day: give one such as 07:00, and days such as monday")
	}
	if err := w.Schedule.Check(); err != nil {
		return refusal.Invalid("schedule", "%v", err)
	}
	var to []string
	for _, r := range w.Recipients {
		r = strings.TrimSpace(r)
		if _, err := roster.AddressKey(r); err != nil || r == "" {
			return refusal.Invalid("recipients", "%q is not an e-mail address", r)
		}
		if !slices.ContainsFunc(to, func(x string) bool { return strings.EqualFold(x, r) }) {
			to = append(to, r)
		}
	}
	if len(to) == 0 || len(to) > mostRecipients {
		return refusal.Invalid("recipients", "there are %d; there are 1 to %d", len(to), mostRecipients)
	}
	made, err := s.Make(ctx, w.Report, w.Ask)
	if err != nil {
		return err
	}
	if w.Form == "png" || w.Form == "svg" {
		if !slices.ContainsFunc(made.Parts, func(p report.Part) bool { return p.Chart != nil }) {
			return refusal.Invalid("form", "the report has no chart now; choose pdf, which has its tables too")
		}
	}
	now := s.Clock.Now()
	m.Report, m.Ask, m.Form, m.Schedule, m.Recipients = string(w.Report), w.Ask.Fields(), w.Form, w.Schedule, to
	m.NextAt = w.Schedule.Next(now, s.Location(), 0)
	switch {
	case !w.Paused:
		m.PausedAt = nil
	case m.PausedAt == nil:
		m.PausedAt = &now
	}
	return nil
}

// Fields gives what is asked for by the name of each field, as the address of a report has it.
func (a Ask) Fields() map[string]string {
	out := map[string]string{}
	for field, text := range map[string]string{
		"organisation": a.Organisation, "term": a.Term, "course": a.Course, "section": a.Section, "teacher": a.Teacher,
		"from": a.From, "to": a.To, "by": a.By,
	} {
		if text != "" {
			out[field] = text
		}
	}
	if a.Days != 0 {
		out["days"] = strconv.Itoa(a.Days)
	}
	if a.Mark != nil {
		out["mark"] = strconv.Itoa(*a.Mark)
	}
	return out
}

// AskOf reads what is asked for; a field that is not known, or no number where one belongs, is refused.
func AskOf(fields map[string]string) (a Ask, err error) {
	for field, text := range fields {
		into := map[string]*string{
			"organisation": &a.Organisation, "term": &a.Term, "course": &a.Course, "section": &a.Section,
			"teacher": &a.Teacher, "from": &a.From, "to": &a.To, "by": &a.By,
		}[field]
		switch {
		case into != nil:
			*into = text
		case field != "days" && field != "mark":
			return a, refusal.Invalid(field,
				"is not known here: there is organisation, term, course, section, teacher, from, to, by, days, mark")
		case text != "":
			n, problem := strconv.Atoi(text)
			if problem != nil {
				return a, refusal.Invalid(field, "%q is no whole number", text)
			}
			if field == "days" {
				a.Days = n
			} else {
				a.Mark = &n
			}
		}
	}
	return a, nil
}

// Tick queues the mails that are due, each once, and the nightly comparison of kept progress. What was missed while
// nothing worked is sent once. While everything is paused nothing is due.
func (s *Service) Tick(ctx context.Context, at time.Time) error {
	pause, err := settingstore.FindMaintenance(ctx, s.Store)
	if err != nil || pause.Since != nil {
		return err
	}
	if err := s.tickCheck(ctx, at); err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		all, err := reportstore.DueReportMails(ctx, tx, at, mostMails)
		if err != nil {
			return err
		}
		for _, m := range all {
			if err := reportstore.Postpone(ctx, tx, m.ID, m.Schedule.Next(at, s.Location(), 0)); err != nil {
				return err
			}
			for _, to := range m.Recipients {
				if err := tx.Enqueue(ctx, jobs.SendReport{MailID: m.ID, DueAt: m.NextAt, To: to}); err != nil {
					return err
				}
			}
		}
		if len(all) > 0 {
			return reportstore.ForgetSent(ctx, tx, at.Add(-keptSent))
		}
		return nil
	})
}

// SendNow queues a mail now, besides when it is due.
func (s *Service) SendNow(ctx context.Context, who, id string) error {
	m, err := reportstore.FindReportMail(ctx, s.Store, id)
	if err != nil {
		return err
	}
	mailer, err := s.Mailer(ctx)
	if err != nil {
		return err
	}
	if mailer == nil {
		return refusal.Conflict("", "no mail server is connected: connect one first")
	}
	now := s.Clock.Now()
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		for _, to := range m.Recipients {
			if err := tx.Enqueue(ctx, jobs.SendReport{MailID: m.ID, DueAt: now, To: to, ByHand: true}); err != nil {
				return err
			}
		}
		return s.noted(ctx, tx, who, "sent a report", m)
	})
}

// errNoMailer is why nothing is sent.
var errNoMailer = errors.New("no mail server is connected")

// Send carries out the job: it makes the report and sends it to one recipient. What keeps it from being sent is kept
// with the mail, and tried again. One that was removed or paused meanwhile is sent no longer.
func (s *Service) Send(ctx context.Context, job jobs.SendReport) error {
	m, err := reportstore.FindReportMail(ctx, s.Store, job.MailID)
	if errors.Is(err, db.ErrNotFound) || err == nil && m.PausedAt != nil && !job.ByHand {
		return nil
	}
	if err != nil {
		return err
	}
	if sent, err := reportstore.WasSent(ctx, s.Store, m.ID, job.DueAt, job.To); err != nil || sent {
		return err
	}
	note := reportstore.SentReport{MailID: m.ID, DueAt: job.DueAt, Recipient: job.To}
	err = s.send(ctx, m, job)
	if _, refused := refusal.As(err); refused { // it cannot be made any more: trying again mends nothing
		note.Trouble = err.Error()
		return reportstore.NoteSent(ctx, s.Store, note)
	}
	if err != nil {
		note.Trouble = err.Error()
		return errors.Join(err, reportstore.NoteSent(ctx, s.Store, note))
	}
	now := s.Clock.Now()
	note.SentAt = &now
	return reportstore.NoteSent(ctx, s.Store, note)
}

func (s *Service) send(ctx context.Context, m reportstore.ReportMail, job jobs.SendReport) error {
	mailer, err := s.Mailer(ctx)
	if err != nil {
		return err
	}
	if mailer == nil {
		return errNoMailer
	}
	a, err := AskOf(m.Ask)
	if err != nil {
		return err
	}
	r, err := s.Make(ctx, report.Name(m.Report), a)
	if err != nil {
		return err
	}
	x := mails.Mail{
		ID: fmt.Sprintf("report-%s-%d", m.ID, job.DueAt.Unix()), To: job.To, Subject: subjectOf(r),
		Text: strings.Join(r.Summary, "\n") + "\n\n" + s.addressOf(m) + "\n",
	}
	part := max(slices.IndexFunc(r.Parts, func(p report.Part) bool { return p.Chart != nil }), 0)
	if m.Form == "csv" {
		part = 0
	}
	var content bytes.Buffer
	if err := s.Write(&content, r, part, m.Form); err != nil {
		return err
	}
	if content.Len() > mostBytes {
		x.Text += fmt.Sprintf("\nThe file is too large for a mail (%d MB): open the report there.\n", content.Len()>>20)
	} else {
		x.Files = []mails.File{{Name: s.FileName(r, m.Form), Kind: Forms[m.Form], Content: content.Bytes()}}
	}
	_, err = mailer.Send(ctx, x)
	return err
}

// subjectOf says of which report a mail is.
func subjectOf(r report.Report) string {
	if len(r.Scope) == 0 {
		return r.Title
	}
	return r.Title + ": " + strings.Join(r.Scope, ", ")
}

// addressOf is where a report is looked at.
func (s *Service) addressOf(m reportstore.ReportMail) string {
	q := url.Values{}
	for field, text := range m.Ask {
		q.Set(field, text)
	}
	return strings.TrimSuffix(s.Public+"/reports/"+m.Report+"?"+q.Encode(), "?")
}
