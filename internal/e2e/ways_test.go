package e2e_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/standin/fault"
	"kanban/internal/wire/api"
)

// key presses a key wherever the focus is.
func (b *browser) key(key string) {
	b.t.Helper()
	b.do(chromedp.KeyEvent(key))
}

// finder opens the finder by keyboard.
func (b *browser) finder() {
	b.t.Helper()
	b.until(`!document.querySelector('[role=dialog]') && ` + still)
	b.key("/")
	b.until(`document.activeElement?.id === 'find-anything' && ` + still)
}

// comesTo waits for a page with this beginning of an address.
func (b *browser) comesTo(beginning string) {
	b.t.Helper()
	b.until(`(location.pathname + location.search).startsWith(` + quoted(beginning) + `)`)
}

// Ways through the console, one after the other in one installation.
func TestConsoleWays(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair)
	saysWhatIsAtWork(t, w)
	addressSaysWhatIsShown(t, w)
	pairsMany(t, w)
	approvesAStoppedRead(t, w)
	findsAnything(t, w) // stops the service at its end
}

// Why somebody is missing is answered from anywhere with one word and Enter, and so is everything else found.
func findsAnything(t *testing.T, w *world) {
	t.Helper()
	g := newGateway(t, w.service.Address)
	b := newBrowser(t, g.URL)
	b.signsIn("/settings")
	b.sees("Templates")
	b.finder()
	b.set("#find-anything", "finn")
	b.sees("Finn Fennel")
	b.key(kb.Enter)
	b.comesTo("/people/")
	b.sees("not in the class: Propagation A, because")
	b.sees("Who can mend it: service administrator.")
	assert.Equal(t, "MAIN", ask(b, chromedp.Evaluate[string](`document.activeElement.tagName`)), "the keyboard goes on in the page")

	for text, page := range map[string]string{
		"propagation a": "/pairings/", "glasshouse climate a": "/pairings/", "batch": "/batches", "chat": "/connections/",
	} {
		b.finder()
		b.set("#find-anything", text)
		b.until(`!!document.querySelector('.p-autocomplete-overlay [role=option][data-p-focused=true]')`)
		b.key(kb.Enter)
		b.comesTo(page)
	}

	// What is not all shown is said, and what could not be looked at, too.
	b.finder()
	b.set("#find-anything", "fernmoor")
	b.sees("more fit. Type more of the name.")
	w.service.Stop()
	b.set("#find-anything", "fernmoor.e")
	b.sees("Could not be looked for. Try again.")
	b.key(kb.Escape)
	b.until(`!document.querySelector('.p-autocomplete-overlay')`)
	b.key(kb.Escape)
	b.until(`!document.querySelector('[role=dialog]')`)
}

// Where one is, is in the address: reload, Back and a sent link show the same.
func addressSaysWhatIsShown(t *testing.T, w *world) {
	t.Helper()
	b := w.browse("/sections")
	b.sees("7 shown")
	b.label("term", "First term")
	b.comesTo("/sections?term=First+term")
	b.set(`[aria-label="Find"]`, "soil")
	b.sees("Soil science A")
	b.until(`!document.body.innerText.includes('Glasshouse climate A')`)
	b.comesTo("/sections?term=First+term&text=soil")
	b.do(chromedp.Reload())
	b.sees("Soil science A")
	b.until(`document.querySelector('[aria-label="Find"]').value === 'soil' && !document.body.innerText.includes('Glasshouse climate A')`)
	other := b.tab("/sections?term=First+term&text=soil")
	other.sees("Soil science A")
	b.front()
	b.goes("Findings")
	b.press(`//button[starts-with(normalize-space(.), "left out on purpose")]`)
	b.comesTo("/findings?group=left-out")
	b.sees("left out on purpose")
	b.do(chromedp.Evaluate[chromedp.Void](`history.back()`))
	b.until(`location.pathname === '/findings' && location.search === '' && document.querySelector('[aria-selected=true], [aria-pressed=true]').innerText.startsWith('needs a person')`)
	b.do(chromedp.Evaluate[chromedp.Void](`history.back()`)) // to the board, by which it went
	b.comesTo("/board")
	b.do(chromedp.Evaluate[chromedp.Void](`history.back()`))
	b.comesTo("/sections?term=First+term&text=soil")
	b.sees("Soil science A")
	// What is sorted stays sorted.
	b.open("/findings?group=left-out")
	b.press(`//th[contains(., "Who or what")]`)
	b.comesTo("/findings?group=left-out&sort=subject")
	b.press(`//th[contains(., "Who or what")]`)
	b.comesTo("/findings?group=left-out&sort=-subject")
	b.do(chromedp.Reload())
	b.until(`document.querySelector('th[aria-sort=descending]')?.innerText.includes('Who or what')`)
	// A list of any length is sorted by the service.
	b.open("/sections")
	b.press(`//th[contains(., "Learners")]`)
	b.comesTo("/sections?sort=learners")
	b.press(`//th[contains(., "Learners")]`)
	b.comesTo("/sections?sort=-learners")
	b.until(`document.querySelector('tbody tr')?.innerText.includes('Advisory hour')`)
	b.do(chromedp.Reload())
	b.until(`document.querySelector('th[aria-sort=descending]')?.innerText.includes('Learners') &&
		document.querySelector('tbody tr')?.innerText.includes('Advisory hour')`)
	// What is looked for is named again.
	people, err := client.Get[api.Page[api.Person]](t.Context(), w.Client, "/people?text=finn")
	require.NoError(t, err)
	b.open("/deliveries?state=waiting&person=" + people.Items[0].ID)
	b.until(`document.querySelector('input[aria-label="person"]')?.value.startsWith('Finn Fennel')`)
	// Whoever comes by keyboard passes over the navigation.
	b.open("/runs")
	b.sees("Propagation, group A")
	b.key(kb.Tab)
	b.until(`document.activeElement?.innerText === 'To the content'`)
	b.key(kb.Enter)
	b.until(`document.activeElement?.id === 'content'`)
}

