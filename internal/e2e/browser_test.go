package e2e_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kanban/internal/scenario"
)

// browser is a window of a headless Chromium, which shares nothing with other windows: no
// cookies, no storage.
type browser struct {
	t   testing.TB
	ctx context.Context
	at  string // address of the service
}

func newBrowser(t testing.TB, address string) *browser {
	t.Helper()
	shared, err := chromium()
	require.NoError(t, err, "the console is tested in Debian's chromium; make setup installs it")
	ctx, cancel := chromedp.NewContext(shared, chromedp.WithNewBrowserContext())
	t.Cleanup(cancel)
	b := &browser{t, ctx, address}
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	return b
}

// chromium starts the one browser of all tests, which ends with them.
var chromium = sync.OnceValues(func() (context.Context, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, err
	}
	profile, err := os.MkdirTemp("", "kanban-e2e-chromium-")
	if err != nil {
		return nil, err
	}
	ctx, end := startChromium(path, profile)
	atEnd = append(atEnd, func() {
		end()
		_ = os.RemoveAll(profile)
	})
	return ctx, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)) // the first call starts it
})

// startChromium prepares a browser with more flags than every test has; end stops it.
func startChromium(path, profile string, more ...string) (ctx context.Context, end func()) {
	options := []chromedp.ExecAllocatorOption{
		chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.WindowSize(1280, 800),
		chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU, chromedp.NoFirstRun,
	}
	for _, flag := range append([]string{
		"disable-quic", "disable-background-networking", "disable-component-update", "disable-sync", "hide-scrollbars",
		// Several windows are looked at at once.
		"disable-backgrounding-occluded-windows", "disable-renderer-backgrounding",
		"disable-background-timer-throttling",
	}, more...) {
		options = append(options, chromedp.Flag(flag, true))
	}
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, cancel := chromedp.NewContext(allocator)
	return ctx, func() {
		cancel()
		stop()
	}
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
	poll := chromedp.Poll[bool](expression, chromedp.WithPollingInterval(50*time.Millisecond),
		chromedp.WithPollingTimeout(30*time.Second))
	for range 50 { // a page that gives way to another one ends what is asked of it
		ctx, cancel := context.WithTimeout(b.ctx, 40*time.Second)
		_, err := chromedp.Run(ctx, poll)
		cancel()
		if err == nil {
			return
		}
		if !gaveWay(err) {
			break
		}
		time.Sleep(100 * time.Millisecond) // until the other one is there
	}
	ask(b, poll)
}

// gaveWay reports whether a page was left while something was asked of it.
func gaveWay(err error) bool {
	return strings.Contains(err.Error(), "Cannot find context") || strings.Contains(err.Error(), "navigated or closed")
}

func quoted(text string) string { return "`" + strings.ReplaceAll(text, "`", "\\`") + "`" }

// click presses the button or link with exactly this text.
func (b *browser) click(text string) {
	b.t.Helper()
	b.press(`//*[self::button or self::a][normalize-space(.)=` + xpath(text) + `]`)
}

// rooms are the pages of the navigation that stand below what people do.
var rooms = map[string]string{
	"Board": "To do", "Findings": "To do", "Tasks": "To do", "All sections": "Sections", "Linked sets": "Sections",
	"People lists": "Sections", "Runs": "Sections", "Batches": "Sections", "Next term": "Sections",
	"Outlines": "Courses", "Stage plans": "Courses", "Access": "Courses", "Events": "Rules", "Deliveries": "Rules",
	"Set-up as files": "Settings", "Issuers": "Badges", "Check a badge": "Badges", "Stopped": "Reports",
	"Test learners": "Rules", "Duplicates": "People", "Users": "Settings", "Sign in": "Settings",
	"Audit trail": "Settings",
}

