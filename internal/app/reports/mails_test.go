package reports_test

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/findings"
	"kanban/internal/app/reports"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/report"
	"kanban/internal/core/schedule"
	"kanban/internal/standin/fault"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
)

// mondays is a wish for the funnel of a course on Mondays.
func mondays() reports.Wish {
	return reports.Wish{
		Report: report.Completion, Ask: reports.Ask{Course: "PROP", Days: 7}, Form: "pdf",
		Schedule:   schedule.Schedule{Kind: schedule.Daily, At: "07:00", Days: []string{"monday"}},
		Recipients: []string{"head@fernmoor.example", "HEAD@fernmoor.example", "office@fernmoor.example"},
	}
}

// queued gives the jobs that send reports, and forgets them.
func queued(t *testing.T, w *apptest.World) []jobs.SendReport {
	t.Helper()
	list, err := db.Rows[struct {
		Args jobs.SendReport `gorm:"serializer:json"`
	}](t.Context(), w.Store, "test", `DELETE FROM river_job WHERE kind = 'send-report' RETURNING args`)
	require.NoError(t, err)
	var out []jobs.SendReport
	for _, x := range list {
		out = append(out, x.Args)
	}
	return out
}

// A leader gets Monday's funnel by mail: once for each Monday, whatever is tried again, and after a time in which
// nothing worked.
func TestMondaysFunnelComesOnce(t *testing.T) {
	w, _ := apptest.Clocked(t)
	w.Outlined()
	w.Mail()
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	now := time.Date(2026, 10, 23, 12, 0, 0, 0, time.UTC) // a Friday before the clocks change
	w.Reports.Clock, w.Reports.Zone, w.Reports.Public = func() time.Time { return now }, berlin, "http://kanban.example"
	m, err := w.Reports.AddMail(t.Context(), "Maud", mondays())
	require.NoError(t, err)
	assert.Equal(t, "2026-10-26T06:00:00Z", m.NextAt.UTC().Format(time.RFC3339), "seven there, after the change")
	assert.Len(t, m.Recipients, 2, "each once")

	require.NoError(t, w.Reports.Tick(t.Context(), m.NextAt.Add(-time.Minute)))
	assert.Empty(t, queued(t, w))
	now = m.NextAt.AddDate(0, 0, 15) // nothing worked for two weeks
	for range 3 {
		require.NoError(t, w.Reports.Tick(t.Context(), now))
	}
	list := queued(t, w)
	require.Len(t, list, 2, "what was missed is sent once")
	for range 2 {
		for _, j := range list {
			require.NoError(t, w.Reports.Send(t.Context(), j))
		}
	}
	mails := w.Standins.Inbox.Mails()
	require.Len(t, mails, 2, "a job that is done again sends nothing")
	assert.Equal(t, "Completion: course PROP", mails[0].Subject)
	assert.Contains(t, mails[0].Text, "0 of 36 learners finished")
	assert.Contains(t, mails[0].Text, "http://kanban.example/reports/completion?course=PROP&days=7")
	require.Len(t, mails[0].Files, 1)
	assert.Equal(t, []any{"completion-2026-11-10.pdf", "application/pdf"}, []any{mails[0].Files[0].Name, mails[0].Files[0].Kind})
	assert.True(t, bytes.HasPrefix(mails[0].Files[0].Content, []byte("%PDF-")))
	all, err := w.Reports.Mails(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "2026-11-16T06:00:00Z", all[0].NextAt.UTC().Format(time.RFC3339))
	require.Len(t, all[0].Last, 2)
	assert.NotNil(t, all[0].Last[0].SentAt)
}

// unsent gives to whom a report was not sent, as the findings have it.
func unsent(t *testing.T, w *apptest.World) (out []string) {
	t.Helper()
	all, err := w.Findings.Findings(t.Context(), findings.Filter{Code: finding.ReportNotSent})
	require.NoError(t, err)
	for _, f := range all {
		out = append(out, f.Where)
	}
	return out
}

