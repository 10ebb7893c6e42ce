package e2e_test

import (
	"bytes"
	"context"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"kanban/console"
	"kanban/internal/app/access"
	"kanban/internal/apptest"
	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/service"
	"kanban/internal/store/db"
	"kanban/internal/store/storetest"
	"kanban/internal/wire/api"
)

// BenchmarkTenThousandPairings prints the figures of a service with 10,000 pairings
// (and 1,112 sections more) that are all due in the same minute: how long until all
// are compared, how soon a "sync now" that somebody waits for starts meanwhile, how
// long a page of the API takes, and how long the board takes to be drawn once the
// API has answered.
func BenchmarkTenThousandPairings(b *testing.B) {
	url, key := storetest.URL(b)
	db, err := db.Open(b.Context(), db.Options{URL: url, Keyset: key, MaxConnections: 10})
	require.NoError(b, err)
	defer db.Close()
	w := apptest.Over(b, db)
	_, _, pairings := w.Large(11_112, 20)
	secret, err := w.Access.SetupSecret(b.Context())
	require.NoError(b, err)
	caller, err := w.Access.SetUp(b.Context(), secret, "Maud Marrow", scenario.Email, scenario.Password)
	require.NoError(b, err)
	token, err := w.Access.NewToken(b.Context(), caller, access.TokenDraft{Name: "bench"})
	require.NoError(b, err)

	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	address := l.Addr().String()
	require.NoError(b, l.Close())
	ctx, stop := context.WithCancel(b.Context())
	ended := make(chan error, 1)
	go func() {
		ended <- service.Run(ctx, service.Options{
			Address: address, DatabaseURL: url, SecretsKey: string(key),
			Roles: []string{service.RoleAPI, service.RoleWorker}, Call: apptest.Quick,
			Log: slog.New(slog.DiscardHandler), Console: console.Files(),
		})
	}()
	defer func() { stop(); <-ended }()
	c := client.New("http://"+address, token)
	require.Eventually(b, func() bool {
		_, err := client.Get[api.Maintenance](ctx, c,
			"/maintenance")
		return err == nil
	}, 20*time.Second, 50*time.Millisecond)

	for b.Loop() {
		b.ReportMetric(float64(pairings), "pairings")
		lists := []string{"/sections?limit=100", "/board", "/pairings?limit=100"}
		quiet := pages(b, address, token, lists...)
		b.ReportMetric(quiet[0], "ms-page-sections")
		b.ReportMetric(quiet[1], "ms-page-board")
		b.ReportMetric(quiet[2], "ms-page-pairings")

		// Everything is due; a second later somebody wants one pairing in step.
		_, err := db.Pool.Exec(ctx, `UPDATE pairings SET next_at = now()`)
		require.NoError(b, err)
		started := time.Now()
		require.NoError(b, w.Runs.Tick(ctx, time.Now().Add(time.Second)))
		time.Sleep(time.Second)
		var one string
		require.NoError(b, db.Pool.QueryRow(ctx, `WITH one AS (SELECT id, target_ref FROM pairings
			WHERE target_ref = 's7'), left_it AS (DELETE FROM enrolments WHERE sourced_id = 'e140') SELECT id FROM one`).Scan(&one))
		asked := time.Now()
		_, err = client.Post[api.Queued](ctx, c, "/pairings/sync", api.SyncNow{Pairings: []string{one}})
		require.NoError(b, err)
		var begun *time.Time
		for begun == nil {
			time.Sleep(10 * time.Millisecond)
			require.Less(b, time.Since(asked), time.Minute)
			require.NoError(b, db.Pool.QueryRow(ctx, `SELECT max(started_at) FROM runs WHERE pairing_id = $1`,
				one).Scan(&begun))
		}
		b.ReportMetric(begun.Sub(asked).Seconds(), "s-until-sync-now-runs")
		busy := pages(b, address, token, lists...)
		b.ReportMetric(busy[0], "ms-page-sections-busy")
		for left := 1; left > 0; time.Sleep(50 * time.Millisecond) {
			require.Less(b, time.Since(started), 3*time.Minute)
			require.NoError(b,
				db.Pool.QueryRow(ctx, `SELECT count(*) FROM pairings WHERE asked_at IS NOT NULL`).Scan(&left))
		}
		b.ReportMetric(time.Since(started).Seconds(), "s-all-compared")
	}
	b.ReportMetric(paint(b, "http://"+address), "ms-board-painted")
}

// pages asks for each page and gives the median time, in milliseconds.
func pages(b *testing.B, address, token string, paths ...string) (millis []float64) {
	b.Helper()
	for _, path := range paths {
		var took []time.Duration
		for range 15 {
			req, err := http.NewRequest(http.MethodGet, "http://"+address+"/api/v1"+path, nil)
			require.NoError(b, err)
			req.Header.Set("Authorization", "Bearer "+token)
			started := time.Now()
			resp, err := http.DefaultClient.Do(req)
			require.NoError(b, err)
			var text bytes.Buffer
			_, err = text.ReadFrom(resp.Body)
			require.NoError(b, err)
			resp.Body.Close()
			took = append(took, time.Since(started))
			require.Equal(b, http.StatusOK, resp.StatusCode, text.String())
		}
		slices.Sort(took)
		millis = append(millis, float64(took[len(took)/2].Microseconds())/1000)
	}
	return millis
}

// paint opens the board in a browser, and gives the time from the API's answer to
// the drawn cards, in milliseconds.
func paint(b *testing.B, at string) float64 {
	b.Helper()
	x := newBrowser(b, at)
	x.open("/sign-in?then=/connections")
	x.fill("email", scenario.Email)
	x.fill("password", scenario.Password)
	x.click("Sign in")
	x.sees("Large school")
	ask(x, chromedp.Evaluate[bool](`(() => {
		new MutationObserver(() => { if (!window.painted && document.querySelectorAll('.card').length > 50) requestAnimationFrame(() => requestAnimationFrame(() => (window.painted ??= performance.now()))) }).observe(document.body, {childList: true, subtree: true})
		return true })()`))
	x.goes("Board")
	x.until(`!!window.painted`)
	x.picture("large-board")
	millis := ask(x, chromedp.Evaluate[float64](`window.painted - Math.max(...performance.getEntriesByType('resource').filter(e => /api.v1.(board|today)(\\?|$)/.test(e.name)).map(e => e.responseEnd))`))
	x.press(`//div[@aria-label="Show as"]/button[normalize-space(.)="Table"]`)
	x.sees("Section 1000")
	ask(x, chromedp.Evaluate[bool](`(() => { document.querySelector('.p-virtualscroller').scrollTop = 46 * 9000; return true })()`))
	x.until(`[...document.querySelectorAll('.sections tbody tr')].some(r => r.innerText.includes('Section 9') || r.innerText.includes('Section 8'))`)
	x.picture("large-table")
	return millis
}
