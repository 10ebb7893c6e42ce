package e2e_test

import (
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// Why something has happened to somebody, or has not, is answered step by step: in the console, in the command line
// and by the API.
func TestWhy(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	env := []string{"HOME=" + t.TempDir(), "KANBAN_ADDRESS=" + w.service.Address}
	w.signIn(env)
	expect := w.expecting(env)
	out := expect(0, "Cleo Clover, section Propagation A: no", "why", "Cleo Clover", "PROP-A")
	assert.Contains(t, out, "● The register has them in Propagation A: as student")
	assert.Contains(t, out, "who can: register office")
	assert.Contains(t, out, "Looked at again")
	out = expect(0, "section Orchard care A: no", "why", "ada.alder@fernmoor.example", "ORCH-A")
	assert.Contains(t, out, "what to do: Enrol them in the register.")
	expect(0, "section Propagation A: yes", "why", "ada.alder@fernmoor.example", "PROP-A")
	out = expect(0, "rule", "why", "stu-001")
	assert.Contains(t, out, "badge")
	expect(1, "several fit", "why", "stu-001", "prop")
	expect(2, "nothing of theirs is called", "why", "stu-001", "moonlight")
	expect(2, "give a person", "why")

	people, err := client.Get[api.Page[api.Person]](t.Context(), w.Client, "/people?text="+"stu-001")
	require.NoError(t, err)
	require.Len(t, people.Items, 1)
	things, err := client.Get[api.Page[api.Thing]](t.Context(), w.Client, "/people/"+people.Items[0].ID+"/things")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, things.Total, len(things.Items), "of one kind the first are given")

	b := w.browse("/people")
	b.set(`input[type=search], main input`, "Cleo Clover")
	b.press(`//a[contains(., "Cleo Clover")]`)
	b.sees("Why, and why not")
	b.finds("section, badge, stage, rule, assignment or event", "PROP-A", "Propagation A")
	b.sees("Not yet: Propagation A")
	b.sees("register office")
	b.picture("why")
	b.finds("section, badge, stage, rule, assignment or event", "ORCH-A", "Orchard care A")
	b.sees("Not yet: Orchard care A")
	b.sees("Enrol them in the register.")
}

// Whoever answers questions begins with a search box: somebody's name gives where they are not, why, and who can mend
// it; one thing more answers anything else. The answer is at an address that can be sent.
func TestConsoleAnswersQuestions(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	_, err := client.Send[api.Invitation](t.Context(), w.Client, http.MethodPost, "/users", api.NewUser{
		Name: "Hilda Help", Email: "hilda@fernmoor.example", Grant: &api.NewRoleGrant{Role: "support"},
	})
	require.NoError(t, err)
	b := w.enters("hilda@fernmoor.example")
	b.sees("Who is it about?")
	b.until(`document.activeElement.id === "why-person"`)
	b.finds("Name, address or identifier", "cleo", "Cleo Clover")
	b.sees("because e-mail address shared by two people: Dario Dill")
	b.sees("Who can mend it: register office")
	b.finds("section, badge, stage, rule, assignment or event", "ORCH-A", "Orchard care A")
	b.sees("Enrol them in the register.")
	b.picture("answers")
	b.do(chromedp.Reload())
	b.sees("Enrol them in the register.")
	b.sees("because e-mail address shared by two people")
	b.finds("Name, address or identifier", "stu-001", "Ada Alder")
	b.until(`!location.search.includes("thing=")`)
	b.sees("Everything about Ada Alder")
	b.until(`!document.body.innerText.includes("Enrol them in the register.")`)
	b.open("/settings/audit")
	b.sees("your role (support) does not allow this; ask somebody who is: administrator")
}