// A mail server that is away, and a report that cannot be made any more, are said; nobody gets it twice.
func TestReportsThatCannotBeSentSayWhy(t *testing.T) {
	w, _ := apptest.Clocked(t)
	w.Outlined()
	w.Mail()
	m, err := w.Reports.AddMail(t.Context(), "Maud", mondays())
	require.NoError(t, err)
	require.NoError(t, w.Reports.SendNow(t.Context(), "Maud", m.ID))
	list := queued(t, w)
	require.Len(t, list, 2)
	require.NoError(t, w.Standins.Fault("inbox", fault.Fault{Kind: fault.Status, Status: 451, Count: 1}))
	require.Error(t, w.Reports.Send(t.Context(), list[0]), "it is tried again")
	trouble := func() (out []string) {
		all, err := w.Reports.Mails(t.Context())
		require.NoError(t, err)
		for _, x := range all[0].Last {
			if x.SentAt == nil {
				out = append(out, x.Trouble)
			}
		}
		return out
	}
	require.Len(t, trouble(), 1)
	assert.Contains(t, trouble()[0], "451")
	assert.Equal(t, []string{"head@fernmoor.example"}, unsent(t, w))
	for _, j := range list {
		require.NoError(t, w.Reports.Send(t.Context(), j))
	}
	assert.Empty(t, trouble())
	assert.Empty(t, unsent(t, w))
	assert.Len(t, w.Standins.Inbox.Mails(), 2)

	_, err = w.Store.Pool.Exec(t.Context(), `UPDATE report_mails SET ask = '{"course": "gone"}'`)
	require.NoError(t, err)
	require.NoError(t, w.Reports.SendNow(t.Context(), "Maud", m.ID))
	for _, j := range queued(t, w) {
		require.NoError(t, w.Reports.Send(t.Context(), j), "trying again mends nothing")
	}
	require.Len(t, trouble(), 2)
	assert.Contains(t, trouble()[0], "there is no course")

	edited := mondays()
	edited.Paused = true
	now, err := w.Reports.EditMail(t.Context(), "Maud", m.ID, m.Version, edited)
	require.NoError(t, err)
	_, err = w.Reports.EditMail(t.Context(), "Otto", m.ID, m.Version, edited)
	require.ErrorIs(t, err, db.ErrStale)
	require.NoError(t, w.Reports.Tick(t.Context(), now.NextAt.AddDate(0, 0, 1)))
	assert.Empty(t, queued(t, w), "it is paused")
	require.NoError(t, w.Reports.RemoveMail(t.Context(), "Maud", m.ID))
	require.NoError(t, w.Reports.Send(t.Context(), list[0]), "it was removed meanwhile")
}

func TestMailsThatCannotBe(t *testing.T) {
	w, _ := apptest.Clocked(t)
	for field, change := range map[string]func(*reports.Wish){
		"form":       func(x *reports.Wish) { x.Form = "doc" },
		"schedule":   func(x *reports.Wish) { x.Schedule = schedule.Schedule{Kind: schedule.Every, Minutes: 5} },
		"recipients": func(x *reports.Wish) { x.Recipients = []string{"somebody"} },
		"course":     func(x *reports.Wish) { x.Ask.Course = "nowhere" },
		"name":       func(x *reports.Wish) { x.Report = "nothing" },
	} {
		x := mondays()
		change(&x)
		_, err := w.Reports.AddMail(t.Context(), "Maud", x)
		refused, is := refusal.As(err)
		require.True(t, is, "%s: %v", field, err)
		assert.Equal(t, field, refused.Field)
	}
	x := mondays()
	x.Recipients = nil
	_, err := w.Reports.AddMail(t.Context(), "Maud", x)
	require.Error(t, err)
	x = mondays()
	x.Schedule.At = "25:00"
	_, err = w.Reports.AddMail(t.Context(), "Maud", x)
	require.Error(t, err)
	err = w.Reports.SendNow(t.Context(), "Maud", "none")
	require.ErrorIs(t, err, db.ErrNotFound)
	m, err := w.Reports.AddMail(t.Context(), "Maud", mondays())
	require.NoError(t, err)
	err = w.Reports.SendNow(t.Context(), "Maud", m.ID)
	refused, is := refusal.As(err)
	require.True(t, is)
	assert.True(t, strings.Contains(refused.Detail, "no mail server"))
	a, err := reports.AskOf(reports.Ask{Course: "PROP", Days: 3, Mark: ptr(0)}.Fields())
	require.NoError(t, err)
	assert.Equal(t, reports.Ask{Course: "PROP", Days: 3, Mark: ptr(0)}, a)
	_, err = reports.AskOf(map[string]string{"corse": "x"})
	require.Error(t, err)
}
