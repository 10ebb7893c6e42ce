package pipeline_test

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/store/leases"
	"kanban/internal/wire/call"
)

// BenchmarkSlowReceiver makes 4,500 deliveries (KANBAN_SLOW: another number) to a receiver
// that takes a second for each, eight at a time, beside a fast one that gets a delivery
// every quarter of a second. It prints how long that took against what eight at a time
// allow, how many calls were made more than once, and how long the fast one's took.
func BenchmarkSlowReceiver(b *testing.B) {
	n := 4500
	if text := os.Getenv("KANBAN_SLOW"); text != "" {
		n, _ = strconv.Atoi(text)
	}
	for b.Loop() {
		w := apptest.New(b)
		w.Read(w.Register(), false)
		w.Deliveries.Call = call.Options{}
		var mu sync.Mutex
		calls := map[string]int{}
		slow := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			mu.Lock()
			calls[r.Header.Get("webhook-id")]++
			mu.Unlock()
			time.Sleep(time.Second)
		}))
		arrived := map[string]time.Time{}
		fast := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			mu.Lock()
			arrived[r.Header.Get("webhook-id")] = time.Now()
			mu.Unlock()
		}))
		slowly := w.Connect("webhook", "Slow", map[string]string{
			"address": slow.URL, "secret": signing,
			"atOnce": "8",
		})
		quickly := w.Connect("webhook", "Fast", map[string]string{"address": fast.URL, "secret": signing})
		tells(w, quickly)
		many(b, w, slowly, n)
		lease, err := leases.Register(b.Context(), w.Store, time.Hour)
		require.NoError(b, err)
		ctx, cancel := context.WithCancel(context.Background())
		ended := make(chan bool)
		started := time.Now()
		go func() {
			w.Deliveries.Dispatch(ctx, ctx, lease, slog.New(slog.DiscardHandler))
			close(ended)
		}()
		asked := map[string]time.Time{}
		for left := 1; left > 0; time.Sleep(250 * time.Millisecond) {
			at := time.Now()
			for _, d := range w.DeliveriesOf(happens(w, quickly).ID) {
				asked[d.ID] = at
			}
			require.NoError(b, w.Store.Pool.QueryRow(b.Context(), `SELECT count(*) FROM deliveries
				WHERE interface_id = $1 AND state <> 'delivered'`, slowly.ID).Scan(&left))
		}
		took := time.Since(started)
		cancel()
		<-ended
		mu.Lock()
		twice := 0
		var waits []time.Duration
		for _, n := range calls {
			twice += n - 1
		}
		for id, at := range asked {
			if got, ok := arrived[id]; ok {
				waits = append(waits, got.Sub(at))
			}
		}
		slices.Sort(waits)
		b.ReportMetric(took.Seconds()/(float64(n)/8), "of-what-is-allowed")
		b.ReportMetric(float64(twice), "called-twice")
		b.ReportMetric(float64(len(calls)), "called")
		b.ReportMetric(float64(waits[len(waits)*99/100].Milliseconds()), "ms-fast-p99")
		b.ReportMetric(float64(waits[len(waits)-1].Milliseconds()), "ms-fast-worst")
		mu.Unlock()
		slow.Close()
		fast.Close()
	}
}
