package e2e_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// gateway stands before the service as a proxy does: it counts the streams of news that are
// open, and can refuse to carry them or be slow with every answer.
type gateway struct {
	*httptest.Server
	streams, opened atomic.Int64
	refuses         atomic.Bool
	bare            atomic.Bool  // takes away the cookies that the service gives
	slow            atomic.Int64 // nanoseconds that each answer waits
}

func newGateway(t *testing.T, service string) *gateway {
	t.Helper()
	at, err := url.Parse(service)
	require.NoError(t, err)
	g := &gateway{}
	proxy := &httputil.ReverseProxy{FlushInterval: -1, Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(at)
		r.Out.Host = r.In.Host
	}, ModifyResponse: func(r *http.Response) error {
		if g.bare.Load() {
			r.Header.Del("Set-Cookie")
		}
		return nil
	}}
	g.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/api/v1/live" {
			if g.refuses.Load() {
				w.WriteHeader(http.StatusBadGateway)
				return
			}
			g.opened.Add(1)
			g.streams.Add(1)
			defer g.streams.Add(-1)
		} else if wait := g.slow.Load(); wait > 0 && strings.HasPrefix(r.URL.Path, "/api/") {
			time.Sleep(time.Duration(wait))
		}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(func() {
		g.CloseClientConnections()
		g.Close()
	})
	return g
}

// signsIn signs the administrator in, in this browser, and goes to a page.
func (b *browser) signsIn(path string) {
	b.t.Helper()
	b.open("/sign-in?then=" + path)
	b.fill("email", scenario.Email)
	b.fill("password", scenario.Password)
	b.click("Sign in")
}

// tab opens one more tab of the same browser.
func (b *browser) tab(path string) *browser {
	b.t.Helper()
	ctx, cancel := chromedp.NewContext(b.ctx)
	b.t.Cleanup(cancel)
	other := &browser{b.t, ctx, b.at}
	// The first call opens it, for as long as its context.
	require.NoError(b.t, chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)))
	other.open(path)
	return other
}

// front brings a tab before the others.
func (b *browser) front() {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, 20*time.Second)
	defer cancel()
	_, err := chromedp.Call(ctx, page.BringToFront, cdp.Empty{})
	require.NoError(b.t, err)
}

var tenPages = [][2]string{
	{"/board", "Board"},
	{"/sections", "Sections"},
	{"/findings", "Findings"},
	{"/connections", "Connections"},
	{"/rules", "Rules"},
	{"/events", "Events"},
	{"/settings", "Settings"},
	{"/tasks", "Tasks"},
	{"/access", "Access"},
	{"/stage-plans", "Stages"},
}

func TestTenTabsShareOneStream(t *testing.T) {
	w := newWorld(t)
	w.to()
	g := newGateway(t, w.service.Address)
	first := newBrowser(t, g.URL)
	first.signsIn("/rules")
	first.sees("up to date")
	tabs := []*browser{first}
	for _, p := range tenPages[1:] {
		b := first.tab(p[0])
		b.sees("up to date")
		tabs = append(tabs, b)
	}
	assert.EqualValues(t, 1, g.streams.Load(), "streams that ten tabs hold open")
	assert.EqualValues(t, 1, g.opened.Load())

	_, err := client.Post[api.Rule](t.Context(), w.Client, "/rules", api.NewRule{
		Name: "Seen in every tab", Trigger: "section.joined",
		Actions: []api.Action{{Kind: "task", Subject: "Look"}},
	})
	require.NoError(t, err)
	for _, b := range []*browser{tabs[0], tabs[4]} { // both show the rules; neither is loaded again
		b.front()
		b.sees("Seen in every tab")
	}

	for _, p := range tenPages { // one tab, by address
		first.open(p[0])
		first.sees(p[1])
		first.sees("up to date")
	}
	soon(t, "one stream is left", func() bool { return g.streams.Load() == 1 })

	g.refuses.Store(true) // a proxy whose service is just being exchanged
	g.CloseClientConnections()
	tabs[3].front()
	tabs[3].sees("connecting")
	g.refuses.Store(false)
	for _, b := range tabs {
		b.sees("up to date")
	}

	tabs[3].front()
	tabs[3].click("Sign out")
	for _, b := range tabs {
		b.front()
		b.sees("E-mail address")
		b.until(`!document.body.innerText.includes('Fernmoor')`)
	}
	soon(t, "no stream is left after signing out", func() bool { return g.streams.Load() == 0 })
	tabs[5].signsIn("/rules")
	tabs[5].sees("Seen in every tab")
	tabs[5].sees("up to date")
	assert.EqualValues(t, 1, g.streams.Load())
}
