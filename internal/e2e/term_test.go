package e2e_test

import (
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
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
	b := w.browse("/sections")

	linkSets(b)
	pairMany(b)
	holdAndOpen(b)
	nextTerm(t, b, w)
}

// tick puts the tick at what is labelled so.
func (b *browser) tick(label string) {
	b.t.Helper()
	b.press(`[aria-label="` + label + `"]`)
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
	b.settled()
	b.press(`//ul[@aria-label="Sections to link"]//*[contains(@class, "tick")][contains(., "Soil science A")]//input`)
	b.sees("Link 2 sections")
	b.press(`//ul[@aria-label="Sections to link"]//*[contains(@class, "tick")][contains(., "Propagation B")]//input`)
	b.sees("41 people, 1 of them in more than one")
	b.click("Link 3 sections")
	b.sees("3 linked")
	b.goes("Linked sets")
	b.sees("Linked by Maud Marrow")
	b.sees("41 people")
}

func pairMany(b *browser) {
	b.goes("All sections")
	b.sees("3 linked")
	for _, name := range []string{"Propagation", "Glasshouse climate A", "Orchard care A", "Soil science A"} {
		b.tick("Choose " + name)
	}
	b.click("Pair 4 at Chat workspace…")
	b.fill("bulk-naming", "{course} · {teacher}")
	b.click("Show what it means")
	b.sees("nothing has been done yet")
	named := func(section string) string { return `input[aria-label="Name of the class of ` + section + `"]` }
	b.until(`document.querySelector('` + named("Orchard care A") + `')?.value === 'Orchard care · Rolf Rhubarb'`)
	b.set(named("Soil science A"), "Soil science, first years")
	b.click("Look again with these names") // nothing is done under a name that was not looked at
	b.until(`!document.body.innerText.includes('Look again with these names')`)
	b.until(`document.querySelector('` + named("Soil science A") + `')?.value === 'Soil science, first years'`)
	b.picture("batch")
	b.click("Do exactly this: 4")
	b.sees("done, 4 of 4 runs ended")
	b.goes("Board")
	b.sees("in step")
	b.press(`//div[@aria-label="Show as"]/button[normalize-space(.)="Table"]`)
	b.sees("Orchard care · Rolf Rhubarb")
	b.press(`//div[@aria-label="Show as"]/button[normalize-space(.)="Columns"]`)
}

func holdAndOpen(b *browser) {
	b.press(`//a[contains(@class,"card")][.//span[normalize-space(.)="Glasshouse climate A"]]`)
	b.sees("Run: nothing to change")
	b.click("hold")
	b.sees("Whoever is in stays in")
	b.click("hold it")
	b.sees("held until opened")
	b.set(`[aria-label="When the class opens"]`, "09/01/2030") // as this browser's language writes a day
	b.set(`[aria-label="When the class opens: time of day"]`, "8:00")
	b.picture("opening")
	b.click("open then")
	b.sees("opens Sep 1") // as this browser's language writes it
	b.goes("Board")
	b.tick("Choose Glasshouse climate A")
	b.click("Open")
	b.sees("Leave it empty to open them at once.")
	b.click("Show what it means")
	b.sees("its learners go in")
	b.click("Do exactly this: 1")
	b.sees("● done")
	b.click("Glasshouse climate A")
	b.sees("go in at once")
}

func nextTerm(t *testing.T, b *browser, w *world) {
	b.goes("Sections")
	b.goes("Next term")
	b.sees("No class has a term that ends within 60 days.")
	b.set(`[aria-label="Days"]`, "90")
	b.sees("same course, same teacher")
	b.sees("no section of its course or teachers") // the others are not left out silently
	b.click("Show what it means: 1")
	b.sees("18 people of Orchard care A are removed, 1 stay, 13 are added")
	b.press(`.guard input`)
	b.click("Do exactly this: 1")
	b.sees("done, 1 of 1 runs ended")
	all, err := client.All[api.Section](t.Context(), w.Client, "/sections?text=ORCH-B&hidden=*")
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.Equal(t, "Orchard care · Rolf Rhubarb", all[0].Target)

	b.goes("Settings")
	b.sees("Classes are called")
	b.set(`fieldset .wide input`, "{term}")
	b.sees("classes would be called First term")
	b.open("/settings")
	b.sees("Classes are called")
	b.click("Pause everything")
	b.sees("Everything is paused by Maud Marrow")
	b.click("Go on")
	b.until(`!document.body.innerText.includes('Everything is paused by')`)
}

