package e2e_test

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// barrier is what axe finds that keeps somebody from using a page.
type barrier struct {
	ID     string   `json:"id"`
	Impact string   `json:"impact"`
	Help   string   `json:"help"`
	Nodes  []string `json:"nodes"`
}

// barriers runs axe in the page and gives what is serious.
func (b *browser) barriers(axe string) []barrier {
	b.t.Helper()
	b.do(chromedp.Evaluate[chromedp.Void](`void (window.axe || (0, eval)(` + quotedText(axe) + `))`))
	b.do(chromedp.Evaluate[chromedp.Void](`window.audit = undefined; void axe.run(document, {resultTypes: ['violations']}).then((r) => { window.audit =
		r.violations.filter((v) => ['serious', 'critical'].includes(v.impact)).map((v) => ({id: v.id, impact: v.impact, help: v.help,
			nodes: v.nodes.slice(0, 4).map((n) => n.html.slice(0, 200) + ' ' + n.any.map((x) => x.message).join('; '))})) }, (e) => { window.audit = [{id: 'axe', help: String(e)}] })`))
	b.until(`!!window.audit`)
	return ask(b, chromedp.Evaluate[[]barrier](`window.audit`))
}

// shifted is how far what is seen moved by itself since the page was opened (the sum of all layout
// shifts that no input brought about).
func (b *browser) shifted() float64 {
	b.t.Helper()
	b.do(chromedp.Evaluate[chromedp.Void](`window.shifts = undefined; void new Promise((done) => {
		new PerformanceObserver((l) => { window.shifts = l.getEntries().filter((e) => !e.hadRecentInput).reduce((n, e) => n + e.value, 0) }).observe({type: 'layout-shift', buffered: true });
		setTimeout(done, 300) }).then(() => { window.shifts ??= 0 })`))
	b.until(`window.shifts !== undefined`)
	return ask(b, chromedp.Evaluate[float64](`window.shifts`))
}

// rested waits until everything that the page asked for is there.
func (b *browser) rested() {
	b.t.Helper()
	b.until(`!!document.querySelector('main h1') && !document.querySelector('.p-skeleton, [aria-busy=true]') &&
		performance.getEntriesByType('resource').every((e) => e.responseEnd > 0) && ` + still)
}

// everyPage names every page of the console, as the story leaves it.
func everyPage(t *testing.T, w *world) []string {
	t.Helper()
	pages := []string{
		"/board", "/board?as=table", "/findings", "/findings?group=remark", "/tasks", "/sections", "/sections/linked",
		"/sections/lists", "/runs", "/batches", "/next-term", "/outlines", "/stage-plans", "/access", "/people",
		"/people?text=an", "/rules", "/events", "/deliveries", "/awards", "/issuers", "/check-badge",
		"/connections", "/connections/new",
		"/settings", "/settings/set-up", "/findings/catalogue", "/nowhere",
		"/reports", "/reports/completion?course=Propagation", "/reports/stopped?days=1", "/reports/behind",
		"/reports/badges", "/reports/holdings", "/reports/holdings?section=PROP-A", "/reports/rosters", "/reports/rules",
		"/reports/services", "/reports/scores", "/reports/nothing", "/report-mails", "/proofs",
		"/people/duplicates", "/why", "/teaching", "/settings/users", "/settings/audit", "/settings/sign-in",
		"/device", "/mine",
		"/account",
	}
	add := func(path string) { pages = append(pages, path) }
	runs, err := client.Get[api.Page[api.Run]](t.Context(), w.Client, "/runs")
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, r := range runs.Items {
		if !seen[r.Kind] {
			seen[r.Kind] = true
			add("/runs/" + r.ID)
		}
	}
	add("/pairings/" + w.Pairing.ID)
	add("/sections/" + w.Pairing.Section.ID + "/roster")
	batch, err := client.Post[api.Batch](t.Context(), w.Client, "/batches",
		api.Order{Act: "pause", Pairings: []string{w.Pairing.ID}})
	require.NoError(t, err)
	add("/batches/" + batch.ID)
	add("/pairings/" + w.Pairing.ID + "/compare")
	people, err := client.Get[api.Page[api.Person]](t.Context(), w.Client, "/people?text=finn")
	require.NoError(t, err)
	add("/people/" + people.Items[0].ID)
	rules, err := client.Get[api.Page[api.Rule]](t.Context(), w.Client, "/rules")
	require.NoError(t, err)
	add("/rules/" + rules.Items[0].ID)
	plans, err := client.Get[api.Page[api.StagePlan]](t.Context(), w.Client, "/stage-plans")
	require.NoError(t, err)
	add("/stage-plans/" + plans.Items[0].ID)
	proof, err := client.Post[api.Proof](t.Context(), w.Client, "/proofs",
		api.NewProof{Section: w.Pairing.Section.ID, Email: "trial@fernmoor.example"})
	require.NoError(t, err)
	add("/proofs/" + proof.ID)
	add("/scores")
	add("/scores/templates")
	for _, tab := range []string{"assignments", "scores", "set-up", "runs"} {
		add("/scores/" + w.ScoreLink.ID + "?tab=" + tab)
	}
	events, err := client.Get[api.Page[api.Event]](t.Context(), w.Client, "/events")
	require.NoError(t, err)
	add("/events/" + events.Items[0].ID)
	list, err := client.Get[api.Page[api.Connection]](t.Context(), w.Client, "/connections")
	require.NoError(t, err)
	for _, c := range list.Items {
		add("/connections/" + c.ID)
		for _, i := range c.Interfaces {
			switch i.Kind {
			case "scim":
				add("/interfaces/" + i.ID + "/matching")
				add("/interfaces/" + i.ID + "/unpaired")
			case "oneroster":
				add("/interfaces/" + i.ID + "/proposals")
			case "http-api":
				add("/interfaces/" + i.ID + "/operations")
			case "cloudevents":
				add("/interfaces/" + i.ID + "/meaning")
			}
		}
	}
	return pages
}

