package e2e_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

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
	b := w.browse("/access")
	b.sees("A place in Propagation")
	b.sees("● agree")
	require.NoError(t, w.form(t, w.At.Shop+"/orders", "offer", "garden-gloves", "name", "Gus Gloves", "email",
		"gus@elsewhere.example"))
	b.sees("sold “garden-gloves” to 1 person") // without a refresh
	require.NoError(t, w.form(t, w.At.Shop+"/orders/order-1001/cancel"))
	b.sees("in grace until")
	b.picture("access")

	meaning(b)
	outline(b)
	operation(b)
	build(b, w)
	follow(t, b, w)
}

// form posts a form to a stand-in's page.
func (w *world) form(t *testing.T, address string, pairs ...string) error {
	t.Helper()
	values := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		values.Set(pairs[i], pairs[i+1])
	}
	resp, err := http.PostForm(address, values)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode >= 400 {
		return fmt.Errorf("%s: %s", address, resp.Status)
	}
	return nil
}

// meaning builds a service's expressions from what it really sent, and leaves them.
func meaning(b *browser) {
	b.goes("Connections")
	b.click("Garden shop")
	b.click("What its events mean…")
	b.sees("○ ends access")
	b.sees("gus@elsewhere.example")
	b.sees("→ A place in Propagation")
	b.fill("offer", "event.dta.offer")
	b.sees(`event has no "dta"`)
	b.press(`//button[.//code[normalize-space(.)="event.data.offer"]]`)
	b.until(`document.querySelector('#offer').value === 'event.data.offer'`)
	b.fill("starts", `event.reported == "purchase.cancelled"`)
	b.sees("✕ both at once")
	b.fill("starts", `event.reported == "purchase.completed"`)
	b.sees("● gives access")
	b.click("Save")
	b.sees("what comes from now on is read that way")
}

// outline drops what the learners have not done; the preview says whom that completes.
func outline(b *browser) {
	b.goes("Outlines")
	b.sees("5 activities")
	b.until(`[...document.querySelectorAll('input')].some(i => i.value === 'The graft union')`)
	b.press(`//fieldset[.//input[@aria-label="Module 2"]]//button[normalize-space(.)="Remove"]`)
	b.click("Whom would it complete or reopen?")
	b.sees("the course would become done for 1 and be open again for 0")
	b.sees("Tamsin Trial, Propagation A: 60 % → 100 %")
	b.sees("▲ Not in it any more: the stage First graft of Propagator asks for Grafting.")
	b.picture("outline")
	packed := filepath.Join(b.t.TempDir(), "course.imscc")
	require.NoError(b.t, os.WriteFile(packed, cartridgeOf(b.t), 0o600))
	b.do(chromedp.SetUploadFiles(`input[aria-label^="Package, manifest or table"]`, []string{packed}))
	b.until(`[...document.querySelectorAll('input')].some(i => i.value === 'Out of the package')`)
	b.goes("Stage plans")
	b.sees("It is not saved yet.")
	b.click("Drop it")
	b.sees("Make a stage plan…")
	b.open("/outlines") // it is as it was
	b.sees("5 activities")
}

