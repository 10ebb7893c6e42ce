package e2e_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// counting counts what somebody does in a browser: a page opened, a field filled, a button pressed.
type counting struct {
	*browser
	actions int
}

func (c *counting) opens(page string) {
	c.actions++
	c.goes(page)
}

func (c *counting) presses(text string) {
	c.actions++
	c.click(text)
}

func (c *counting) chooses(id, option string) {
	c.actions++
	c.choose(id, option)
}

// without removes everything that gives badges, so that there is none.
func (w *world) without() {
	w.t.Helper()
	remove := func(path string) {
		_, err := client.Send[client.Empty](w.t.Context(), w.Client, http.MethodDelete, path, nil)
		require.NoError(w.t, err, path)
	}
	rules, err := client.All[api.Rule](w.t.Context(), w.Client, "/rules")
	require.NoError(w.t, err)
	for _, r := range rules {
		if r.Name == "Cuttings badge" || r.Name == "Course finished" {
			remove("/rules/" + r.ID)
		}
	}
	plans, err := client.Get[api.Page[api.StagePlan]](w.t.Context(), w.Client, "/stage-plans")
	require.NoError(w.t, err)
	for _, p := range plans.Items {
		remove("/stage-plans/" + p.ID)
	}
	badges, err := client.Get[api.Page[api.Badge]](w.t.Context(), w.Client, "/badges")
	require.NoError(w.t, err)
	for _, b := range badges.Items {
		remove("/badges/" + b.ID)
	}
	issuers, err := client.Get[api.Page[api.Issuer]](w.t.Context(), w.Client, "/issuers")
	require.NoError(w.t, err)
	for _, i := range issuers.Items {
		remove("/issuers/" + i.ID)
	}
}

// From no issuer, no badge and no rule to a badge that is awarded when a module is finished takes at most six actions.
func TestConsoleFirstBadge(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair, w.FirstRun, w.SecondRun, w.Mend)
	w.without()
	rules, err := client.All[api.Rule](t.Context(), w.Client, "/rules")
	require.NoError(t, err)
	for _, r := range rules {
		if r.Name == "Greet new learners" {
			_, err := client.Post[api.Rule](t.Context(), w.Client, "/rules/"+r.ID+"/switch",
				api.Switch{On: true, Untried: true})
			require.NoError(t, err)
		}
	}

	b := &counting{browser: w.browse("/board")}
	b.sees("Board")
	b.opens("Badges")
	b.sees("No badge yet.")
	b.presses("Badge for a module…")
	b.chooses("module-badge-module", "Propagation: Cuttings")
	b.until(`document.querySelector("#module-badge-issuer").value === "Fernmoor Garden School"`)
	b.until(`document.querySelector("#module-badge-name").value === "Cuttings"`)
	b.presses("Make it and try it out")
	b.sees("The trial was passed; nobody was reached.")
	assert.Empty(t, w.awards())
	b.presses("Switch on")
	b.sees("It is on: whoever finishes the module from now on is awarded the badge Cuttings.")
	assert.LessOrEqual(t, b.actions, 6)

	require.NoError(t, w.Join(t.Context()))
	require.NoError(t, w.Learn(t.Context()))
	require.NoError(t, w.Share(t.Context()))
	assert.Len(t, w.awards(), 1)
}