// maxShift is how much of a page may move while it loads: 0.1 is what people begin to notice.
const maxShift = 0.05

// The console can be used by everybody.
func TestConsoleForEverybody(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	require.NoError(t, w.PlayScores(t.Context()))
	axe := axeScript(t)
	pagesForEverybody(t, w, axe)
	dialogsForEverybody(t, w, axe)
	forLearnersOnATelephone(t, w, axe)
	asTheSystemSays(t, w)
	turnsPages(t, w, axe)
}

// Of every page: nothing serious stands in the way, nothing moves under the mouse while it loads slowly, no text
// tells people to type a command, and it fits at twice the size.
func pagesForEverybody(t *testing.T, w *world, axe string) {
	t.Helper()
	g := newGateway(t, w.service.Address)
	b := newBrowser(t, g.URL)
	assert.Empty(t, func() []barrier { b.open("/sign-in"); b.sees("Password"); return b.barriers(axe) }(), "/sign-in")
	b.signsIn("/board")
	b.rested()
	g.slow.Store(int64(120 * time.Millisecond))
	for _, path := range everyPage(t, w) {
		b.open(path)
		b.rested()
		assert.Less(t, b.shifted(), maxShift, "%s moves while it loads", path)
		for _, x := range b.barriers(axe) {
			t.Errorf("%s: %s (%s) %s\n\t%s", path, x.ID, x.Impact, x.Help, strings.Join(x.Nodes, "\n\t"))
		}
		told := ask(b, chromedp.Evaluate[[]string](`[...document.body.innerText.matchAll(/.{0,40}\bkanban [a-z]+ [a-z-]+.*/g)].map(String)`))
		assert.Empty(t, told, "%s tells people to type a command", path)
		b.do(chromedp.EmulateViewport(640, 400)) // 200 % of 1280x800
		wide := ask(b, chromedp.Evaluate[float64](`document.documentElement.scrollWidth - innerWidth`))
		assert.LessOrEqual(t, wide, 0.0, "%s is wider than the window at 200 %%", path)
		b.do(chromedp.EmulateViewport(1280, 800))
	}
}

// A list of more than a page is turned by keyboard, says where one is in the address, and stays there after a reload.
func turnsPages(t *testing.T, w *world, axe string) {
	t.Helper()
	for range 60 {
		_, err := w.Read(t.Context())
		require.NoError(t, err)
	}
	b := w.browse("/runs")
	b.until(`document.querySelectorAll('tbody tr').length === 50`)
	assert.Empty(t, b.barriers(axe))
	first := ask(b, chromedp.Evaluate[string](`document.querySelector('tbody a').getAttribute('href')`))
	b.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('[aria-label^="older"]').focus()`))
	b.key(kb.Enter)
	b.until(`location.search.startsWith('?from=') && document.querySelector('tbody a').getAttribute('href') !== ` + quotedText(first))
	b.do(chromedp.Reload())
	b.until(`!!document.querySelector('tbody a') && document.querySelector('tbody a').getAttribute('href') !== ` + quotedText(first))
	b.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('[aria-label$="newer"]').focus()`))
	b.key(kb.Enter)
	b.until(`location.search === '' && document.querySelector('tbody a').getAttribute('href') === ` + quotedText(first))
}