// cartridgeOf is a package whose manifest has one lesson, between other files.
func cartridgeOf(t testing.TB) []byte {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for name, text := range map[string]string{
		"web/a.html": strings.Repeat("<p>", 5000),
		"imsmanifest.xml": `<manifest xmlns="http://www.imsglobal.org/xsd/imsccv1p3/imscp_v1p1"><organizations><organization><item>
		<item identifier="m"><title>Packed</title><item identifier="a" identifierref="r"><title>Out of the package</title></item></item></item></organization></organizations>
		<resources><resource identifier="r" type="webcontent"/></resources></manifest>`,
	} {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(w, text)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return out.Bytes()
}

func operation(b *browser) {
	b.goes("Connections")
	b.click("Plant news")
	b.click("Operations…")
	b.sees("Add a label to a contact")
	b.press(`//article[.//b[normalize-space(.)="Add a label to a contact"]]//button[normalize-space(.)="Edit and try…"]`)
	b.sees("Try it for real")
	for i, text := range []string{"maud@fernmoor.example", "weeds"} {
		x := `(//form//h2/following-sibling::div[1]//input)[` + string(rune('1'+i)) + `]`
		b.set(x, text)
	}
	b.click("Call it now")
	b.sees(`the service has no label "weeds"; it has ["learner"`)
}

func build(b *browser, w *world) {
	b.goes("Rules")
	b.sees("Course finished")
	b.click("Make a rule…")
	b.fill("rule-name", "Tell the office")
	b.choose("trigger", "activity completed")
	b.fill("condition", `event.percnt >= 20`)
	b.sees(`event has no "percnt" here; it has id, type, at, percent, score`)
	b.fill("condition", `event.percent >= 20`)
	b.click("+ call an operation")
	b.choose("operation-1", "Add a label to a contact")
	b.fill("value-0-fields-1", `"learner"`)
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
	req, err := http.NewRequest(http.MethodPut, w.At.Control+"/faults/contacts",
		strings.NewReader(`{"kind":"status","status":422,"path":"/api/contacts"}`))
	require.NoError(t, err)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	b.click("Switch on")
	b.sees("Switch off")
	b.sees("● live")
	x := `//button[starts-with(normalize-space(.), "Catch up with these")]`
	b.press(x)
	b.sees("0 to do")
	b.goes("Deliveries")
	b.sees("refused (422)")
	b.goes("Board")
	b.sees("Tell the office") // found from the board
	b.goes("Rules")
	b.click("Tell the office")
	b.press(`//main//a[normalize-space(.)="Deliveries"]`)
	b.sees("waiting")
	req, err = http.NewRequest(http.MethodDelete, w.At.Control+"/faults/contacts", nil)
	require.NoError(t, err)
	resp, err = http.DefaultClient.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	b.click("Try these again")
	b.sees("again.")
	b.until(`!document.body.innerText.includes('refused (422)')`) // without a refresh
	b.goes("Tasks")
	b.sees("Praise Tamsin")
	praises := `[...document.querySelectorAll('tr')].filter(r => r.innerText.includes('Praise Tamsin')).length`
	b.until(praises + ` === 3`)
	b.press(`(//tr[contains(., "Praise Tamsin")]//button[normalize-space(.)="Done"])[1]`)
	b.until(praises + ` === 2`)
	b.sees("Finished, 1 row")

	b.open("/deliveries")
	b.sees("Greet new learners")
	b.finds("person", "tamsin", "Tamsin Trial")
	b.until(`(() => { const all = [...document.querySelectorAll('tbody tr')]; return all.length > 1 && all.every(r => r.innerText.includes('Tamsin Trial')) })()`)
}

// The same way by hand in the command line: the shop and the label service connected,
// an offer made, a rule built, tried, switched on, caught up, followed and tried again.
func TestCommandLineRules(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	expect := w.expecting(env)
	folder := t.TempDir()
	expect(0, "assessment", "courses", "outline", "PROP", w.At.Platform+"/courses/propagation/imsmanifest.xml",
		"--prefix", w.At.Platform+"/activities/")
	table := expect(0, "module,module title,activity", "courses", "show", "PROP")
	csv := filepath.Join(folder, "outline.csv")
	require.NoError(t, os.WriteFile(csv, []byte(strings.Replace(table, ",lesson,", ",game,", 1)), 0o600))
	expect(2, "row 2: the kind is \"game\"", "courses", "outline", "PROP", csv, "--preview")
	require.NoError(t, os.WriteFile(csv, []byte(table), 0o600))
	bare := filepath.Join(t.TempDir(), "bare.csv")
	require.NoError(t, os.WriteFile(bare, []byte("module,module title,activity,title,kind\n"), 0o600))
	expect(2, "holds no module", "courses", "outline", "PROP", bare)
	expect(2, "say when it happens", "rules", "add", "Some rule")
	expect(0, "Nothing would change for anybody", "courses", "outline", "PROP", csv, "--preview")
	packed := filepath.Join(folder, "course.imscc")
	require.NoError(t, os.WriteFile(packed, cartridgeOf(t), 0o600))
	expect(0, "Out of the package", "courses", "outline", "Soil science", packed)
	expect(0, "http://adlnet.gov/expapi/verbs/mastered", "courses", "verbs")
	expect(0, "not begun", "people", "progress", "Ada Alder", "PROP-A")
	expect(0, "History is kept for ever", "history")
	expect(2, "3 to 240 months", "history", "keep", "2")
	expect(0, "for 12 whole months", "history", "keep", "12")
	expect(0, time.Now().UTC().Format("2006-01"), "history", "show")
	expect(0, "History is kept for ever", "history", "keep", "all")
	expect(0, "0 % of Propagation A", "people", "progress", "Ada Alder", "PROP-A")

	expect(0, "", "connections", "add", "Labels")
	expect(0, "works", "interfaces", "add", "Labels", "http-api", "--set", "address="+w.At.Contacts+"/api", "--set",
		"token=seed-packet", "--set", "probe=/labels")
	expect(0, "Defined remove-label", "operations", "define", "Labels", "remove-label", "--call",
		"DELETE /contacts/{email}/labels", "--value", "email", "--value", "label")
	expect(0, "Defined add-label", "operations", "define", "Labels", "add-label", "--call",
		"POST /contacts/{email}/labels", "--value", "email", "--value", "label",
		"--works-when", "answer.body.ok", "--values-of", "label=/labels answer.body", "--taken-back-by",
		"remove-label")
	expect(1, `has no label "weeds"`, "operations", "try", "Labels", "add-label", "--with", "email=a@x.example",
		"--with", "label=weeds")
	expect(0, "It worked", "operations", "try", "Labels", "add-label", "--with", "email=a@x.example", "--with",
		"label=learner")
	expect(0, "answer.body.ok  remove-label", "operations", "list", "Labels")

	expect(0, "", "connections", "add", "Shop")
	made := expect(0, "secret", "interfaces", "add", "Shop", "cloudevents")
	require.Contains(t, made, "whsec_")
	expect(0, "It has reported nothing yet", "interfaces", "meaning", "Shop")
	expect(0, "reference to", "interfaces", "meaning", "Shop", "--set", "person=evnt.data.email")
	expect(2, "there is no such expression", "interfaces", "meaning", "Shop", "--set", "buyer=event.subject")
	expect(0, "Saved", "interfaces", "meaning", "Shop", "--set", "offer=event.data.offer", "--save")
	expect(0, "", "connections", "add", "Places")
	expect(0, "works", "interfaces", "add", "Places", "scim", "--set", "address="+w.At.Platform+"/scim/v2", "--set",
		"token=garden-gate")
	expect(2, "there is no section", "offers", "add", "A place", "--sold-by", "Shop", "--as", "place", "--section",
		"NOPE", "--enrol-through", "Places")
	expect(0, "Made the offer", "offers", "add", "A place", "--sold-by", "Shop", "--as", "place", "--section",
		"PROP-A", "--enrol-through", "Places", "--grace", "7")
	expect(0, "Nobody has or had access", "offers", "compare", "A place")
	expect(0, "7 days", "offers", "list")

	expect(0, "person.givenName", "rules", "names", "section.joined")
	expect(2, `event has no "rolle"`, "rules", "add", "Greet", "--when", "section.joined", "--if",
		`event.rolle == "student"`, "--task", "x")
	quiet := time.Now().Add(6*time.Hour).Format("15:04-") + time.Now().Add(7*time.Hour).Format("15:04") // not now
	expect(0, "It is off", "rules", "add", "Greet", "--when", "section.joined", "--if",
		`event.role == "student" && section.code == "PROP-A"`,
		"--call-operation", "Labels/add-label", "--field", "email=person.email", "--field", `label="learner"`,
		"--task", "Greet {{.person.givenName}}", "--due", "3d", "--quiet-hours", quiet, "--most", "500/day")
	expect(0, "The condition", "rules", "try", "Greet", "--made-up")
	expect(1, "where test sends go", "rules", "try", "Greet", "--send")
	expect(2, "is not an e-mail address", "rules", "test-recipient", "nobody")
	expect(0, "Test sends go to maud@", "rules", "test-recipient", "maud@fernmoor.example")
	expect(0, "It would have done nothing", "rules", "look-back", "Greet")
	require.NoError(t, w.form(t, w.At.Register+"/office/enrolments", "person", "stu-060", "section", "sec-prop-a"))
	expect(0, "enrolments", "interfaces", "read", scenario.RegisterName)
	expect(0, "Tamsin Trial", "rules", "look-back", "Greet")
	expect(1, "the rule is off", "rules", "catch-up", "Greet", "--apply")
	expect(0, "Switch it on: kanban rules on", "rules", "checklist", "Greet")
	rule := filepath.Join(folder, "rule.yaml")
	text := expect(0, `trigger: section.joined`, "rules", "show", "Greet")
	require.NoError(t, os.WriteFile(rule, []byte(strings.Replace(text, "dueIn: 3d", "dueIn: 4d", 1)), 0o600))
	expect(0, "dueIn: 3d → 4d", "config", "apply", rule)
	expect(0, "Maud Marrow", "rules", "versions", "Greet")
	expect(1, "was not tried out as it is now", "rules", "on", "Greet")
	expect(0, "is on", "rules", "on", "Greet", "--untried")
	expect(0, "Nothing was done", "rules", "catch-up", "Greet")
	expect(0, "catches up with 1 event", "rules", "catch-up", "Greet", "--apply")
	soon(t, "the tasks are there", func() bool {
		out, _ := w.cli(env, "tasks", "list")
		return strings.Contains(out, "Greet Tamsin")
	})
	out, _ := w.cli(env, "deliveries", "list", "--rule", "Greet", "--person", "stu-060", "--output", "csv")
	require.Equal(t, 3, strings.Count(out, "\n"), "the label, the task, and the header: %s", out)
	expect(0, "Trying", "deliveries", "retry-all", "--to", "Labels")
	expect(2, "say which to try again", "deliveries", "retry-all")
	expect(0, "Looked", "rules", "check-now")
	expect(1, "the rule is on", "rules", "remove", "Greet")
	expect(2, `has no module "Cuttinks"`, "rules", "add", "Lost", "--when", "module.completed", "--course", "PROP",
		"--module", "Cuttinks", "--task", "x")
	expect(0, "It is off", "rules", "add", "Lost", "--when", "module.completed", "--module", "nowhere", "--task", "x")
	expect(0, `No outline has the module "nowhere"`, "rules", "checklist", "Lost")
	expect(0, "It is off", "rules", "add", "Here", "--when", "activity.completed", "--course", "PROP", "--module",
		"Cuttings", "--activity", "Clean tools", "--task", "x")
	expect(0, "Propagation · Cuttings · Clean tools", "rules", "list")
	expect(0, "No rule has filled a sheet yet", "sheets", "list")
}
