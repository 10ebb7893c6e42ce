package web_test

import (
	"bytes"
	"encoding/csv"
	"image/png"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"kanban/internal/core/schedule"
	"kanban/internal/wire/api"
)

// walkReports makes every report, as an answer and as each kind of file.
func walkReports(x *talk, h *story) {
	t := x.site.t
	kinds := get[[]api.ReportKind](x, "/reports")
	assert.Len(t, kinds, 9)
	for _, k := range kinds {
		query := "?rows=5"
		if k.Name == "holdings" {
			query += "&section=PROP-A"
		}
		r := get[api.MadeReport](x, "/reports/"+k.Name+query)
		assert.Equal(t, k.Title, r.Title)
		for _, p := range r.Parts {
			assert.LessOrEqual(t, len(p.Rows), 5)
			assert.GreaterOrEqual(t, p.Total, len(p.Rows))
		}
	}
	x.do(422, "GET", "/reports/nothing", nil)
	x.do(422, "GET", "/reports/completion?course=nowhere", nil)
	x.do(422, "GET", "/reports/behind?mark=half", nil)
	x.do(422, "GET", "/reports/completion?by=weather", nil)

	assert.Nil(t, get[api.ProgressCheck](x, "/progress-check").EndedAt)
	x.do(204, "POST", "/progress-check", api.StartProgressCheck{Mend: true})
	x.do(409, "POST", "/progress-check", api.StartProgressCheck{})
	assert.NoError(t, x.site.Reports.WorkCheck(t.Context(), true))
	assert.NotNil(t, get[api.ProgressCheck](x, "/progress-check").EndedAt)

	wish := api.NewReportMail{
		Report: "completion", Narrowed: map[string]string{"course": "PROP"}, Form: "pdf",
		Schedule: schedule.Schedule{Kind: schedule.Daily, At: "07:00"}, Recipients: []string{"head@fernmoor.example"},
	}
	m := made[api.ReportMail](x, "/report-mails", wish)
	assert.NotNil(t, m.NextAt)
	wish.Narrowed = map[string]string{"corse": "PROP"}
	x.do(422, "POST", "/report-mails", wish)
	wish.Narrowed, wish.Paused = nil, true
	now := as[api.ReportMail](x, x.do(200, "PUT", "/report-mails/"+m.ID, wish, "If-Match", `"1"`))
	assert.Nil(t, now.NextAt)
	x.do(412, "PUT", "/report-mails/"+m.ID, wish, "If-Match", `"1"`)
	assert.Len(t, get[api.Page[api.ReportMail]](x, "/report-mails").Items, 1)
	x.do(204, "POST", "/report-mails/"+m.ID+"/send", nil)
	x.do(404, "POST", "/report-mails/none/send", nil)
	x.do(204, "DELETE", "/report-mails/"+m.ID, nil)
	x.do(404, "DELETE", "/report-mails/"+m.ID, nil)
}

// What files hold is what the answer holds, whole.
func TestReportsAsFiles(t *testing.T) {
	x := open(t, nil)
	file := func(path string, want int) []byte {
		t.Helper()
		resp, text := x.ask(http.MethodGet, "/api/v1/reports/"+path, "", x.bearer()...)
		require.Equal(t, want, resp.StatusCode, text)
		if want == http.StatusOK {
			assert.Contains(t, resp.Header.Get("Content-Disposition"), "attachment; filename=")
		}
		return []byte(text)
	}
	table, err := csv.NewReader(bytes.NewReader(file("rosters/file.csv", 200))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"Day", "Joined", "Left"}, table[0])
	book, err := excelize.OpenReader(bytes.NewReader(file("rosters/file.xlsx", 200)))
	require.NoError(t, err)
	assert.Equal(t, []string{"By day", "From register to class", "What needs somebody now"}, book.GetSheetList())
	rows, err := book.GetRows("By day")
	require.NoError(t, err)
	assert.Equal(t, table, rows)
	assert.True(t, strings.HasPrefix(string(file("rosters/file.svg", 200)), "<svg"))
	_, err = png.Decode(bytes.NewReader(file("completion/file.png", 200)))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(file("services/file.pdf", 200)), "%PDF-"))
	for path, says := range map[string]string{
		"nothing/file.csv":                   "there is no report",
		"rosters/file.csv?part=4":            "there are 3",
		"rosters/file.csv?part=x":            "whole number",
		"rosters/file.csv?corse=PROP":        "is not known here",
		"completion/file.pdf?course=nowhere": "there is no course",
		"behind/file.csv?mark=x":             "whole number",
	} {
		assert.Contains(t, string(file(path, 422)), says, path)
	}
	assert.Contains(t, string(file("rosters/file.doc", 404)), "there is csv, xlsx, svg, png and pdf")
	resp, _ := x.ask(http.MethodGet, "/api/v1/reports/rosters/file.csv", "")
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode)
}