// Who asks the system for less motion gets none, and where it chooses the colours, states and what is chosen show.
func asTheSystemSays(t *testing.T, w *world) {
	t.Helper()
	b := w.browse("/pairings/" + w.Pairing.ID)
	b.until(`!!document.querySelector('.bar i')`)
	_, err := chromedp.Call(b.ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{
			{Name: "prefers-reduced-motion", Value: "reduce"}, {Name: "forced-colors", Value: "active"},
		},
	})
	require.NoError(t, err)
	b.until(`matchMedia('(prefers-reduced-motion: reduce)').matches && matchMedia('(forced-colors: active)').matches`)
	lasting := ask(b, chromedp.Evaluate[float64](`Math.max(...[...document.querySelectorAll('*')].map((e) =>
		getComputedStyle(e)).flatMap((s) => [s.animationDuration, s.transitionDuration]).flatMap((d) => d.split(',')).map(parseFloat))`))
	assert.Less(t, lasting, 0.05, "seconds")
	colours := ask(b, chromedp.Evaluate[[]string](`[...new Set([...document.querySelectorAll('.bar i')].map((i) => getComputedStyle(i).backgroundColor))]`))
	assert.Greater(t, len(colours), 1, "outcomes are told apart: %v", colours)
	border := ask(b, chromedp.Evaluate[string](`getComputedStyle(document.querySelector('nav [aria-current]')).borderTopStyle`))
	assert.Equal(t, "solid", border)
}

// quotedText is a text as a literal of the page's language.
func quotedText(text string) string {
	out, _ := json.Marshal(text)
	return string(out)
}

// Learners and teachers open the pages of badges and of mails on a telephone.
func forLearnersOnATelephone(t *testing.T, w *world, axe string) {
	t.Helper()
	b := newBrowser(t, w.service.Address)
	b.do(chromedp.EmulateViewport(390, 780))
	award := strings.TrimPrefix(w.Award.Address, w.service.Address)
	for path, name := range map[string]string{award: "award-390", "/sign-in": "sign-in-390"} {
		b.open(path)
		b.until(`!!document.querySelector('h1') && ` + still)
		b.picture(name)
		wide := ask(b, chromedp.Evaluate[float64](`document.documentElement.scrollWidth - innerWidth`))
		assert.LessOrEqual(t, wide, 0.0, "%s is wider than a telephone", path)
		for _, x := range b.barriers(axe) {
			t.Errorf("%s: %s (%s) %s\n\t%s", path, x.ID, x.Impact, x.Help, strings.Join(x.Nodes, "\n\t"))
		}
	}
}

func axeScript(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "make setup installs it")
	return string(text)
}

// dialogs are opened by a button of a page.
var dialogs = []struct{ page, button string }{
	{"/rules", "Make a rule…"},
	{"/rules", "Ready rules…"},
	{"/awards", "Make a badge…"},
	{"/awards", "Badge for a module…"},
	{"/stage-plans", "Make a stage plan…"},
	{"/sections/lists", "New list…"},
	{"/access", "Make an offer…"},
}

// A dialog can be used by everybody, has the focus when it opens, and gives it back when it closes.
func dialogsForEverybody(t *testing.T, w *world, axe string) {
	t.Helper()
	b := w.browse("/board")
	b.rested()
	for _, d := range dialogs {
		b.open(d.page)
		b.rested()
		b.click(d.button)
		b.until(`!!document.querySelector('[role=dialog]') && ` + still)
		b.until(`!!document.activeElement.closest('[role=dialog]')`)
		b.settled()
		for _, x := range b.barriers(axe) {
			t.Errorf("%s %s: %s (%s) %s\n\t%s", d.page, d.button, x.ID, x.Impact, x.Help, strings.Join(x.Nodes, "\n\t"))
		}
		b.do(chromedp.KeyEvent(kb.Escape))
		b.until(`!document.querySelector('[role=dialog]')`)
	}
}
