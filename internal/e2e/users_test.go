package e2e_test

import (
	"regexp"
	"strings"
	"testing"

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
	expect(1, "0 users called", "users", "remove", "Otto Onion")
}