// An empty installation leads by the hand, from the first screen to the first class, each step with its check.
func TestConsoleFirstHour(t *testing.T) {
	w := newWorld(t)
	b := newBrowser(t, w.service.Address)
	b.open("/setup?secret=" + w.service.SetupSecret)
	b.fill("name", "Maud Marrow")
	b.fill("email", scenario.Email)
	b.fill("password", scenario.Password)
	b.click("Set up")
	b.sees("First steps")
	b.picture("first-steps")
	b.click("Put away")
	b.sees("0 of 5 first steps are done.")
	b.click("Show them")
	b.click("Connect a register")
	b.fill("name", scenario.RegisterName)
	b.fill("i0-address", w.At.Register)
	b.fill("i0-tokenAddress", w.At.Register+"/oauth/token")
	b.fill("i0-clientId", "kanban")
	b.fill("i0-clientSecret", "green-fingers")
	b.click("Save and test")
	b.sees("A token was given out and people can be read.")
	b.goes("To do")
	b.sees("School register: tested, works.")
	b.click("Read now, on its page")
	b.click("Read now")
	b.sees("70 people")
	b.goes("To do")
	b.sees("7 sections read.")
	b.click("Connect a service")
	b.until(`document.querySelector('#i0-kind')?.innerText.includes('Workspace')`)
	b.fill("name", scenario.WorkspaceName)
	b.fill("i0-address", w.At.Workspace+"/scim/v2")
	b.fill("i0-token", "potting-shed")
	b.click("Save and test")
	b.sees("Groups can be read")
	b.goes("To do")
	b.click("Choose a section")
	b.press(`(//button[normalize-space(.)="Pair…"])[1]`)
	b.click("Pair and preview")
	b.comesTo("/pairings/")
	b.goes("To do")
	b.sees("1 section is paired.")
	b.click("Open the pairing and run it")
	b.press(`//tbody//tr[contains(., "never run")]`)
	b.press(`//button[starts-with(normalize-space(.), "Run: ")]`)
	b.comesTo("/runs/")
	b.sees("This run")
	b.goes("To do")
	b.sees("sections by state")
	b.until(`!document.body.innerText.includes('First steps')`)
}

// Thirty sections are paired from the board with four clicks.
func pairsMany(t *testing.T, w *world) {
	t.Helper()
	b := w.browse("/board")
	b.sees("Glasshouse climate A")
	b.press(`input[aria-label="Choose all 6 in this column"]`)
	b.click("Pair 6 at Chat workspace…")
	b.click("Show what it means")
	b.sees("nothing has been done yet")
	b.click("Do exactly this: 6")
	b.sees("This has ended.")
	pairings, err := client.Get[api.Page[api.Pairing]](t.Context(), w.Client, "/pairings")
	require.NoError(t, err)
	assert.Len(t, pairings.Items, 7, "one was paired before")
}

// A read that the guard stopped is approved where it is shown; what is at work shows on every page, and its end
// is said.
func approvesAStoppedRead(t *testing.T, w *world) {
	t.Helper()
	w.withdrawMost()
	register := w.Interfaces[scenario.RegisterName].ID
	stopped, err := client.Post[api.Run](t.Context(), w.Client, "/interfaces/"+register+"/read", api.ReadRequest{})
	require.NoError(t, err)
	b := w.browse("/runs/" + stopped.ID)
	b.sees("nothing was changed")
	b.click("That is right, read again without the guard…")
	b.sees("Read again without the guard?")
	b.click("Leave it")
	b.until(`!document.querySelector('[role=alertdialog]')`)
	b.click("That is right, read again without the guard…")
	b.click("Read it")
	b.until(`!location.pathname.endsWith(` + quoted(stopped.ID) + `)`)
	b.sees("finished")
	runs, err := client.Get[api.Page[api.Run]](t.Context(), w.Client, "/runs")
	require.NoError(t, err)
	assert.Equal(t, []string{"finished", "failed"}, []string{runs.Items[0].State, runs.Items[1].State})
}

// withdrawMost has the register lose most learners of one large section.
func (w *world) withdrawMost() {
	w.t.Helper()
	for _, id := range strings.Fields(withdrawn) {
		w.office("withdrawals", "person", id, "section", "sec-prop-a")
	}
}

const withdrawn = "stu-001 stu-002 stu-003 stu-004 stu-005 stu-007 stu-008 stu-009 stu-010 stu-011"

// What is at work shows on every page while it is, and its end is said wherever one is.
func saysWhatIsAtWork(t *testing.T, w *world) {
	t.Helper()
	b := w.browse("/rules")
	b.sees("Ready rules…")
	w.set("workspace", fault.Fault{Kind: fault.Latency, Millis: 2000})
	preview, err := client.Post[api.Preview](t.Context(), w.Client, "/pairings/"+w.Pairing.ID+"/previews", nil)
	require.NoError(t, err)
	run, err := client.Post[api.Run](t.Context(), w.Client, "/runs", api.NewRun{PreviewID: preview.ID})
	require.NoError(t, err)
	b.sees("1 at work")
	b.press(`//button[contains(., "at work")]`)
	b.sees("Run of Propagation, group A")
	b.sees("It goes on when you leave.")
	b.key(kb.Escape)
	w.clear("workspace")
	b.sees("Run of Propagation, group A needs a person")
	b.sees("9 added")
	b.click("Show it")
	b.comesTo("/runs/" + run.ID)
}
