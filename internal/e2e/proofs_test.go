package e2e_test

import (
	"encoding/json"
	"net/http"
	"net/url"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// inClass counts who is in a class at the chat workspace.
func (w *world) inClass(name string) int {
	w.t.Helper()
	req, err := http.NewRequestWithContext(w.t.Context(), http.MethodGet,
		w.At.Workspace+"/scim/v2/Groups?filter="+url.QueryEscape(`displayName eq "`+name+`"`), nil)
	require.NoError(w.t, err)
	req.Header.Set("Authorization", "Bearer potting-shed")
	var found struct {
		Resources []struct{ Members []struct{ Value string } }
	}
	require.NoError(w.t, json.Unmarshal([]byte(body(w.t, req)), &found))
	require.Len(w.t, found.Resources, 1)
	return len(found.Resources[0].Members)
}

// A test learner proves the way through a section in one go, is seen step by step on one page, and vanishes.
func TestConsoleProofs(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	before := w.inClass("Propagation, group A")
	awards, err := client.Get[api.Page[api.Award]](t.Context(), w.Client, "/awards")
	require.NoError(t, err)
	b := w.browse("/")
	b.goes("Test learners")
	b.sees("No test learner was sent through a section yet.")
	b.click("Send a test learner…")
	b.sees("One whose mails you can read")
	b.finds("Section", "PROP-A", "Propagation A")
	b.fill("proof-email", "nobody")
	b.choose("proof-module", "Cuttings")
	b.click("Start")
	b.sees("is not an e-mail address")
	b.fill("proof-email", "trial@fernmoor.example")
	b.click("Start")
	b.sees("Every step was tried")
	for _, step := range []string{"joined", "put into a class", "finished a module", "badge", "message"} {
		b.until(`[...document.querySelectorAll("tbody tr")].some((r) => r.cells[0].innerText === ` + quoted(step) +
			` && r.cells[3].innerText.trim() === "arrived")`)
	}
	b.until(`![...document.querySelectorAll("tbody tr")].some((r) => r.cells[3].innerText.trim() === "waits")`)
	b.picture("test-learner")
	mail := w.mailTo("trial@fernmoor.example", "Well done, Test")
	assert.Contains(t, mail.Text, "/open/awards/")
	assert.Equal(t, before+1, w.inClass("Propagation, group A"))
	now, err := client.Get[api.Page[api.Award]](t.Context(), w.Client, "/awards")
	require.NoError(t, err)
	assert.Equal(t, awards, now, "they count nowhere")

	b.do(chromedp.Reload())
	b.click("Revert everything")
	b.sees("What stays")
	b.sees("the mail of the rule Cuttings badge that was sent to trial@fernmoor.example")
	assert.Equal(t, before, w.inClass("Propagation, group A"))
	b.do(chromedp.Reload())
	b.sees("Reverted. What there was to see is kept")
	b.until(`!document.body.innerText.includes("Revert everything")`)
	b.open("/people?text=Test+Learner")
	b.sees("Nobody fits")
}
