package e2e_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kanban/internal/scenario"
)

// browser is a headless Chromium with a fresh profile.
type browser struct {
	t   testing.TB
	ctx context.Context
	at  string // address of the service
}

func newBrowser(t testing.TB, address string) *browser {
	t.Helper()
	path, err := exec.LookPath("chromium")
	require.NoError(t, err, "the console is tested in Debian's chromium; make setup installs it")
	options := []chromedp.ExecAllocatorOption{
		chromedp.ExecPath(path), chromedp.UserDataDir(t.TempDir()), chromedp.WindowSize(1280, 800), chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun,
	}
	for _, flag := range []string{"disable-quic", "disable-background-networking", "disable-component-update", "disable-sync", "hide-scrollbars"} {
		options = append(options, chromedp.Flag(flag, true))
	}
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(stop)
	ctx, cancel := chromedp.NewContext(allocator)
	t.Cleanup(cancel)
	b := &browser{t, ctx, address}
	// The first call starts the browser, which lives as long as this context.
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	return b
}

// do carries out actions within a time in which each must succeed.
func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	ask(b, chromedp.Steps(steps...))
}

// ask carries out one action and gives its value.
func ask[T any](b *browser, a chromedp.Action[T]) T {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, 40*time.Second)
	defer cancel()
	value, err := chromedp.Run(ctx, a)
	if err != nil {
		short, stop := context.WithTimeout(b.ctx, 3*time.Second)
		defer stop()
		text, _ := chromedp.Run(short, chromedp.Evaluate[string](`document.body.innerText`))
		b.t.Fatalf("%v; the page says:\n%s", err, text)
	}
	return value
}

// browse signs the administrator in and goes to a page.
func (w *world) browse(path string) *browser {
	w.t.Helper()
	b := newBrowser(w.t, w.service.Address)
	b.open("/sign-in?then=" + path)
	b.fill("email", scenario.Email)
	b.fill("password", scenario.Password)
	b.click("Sign in")
	return b
}

// open goes to a page of the service.
func (b *browser) open(path string) {
	b.t.Helper()
	for range 3 { // a page that is just changing by itself loses what the browser was told of it
		ctx, cancel := context.WithTimeout(b.ctx, 40*time.Second)
		err := chromedp.Do(ctx, chromedp.Navigate(b.at+path))
		cancel()
		if err == nil {
			return
		}
		require.ErrorContains(b.t, err, "Cannot find context", path)
	}
	b.t.Fatalf("%s cannot be opened", path)
}

// sees waits until the page shows a text.
func (b *browser) sees(text string) {
	b.t.Helper()
	b.until(`document.body.innerText.replace(/\s+/g, ' ').includes(` + quoted(text) + `)`)
}

// until waits until an expression is true.
func (b *browser) until(expression string) {
	b.t.Helper()
	ask(b, chromedp.Poll[bool](expression, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(30*time.Second)))
}

func quoted(text string) string { return "`" + strings.ReplaceAll(text, "`", "\\`") + "`" }

// click presses the button or link with exactly this text.
func (b *browser) click(text string) {
	b.t.Helper()
	x := `//*[self::button or self::a][normalize-space(.)=` + xpath(text) + `]`
	b.do(chromedp.WaitVisible(x))
	b.settled()
	b.do(chromedp.Click(x))
}

// settled waits until nothing moves any more and no text is being checked, whose result
// pushes down what is below it: a click at where something was goes astray.
func (b *browser) settled() {
	b.t.Helper()
	b.until(`!document.querySelector('.expression[aria-busy=true]') && document.getAnimations().every(a => a.playState !== 'running' || a.effect?.getTiming().iterations === Infinity)`)
}

func xpath(text string) string { return `"` + text + `"` }

// fill types into the field with the given id.
func (b *browser) fill(id, text string) {
	b.t.Helper()
	b.do(chromedp.WaitVisible("#" + id))
	b.until(`document.getAnimations().every(a => a.playState !== 'running')`) // a dialog that opens takes the focus once
	for range 10 {
		b.until(`(() => { const e = document.getElementById(` + quoted(id) + `); e.focus(); e.select(); return document.activeElement === e })()`)
		b.do(chromedp.SendKeys("#"+id, text)) // replaces what is selected
		if ask(b, chromedp.Evaluate[string](`document.getElementById(`+quoted(id)+`).value`)) == text {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	b.t.Fatalf("%q cannot be typed into #%s", text, id)
}

// set gives a field that is found by a selector a value at once, as pickers of times and
// days and lists of suggestions do.
func (b *browser) set(selector, value string) {
	b.t.Helper()
	b.do(chromedp.WaitVisible(selector))
	b.until(`(() => { const e = document.querySelector(` + quoted(selector) + `); e.value = ` + quoted(value) + `; e.dispatchEvent(new Event('input', {bubbles: true})); return true })()`)
}

// choose picks an option of a select by its text.
func (b *browser) choose(id, option string) {
	b.t.Helper()
	script := `(() => { const s = document.getElementById(` + quoted(id) + `); const o = [...s.options].find(o => o.text.trim() === ` + quoted(option) + `);
		if (!o) return false; s.value = o.value; s.dispatchEvent(new Event('change', {bubbles: true})); return true })()`
	b.do(chromedp.WaitVisible("#" + id))
	b.until(script)
}

// picture keeps a PNG of the page when KANBAN_PICTURES names a folder.
func (b *browser) picture(name string) {
	b.t.Helper()
	folder := os.Getenv("KANBAN_PICTURES")
	if folder == "" {
		return
	}
	b.do(chromedp.Sleep(600 * time.Millisecond))
	png := ask(b, chromedp.CaptureScreenshot())
	require.NoError(b.t, os.WriteFile(filepath.Join(folder, name+".png"), png, 0o644))
}