// The same term in the command line: link, pair in bulk, hold, open, a late joiner,
// a leaver, a mover, the guard, pausing, the next term, the end; and every mistake
// that could not be mended is refused with its reason.
func TestCommandLineTerm(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	expect := w.expecting(env)
	post := func(path string, values ...string) {
		t.Helper()
		form := url.Values{}
		for i := 0; i < len(values); i += 2 {
			form.Set(values[i], values[i+1])
		}
		resp, err := http.PostForm(w.At.Register+path, form)
		require.NoError(t, err)
		resp.Body.Close()
	}
	office := func(path string, values ...string) {
		t.Helper()
		post(path, values...)
		expect(0, "enrolments", "interfaces", "read", scenario.RegisterName)
	}
	const service = scenario.WorkspaceName

	expect(0, "Propagation A, Propagation B", "sections", "proposals")
	expect(0, "● yes", "sections", "linkable", "PROP-A")
	expect(0, "give a --reason", "sections", "link", "PROP-A", "SOIL-A")
	expect(1, "to link it all the same, give a reason", "sections", "link", "PROP-A", "SOIL-A", "--apply")
	expect(1, "linked-already", "sections", "link", "PROP-A", "PROP-A", "--apply")
	expect(0, "Nothing was done", "sections", "link", "PROP-A", "PROP-B", "PROP-C")
	expect(0, "are one now", "sections", "link", "PROP-A", "PROP-B", "PROP-C", "--apply")
	expect(1, "linked in Propagation already", "sections", "link", "SOIL-A", "PROP-B", "--reason", "x", "--apply")
	expect(0, "Propagation A, Propagation B, Propagation C", "sections", "sets")
	copied := filepath.Join(t.TempDir(), "copy.zip")
	expect(0, "rosters of 41 people", "sections", "copy", "PROP-B", "--file", copied)
	content, err := os.ReadFile(copied)
	require.NoError(t, err)
	assert.Equal(t, "PK", string(content[:2]))

	expect(0, "until opened", "pairings", "templates", "--set", "Held", "--target", "{course} · {code}", "--hold")
	expect(2, "no field {cource}", "pairings", "templates", "--set", "Slip", "--target", "{cource}")
	expect(0, "classes would be called First term", "pairings", "templates", "--target", "{term}")
	expect(0, "Orchard, first years", "pairings", "many", "pair", "GLAS-A", "ORCH-A", "--interface", service,
		"--name", "ORCH-A=Orchard, first years")
	expect(0, "Nothing was done", "pairings", "many", "pair", "PROP-A", "GLAS-A", "ORCH-A", "--interface", service,
		"--template", "Held")
	expect(0, "run finished", "pairings", "many", "pair", "PROP-A", "GLAS-A", "ORCH-A", "--interface", service,
		"--template", "Held", "--apply")
	expect(0, "is paired through Chat workspace already", "pairings", "many", "pair", "PROP-B", "GLAS-A",
		"--interface", service)
	expect(0, "Glasshouse climate · GLAS-A", "sections", "list", "--state", "held", "--service", service,
		"--at-least", "19")
	expect(0, "is paired already", "pairings", "candidates", "SOIL-A", service)
	expect(1, "is paired already, as Glasshouse", "pairings", "add", "SOIL-A", service, "--class",
		"Glasshouse climate · GLAS-A")

	expect(0, "its learners go in", "pairings", "many", "open", "PROP-A", "GLAS-A", "ORCH-A", "--apply")
	soon(t, "the learners go in", func() bool {
		out, _ := w.cli(env, "sections", "list", "--state", "in-step")
		return strings.Contains(out, "20 in step") && strings.Contains(out, "19 in step")
	})
	expect(0, "it is open already", "pairings", "many", "open", "GLAS-A")
	expect(0, "held back", "pairings", "hold", "GLAS-A")
	office("/office/enrolments", "person", "stu-001", "section", "sec-glass-a") // joins late while held
	expect(0, "1 waiting", "pairings", "run", "GLAS-A")
	expect(0, "opens", "pairings", "open", "GLAS-A", "--at", time.Now().Add(time.Hour).Format("2006-01-02T15:04"))
	expect(0, "its learners go in now", "pairings", "open", "GLAS-A")
	soon(t, "the late joiner goes in", func() bool {
		out, _ := w.cli(env, "sections", "list", "--find", "GLAS-A")
		return strings.Contains(out, "21 in step")
	})

	office("/office/withdrawals", "person", "stu-025", "section", "sec-prop-c") // moves
	office("/office/enrolments", "person", "stu-025", "section", "sec-prop-b")
	expect(3, "1 updated", "pairings", "run", "PROP-C")
	for _, id := range []string{"stu-030", "stu-031", "stu-032", "stu-033", "stu-034", "stu-035"} {
		post("/office/withdrawals", "person", id, "section", "sec-glass-a")
	}
	expect(0, "6 left", "interfaces", "read", scenario.RegisterName)
	expect(1, "more than its guard allows", "pairings", "run", "GLAS-A")
	expect(3, "which nobody approved", "pairings", "many", "run", "GLAS-A", "--apply")
	expect(0, "6 removed", "pairings", "many", "run", "GLAS-A", "--apply", "--approve")

	expect(0, "Everything is paused", "maintenance", "on", "--note", "moving")
	expect(1, "everything is paused", "pairings", "run", "GLAS-A")
	expect(0, "‖ paused", "sections", "list", "--find", "GLAS-A")
	expect(0, "Nothing is paused", "maintenance", "off")

	expect(0, "Orchard care B takes over the class", "pairings", "next-term", "--days", "90")
	expect(0, "No section of its course follows Glasshouse climate A", "pairings", "next-term", "--days", "90")
	expect(0, "Beekeeping A takes over the class", "pairings", "next-term", "--days", "90", "--to", "GLAS-A=BEES-A")
	expect(3, "which nobody approved", "pairings", "next-term", "ORCH-A", "--apply")
	expect(0, "run finished", "pairings", "next-term", "ORCH-A", "--apply", "--approve")
	expect(0, "Orchard care · ORCH-B", "sections", "list", "--find", "ORCH-B")
	expect(2, "is not paired, so it has no class to move", "pairings", "next-term", "ORCH-A")

	expect(0, "with --target lead", "sections", "unlink", "PROP-A")
	expect(2, "say what becomes of the class", "sections", "unlink", "PROP-A", "--apply")
	expect(0, "one by one again", "sections", "unlink", "PROP-A", "--target", "end", "--apply")
	expect(0, "run finished", "pairings", "many", "take-out", "GLAS-A", "ORCH-B", "--apply")
	expect(0, "No section is paired yet", "pairings", "list")
}
