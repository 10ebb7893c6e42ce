package e2e_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// A teacher signs in, sees her own sections, and repairs one: syncs it, holds and opens the class, and hands on what
// others have to mend; the answer comes back to her page while she looks at it.
func TestConsoleTeacher(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	found, err := client.Get[api.Page[api.Person]](t.Context(), w.Client, "/people?text=tea-002")
	require.NoError(t, err)
	_, err = client.Send[api.Invitation](t.Context(), w.Client, http.MethodPost, "/users",
		api.NewUser{PersonID: found.Items[0].ID})
	require.NoError(t, err)

	b := w.enters("otto.onion@fernmoor.example")
	b.sees("My sections")
	b.sees("people are missing")
	b.press(`//button[normalize-space(.)="Name and picture…"]`)
	b.fill("own-name", "Cuttings")
	b.click("Save")
	b.press(`//a[normalize-space(.)="Cuttings"]`)
	b.sees("The register office has one e-mail address for two people, so nobody knows whose account it is.")
	b.sees("They have an account, but have not signed in to it yet.")
	b.sees("Who is in the section is decided in the register")
	b.picture("teaching")
	b.press(`button[aria-label="Hand on… Cleo Clover"]`)
	b.fill("hand-note", "She starts on Monday.")
	b.click("Hand on")
	b.sees("Handed on by Otto Onion")
	b.until(`!document.querySelector('button[aria-label="Hand on… Cleo Clover"]')`)

	m := w.browse("/tasks")
	m.sees("Cleo Clover is not in the class of Propagation A: e-mail address shared by two people")
	m.sees("She starts on Monday.")
	m.sees("family.clover@post.example")
	m.press(`//tr[contains(., "Cleo Clover is not in the class")]//button[normalize-space(.)="Done"]`)
	m.fill("task-answer", "She has her own address now.")
	m.press(`//*[@role="dialog"]//button[normalize-space(.)="Done"]`)
	b.sees("She has her own address now.")

	b.click("Sync now")
	b.sees("It is brought in step now")
	b.click("Hold the class")
	b.sees("learners wait until you open it")
	b.click("Open the class")
	b.sees("learners who waited go in")

	env := []string{"HOME=" + t.TempDir(), "KANBAN_ADDRESS=" + w.service.Address}
	w.signIn(env)
	expect := w.expecting(env)
	out := expect(0, "needs a person", "teaching", "show", "PROP-A")
	assert.Contains(t, out, "Maud Marrow: She has her own address now.")
	expect(0, "You teach no section now", "teaching", "list")
	expect(0, "Dario Dill is not in the class", "teaching", "hand-on", "PROP-A", "stu-004", "--note", "Soon")
	expect(1, "handed on already", "teaching", "hand-on", "PROP-A", "stu-004")
	out = expect(0, "handed a difference on", "audit", "--text", "handed")
	assert.Contains(t, out, "Otto Onion")
	out = expect(0, "hidden.example", "--hide-names", "people", "find", "clover")
	assert.NotContains(t, out, "Clover")
}
