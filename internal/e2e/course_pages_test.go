package e2e_test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/scenario"
)

// framing is a browser that blocks cookies of third parties, as people's browsers do.
func framing(t *testing.T, address string) *browser {
	t.Helper()
	path, err := exec.LookPath("chromium")
	require.NoError(t, err)
	ctx, end := startChromium(path, t.TempDir(), "test-third-party-cookie-phaseout",
		"disable-web-security", "disable-site-isolation-trials") // a test looks into frames of other sites
	t.Cleanup(end)
	require.NoError(t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	return &browser{t, ctx, address}
}

// seesInFrame waits until the frame of a page shows a text.
func (b *browser) seesInFrame(text string) {
	b.t.Helper()
	b.until(`(() => { const d = document.querySelector('iframe')?.contentDocument;
		return !!d?.body && d.body.innerText.replace(/\s+/g, ' ').includes(` + quoted(text) + `) })()`)
}

// otherSite says to a page in a frame whether its cookie came back: a plain one, or one for that frame alone.
func otherSite(t *testing.T) (port string) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, at, _ := net.SplitHostPort(r.Host)
		switch r.URL.Path {
		case "/top":
			fmt.Fprintf(w, `<iframe src="http://127.0.0.1:%s/set?apart=%s"></iframe>`, at, r.URL.Query().Get("apart"))
		case "/set":
			http.SetCookie(w, &http.Cookie{
				Name: "mine", Value: "1", Path: "/", Secure: true, SameSite: http.SameSiteNoneMode, HttpOnly: true,
				Partitioned: r.URL.Query().Get("apart") == "yes",
			})
			http.Redirect(w, r, "/got", http.StatusSeeOther)
		case "/got":
			_, err := r.Cookie("mine")
			fmt.Fprintf(w, "came back: %t", err == nil)
		}
	}))
	t.Cleanup(s.Close)
	_, port, _ = net.SplitHostPort(s.Listener.Addr().String())
	return port
}

// behind starts the service anew as one that is reached through a gateway.
func (w *world) behind(t *testing.T) *gateway {
	t.Helper()
	g, listens := newGateway(t, w.service.Address), strings.TrimPrefix(w.service.Address, "http://")
	w.service.Stop()
	var err error
	w.service, err = scenario.StartService(context.Background(), filepath.Join(bin, "kanban"), scenario.ServiceOptions{
		Listen: listens, Data: w.data, Env: append([]string{"KANBAN_PUBLIC=" + g.URL}, environment...),
	})
	require.NoError(t, err)
	return g
}

// A platform joins by one address that its administrator pastes; teachers and learners open the page in their
// course, in a frame of another site whose cookies are blocked.
func TestConsoleCoursePages(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	g := w.behind(t)
	platform := strings.Replace(w.At.Platform, "127.0.0.1", "localhost", 1)

	b := framing(t, "http://localhost:"+otherSite(t))
	for _, apart := range []string{"no", "yes"} {
		b.open("/top?apart=" + apart)
		b.seesInFrame(fmt.Sprintf("came back: %t", apart == "yes"))
	}

	m := w.browse("/connections")
	m.click("Let a course platform join")
	m.fill("platform-name", "Course platform")
	m.picture("join-platform")
	m.click("Make the address")
	m.until(`document.querySelector('[role="dialog"] code')?.textContent.includes('/lti/register/')`)
	address := ask(m, chromedp.Evaluate[string](`document.querySelector('[role="dialog"] code').textContent`))
	m.click("Close")

	b.at = platform
	b.open("/lti/")
	b.fill("address", address)
	b.click("Let it register")
	b.sees("Course platform has joined Kanban.")
	b.open("/lti/courses/sec-prop-a?as=tea-002")
	b.seesInFrame("The register office has one e-mail address for two people, so nobody knows whose " +
		"account it is.")
	b.picture("course-page")
	b.do(chromedp.Evaluate[chromedp.Void](`document.querySelector('iframe').contentDocument.querySelector('button[value="sync"]').click()`))
	b.seesInFrame("It is brought in step now")
	b.open("/lti/open/sec-prop-a?as=tea-002") // in a window of its own
	b.sees("Who is missing")
	assert.Empty(t, b.barriers(axeScript(t)))

	g.bare.Store(true) // no cookie at all: the platform's page keeps what binds the launch to the browser
	_, err := chromedp.Call(b.ctx, network.ClearBrowserCookies, cdp.Empty{})
	require.NoError(t, err)
	b.open("/lti/courses/sec-prop-a?as=stu-001")
	b.seesInFrame("Cuttings ○ Clean tools")
	g.bare.Store(false)

	b.do(chromedp.EmulateViewport(390, 800))
	b.open("/lti/courses/sec-prop-a?as=test")
	b.seesInFrame("This is a test user")

	m.open("/connections")
	m.click("Course platform")
	m.click("Course pages")
	m.sees("Propagation A")
	m.sees("2 people")
	m.sees("Not recognised (0)")
	assert.Empty(t, m.barriers(axeScript(t)))
	m.picture("course-pages")
	m.click("Say which section")
	m.sees("1 of 2 who opened it are in it")
	m.sees("0 of 2 who opened it are in it")
	m.picture("say-section")
	m.click("Cancel")
	m.click("2 people")
	m.sees("never opened it")
	assert.Contains(t, ask(m, chromedp.Evaluate[string](`document.querySelector('tbody tr').innerText`)), "Never")
	assert.Empty(t, m.barriers(axeScript(t)))
}
