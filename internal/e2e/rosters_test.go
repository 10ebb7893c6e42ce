package e2e_test

import (
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// What a person does about people: see who needs somebody, look at both sides,
// change by what people are recognised, decide by hand, take a run back.
func TestConsoleRosters(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair, w.FirstRun)
	b := w.browse("/board")
	b.sees("things need a person today")

	acknowledge(b)
	compareSides(t, b, w)
	recognise(b, w)
	chooseByHand(t, b, w)
	keepInStep(b, w)
	revert(b, w)
}

func keepInStep(b *browser, w *world) {
	b.goes("Sections")
	b.sees("Other terms 2")
	b.click("Other terms 2")
	b.sees("Beekeeping A")
	b.click("rules…")
	b.click("Add a rule")
	b.fill("name-1", "Advisory hours")
	b.fill("type-1", "homeroom")
	b.click("Save")
	b.sees("Advisory hours 1")
	b.until(`!document.querySelector('.p-dialog-mask')`)
	b.open("/pairings/" + w.Pairing.ID)
	b.click("change…")
	b.choose("schedule", "at a time of day")
	b.set(`[aria-label="Time of day"]`, "06:45")
	b.click("tuesday")
	b.click("Save")
	b.sees("tuesday at 06:45, next")
	b.until(`!document.querySelector('.p-dialog-mask')`)
	b.click("hold")
	b.click("hold it")
	b.sees("held until opened")
	b.click("open now")
	b.sees("go in at once")
}

func acknowledge(b *browser) {
	b.goes("Findings")
	b.sees("e-mail address shared by two people (shared with Dario Dill)")
	b.sees("left out on purpose 2")
	b.picture("findings")
	b.press(`[aria-label="Acknowledge Elsa Elder"]`)
	b.fill("note", "the office asks her tomorrow")
	b.click("Acknowledge")
	b.sees("acknowledged 1")
	b.until(`!document.querySelector('.p-dialog-mask')`)
	b.sees("needs a person 3")
	b.click("acknowledged 1")
	b.sees("the office asks her tomorrow")
	b.click("left out on purpose 2")
	b.sees("second account of a person already in")
	b.click("waits 1")
	b.sees("account not active yet")
}

func compareSides(t *testing.T, b *browser, w *world) {
	b.open("/pairings/" + w.Pairing.ID)
	b.sees("next: Nobody needs a person")
	b.sees("nobody is notified of it")
	b.click("Side by side")
	b.sees("Both sides as they are now")
	b.sees("only differences 5")
	b.sees("family.clover@post.example")
	b.picture("compare")
	b.click("in step 9")
	b.sees("Ada Alder")
	token, err := client.Post[api.Token](t.Context(), w.Client, "/tokens", api.NewToken{Name: "test"})
	require.NoError(t, err)
	req, err := http.NewRequest(http.MethodGet, w.service.Address+"/api/v1/pairings/"+w.Pairing.ID+"/comparison.csv",
		nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token.Token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Contains(t, resp.Header.Get("Content-Type"), "text/csv")
	assert.Contains(t, string(text),
		"needs-person,Cleo Clover,student,e-mail address shared by two people,Dario Dill")
}

func recognise(b *browser, w *world) {
	b.goes("Connections")
	b.click("Chat workspace")
	b.click("Who is who…")
	b.sees("Recognised by")
	b.click("Add a domain")
	b.fill("from-0", "old.fernmoor.example")
	b.fill("to-0", "fernmoor.example")
	b.click("Whom would it touch?")
	b.sees("address finn.fennel@fernmoor.example, was finn.fennel@old.fernmoor.example")
	b.click("Save")
	b.until(`[...document.querySelectorAll('button')].find(x => x.innerText === 'Save').disabled`)
	b.open("/pairings/" + w.Pairing.ID)
	b.click("Run: 1 change")
	b.sees("1 added")
}

func chooseByHand(t *testing.T, b *browser, w *world) {
	people, err := client.Get[api.Page[api.Person]](t.Context(), w.Client, "/people?text=Nils")
	require.NoError(t, err)
	require.Len(t, people.Items, 1)
	b.open("/people/" + people.Items[0].ID)
	b.click("Choose by hand at Chat workspace…")
	b.sees("equal: address, name")
	b.press(`(//button[normalize-space(.)="Is theirs"])[2]`)
	b.sees("said by Maud Marrow")
}

func revert(b *browser, w *world) {
	b.open("/pairings/" + w.Pairing.ID)
	b.click("change…")
	b.choose("leavers", "stay where they are")
	b.click("Save")
	b.sees("keep")
	b.until(`!document.querySelector('.p-dialog-mask')`)
	b.press(`(//a[contains(@class,"run")])[2]`) // the first run of two
	b.click("Revert…")
	b.sees("to be reverted")
	b.press(`//button[starts-with(normalize-space(.),"Revert ")]`)
	b.sees("the run it reverts")
	b.sees("removed")
	b.click("to the pairing")
	b.sees("paused")
	b.click("end this pairing…")
	b.sees("Whoever else is in it stays in any case")
	b.click("End it, people stay")
	b.sees("Hidden:")
}
