package e2e_test

import (
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// Sets that are changed, lists of people, classes of nobody: as a user types it.
func TestCommandLineSets(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	expect := w.expecting(env)
	service := scenario.WorkspaceName

	expect(0, "Propagation A, Propagation B, Propagation C become one", "sections", "proposals", "--any-teacher",
		"--preview")
	expect(0, "1 of 1 set linked", "sections", "proposals", "--apply")
	expect(0, "Paired", "pairings", "add", "PROP-A", service)
	expect(3, "need a person", "pairings", "run", "PROP-A")
	expect(0, "are added", "sections", "change-set", "PROP-A", "--add", "PROP-C")
	expect(0, "Nothing was done", "sections", "change-set", "PROP-A", "--add", "PROP-C")
	expect(0, "give a --reason", "sections", "change-set", "PROP-A", "--add", "SOIL-A")
	expect(2, "nothing is to be changed", "sections", "change-set", "PROP-A")
	expect(0, "The lead is Propagation B", "sections", "change-set", "PROP-A", "--add", "PROP-C", "--drop", "PROP-A",
		"--lead", "PROP-B", "--apply")
	expect(0, "is removed", "sections", "unlink", "PROP-B", "--target", "lead")
	expect(0, "nobody takes them out any more", "sections", "unlink", "PROP-B", "--target", "end")
	expect(3, "removed", "pairings", "run", "PROP-B", "--approve")
	expect(0, "Nobody is in 1 of them", "sections", "groups")
	expect(0, "was removed", "sections", "groups", "--remove")
	expect(0, "No group is left over", "sections", "groups")
	expect(0, "one by one again", "sections", "unlink", "PROP-B", "--target", "end", "--apply")
	expect(0, "Propagation", "sections", "sets", "--unlinked")

	expect(0, "of its 24 people", "pairings", "unpaired", service)
	expect(2, "no class like that", "pairings", "ignore", service, "Nowhere")
	expect(0, "1 class is ignored", "pairings", "ignore", service, "Propagation")
	expect(0, "Maud Marrow", "pairings", "unpaired", service, "--ignored")
	expect(0, "no longer ignored", "pairings", "ignore", service, "Propagation", "--undo")

	expect(2, "give one of --course", "lists", "make", "x")
	expect(0, "was made: 36 learners", "lists", "make", "All of it", "--course", "PROP")
	expect(2, "name one by its id", "lists", "make", "Committee", "--person", "Maud Marrow")
	expect(0, "was made: 2 learners", "lists", "make", "Committee", "--person", "stu-001", "--person", "stu-002")
	expect(0, "has 1 learner now", "lists", "change", "Committee", "--drop", "stu-001")
	expect(0, "Bram Birch", "lists", "show", "Committee")
	expect(0, "people list", "sections", "list", "--find", "Committee")
	expect(0, "Paired Committee", "pairings", "add", "Committee", service)
	expect(1, "end that pairing first", "lists", "remove", "Committee")
	expect(0, "is not added", "pairings", "remove", "Committee")
	expect(0, "no longer paired", "pairings", "remove", "Committee", "--apply")
	expect(0, "was removed", "lists", "remove", "Committee")
}

// The same in the console.
func TestConsoleSets(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	b := w.browse("/sections/linked")
	b.sees("Propagation A, Propagation B")
	b.click("Show what linking this one means")
	b.sees("Propagation A, Propagation B become one: 28 people")
	b.click("Do exactly this: 1")
	b.sees("1 of 1 linked")
	b.click("See the sets")
	b.sees("Linked by Maud Marrow")
	b.click("Change…")
	b.until(`document.querySelectorAll('.p-dialog tbody tr').length === 2`)
	b.settled()
	b.tick("Propagation B leads")
	b.sees("Nobody is in a class whom it concerns.")
	b.click("Change the set")
	b.sees("Propagation B PROP-B · 12 learners · lead")
	b.click("Unlink…")
	b.settled()
	b.click("Unlink")
	b.sees("Nothing is linked yet")
	b.press(`//label[contains(., "those that were unlinked")]`)
	b.sees("Unlinked")
	b.click("Put back…")
	b.sees("Missing: 0 results")

	b.open("/sections/lists")
	b.sees("There is no list yet")
	b.click("New list…")
	b.sees("everybody of an organisation")
	b.settled()
	b.press(`#list-of`)
	b.settled()
	b.press(`//li[contains(., "Propagation · PROP")]`)
	b.fill("list-name", "All who propagate")
	b.click("Make the list")
	b.sees("All who propagate everybody of a course")
	b.click("Pair…")
	b.sees("Pair All who propagate")
	b.choose("service", scenario.WorkspaceName)
	b.click("Pair and preview")
	b.sees("What a run would do, person by person")
	b.sees("all 41")
	b.click("end this pairing…")
	b.sees("nobody puts them in any more")
	b.settled()
	b.click("End it, people stay")
	b.until(`location.pathname === '/sections'`)
	b.sees("All who propagate")

	// A class that was there before, with the section that it probably copies.
	r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, w.At.Workspace+"/scim/v2/Groups",
		strings.NewReader(`{"displayName":"propagation c"}`))
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer potting-shed")
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	resp.Body.Close()
	require.Equal(t, http.StatusCreated, resp.StatusCode)
	all, err := client.All[api.Interface](t.Context(), w.Client, "/interfaces")
	require.NoError(t, err)
	i := slices.IndexFunc(all, func(c api.Interface) bool { return c.Name == scenario.WorkspaceName })
	b.open("/interfaces/" + all[i].ID + "/unpaired")
	b.sees("Propagation C PROP-C")
	b.click("Ignore")
	b.sees("Every class there is paired or ignored.")
	b.press(`//label[contains(., "those that are ignored")]`)
	b.click("No longer ignore")
	b.sees("No class is ignored.")
	b.press(`//label[contains(., "those that are ignored")]`)
	b.click("Adopt…")
	b.sees("Propagation C PROP-C · First term")
	b.click("Adopt it for this section")
	b.sees("What a run would do, person by person")
}
