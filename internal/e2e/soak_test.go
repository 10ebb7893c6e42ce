package e2e_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
	"kanban/internal/wire/webhook"
	"kanban/internal/wire/xapi"
)

// TestSoak kills the service at random moments under load, a hundred times (KANBAN_KILLS:
// another number), and prints what was acknowledged, what arrived, and what arrived twice.
// It is for `make soak`.
func TestSoak(t *testing.T) {
	if os.Getenv("KANBAN_SOAK") == "" {
		t.Skip("only in make soak")
	}
	kills := 100
	if n, err := strconv.Atoi(os.Getenv("KANBAN_KILLS")); err == nil {
		kills = n
	}
	const atOnce = 4
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	var mu sync.Mutex
	calls := map[string]int{}
	receiver := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		mu.Lock()
		calls[r.Header.Get("webhook-id")]++
		mu.Unlock()
		time.Sleep(time.Duration(rand.IntN(60)) * time.Millisecond)
	}))
	defer receiver.Close()
	c := w.connect("webhook", "Receiver", map[string]string{
		"address": receiver.URL, "secret": webhook.NewSecret(), "atOnce": strconv.Itoa(atOnce),
	})
	w.outlined("PROP-A")
	// Every statement with a score is an event of its own.
	w.ruleOn(api.NewRule{
		Name: "tell", Trigger: string(rule.ScoreReported), OncePerPerson: new(false),
		Actions: []api.Action{{
			Kind: rule.SendEvent, InterfaceID: c.ID,
			Fields: map[string]string{"score": "event.score"},
		}},
	})
	made := w.Interfaces[scenario.PlatformName].Made

	var address atomic.Value
	address.Store(w.service.Address)
	var acknowledged, refused atomic.Int64
	stop := make(chan bool)
	var senders sync.WaitGroup
	for n := range 3 {
		senders.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-stop:
					return
				default:
				}
				body, _ := json.Marshal([]map[string]any{{
					"id": fmt.Sprintf("00000000-0000-4000-8000-%02d%010d", n,
						i), "actor": map[string]any{"account": map[string]any{
						"homePage": w.At.Platform,
						"name":     "stu-001",
					}},
					"verb":   map[string]any{"id": xapi.ADL + "scored"},
					"result": map[string]any{"score": map[string]any{"scaled": 0.5}},
					"object": map[string]any{"id": w.At.Platform + "/activities/act-cuttings-check"},
				}})
				for { // as platforms do: again, with the same id, until it is acknowledged
					if reports(address.Load().(string), made, body) {
						acknowledged.Add(1)
						break
					}
					refused.Add(1)
					select {
					case <-stop:
						return
					case <-time.After(20 * time.Millisecond):
					}
				}
				time.Sleep(10 * time.Millisecond)
			}
		})
	}
	for range kills {
		time.Sleep(time.Duration(50+rand.IntN(700)) * time.Millisecond)
		w.service.Kill()
		w.start()
		address.Store(w.service.Address)
	}
	time.Sleep(time.Second)
	close(stop)
	senders.Wait()
	again := w.again(w.service.Address)
	var open int
	require.Eventually(t, func() bool {
		open = 0
		for _, state := range []string{"queued", "retrying", "planned", "waiting"} {
			page, err := client.Get[api.Page[api.Delivery]](t.Context(), again, "/deliveries?limit=1&state="+state)
			if err != nil {
				return false
			}
			open += len(page.Items)
		}
		mu.Lock()
		defer mu.Unlock()
		return open == 0 && int64(len(calls)) >= acknowledged.Load()
	}, 5*time.Minute, 200*time.Millisecond, "every delivery is made, and nothing that was acknowledged is lost")
	mu.Lock()
	defer mu.Unlock()
	twice, most := 0, 0
	for _, n := range calls {
		twice += n - 1
		most = max(most, n)
	}
	fmt.Printf("soak: %d kills; statements acknowledged: %d (tried again: %d); deliveries arrived: %d; arrived twice: %d (at most %d for each kill are allowed), one id at most %d times\n",
		kills, acknowledged.Load(), refused.Load(), len(calls), twice, atOnce, most)
	assert.GreaterOrEqual(t, int64(len(calls)), acknowledged.Load(), "nothing that was acknowledged is lost")
	assert.LessOrEqual(t, twice, atOnce*kills)
}
