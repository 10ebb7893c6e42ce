package e2e_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kanban/internal/scenario"
)

// Rules in the console: an outline looked at, an operation tried, a rule built with its
// mistakes shown while typing, tried out, switched on, caught up, followed, and its
// failed deliveries found and tried again; and who has access, beside who is enrolled.
func TestConsoleRules(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	b := newBrowser(t, w.service.Address)
	b.open("/sign-in?then=/access")
	b.fill("email", scenario.Email)
	b.fill("password", scenario.Password)
	b.click("Sign in")
	b.sees("A place in Propagation")
	b.sees("● go together")
	require.NoError(t, w.form(t, w.At.Shop+"/orders", "offer", "garden-gloves", "name", "Gus Gloves", "email", "gus@elsewhere.example"))
	b.sees("sold “garden-gloves” to 1 person") // without a refresh
	require.NoError(t, w.form(t, w.At.Shop+"/orders/order-1001/cancel"))
	b.sees("in grace until")
	b.picture("access")

	outline(b)
	operation(b)
	build(b, w)
	follow(t, b, w)
}

func (w *world) form(t *testing.T, address string, pairs ...string) error {
	t.Helper()
	var body []string
	for i := 0; i < len(pairs); i += 2 {
		body = append(body, pairs[i]+"="+strings.ReplaceAll(strings.ReplaceAll(pairs[i+1], "@", "%40"), " ", "+"))
	}
	resp, err := http.Post(address, "application/x-www-form-urlencoded", strings.NewReader(strings.Join(body, "&")))
	if err == nil {
		resp.Body.Close()
	}
	return err
}

// outline drops what the learners have not done; the preview says whom that completes.
func outline(b *browser) {
	b.click("Outlines")
	b.sees("5 activities")
	b.until(`[...document.querySelectorAll('input')].some(i => i.value === 'The graft union')`)
	b.do(chromedp.Click(`//fieldset[.//input[@aria-label="Module 2"]]//button[normalize-space(.)="Remove"]`))
	b.click("Whom would it complete or reopen?")
	b.sees("the course would become done for 1 and be open again for 0")
	b.sees("Tamsin Trial, Propagation A: 60 % → 100 %")
	b.picture("outline")
	b.open("/outlines") // and leaves it as it is
	b.sees("5 activities")
}

func operation(b *browser) {
	b.click("Connections")
	b.click("Operations…")
	b.sees("Add a label to a contact")
	b.do(chromedp.Click(`//article[.//b[normalize-space(.)="Add a label to a contact"]]//button[normalize-space(.)="Edit and try…"]`))
	b.sees("Try it for real")
	for i, text := range []string{"maud@fernmoor.example", "weeds"} {
		x := `(//form//h2/following-sibling::div[1]//input)[` + string(rune('1'+i)) + `]`
		b.do(chromedp.WaitVisible(x), chromedp.SendKeys(x, text))
	}
	b.click("Call it now")
	b.sees(`the service has no label "weeds"; it has ["learner"`)
}

func build(b *browser, w *world) {
	b.click("Rules")
	b.sees("Course finished")
	b.click("Make a rule…")
	b.fill("rule-name", "Tell the office")
	b.choose("trigger", "activity.completed")
	b.fill("condition", `event.percnt >= 20`)
	b.sees(`event has no "percnt" here; it has id, type, at, percent, score`)
	b.fill("condition", `event.percent >= 20`)
	b.click("+ call an operation")
	b.choose("operation-1", "Add a label to a contact")
	b.fill("value-1-1", `"learner"`)
	b.click("+ open a task")
	b.fill("subject-2", "Praise {{.person.givenName}}")
	b.sees("for a made-up event: Praise Tamsin")
	b.click("Save")
	b.sees("call an operation, then open a task")
	b.click("Tell the office")
	b.sees("Try it out nobody is reached")
	b.sees("next: Tried out as it is now")
	b.click("Try it")
	b.sees("the condition holds")
	b.sees("● what it needs exists at the service")
	b.click("Look back")
	b.sees("events; the condition held for")
	b.sees("to do")
	b.picture("rule")
}

func follow(t *testing.T, b *browser, w *world) {
	req, err := http.NewRequest(http.MethodPut, w.At.Control+"/faults/contacts", strings.NewReader(`{"kind":"status","status":422,"path":"/api/contacts"}`))
	require.NoError(t, err)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	b.click("Switch on")
	b.sees("Switch off")
	b.sees("● live")
	x := `//button[starts-with(normalize-space(.), "Catch up with these")]`
	b.do(chromedp.WaitVisible(x), chromedp.Click(x))
	b.sees("0 to do")
	b.click("Deliveries")
	b.sees("refused (422)")
	b.click("Board")
	b.sees("Tell the office") // found from the board
	b.click("Rules")
	b.click("Tell the office")
	b.click("Deliveries")
	b.sees("waiting")
	req, err = http.NewRequest(http.MethodDelete, w.At.Control+"/faults/contacts", nil)
	require.NoError(t, err)
	resp, err = http.DefaultClient.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	b.click("Try these again")
	b.sees("again.")
	b.until(`!document.body.innerText.includes('refused (422)')`) // without a refresh
	b.click("Rules")
	b.click("Tasks")
	b.sees("Praise Tamsin")
	praises := `[...document.querySelectorAll('tr')].filter(r => r.innerText.includes('Praise Tamsin')).length`
	b.until(praises + ` === 3`)
	b.do(chromedp.Click(`(//tr[contains(., "Praise Tamsin")]//button[normalize-space(.)="Done"])[1]`))
	b.until(praises + ` === 2`)
	b.sees("Finished, 1 row")
}
