package e2e_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// signsInAs goes through the page of the school's own sign-in.
func (b *browser) signsInAs(account string) {
	b.t.Helper()
	b.click("Sign in with " + scenario.ProviderName)
	b.sees("Stand-in for an institution's own sign-in")
	b.chooseNative("#account", account)
	b.press("#allow")
}

// An administrator connects the school's own sign-in, tries what claims would get, and people sign in there: a teacher
// who sees her own section, and somebody whom it gives nothing, who is told so.
func TestConsoleSignInAtAProvider(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Pair)
	b := w.browse("/board")
	b.goes("Sign in")
	b.sees("No provider yet: people sign in with a password.")
	b.click("Add a provider")
	b.fill("provider-name", scenario.ProviderName)
	b.fill("provider-issuer", "fernmoor")
	b.fill("provider-client", "kanban-sign-in")
	b.fill("provider-secret", "potting-shed")
	b.choose("provider-admits", "whoever its claims give a role, or who is in the register")
	b.choose("provider-believes", "those that it says are verified")
	b.fill("provider-person", "school_id")
	b.fill("provider-claim", "groups")
	b.fill("provider-value", "help-desk")
	b.choose("user-role", "support: sees all, finishes tasks")
	b.click("Add this")
	b.sees("where groups is help-desk: support")
	b.click("Add")
	b.sees("is the address of the provider")
	b.fill("provider-issuer", w.At.Identity)
	b.click("Add")
	b.sees(scenario.ProviderName + " answers and can be used.")
	b.sees("1 role by claims")
	b.press(`button[aria-label="Edit ` + scenario.ProviderName + `"]`)
	b.sees("/back")
	b.picture("providers")
	b.click("Cancel")
	b.click("Try…")
	b.set("#claims", `{"groups":["help-desk"],"email":"dora@fernmoor.example","email_verified":true`)
	b.click("Try them")
	b.sees("These are no claims")
	b.set("#claims", `{"groups":["help-desk"],"email":"dora@fernmoor.example","email_verified":true}`)
	b.click("Try them")
	b.sees("Would be made a user: dora@fernmoor.example")
	b.click("Close")

	hazel := newBrowser(t, w.service.Address)
	hazel.open("/sections")
	hazel.signsInAs("Otto Onion")
	hazel.sees("All sections")
	hazel.sees("Propagation A")
	hazel.press(`header a[href="/account"]`)
	hazel.sees("otto.onion@fernmoor.example")
	hazel.press(`button[aria-label="End: sign in with ` + scenario.ProviderName + `"]`)
	hazel.sees("this is your only way in")
	hazel.click("Sign out")
	hazel.sees("Forgot the password?")

	vida := newBrowser(t, w.service.Address)
	vida.open("/board")
	vida.signsInAs("Vida Visitor")
	vida.sees("nothing that it says of you gives you a role here")
	vida.open("/board")
	vida.sees("Forgot the password?")
	vida.until(`!document.body.innerText.includes("nothing that it says of you")`)

	b.goes("Users")
	b.sees("by " + scenario.ProviderName)
	b.press(`header a[href="/account"]`)
	b.click("Sign in with " + scenario.ProviderName + " too")
	b.chooseNative("#account", "Maud Marrow")
	b.press("#allow")
	b.sees("last time")
	b.until(`location.pathname === "/account"`)
}

// Codes are needed for a role: whoever has it sets them up before anything else, signs in with them, and gets in with
// a recovery code without the app.
func TestConsoleOneTimeCodes(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect)
	b := w.browse("/settings/sign-in")
	b.press(`//input[@id="codes-required"]/ancestor::div[contains(@class,"p-multiselect")]`)
	b.press(`//*[contains(@class,"p-multiselect-overlay")]//li[@role="option"][normalize-space(.)="administrator"]`)
	b.key(kb.Escape)
	b.until(`!document.querySelector('.p-multiselect-overlay')`)
	b.click("Save")
	b.until(`[...document.querySelectorAll("button")].find((x) => x.innerText === "Save").disabled`)
	b.open("/sections")
	b.until(`location.pathname === "/account"`)
	b.sees("Your role needs one-time codes.")
	b.fill("codes-password", scenario.Password)
	b.click("Set up one-time codes")
	b.sees("Show this to your app")
	secret := ask(b, chromedp.Evaluate[string](`[...document.querySelectorAll("code")].map((c) => c.innerText).
		find((c) => /^[A-Z2-7]{32}$/.test(c))`))
	b.fill("own-code", "000000")
	b.click("Turn on")
	b.sees("is not right")
	code, err := totp.GenerateCode(secret, time.Now())
	require.NoError(t, err)
	b.fill("own-code", code)
	b.click("Turn on")
	b.sees("Keep these recovery codes")
	recovery := ask(b, chromedp.Evaluate[string](`document.querySelector(".codes code").innerText`))
	b.click("Go on")
	b.sees("Board")

	c := newBrowser(t, w.service.Address)
	c.open("/board")
	c.fill("email", scenario.Email)
	c.fill("password", scenario.Password)
	c.click("Sign in")
	c.sees("The one that your app shows now, or a recovery code.")
	c.fill("code", code)
	c.click("Sign in")
	c.sees("the code is not right, or was used already")
	c.fill("code", recovery)
	c.click("Sign in")
	c.sees("Board")
}

