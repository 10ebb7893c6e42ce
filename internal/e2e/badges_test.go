package e2e_test

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// A badge is made, awarded by hand and from a file, suspended, and checked by anybody; keys are renewed meanwhile.
func TestConsoleAwards(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	b := w.browse("/awards")
	b.click("Make a badge…")
	b.fill("badge-name", "Helping hand")
	b.fill("issuer", "Fernmoor Garden School")
	b.fill("description", "Helps others take cuttings.")
	b.fill("criteria", "Finish every activity of the module Cuttings.")
	b.click("Make")
	b.sees("Helps others take cuttings.")

	// Its picture is drawn, and seen while it is.
	b.press(`[aria-label="Picture of the badge Helping hand"]`)
	b.click("Draw one…")
	b.choose("design-shape", "shield")
	b.press(`[aria-label="applause"]`)
	b.fill("design-below", "Βοηθός")
	b.press(`//form[.//img[contains(@src, "data:image/svg")]]//button[normalize-space(.)="Use it"]`)
	b.until(`!!document.querySelector("tr img[src*=\"/open/pictures/\"]:not([src$=\"emblem\"])")`)

	// By hand: what would become of everybody first, then exactly that.
	award := `[aria-label="Award the badge Helping hand"]`
	b.press(award)
	b.finds("name, address or identifier", "Ada", "Ada Alder")
	b.finds("name, address or identifier", "Elsa", "Elsa Elder")
	b.fill("note", "Helped the others")
	b.fill("evidence", "photo")
	b.click("Show what happens")
	b.sees("is not a full address")
	b.fill("evidence", "https://fernmoor.example/photo")
	b.click("Show what happens")
	b.sees("1 cannot be awarded and 1 to award")
	b.sees("has no e-mail address")
	assert.Empty(t, w.awards())
	b.click("Award 1")
	b.sees("1 cannot be awarded and 1 awarded")
	b.click("Close")
	require.Len(t, w.awards(), 1)

	// From a file: each row has its outcome.
	file := filepath.Join(t.TempDir(), "awards.csv")
	require.NoError(
		t,
		os.WriteFile(file, []byte("person,note\nstu-001,again\nstu-002,\"fine, really\"\nnobody,\n"), 0o600),
	)
	b.press(award)
	b.do(chromedp.SetUploadFiles(`input[aria-label="Or a CSV file"]`, []string{file}))
	b.sees(`nobody has the identifier, e-mail address or user name "nobody"`)
	b.sees("1 cannot be awarded, 1 holds it already, and 1 to award")
	b.click("Award 1")
	b.sees("1 awarded")
	b.click("Close")
	require.Len(t, w.awards(), 2)

	page := w.awards()[1].Address
	b.goes("Issuers")
	b.press(`[aria-label="Keys of Fernmoor Garden School"]`)
	b.sees("proofs inside credentials")
	b.click("New keys")
	b.sees("nothing any more, since")

	b.goes("Badges")
	b.press(`[aria-label="Suspend Helping hand of Ada Alder"]`)
	b.fill("reason", "Being looked into")
	b.click("Suspend")
	b.sees("Being looked into")
	b.goes("Check a badge")
	b.fill("badge", page)
	b.press(`//form//button[normalize-space(.)="Check"]`)
	b.sees("✗ suspended")
	b.goes("Badges")
	b.press(`[aria-label="Restore Helping hand of Ada Alder"]`)
	b.until(`!document.body.innerText.includes("Being looked into")`)

	// Anybody, on the public page, without signing in.
	b.open(strings.TrimPrefix(page, w.service.Address))
	b.sees("Verified just now")
	b.until(`!document.body.innerText.includes("Helped the others")`) // before its holder shares it
	b.click("Check any badge")
	picture := filepath.Join(t.TempDir(), "badge.png")
	resp, err := http.Get(page + "?form=png") //nolint:noctx // a test
	require.NoError(t, err)
	defer resp.Body.Close()
	require.NoError(t, writeAll(picture, resp))
	b.do(chromedp.SetUploadFiles(`#file`, []string{picture}))
	b.fill("address", "bea@fernmoor.example")
	b.press(`//button[normalize-space(.)="Check"]`)
	b.sees("Verified just now")
	b.sees("It was not awarded to bea@fernmoor.example.")
	b.fill("text", "something else")
	b.press(`//button[normalize-space(.)="Check"]`)
	b.sees("Cannot be checked. It is neither a picture with a badge")
}

func writeAll(path string, resp *http.Response) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.ReadFrom(resp.Body)
	return err
}

