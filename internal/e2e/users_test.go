package e2e_test

import (
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// invited finds the link of an invitation in the inbox, below the service's address.
func (w *world) invited(to string) string {
	w.t.Helper()
	mail := w.mailTo(to, "Maud Marrow invites you to Kanban")
	link := regexp.MustCompile(`/invitation\?secret=\S+`).FindString(mail.Text)
	require.NotEmpty(w.t, link, mail.Text)
	return link
}

// An administrator invites an operator and a reader; each chooses a password, and sees and may do what the role
// allows.
func TestConsoleUsers(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	b := w.browse("/settings")
	b.goes("Users")
	b.click("Invite somebody…")
	b.fill("user-name", "Otto Onion")
	b.fill("user-email", "otto")
	b.choose("user-role", "operator: rosters, scores, rules, badges; no credentials")
	b.click("Invite")
	b.sees("is not an e-mail address")
	b.fill("user-email", "otto.onion@fernmoor.example")
	b.click("Invite")
	b.sees("otto.onion@fernmoor.example was mailed a link")
	b.picture("users")
	b.goes("Audit trail")
	b.sees("invited a user")
	b.goes("Users")

	otto := newBrowser(t, w.service.Address)
	link := w.invited("otto.onion@fernmoor.example")
	otto.open(link)
	otto.sees("Choose a password.")
	otto.fill("password", "short")
	otto.click("Go in")
	otto.sees("use at least 12 characters")
	otto.fill("password", "sow-more-onions")
	otto.click("Go in")
	otto.sees("Board")
	otto.goes("Connections")
	otto.sees("School register")
	otto.until(`!document.querySelector('a[href="/settings/users"]')`)
	otto.open("/settings/users")
	otto.sees("your role (operator) does not allow this; ask somebody who is: administrator")
	late := newBrowser(t, w.service.Address)
	late.open(link)
	late.fill("password", "sow-more-onions")
	late.click("Go in")
	late.sees("this link was used already")

	in, err := client.Post[api.Invitation](t.Context(), w.Client, "/users",
		api.NewUser{Name: "Rita Rose", Email: "rita.rose@fernmoor.example", Grant: &api.NewRoleGrant{Role: "reader"}})
	require.NoError(t, err)
	require.True(t, in.Mailed, in.Why)
	rita := newBrowser(t, w.service.Address)
	rita.open(w.invited("rita.rose@fernmoor.example"))
	rita.fill("password", "roses-for-all-of-us")
	rita.click("Go in")
	rita.sees("How far learners have come")
	rita.until(`[...document.querySelectorAll('nav[aria-label="What to do"] a')].map((a) => a.innerText).join() ===
		"Reports"`)
	rita.open("/people")
	rita.sees("How far learners have come")

	b.press(`button[aria-label="Change Rita Rose"]`)
	b.click("Let them in no more")
	b.until(`!document.body.innerText.includes("Rita Rose")`)
	rita.open("/reports/stopped")
	rita.sees("Sign in")
}

// Who may sign in is minded from the command line too.
func TestUsersInTheCommandLine(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.SetUp(t.Context(), w.service.SetupSecret))
	env := []string{"HOME=" + t.TempDir(), "KANBAN_ADDRESS=" + w.service.Address}
	w.signIn(env)
	expect := w.expecting(env)
	out := expect(0, "is not shown again", "users", "invite", "Otto Onion", "otto@fernmoor.example", "--role",
		"operator")
	assert.Equal(t, 1, strings.Count(out, "/invitation?secret="))
	expect(0, "invited", "users", "list")
	expect(0, "Otto Onion, otto@fernmoor.example: support", "users", "edit", "otto@fernmoor.example", "--role",
		"support")
	expect(1, "last administrator", "users", "remove", "maud@fernmoor.example")
	expect(0, "may not sign in any more", "users", "remove", "Otto Onion")
	expect(2, "there is no user", "users", "remove", "Otto Onion")

	require.NoError(t, w.Connect(t.Context()))
	require.NoError(t, w.ReadRegister(t.Context()))
	expect(0, "olive@fernmoor.example was mailed a link", "users", "invite", "Olive", "olive@fernmoor.example", "--role",
		"operator", "--course", "ORCH")
	expect(0, "Olive, olive@fernmoor.example: operator in the course Orchard care; awarder in the section", "users",
		"grant", "Olive", "--role", "awarder", "--section", "PROP-A")
	expect(0, "Olive, olive@fernmoor.example: operator in the course Orchard care.", "users", "end-role", "Olive",
		"--role", "awarder", "--section", "PROP-A")
	expect(2, "has no such role", "users", "end-role", "Olive", "--role", "reader")
	expect(2, "give one of --organisation, --course and --section", "users", "grant", "Olive", "--role", "support",
		"--section", "PROP-A", "--course", "ORCH")
	expect(0, "tea-002", "people", "find", "tea-002")
	expect(0, "was mailed a link", "users", "invite", "--person", "tea-002")
	expect(0, "as the register says", "users", "list")
	expect(0, "administrator", "me")
	expect(0, "kbt_", "tokens", "make", "wall screen", "--role", "support", "--course", "PROP", "--days", "7")
	list := expect(0, "support in the course Propagation", "tokens", "list")
	id := regexp.MustCompile(`(\S+) +wall screen`).FindStringSubmatch(list)
	require.Len(t, id, 2)
	expect(0, "The token has ended.", "tokens", "end", id[1])
	expect(2, "no such record", "tokens", "end", id[1])
	expect(0, "Go-http-client", "sessions", "list")
}