// Whoever forgot the password asks for a link on the sign-in page; what it says does not tell who signs in here.
func TestConsoleForgottenPassword(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect)
	b := newBrowser(t, w.service.Address)
	for _, email := range []string{"nobody@fernmoor.example", scenario.Email} {
		b.open("/sign-in")
		b.click("Forgot the password?")
		b.fill("email", email)
		b.click("Mail me a link")
		b.sees("If somebody signs in with " + email + ", a link is on its way.")
	}
	mail := w.mailTo(scenario.Email, "Choose a new password for Kanban")
	link := regexp.MustCompile(`/invitation\?secret=\S+`).FindString(mail.Text)
	b.open(link)
	b.fill("password", "sow-more-onions")
	b.click("Go in")
	b.sees("Board")
	_, err := client.New(w.service.Address, "").SignIn(t.Context(), api.SignIn{
		Email: scenario.Email, Password: scenario.Password,
	})
	require.Error(t, err)
}

// The command line is let in with a browser; and codes, providers and what a role needs are minded from it.
func TestSignInInTheCommandLine(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect)
	env := []string{"HOME=" + t.TempDir(), "KANBAN_ADDRESS=" + w.service.Address}
	cmd := exec.Command(filepath.Join(bin, "kanban"), "sign-in", "--browser")
	var out, says bytes.Buffer
	cmd.Env, cmd.Stdout = append(os.Environ(), env...), &out
	pipe, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	link := ""
	for part := make([]byte, 4096); link == ""; {
		n, err := pipe.Read(part)
		require.NoError(t, err, says.String())
		says.Write(part[:n])
		link = regexp.MustCompile(`/device\?code=[A-Z]{4}-[A-Z]{4}`).FindString(says.String())
	}
	b := w.browse(link)
	b.sees("command line on")
	b.sees("It may do all that you may, for 90 days.")
	b.click("Let it in")
	b.sees("The program is let in.")
	require.NoError(t, cmd.Wait())
	assert.Contains(t, out.String(), "as Maud Marrow")
	expect := w.expecting(env)
	expect(0, "command line on", "tokens", "list")
	b.open(link)
	b.sees("no program waits with this code")

	expect(0, "off", "codes", "show")
	expect(0, "No role needs one-time codes.", "users", "need-codes")
	expect(0, "needed for: operator, support", "users", "need-codes", "support", "operator")
	expect(2, "is no role", "users", "need-codes", "king")
	expect(1, "has no one-time codes", "users", "end-codes", scenario.Email)
	input := func(code int, want, text string, args ...string) string {
		cmd := exec.Command(filepath.Join(bin, "kanban"), args...)
		cmd.Env, cmd.Stdin = append(os.Environ(), env...), strings.NewReader(text)
		got, _ := cmd.CombinedOutput()
		require.Equal(t, code, cmd.ProcessState.ExitCode(), string(got))
		require.Contains(t, string(got), want)
		return string(got)
	}
	input(0, "It answers, and can be used.", "potting-shed\n", "providers", "add", "School", "--issuer", w.At.Identity,
		"--client", "kanban-sign-in", "--ask-secret")
	expect(0, "Where groups is help-desk: support.", "providers", "map", "School", "groups", "help-desk", "--role", "support")
	expect(0, "lets in whoever gets something", "providers", "edit", "School", "--let-in", "mapped", "--believe", "verified")
	expect(0, "Would be made a user: Dora", "providers", "try", "School",
		`{"name":"Dora","email":"dora@fernmoor.example","email_verified":true,"groups":["help-desk"]}`)
	expect(0, "the claim groups is not there", "providers", "try", "School", `{"sub":"x"}`)
	expect(2, "no JSON object", "providers", "try", "School", `{"sub"`)
	expect(0, "Enter there", "providers", "show", "School")
	expect(2, "this gives nothing", "providers", "map", "School", "groups", "staff", "--end")
	expect(0, "School", "providers", "map", "School", "groups", "help-desk", "--end")
	expect(0, "yes", "providers", "list")
	expect(0, "0 users did", "providers", "remove", "School")
	expect(2, "there is no provider", "providers", "check", "School")
}