// goes leads to a page by the navigation, as a person does.
func (b *browser) goes(page string) {
	b.t.Helper()
	if area := rooms[page]; area != "" {
		b.press(`//header//nav[@aria-label="What to do"]//a[normalize-space(.)=` + xpath(area) + `]`)
		b.press(`//header//nav[@aria-label=` + xpath(area) + `]//a[normalize-space(.)=` + xpath(page) + `]`)
		return
	}
	b.press(`//header//nav[@aria-label="What to do"]//a[normalize-space(.)=` + xpath(page) + `]`)
}

// found is a function of the page's that finds the first element of a selector or an XPath
// expression.
const found = `const found = (s) => /^[(/]/.test(s) ? document.evaluate(s, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue : document.querySelector(s);`

// press clicks at an element as a person does: when the page has come to rest and nothing
// lies above it. A click that the element did not get, because the page moved in that very
// moment, is made again.
func (b *browser) press(selector string) {
	b.t.Helper()
	s := quoted(selector)
	for range 5 {
		b.do(chromedp.WaitVisible(selector))
		b.settled()
		b.until(`(() => { ` + found + ` const e = found(` + s + `); if (!e || e.disabled) return false; e.scrollIntoView({block: 'nearest'});
			const r = e.getBoundingClientRect(), at = [r.x, r.y, r.width, r.height].join(), before = window.pressedAt; window.pressedAt = at;
			const top = document.elementFromPoint(r.x + r.width / 2, r.y + r.height / 2);
			return at === before && !!top && (e.contains(top) || top.contains(e) || e.parentElement.contains(top)) })()`)
		b.until(`(() => { ` + found + ` const e = found(` + s + `); if (!e) return false; window.pressed = false;
			const exact = e.matches('button, a'); // one that moved between the press and its end gives the click to what holds it
			document.addEventListener('click', (c) => { window.pressed = e.contains(c.target) || !exact && (c.target.contains(e) || e.parentElement.contains(c.target)) }, {capture: true, once: true}); return true })()`)
		ctx, cancel := context.WithTimeout(b.ctx, 40*time.Second)
		_, err := chromedp.Run(ctx, chromedp.Steps(chromedp.Click(selector)))
		cancel()
		if err != nil && strings.Contains(err.Error(), "Could not find node") {
			continue // it was drawn anew in that very moment
		}
		require.NoError(b.t, err, selector)
		ctx, cancel = context.WithTimeout(b.ctx, 40*time.Second)
		got, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`window.pressed !== false`))
		cancel()
		if got || err != nil && strings.Contains(err.Error(), "Cannot find context") { // another page knows nothing of it
			return
		}
		require.NoError(b.t, err, selector)
	}
	b.t.Fatalf("%s cannot be pressed: the page does not come to rest", selector)
}

// settled waits until nothing moves any more, nothing is being fetched and no text is being
// checked: what comes then pushes down what is below it, and a click goes astray.
func (b *browser) settled() {
	b.t.Helper()
	b.until(`!document.querySelector('.expression[aria-busy=true]') && ` + still)
}

// still is true when no animation that ends is running.
const still = `document.getAnimations().every(a => a.playState !== 'running' || a.effect?.getTiming().iterations === Infinity)`

func xpath(text string) string { return `"` + text + `"` }

// fill types into the field with the given id.
func (b *browser) fill(id, text string) {
	b.t.Helper()
	b.set("#"+id, text)
}

// set types into the field of a selector, as a person does: what is in it is replaced.
func (b *browser) set(selector, value string) {
	b.t.Helper()
	s := quoted(selector)
	for range 10 {
		b.do(chromedp.WaitVisible(selector))
		b.until(still) // a dialog that opens takes the focus once
		b.until(`(() => { ` + found + ` const e = found(` + s + `); if (!e) return false; e.focus(); e.isContentEditable ? getSelection().selectAllChildren(e) : e.select(); return document.activeElement === e })()`)
		b.do(chromedp.SendKeys(selector, value))
		if ask(b, chromedp.Evaluate[string](`(() => { `+found+typed+` return typed(found(`+s+`)) })()`)) == value {
			return
		}
	}
	b.t.Fatalf("%q cannot be typed into %s", value, selector)
}