// enters lets somebody who was invited choose a password, in a browser of their own.
func (w *world) enters(email string) *browser {
	w.t.Helper()
	b := newBrowser(w.t, w.service.Address)
	b.open(w.invited(email))
	b.fill("password", "sow-more-onions")
	b.click("Go in")
	return b
}

// refusals counts what the service refused to a page, by address.
const refusals = `performance.getEntriesByType('resource').filter((r) => r.responseStatus === 403).map((r) => r.name)`

// An administrator invites an operator for one course, a teacher and a learner of the register: each sees what is
// theirs, on every page that the navigation offers, and no page asks for what they may not see.
func TestConsoleForAPartOfTheInstitution(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	b := w.browse("/settings/users")
	b.click("Invite somebody…")
	b.fill("user-name", "Olive Oak")
	b.fill("user-email", "olive.oak@fernmoor.example")
	b.choose("user-role", "operator: rosters, scores, rules, badges; no credentials")
	b.choose("user-scope", "the sections of a course")
	b.finds("Title or code", "ORCH", "Orchard care · ORCH")
	b.click("Invite")
	b.sees("olive.oak@fernmoor.example was mailed a link")
	b.sees("operator in the course Orchard care")
	for _, who := range []string{"tea-002", "stu-001"} {
		b.click("Invite somebody…")
		b.finds("name, address or identifier", who, who)
		b.click("Invite")
		b.sees("was mailed a link")
		b.until(`!document.querySelector('[role=dialog]')`)
	}
	b.sees("teacher and learner as the register says")
	b.picture("users")

	pages := map[string]bool{}
	for email, sees := range map[string][2]string{
		"olive.oak@fernmoor.example":  {"Orchard care A", "Propagation"},
		"otto.onion@fernmoor.example": {"Propagation", "Orchard care"},
	} {
		own, other := sees[0], sees[1]
		x := w.enters(email)
		x.sees(own)
		for _, to := range ask(x, chromedp.Evaluate[[]string](everyWay, chromedp.EvalAwaitPromise)) {
			pages[to] = true
			x.open(to)
			x.rested()
			assert.Empty(t, ask(x, chromedp.Evaluate[[]string](refusals)), "%s for %s", to, email)
		}
		x.open("/sections")
		x.sees(own)
		x.until(`!document.querySelector('table').innerText.includes(` + quoted(other) + `)`)
		x.open("/connections")
		x.sees("your role holds for a part of the institution")
		assert.NotEmpty(t, ask(x, chromedp.Evaluate[[]string](refusals)))
	}
	assert.True(t, pages["/teaching"] && pages["/board"] && pages["/tasks"] && pages["/sections/linked"] &&
		pages["/mine"], pages)
	assert.False(t, pages["/connections"] || pages["/rules"] || pages["/settings"] || pages["/reports"], pages)

	ada := w.enters("ada.alder@fernmoor.example")
	ada.sees("My page")
	ada.sees("Propagation A")
	ada.picture("mine")
	ada.until(`[...document.querySelectorAll('header nav a')].map((a) => a.innerText).join() === "My page,Account"`)
	ada.open("/people")
	ada.sees("You have no badge yet.")

	b.press(`button[aria-label="Change Olive Oak"]`)
	b.press(`button[aria-label="End operator in the course Orchard care"]`)
	b.sees("no role")
	b.choose("user-role", "support: sees all, finishes tasks")
	b.click("Give this role too")
	b.until(`document.querySelector('[role=dialog]').innerText.includes("support")`)
	b.click("Save")
	b.until(`!document.querySelector('[role=dialog]')`)
	now, err := client.Get[api.Page[api.User]](t.Context(), w.Client, "/users")
	require.NoError(t, err)
	for _, u := range now.Items {
		if u.Name == "Olive Oak" {
			require.Len(t, u.Grants, 1)
			assert.Equal(t, "support", u.Grants[0].Role)
		}
	}
}

