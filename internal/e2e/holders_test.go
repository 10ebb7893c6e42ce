package e2e_test

import (
	"bytes"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// mailedLink waits for a mail with a link below a path, and gives the link.
func (w *world) mailedLink(path string) (link string) {
	w.t.Helper()
	below := regexp.MustCompile(regexp.QuoteMeta(path) + `[A-Za-z0-9_-]+`)
	soon(w.t, "a mail with "+path, func() bool {
		req, err := http.NewRequestWithContext(w.t.Context(), http.MethodGet, w.At.Inbox+"/mails", nil)
		require.NoError(w.t, err)
		link = below.FindString(body(w.t, req))
		return link != ""
	})
	return link
}

// A learner on a phone opens the link in the mail, accepts the terms, shares the badge and downloads its picture; a
// stranger checks that picture. It is revoked, and checking says so.
func TestConsoleHolders(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	issuer, err := client.Post[api.Issuer](t.Context(), w.Client, "/issuers", api.NewIssuer{
		Name: "Fernmoor", Terms: "Ask before you rely on it.",
	})
	require.NoError(t, err)
	made, err := client.Post[api.Badge](t.Context(), w.Client, "/badges", api.NewBadge{
		IssuerID: issuer.ID, Name: "Helping hand", Description: "Helps others.", Criteria: "Help.",
	})
	require.NoError(t, err)
	w.ruleOn(api.NewRule{
		Name: "Badge mail", Trigger: string(rule.BadgeAwarded),
		Actions: []api.Action{{
			Kind: rule.Mail, InterfaceID: w.Interfaces[scenario.MailName].ID, Subject: "Your badge",
			Text: "Dear {{.person.givenName}}, it is here: {{.person.badgesPage}}",
		}},
	})
	found, err := client.Get[api.Page[api.Person]](t.Context(), w.Client, "/people?text=stu-001")
	require.NoError(t, err)
	ada := found.Items[0]
	_, err = client.Post[api.Page[api.Awarding]](t.Context(), w.Client, "/badges/"+made.ID+"/awards",
		api.NewAwards{People: []string{ada.ID}, Note: "Helped Bram", Apply: true})
	require.NoError(t, err)
	link := w.mailedLink("/open/holder/link/")
	award := w.awards()[0]
	path := strings.TrimPrefix(award.Address, w.service.Address)

	b := newBrowser(t, w.service.Address)
	b.do(chromedp.EmulateViewport(390, 844))
	b.open(path)
	b.sees("Verified just now")
	b.sees("Ask before you rely on it.")
	b.until(`!document.body.innerText.includes("Ada")`)
	b.until(`!document.body.innerText.includes("Helped Bram")`)
	b.open(link)
	b.fill("enter", "bram.birch@fernmoor.example")
	b.click("Open")
	b.sees("This link was sent to another address")
	b.fill("enter", ada.Email)
	b.click("Open")
	b.sees("Before you share anything")
	b.until(`document.documentElement.scrollWidth <= 390`)
	for _, x := range b.barriers(axeScript(t)) {
		t.Errorf("%s (%s) %s\n\t%s", x.ID, x.Impact, x.Help, strings.Join(x.Nodes, "\n\t"))
	}
	b.set("#name", "Ada Άλντερ")
	b.click("Accept")
	b.sees("Tick that you accept")
	b.set("#name", "Ada Άλντερ")
	b.press(`#accept`)
	b.click("Accept")
	b.sees("You decide below")
	b.press(`[aria-label="Share Helping hand"]`)
	b.sees("Shared since")
	b.sees("Looked up once by people")
	b.until(`document.documentElement.scrollWidth <= 390`)
	b.picture("holder")

	// A wallet asks, its holder allows it, and it has the badge.
	b.do(chromedp.Navigate(w.At.Wallet))
	b.fill("school", w.service.Address)
	b.click("Get badges from there")
	b.sees("Seed tin asks for access")
	b.until(`document.documentElement.scrollWidth <= 390`)
	for _, x := range b.barriers(axeScript(t)) {
		t.Errorf("%s (%s) %s\n\t%s", x.ID, x.Impact, x.Help, strings.Join(x.Nodes, "\n\t"))
	}
	b.picture("wallet")
	b.click("Allow")
	b.sees("1 from the school, of Ada Άλντερ.")
	b.sees(award.Address)
	b.open("/open/holder")
	b.press(`[aria-label="Shut out Seed tin"]`)
	b.sees("can do nothing here any more")
	b.do(chromedp.Navigate(w.At.Wallet))
	b.click("Look again")
	b.sees("The school gave nothing")
	b.open("/open/holder")

	picture := filepath.Join(t.TempDir(), "badge.png")
	require.NoError(t, os.WriteFile(picture, []byte(w.text(award.Address+"?form=png")), 0o600))
	b.until(`fetch(document.querySelector("a[href$='/pdf']").href).then(r => r.arrayBuffer()).then(a =>
		new TextDecoder("latin1").decode(a).startsWith("%PDF-"))`)

	maps := ask(b, chromedp.Evaluate[float64](`document.querySelectorAll("img.map").length`))
	assert.Zero(t, maps, "there is no stage plan")

	// Somebody else, in another browser.
	other := newBrowser(t, w.service.Address)
	other.open(path)
	other.sees("Ada Άλντερ")
	other.sees("Helped Bram")
	other.open("/open/check")
	other.do(chromedp.SetUploadFiles(`#file`, []string{picture}))
	other.click("Check")
	other.sees("Verified just now")
	_, err = client.Post[api.Award](t.Context(), w.Client, "/awards/"+award.ID+"/revoke",
		api.Revocation{Reason: "It was somebody else"})
	require.NoError(t, err)
	other.open("/open/check")
	other.do(chromedp.SetUploadFiles(`#file`, []string{picture}))
	other.click("Check")
	other.sees("Revoked.")

	b.open("/open/holder")
	b.sees("It was somebody else")
	b.until(`!document.body.innerText.includes("PDF certificate")`)
	b.press(`[aria-label="Take back Helping hand"]`)
	b.sees("Taken back.")
	other.open(path)
	other.sees("Revoked by the issuer")
	other.until(`!document.body.innerText.includes("Ada")`)
	b.click("Leave this page")
	b.sees("Send me a link")
	b.open("/open/holder")
	b.sees("Send me a link")

	// Nobody is sent mail after mail, and no address is tried out for long.
	for _, act := range []struct {
		path string
		most int
	}{{"/open/holder/ask", 3}, {link, 10}} {
		status := 0
		for range act.most + 1 {
			resp, err := http.Post(w.service.Address+act.path, "application/x-www-form-urlencoded",
				strings.NewReader("address=nobody@fernmoor.example"))
			require.NoError(t, err)
			require.NoError(t, resp.Body.Close())
			status = resp.StatusCode
		}
		assert.Equal(t, http.StatusTooManyRequests, status, act.path)
	}

	// Acts need the page: without it, or from another site, nothing happens.
	for _, act := range []string{"terms", "name", "share"} {
		resp, err := http.Post(w.service.Address+"/open/holder/"+act, "application/x-www-form-urlencoded",
			bytes.NewReader([]byte("award="+award.ID+"&share=yes")))
		require.NoError(t, err)
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		assert.Equal(t, http.StatusForbidden, resp.StatusCode)
		assert.Contains(t, string(text), "Open the link in your mail again")
	}
}