// typed is a function of the page's that gives what is typed into a field or an editor.
const typed = `const typed = (e) => e?.isContentEditable ? [...e.querySelectorAll('.cm-line')].map((l) => l.querySelector('.cm-placeholder') ? '' : l.innerText.replace(/\n$/, '')).join('\n') : e?.value ?? '';`

// choose picks an option of a list by its text, as a person does: the list is opened and the option clicked.
// Of a long list it is looked for first.
func (b *browser) choose(id, option string) {
	b.t.Helper()
	b.chooseIn(`#`+id, option)
}

// label picks an option of the list that is labelled so.
func (b *browser) label(label, option string) {
	b.t.Helper()
	b.chooseIn(`[role=combobox][aria-label=`+xpath(label)+`]`, option)
}

func (b *browser) chooseIn(selector, option string) {
	b.t.Helper()
	s := quoted(selector)
	b.do(chromedp.WaitVisible(selector))
	if ask(b, chromedp.Evaluate[bool](`document.querySelector(`+s+`)?.tagName === 'SELECT'`)) {
		b.chooseNative(selector, option)
		return
	}
	shows := `document.querySelector(` + s + `)?.innerText.trim() === ` + quoted(option)
	for range 5 {
		b.press(selector)
		b.until(`!!document.querySelector('.p-select-overlay') && ` + still)
		at := `//*[contains(@class,"p-select-overlay")]//li[@role="option"][@aria-label=` + xpath(option) + `]`
		b.until(`!!document.querySelector('.p-select-overlay .p-select-filter, .p-select-overlay [role=option]')`)
		if ask(b, chromedp.Evaluate[bool](`!!document.querySelector('.p-select-overlay .p-select-filter')`)) {
			b.set(`.p-select-overlay .p-select-filter`, option)
		}
		b.press(at)
		b.until(`!document.querySelector('.p-select-overlay') && ` + still)
		if ask(b, chromedp.Evaluate[bool](shows)) {
			return
		}
	}
	b.t.Fatalf("%q cannot be chosen in %s", option, selector)
}

// finds types into a field that looks for what is typed, and chooses the first of what it offers that begins
// so, or holds it.
func (b *browser) finds(label, text, option string) {
	b.t.Helper()
	b.set(`input[aria-label=`+xpath(label)+`]`, text)
	b.press(`//*[contains(@class,"p-autocomplete-overlay")]//li[@role="option"][contains(normalize-space(.), ` + xpath(option) + `)]`)
	b.until(`!document.querySelector('.p-autocomplete-overlay') && ` + still)
}

// chooseNative picks an option of a browser's own list by typing its text: on the pages of the stand-ins.
func (b *browser) chooseNative(selector, option string) {
	b.t.Helper()
	chosen := `(() => { const s = document.querySelector(` + quoted(selector) + `); return s.selectedOptions[0]?.text.trim() ?? '' })()`
	for range 10 {
		b.until(still)
		b.do(chromedp.SendKeys(selector, option))
		if ask(b, chromedp.Evaluate[string](chosen)) == option {
			return
		}
		b.do(chromedp.SendKeys(selector, "\t")) // what was typed is forgotten
	}
	b.t.Fatalf("%q cannot be chosen in %s", option, selector)
}

// picture keeps a PNG of the page when KANBAN_PICTURES names a folder.
func (b *browser) picture(name string) {
	b.t.Helper()
	folder := os.Getenv("KANBAN_PICTURES")
	if folder == "" {
		return
	}
	b.settled()
	b.until(`document.fonts.status === 'loaded' && !document.querySelector('.p-skeleton, .p-progress-spinner')`)
	png := ask(b, chromedp.CaptureScreenshot())
	require.NoError(b.t, os.WriteFile(filepath.Join(folder, name+".png"), png, 0o644))
}