// Somebody signed in twice ends one session from the other, changes the password, and minds their tokens.
func TestConsoleAccount(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.SetUp(t.Context(), w.service.SetupSecret))
	b := w.browse("/board")
	other := newBrowser(t, w.service.Address)
	other.signsIn("/board")
	other.sees("First steps")
	b.click("Account")
	b.sees("Where you are signed in")
	b.sees("this one")
	b.fill("token-name", "wall screen")
	b.choose("token-role", "support")
	b.fill("token-days", "30")
	b.click("Make a token")
	b.sees("Copy it now, it is not shown again: kbt_")
	b.sees("wall screen support never")
	b.picture("account")
	b.press(`button[aria-label="End this one: Chrome on Linux"]`)
	b.until(`!document.querySelector('button[aria-label="End this one: Chrome on Linux"]')`)
	other.sees("Sign in")
	b.press(`button[aria-label="End the token wall screen"]`)
	b.until(`!document.querySelector('button[aria-label="End the token wall screen"]')`)
	b.fill("old-password", "wrong-wrong-wrong")
	b.fill("new-password", "grow-even-more-plants")
	b.click("Change the password")
	b.sees("is not your password")
	b.fill("old-password", "grow-more-plants")
	b.click("Change the password")
	b.sees("The password is changed; your other sessions have ended.")
}

// An awarder of one section and issuer awards a badge to somebody of it, finds nobody else, and is offered nothing
// that is not theirs.
func TestConsoleAwarder(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	issuers, err := client.Get[api.Page[api.Issuer]](t.Context(), w.Client, "/issuers")
	require.NoError(t, err)
	sections, err := client.Get[api.SectionPage](t.Context(), w.Client, "/sections?called=ORCH-A")
	require.NoError(t, err)
	_, err = client.Post[api.Invitation](t.Context(), w.Client, "/users", api.NewUser{
		Name: "Awa Arnica", Email: "awa@fernmoor.example", Grant: &api.NewRoleGrant{
			Role: "awarder", Scope: "section", ScopeID: sections.Items[0].ID, IssuerID: issuers.Items[0].ID,
		},
	})
	require.NoError(t, err)
	b := w.enters("awa@fernmoor.example")
	b.goes("Badges")
	b.press(`[aria-label="Award the badge Cuttings"]`)
	b.set(`input[aria-label="name, address or identifier"]`, "stu-001")
	b.sees("Nothing fits")
	b.finds("name, address or identifier", "stu-037", "stu-037")
	b.click("Show what happens")
	b.sees("1 to award")
	b.click("Award 1")
	b.sees("1 awarded")
	b.click("Close")
	b.sees("Kaspar Karri Cuttings")
	for _, other := range []string{"Make a badge…", "Change…", "Withdraw", "Picture…"} {
		b.until(`!document.body.innerText.includes(` + quoted(other) + `)`)
	}
	assert.Empty(t, ask(b, chromedp.Evaluate[[]string](refusals)))
	b.picture("awarder")
}

// everyWay follows the navigation: every page of every area.
const everyWay = `(async () => {
	const found = new Set(), wait = () => new Promise((done) => setTimeout(done, 50))
	for (const area of [...document.querySelectorAll('nav[aria-label="What to do"] a, a.account')]) {
		area.click()
		for (let i = 0; i < 400 && area.getAttribute('aria-current') !== 'true'; i++) await wait()
		for (const a of document.querySelectorAll('nav.pages a')) found.add(a.getAttribute('href'))
	}
	return [...found]
})()`

// The screen is shown to others with made-up names, on every page; and Kanban is looked at as a teacher and a learner
// see it, with nothing to change.
func TestConsoleShownToOthers(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	people, err := client.Get[api.Page[api.Person]](t.Context(), w.Client, "/people?text=stu-003")
	require.NoError(t, err)
	cleo := "/people/" + people.Items[0].ID
	b := w.browse("/account")
	b.click("Hide names")
	b.sees("Names, user names and addresses are made up")
	none := `!/clover|dario dill|@post\.example/i.test(document.body.innerText)`
	b.open(cleo)
	b.sees("e-mail address shared by two people")
	b.until(none)
	b.picture("names-hidden")
	name := ask(b, chromedp.Evaluate[string](`document.querySelector("h1").innerText`))
	b.do(chromedp.Reload())
	b.until(`document.querySelector("h1")?.innerText === ` + quoted(name))
	for _, page := range []string{
		"/board", "/findings", "/runs", "/deliveries", "/settings/users",
		"/settings/audit",
	} {
		b.open(page)
		b.rested()
		b.until(none)
	}
	b.click("Show names again")
	b.until(`document.readyState === "complete" && document.querySelector("h1") && !document.body.innerText.includes("are made up")`)
	b.open(cleo)
	b.sees("Cleo Clover")

	b.click("View as them")
	b.sees("You see what Cleo Clover sees. Nothing can be changed meanwhile.")
	b.sees("My page")
	b.until(`!document.querySelector('header a[href="/account"]')`)
	b.open("/board")
	b.sees("My page")
	b.click("Look as myself again")
	b.sees("View as them")
	b.open("/settings/audit")
	b.sees("began to view as somebody")
	b.sees("ended viewing as somebody")
}