func (w *world) awards() []api.Award {
	w.t.Helper()
	all, err := client.All[api.Award](w.t.Context(), w.Client, "/awards")
	require.NoError(w.t, err)
	return all
}

// The command line does the same, and checks badges of others.
func TestCommandLineAwards(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	expect := w.expecting(env)
	expect(
		0,
		"Made the badge",
		"badges",
		"add",
		"Helping hand",
		"--issuer",
		"Fernmoor Garden School",
		"--about",
		"d",
		"--criteria",
		"c",
	)
	expect(2, "at least 2 needed", "badges", "award", "Helping hand")
	expect(2, "is not written as", "badges", "award", "Helping hand", "stu-001", "--date", "yesterday")
	expect(0, "1 to award.\nNothing was done.", "badges", "award", "Helping hand", "stu-001")
	expect(
		0,
		"1 awarded.",
		"badges",
		"award",
		"Helping hand",
		"stu-001",
		"--section",
		"PROP-A",
		"--note",
		"n",
		"--apply",
	)
	expect(0, "1 held.", "badges", "award", "Helping hand", "stu-001", "--apply")
	file := filepath.Join(t.TempDir(), "awards.csv")
	require.NoError(t, os.WriteFile(file, []byte("person\nstu-002\nnobody\n"), 0o600))
	expect(0, "1 refused, 1 to award.", "badges", "award-file", file, "--badge", "Helping hand")
	expect(1, "not everybody could be awarded", "badges", "award-file", file, "--badge", "Helping hand", "--apply")

	drawn := filepath.Join(t.TempDir(), "drawn.svg")
	svg := `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><path d="M1 1h4"/></svg>`
	require.NoError(t, os.WriteFile(drawn, []byte(strings.Replace(svg, "<path", "<script/><path", 1)), 0o600))
	expect(2, "does more than draw", "badges", "picture", "Helping hand", drawn)
	require.NoError(t, os.WriteFile(drawn, []byte(svg), 0o600))
	expect(0, "has its own picture", "badges", "picture", "Helping hand", drawn)
	expect(0, "1 awarded.", "badges", "award", "Helping hand", "stu-004", "--apply")
	expect(0, "Wrote the badge", "badges", "download", "Helping hand", "stu-004", drawn)
	expect(0, "Valid.", "badges", "check", drawn)
	expect(0, "that all have", "badges", "picture", "Helping hand", "--remove")
	expect(0, "hands-clapping", "badges", "symbols")
	expect(2, "is not among the symbols", "badges", "draw", "Helping hand", "--symbol", "unicorn")
	expect(0, "Drew the picture", "badges", "draw", "Helping hand", "--symbol", "heart", "--above",
		"Ομάδα", "--stars", "3")
	expect(0, "Saved", "badges", "draw", "Helping hand", "--shape", "drop", "--save", drawn)
	expect(0, "has its own picture", "badges", "picture", "Helping hand", drawn)
	expect(0, "version 2", "badges", "edit", "Helping hand", "--last-day", "2031-07-31", "--renewable",
		"--level", "first")
	expect(0, "Changed the issuer", "badges", "edit-issuer", "Fernmoor Garden School", "--picture", drawn,
		"--terms", "Ask before you rely on it.")

	page := w.awards()[2].Address
	expect(0, "Valid.", "badges", "check", page)
	expect(0, "Suspended", "badges", "suspend", "Helping hand", "stu-001", "--reason", "looked into")
	expect(1, "Suspended.", "badges", "check", page)
	expect(0, "holds again", "badges", "restore", "Helping hand", "stu-001")
	expect(0, "nothing any more", "badges", "rotate-keys", "Fernmoor Garden School")
	expect(0, "Valid.", "badges", "check", page)

	for _, form := range []string{"png", "svg", "json", "jwt"} {
		file := filepath.Join(t.TempDir(), "badge."+form)
		expect(0, "Wrote the badge", "badges", "download", "Helping hand", "stu-001", file)
		expect(0, "Valid.", "badges", "check", file)
	}
	expect(2, "ends with none of", "badges", "download", "Helping hand", "stu-001", "badge.gif")

	theirs, err := exec.CommandContext(t.Context(), "node", "../../console/peers/credentials.mjs", "issue").Output()
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "theirs.json")
	require.NoError(t, os.WriteFile(path, theirs, 0o600))
	expect(0, "It was awarded to ana@example.org.", "badges", "check", path, "--email", "ana@example.org")
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(theirs), "Beekeeping", "Brewing", 1)), 0o600))
	expect(1, "Altered.", "badges", "check", path)
	expect(1, "address in a private network", "badges", "check", "http://127.0.0.1:1/badge")
}
