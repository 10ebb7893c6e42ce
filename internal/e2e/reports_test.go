package e2e_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"image/png"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/standin/inbox"
)

// fetched follows a link of the page as the person who sees it would.
func (b *browser) fetched(selector string) []byte {
	b.t.Helper()
	text := ask(b, chromedp.Evaluate[string](`(async () => {
		const r = await fetch(document.querySelector(`+quoted(selector)+`).href);
		const bytes = new Uint8Array(await r.arrayBuffer());
		return r.status + " " + Array.from(bytes, (x) => String.fromCharCode(x)).join("");
	})()`, chromedp.EvalAwaitPromise))
	status, rest, _ := strings.Cut(text, " ")
	require.Equal(b.t, "200", status)
	out := make([]byte, 0, len(rest))
	for _, r := range rest {
		out = append(out, byte(r))
	}
	return out
}

// mailTo waits for a mail to somebody whose subject begins so.
func (w *world) mailTo(to, subject string) (got inbox.Mail) {
	w.t.Helper()
	soon(w.t, "a mail to "+to, func() bool {
		req, err := http.NewRequestWithContext(w.t.Context(), http.MethodGet, w.At.Inbox+"/mails", nil)
		require.NoError(w.t, err)
		var all []inbox.Mail
		require.NoError(w.t, json.Unmarshal([]byte(body(w.t, req)), &all))
		for _, m := range all {
			if m.To == to && strings.HasPrefix(m.Subject, subject) {
				got = m
				return true
			}
		}
		return false
	})
	return got
}

// Where people stop in a course is seen in one look, and taken along as a table and as a picture. What was chosen is
// in the address, so that Back and reload show the same.
func TestConsoleReports(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	b := w.browse("/reports")
	b.sees("1 of 38 learners finished (3 %); 36 have not begun.")
	b.sees("5 courses without an outline")
	b.choose("report-course", "Propagation")
	b.sees("The way through the course")
	b.until(`document.querySelectorAll("canvas[role=img]").length === 2`)
	b.until(`document.querySelector("canvas").getAttribute("aria-label").includes("Grafting: Came this far 1, Stand here 1")`)
	b.picture("reports")
	table, err := csv.NewReader(bytes.NewReader(b.fetched(`a[aria-label="CSV of The way through the course"]`))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"Grafting", "1", "0.0263", "1", "0"}, table[4])
	_, err = png.Decode(bytes.NewReader(b.fetched(`a[aria-label="PNG of The way through the course"]`)))
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(b.fetched(`.actions a[href*="file.pdf"]`), []byte("%PDF-")))
	assert.Equal(t, "PK", string(b.fetched(`.actions a[href*="file.xlsx"]`)[:2]))

	b.choose("report-by", "by teacher")
	b.sees("By teacher")
	b.until(`location.search.includes("by=teacher") && location.search.includes("course=Propagation")`)
	b.do(chromedp.Reload())
	b.sees("By teacher")
	b.do(chromedp.NavigateBack())
	b.sees("By section")

	// Monday's report comes by mail, as it is narrowed here, and now too.
	b.click("Send by mail…")
	b.fill("send-to", "head@fernmoor.example; office@fernmoor.example")
	b.click("Send it by the clock")
	b.sees("Monday, 07:00")
	b.sees("not sent yet")
	b.press(`button[aria-label="Send Completion now"]`)
	got := w.mailTo("head@fernmoor.example", "Completion")
	assert.Contains(t, got.Text, "1 of 38 learners finished")
	assert.Contains(t, got.Text, "/reports/completion?course=Propagation")
	require.Len(t, got.Files, 1)
	assert.True(t, bytes.HasPrefix(got.Files[0].Content, []byte("%PDF-")))
	b.until(`!document.body.innerText.includes("not sent yet")`)
	b.press(`button[aria-label="Pause the mail with Completion"]`)
	b.sees("paused")
	b.press(`button[aria-label="Remove the mail with Completion"]`)
	b.sees("Send Completion no longer?")
	b.press(`//*[@role="alertdialog"]//button[normalize-space(.)="Remove"]`)
	b.sees("No report is sent by mail yet.")

	b.goes("Stopped")
	b.sees("Nobody has stopped.")
	b.sees("We miss you: 1 of 1 came back.")
	b.fill("report-days", "0x")
	b.until(`!!document.querySelector("[role=alert]")`)
	b.choose("report-kind", "Badges of a section")
	b.sees("Choose a section")
	b.finds("Section", "PROP-A", "Propagation A")
	b.sees("missing: finish the course Propagation")
	b.sees("section Propagation A · School register read")
	b.open("/reports/holdings?section=PROP-A") // a link with a code
	b.sees("section PROP-A · School register read")
	b.until(`!document.body.innerText.includes("a section that is gone")`)
	b.open("/reports/nothing")
	b.sees("There is no report “nothing”")
	b.open("/reports/completion?course=nowhere")
	b.sees("there is no course")
	resp, err := http.Get(w.service.Address + "/api/v1/reports/completion/file.csv")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode)
}
