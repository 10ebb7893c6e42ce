package e2e_test

import (
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// subjects of a rule's actions, in their order.
func subjects(r api.Rule) (all []string) {
	for _, a := range r.Actions {
		all = append(all, a.Subject)
	}
	return all
}

func (w *world) threeTasks(name string) api.Rule {
	w.t.Helper()
	made, err := client.Post[api.Rule](w.t.Context(), w.Client, "/rules", api.NewRule{
		Name: name, Trigger: "section.joined", UndoneBy: []string{"section.left", "access.ended"},
		Actions: []api.Action{
			{Kind: "task", Subject: "First", Owner: "a@fernmoor.example"},
			{Kind: "task", Subject: "Second", Owner: "b@fernmoor.example"},
			{Kind: "task", Subject: "Third", Owner: "c@fernmoor.example"},
		},
	})
	require.NoError(w.t, err)
	return made
}

func (w *world) rule(id string) api.Rule {
	w.t.Helper()
	r, err := client.Get[api.Rule](w.t.Context(), w.Client, "/rules/"+id)
	require.NoError(w.t, err)
	return r
}

// What belongs to an action stays with it, wherever it is moved and whatever is removed beside it; and
// nothing that the form does not touch is lost.
func TestConsoleActionsKeepWhatIsTheirs(t *testing.T) {
	w := newWorld(t)
	w.to()
	made := w.threeTasks("Three tasks")
	b := w.browse("/rules/" + made.ID)
	b.click("Edit…")
	b.sees("3. open a task")
	b.press(`[aria-label="Remove action 1"]`)
	b.until(`!document.body.innerText.includes('3. open a task')`)
	b.press(`[aria-label="Do action 2 earlier"]`)
	b.until(`(() => { ` + typed + ` return typed(document.getElementById('subject-1')) === 'Third' })()`)
	b.fill("subject-2", "Second, changed")
	b.click("Save")
	b.until(`!document.querySelector('.p-dialog-mask')`)
	now := w.rule(made.ID)
	assert.Equal(t, []string{"Third", "Second, changed"}, subjects(now))
	assert.Equal(t, "c@fernmoor.example", now.Actions[0].Owner)
	assert.Equal(t, "b@fernmoor.example", now.Actions[1].Owner)
	assert.ElementsMatch(t, made.UndoneBy, now.UndoneBy)
}

// stillTyped is true when only the form is open, with what was typed in it.
const stillTyped = `document.querySelectorAll('.p-dialog-mask').length === 1 &&
	document.getElementById('rule-name').value === 'Three good tasks'`

// What is typed is not dropped by Escape or Back without asking, and what somebody else changed meanwhile is
// shown beside it.
func TestConsoleAsksBeforeItDropsWhatIsTyped(t *testing.T) {
	w := newWorld(t)
	w.to()
	made := w.threeTasks("Three tasks")
	b := w.browse("/rules")
	b.click("Three tasks")
	b.click("Edit…")
	b.sees("3. open a task")
	escape := chromedp.KeyEvent(kb.Escape)
	b.settled()
	b.do(escape) // nothing is typed: it closes
	b.until(`!document.querySelector('.p-dialog-mask')`)
	b.click("Edit…")
	b.fill("rule-name", "Three good tasks")
	b.do(escape)
	b.sees("Drop what was typed?")
	b.picture("drop-typed")
	b.click("Go on typing")
	b.until(stillTyped)
	b.do(chromedp.Evaluate[chromedp.Void](`history.back()`))
	b.sees("Drop what was typed?")
	b.do(escape) // says no
	b.until(stillTyped)

	other := made
	_, err := client.Send[api.Rule](t.Context(), w.Client, http.MethodPut, "/rules/"+made.ID, api.NewRule{
		Name: "Renamed by another", Trigger: other.Trigger, UndoneBy: other.UndoneBy, Actions: other.Actions,
	})
	require.NoError(t, err)
	b.click("Save")
	b.sees("What the other changed")
	b.sees("name Three tasks Renamed by another Three good tasks")
	b.picture("conflict")
	b.click("Save mine all the same")
	b.until(`!document.querySelector('.p-dialog-mask')`)
	assert.Equal(t, "Three good tasks", w.rule(made.ID).Name)

	b.click("Edit…")
	b.fill("rule-name", "Never kept")
	b.do(escape)
	b.click("Drop it")
	b.until(`!document.querySelector('.p-dialog-mask')`)
	assert.Equal(t, "Three good tasks", w.rule(made.ID).Name)
}
