package e2e_test

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// A term in the console: link sections, pair many at once, hold and open, move a
// class to the next term, and see it all on the board.
func TestConsoleTerm(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	b := newBrowser(t, w.service.Address)
	b.open("/sign-in?then=/sections")
	b.fill("email", scenario.Email)
	b.fill("password", scenario.Password)
	b.click("Sign in")

	linkSets(b)
	pairMany(b)
	holdAndOpen(b)
	nextTerm(t, b, w)
}

// tick puts the tick at what is labelled so.
func (b *browser) tick(label string) {
	b.t.Helper()
	b.do(chromedp.Click(`[aria-label="` + label + `"]`))
}

func linkSets(b *browser) {
	b.sees("Propagation C")
	b.tick("Choose Propagation A")
	b.tick("Choose Propagation C")
	b.tick("Choose Soil science A")
	b.sees("3 chosen")
	b.click("Link…")
	b.sees("What becomes shared")
	b.sees("Soil science A: it is of Soil science, not of Propagation; give a reason to link it")
	b.picture("linking")
	b.do(chromedp.Click(`//ul[@aria-label="Sections to link"]//label[contains(., "Soil science A")]/input`))
	b.do(chromedp.Click(`//ul[@aria-label="Sections to link"]//label[contains(., "Propagation B")]/input`))
	b.sees("41 people, 1 of them in more than one")
	b.click("Link 3 sections")
	b.sees("3 linked")
	b.click("Linked sets")
	b.sees("Linked by Maud Marrow")
	b.sees("41 people")
	b.picture("linked-sets")
}

func pairMany(b *browser) {
	b.click("All sections")
	b.sees("3 linked")
	for _, name := range []string{"Propagation", "Glasshouse climate A", "Orchard care A", "Soil science A"} {
		b.tick("Choose " + name)
	}
	b.click("Pair 4…")
	b.fill("bulk-naming", "{course} · {teacher}")
	b.click("Show what it means")
	b.sees("nothing has been done yet")
	b.sees("Orchard care · Rolf Rhubarb")
	b.picture("batch")
	b.click("Do exactly this: 4")
	b.sees("done, 4 of 4 runs ended")
	b.click("Board")
	b.sees("in step")
	b.picture("term-board")
	b.do(chromedp.Click(`//div[@aria-label="Show as"]/button[normalize-space(.)="Table"]`))
	b.sees("Orchard care · Rolf Rhubarb")
	b.do(chromedp.Click(`//div[@aria-label="Show as"]/button[normalize-space(.)="Columns"]`))
}

func holdAndOpen(b *browser) {
	b.do(chromedp.Click(`//a[contains(@class,"card")][.//span[normalize-space(.)="Glasshouse climate A"]]`))
	b.sees("Run: nothing to change")
	b.click("hold")
	b.sees("held until opened")
	b.click("Board")
	b.tick("Choose Glasshouse climate A")
	b.click("Open")
	b.sees("its learners go in")
	b.click("Do exactly this: 1")
	b.sees("● done")
	b.click("Glasshouse climate A")
	b.sees("go in at once")
}

func nextTerm(t *testing.T, b *browser, w *world) {
	b.click("Sections")
	b.click("Next term")
	b.sees("No class has a section that follows within 60 days")
	b.until(`(() => { const e = document.querySelector('[aria-label="Days"]'); e.value = '90'; e.dispatchEvent(new Event('input', {bubbles: true})); return true })()`)
	b.sees("same course, same teacher")
	b.click("Show what it means: 1")
	b.sees("18 people of Orchard care A come out, 1 stay, 13 go in")
	b.do(chromedp.Click(`.guard input`))
	b.picture("next-term")
	b.click("Do exactly this: 1")
	b.sees("done, 1 of 1 runs ended")
	all, err := client.All[api.Section](t.Context(), w.Client, "/sections?text=ORCH-B&aside=*")
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.Equal(t, "Orchard care · Rolf Rhubarb", all[0].Target)

	b.click("Keeping")
	b.sees("Classes are called")
	b.picture("keeping")
	b.click("Pause everything")
	b.sees("Everything is paused by Maud Marrow")
	b.click("Go on")
	b.until(`!document.body.innerText.includes('Everything is paused by')`)
}
