package pipeline_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/connections"
	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/leases"
	"kanban/internal/store/rulestore"
	"kanban/internal/wire/call"
)

// signing is the secret that receivers share with us.
const signing = "whsec_RmVybm1vb3ItR2FyZGVuLVNjaG9vbC1kZW1vLXNlY3JldA=="

// receiver is a service that takes signed events, and counts the effect of each by its id.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	calls  map[string]int // by message id
	answer func(w http.ResponseWriter, r *http.Request, nth int)
}

func newReceiver(t *testing.T, answer func(w http.ResponseWriter, r *http.Request, nth int)) *receiver {
	x := &receiver{calls: map[string]int{}, answer: answer}
	x.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		x.mu.Lock()
		x.calls[r.Header.Get("webhook-id")]++
		nth := x.calls[r.Header.Get("webhook-id")]
		x.mu.Unlock()
		x.answer(w, r, nth)
	}))
	t.Cleanup(func() {
		x.CloseClientConnections()
		x.Close()
	})
	return x
}

func (x *receiver) total() (calls, ids int) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, n := range x.calls {
		calls += n
	}
	return calls, len(x.calls)
}

func (x *receiver) connect(w *apptest.World, name string, values map[string]string) connectionstore.Interface {
	all := map[string]string{"address": x.URL, "secret": signing}
	for k, v := range values {
		all[k] = v
	}
	return w.Connect("webhook", name, all)
}

func fine(w http.ResponseWriter, _ *http.Request, _ int) { w.WriteHeader(http.StatusNoContent) }

// tells makes a rule that sends to an interface whenever something happens for it.
func tells(w *apptest.World, c connectionstore.Interface) rulestore.Rule {
	return w.Rule(rule.Draft{
		Name: "to " + c.Name, Trigger: string(rule.ModuleCompleted),
		Scope: rule.Scope{Module: c.Name}, Actions: []rule.Action{{
			Kind: rule.SendEvent, InterfaceID: c.ID,
			Fields: map[string]string{"x": `"y"`},
		}},
	})
}

// happens records what the rule of tells waits for.
func happens(w *apptest.World, c connectionstore.Interface) eventstore.Event {
	e := w.About(rule.ModuleCompleted, db.NewID(), "stu-001")
	e.ModuleID = c.Name
	return w.Record(e)
}

// many lets it happen n times.
func many(t testing.TB, w *apptest.World, c connectionstore.Interface, n int) {
	t.Helper()
	tells(w, c)
	for range n {
		happens(w, c)
	}
}

// dispatching makes deliveries under a lease until the returned function is called, which
// cuts off what is under way, as a process that dies would.
func dispatching(t *testing.T, w *apptest.World) (die func()) {
	t.Helper()
	lease, err := leases.Register(t.Context(), w.Store, time.Minute)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan bool)
	go func() {
		w.Deliveries.Dispatch(ctx, ctx, lease, slog.New(slog.DiscardHandler))
		close(done)
	}()
	var once sync.Once
	die = func() {
		once.Do(func() {
			cancel()
			<-done
			assert.NoError(t, leases.EndLease(context.Background(), w.Store, lease))
		})
	}
	t.Cleanup(die)
	return die
}

func counted(t *testing.T, w *apptest.World, condition string, args ...any) (n int) {
	t.Helper()
	require.NoError(t, w.Store.Pool.QueryRow(context.Background(),
		`SELECT count(*) FROM deliveries d WHERE `+condition, args...).Scan(&n))
	return n
}

func eventually(t *testing.T, what string, ok func() bool) {
	t.Helper()
	require.Eventually(t, ok, 60*time.Second, 20*time.Millisecond, what)
}

func allDelivered(t *testing.T, w *apptest.World, c connectionstore.Interface) func() bool {
	return func() bool { return counted(t, w, `interface_id = $1 AND state <> 'delivered'`, c.ID) == 0 }
}

// A service that never answers holds up nobody else, and the fast one's deliveries are each
// called once.
func TestASlowServiceSlowsNobodyElse_E9(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	w.Deliveries.Call = call.Options{Timeout: time.Minute}
	release := make(chan bool)
	hanging := newReceiver(t, func(w http.ResponseWriter, r *http.Request, _ int) {
		select {
		case <-release:
		case <-r.Context().Done():
		}
	})
	fast := newReceiver(t, fine)
	h, f := hanging.connect(w, "Hanging", nil), fast.connect(w, "Fast", nil)
	many(t, w, h, 400)
	die := dispatching(t, w)
	eventually(t, "the hanging one has as many calls as it may",
		func() bool { n, _ := hanging.total(); return n == 8 })
	many(t, w, f, 300)
	eventually(t, "the fast one has all", allDelivered(t, w, f))
	calls, ids := fast.total()
	assert.Equal(t, []int{300, 300}, []int{calls, ids})
	calls, _ = hanging.total()
	assert.Equal(t, 8, calls, "no more than its slots")
	assert.Equal(t, 8, counted(t, w, `interface_id = $1 AND attempts = 1 AND begun_at IS NOT NULL`, h.ID),
		"each call is on record while it is under way")
	assert.Equal(t, 392, counted(t, w, `interface_id = $1 AND attempts = 0`, h.ID), "claimed is not begun")
	die()
	close(release)
	assert.Zero(t, counted(t, w, `begun_at IS NOT NULL`), "what was cut off says so")
}

// A receiver that is slower than any job would wait for gets every delivery once.
func TestSlowReceiverGetsEverythingOnce_E8(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	slow := newReceiver(t, func(w http.ResponseWriter, _ *http.Request, _ int) {
		time.Sleep(150 * time.Millisecond)
		w.WriteHeader(http.StatusNoContent)
	})
	c := slow.connect(w, "Slow", nil)
	many(t, w, c, 100)
	dispatching(t, w)
	dispatching(t, w) // a second process beside it
	eventually(t, "all arrived", allDelivered(t, w, c))
	calls, ids := slow.total()
	assert.Equal(t, []int{100, 100}, []int{calls, ids})
	assert.Zero(t, counted(t, w, `attempts <> 1 OR claimed_by IS NOT NULL`))
}

// Processes that die again and again: only what was begun and unanswered is called again,
// and never more than the slots of the interface for each death.
func TestDeathRepeatsOnlyWhatWasBegun_E8(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	r := newReceiver(t, func(w http.ResponseWriter, _ *http.Request, _ int) {
		time.Sleep(30 * time.Millisecond)
		w.WriteHeader(http.StatusNoContent)
	})
	c := r.connect(w, "Receiver", map[string]string{"atOnce": "4"})
	many(t, w, c, 200)
	deaths := 0
	for counted(t, w, `state = 'delivered'`) < 150 {
		die := dispatching(t, w)
		before, _ := r.total()
		eventually(t, "some were made", func() bool {
			n,
				_ := r.total()
			return n >= before+15 || allDelivered(t, w, c)()
		})
		die()
		deaths++
	}
	dispatching(t, w)
	eventually(t, "all arrived", allDelivered(t, w, c))
	calls, ids := r.total()
	assert.Equal(t, 200, ids)
	assert.LessOrEqual(t, calls, 200+4*deaths, "after %d deaths", deaths)
	var recorded int
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM attempts`).Scan(&recorded))
	assert.GreaterOrEqual(t, recorded, calls, "every call is on record")
}

// A process that has lost its lease cannot begin anything, and nobody takes over before.
func TestNobodyTakesOverWhileALeaseLasts(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	c := newReceiver(t, fine).connect(w, "Receiver", nil)
	many(t, w, c, 3)
	first, err := leases.Register(t.Context(), w.Store, time.Hour)
	require.NoError(t, err)
	second, err := leases.Register(t.Context(), w.Store, time.Hour)
	require.NoError(t, err)
	lane := deliverystore.Lane{InterfaceID: &c.ID}
	list, err := deliverystore.ReadyDeliveries(t.Context(), w.Store, lane, time.Now(), 10, nil,
		deliverystore.ReadyAfter{})
	require.NoError(t, err)
	require.Len(t, list, 3)
	ids := []string{list[0].ID, list[1].ID, list[2].ID}
	begun, err := deliverystore.BeginAttempts(t.Context(), w.Store, first.Worker, time.Now(), time.Now(), ids...)
	require.NoError(t, err)
	assert.Len(t, begun, 3)
	list, err = deliverystore.ReadyDeliveries(t.Context(), w.Store, lane, time.Now(), 10, nil,
		deliverystore.ReadyAfter{})
	require.NoError(t, err)
	assert.Empty(t, list)
	begun, err = deliverystore.BeginAttempts(t.Context(), w.Store, second.Worker, time.Now(), time.Now(), ids...)
	require.NoError(t, err)
	assert.Empty(t, begun)
	attempts, err := deliverystore.Attempts(t.Context(), w.Store, ids[0])
	require.NoError(t, err)
	require.Len(t, attempts, 1)
	assert.True(t, attempts[0].UnderWay)

	_, err = w.Store.Pool.Exec(t.Context(), `UPDATE workers SET until = now() - interval '1 second' WHERE id = $1`,
		first.Worker)
	require.NoError(t, err)
	require.ErrorIs(t, leases.Renew(t.Context(), w.Store, first), db.ErrStale, "a lease that is over stays over")
	begun, err = deliverystore.BeginAttempts(t.Context(), w.Store, second.Worker, time.Now(), time.Now(), ids...)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{ids[0]: 2, ids[1]: 2, ids[2]: 2}, begun)
	attempts, err = deliverystore.Attempts(t.Context(), w.Store, ids[0])
	require.NoError(t, err)
	require.Len(t, attempts, 2)
	assert.Equal(t, deliverystore.CutOff, attempts[0].Error)
	// What the first one still has to say comes too late to change anything.
	require.NoError(t, w.Store.InTx(t.Context(), func(tx *db.Tx) error {
		late := deliverystore.Delivery{ID: ids[0], State: deliverystore.DeliveryWaiting}
		_, err := deliverystore.EndAttempts(t.Context(), tx, first.Worker, []*deliverystore.Delivery{&late}, nil,
			false)
		return err
	}))
	d, err := deliverystore.FindDelivery(t.Context(), w.Store, ids[0])
	require.NoError(t, err)
	assert.Equal(t, deliverystore.DeliveryQueued, d.State)
	require.NotNil(t, d.ClaimedBy)
	assert.Equal(t, second.Worker, *d.ClaimedBy)
}

// Whatever a receiver does, the effect of each delivery is there in the end, once for each
// id, and never more calls are made than attempts are on record.
func TestEveryKindOfReceiver_E8(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	w.Deliveries.Call = call.Options{Timeout: 200 * time.Millisecond}
	w.Deliveries.Delays = slices.Repeat([]time.Duration{10 * time.Millisecond}, 20)
	var turn atomic.Int32
	hijack := func(w http.ResponseWriter, text string) {
		conn, _, err := w.(http.Hijacker).Hijack()
		if err == nil {
			_, _ = io.WriteString(conn, text)
			_ = conn.Close()
		}
	}
	for name, answer := range map[string]func(w http.ResponseWriter, r *http.Request, nth int){
		"slow": func(w http.ResponseWriter, _ *http.Request, _ int) { time.Sleep(100 * time.Millisecond) },
		"hangs at first": func(_ http.ResponseWriter, r *http.Request, nth int) {
			if nth == 1 {
				<-r.Context().Done()
			}
		},
		"answers after the limit": func(_ http.ResponseWriter, _ *http.Request, nth int) {
			if nth == 1 {
				time.Sleep(300 * time.Millisecond)
			}
		},
		"answers and closes": func(w http.ResponseWriter, _ *http.Request, _ int) {
			hijack(w, "HTTP/1.1 204 No Content\r\nConnection: close\r\n\r\n")
		},
		"loses answers": func(w http.ResponseWriter, _ *http.Request, nth int) {
			if nth == 1 {
				hijack(w, "")
			}
		},
		"answers with nonsense": func(w http.ResponseWriter, _ *http.Request, nth int) {
			if nth == 1 {
				hijack(w, "220 not http\r\n")
			}
		},
		"fails every third time": func(w http.ResponseWriter, _ *http.Request, nth int) {
			if nth == 1 && turn.Add(1)%3 == 0 {
				w.WriteHeader(http.StatusInternalServerError)
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			x := newReceiver(t, answer)
			c := x.connect(w, name, nil)
			many(t, w, c, 12)
			die := dispatching(t, w)
			eventually(t, "all arrived", allDelivered(t, w, c))
			die()
			_, ids := x.total()
			assert.Equal(t, 12, ids)
			calls, _ := x.total()
			var recorded int
			require.NoError(t, w.Store.Pool.QueryRow(context.Background(), `SELECT count(*) FROM attempts a
				JOIN deliveries d ON d.id = a.delivery_id WHERE d.interface_id = $1`, c.ID).Scan(&recorded))
			// On a busy machine the time of an attempt may be up before its call has gone out.
			assert.GreaterOrEqual(t, recorded, calls, "each call is one attempt")
		})
	}
}

// A mail server that takes long for each mail, and closes without a word after it has
// accepted one, gets every mail once.
func TestSlowMailServerGetsEveryMailOnce_E8(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	server := newMailServer(t, 200*time.Millisecond)
	c := w.Connect("smtp", "Mail", map[string]string{
		"server": server.address, "from": "kanban@fernmoor.example",
		"security": "none",
	})
	w.Rule(rule.Draft{
		Name: "r", Trigger: "section.joined",
		Actions: []rule.Action{{Kind: rule.Mail, InterfaceID: c.ID, Subject: "s", Text: "t"}},
	})
	for i := range 20 {
		who := fmt.Sprintf("stu-%03d", 14+i)
		w.Record(w.Joined(who, who, "PROP-A"))
	}
	dispatching(t, w)
	dispatching(t, w)
	eventually(t, "all arrived", func() bool { return counted(t, w, `state <> 'delivered'`) == 0 })
	server.mu.Lock()
	defer server.mu.Unlock()
	assert.Len(t, server.ids, 20)
	for id, n := range server.ids {
		assert.Equal(t, 1, n, id)
	}
}

// mailServer accepts mails slowly and closes the connection as soon as it has said so
// (RFC 5321, section 4.2.5: the mail is the server's from then on).
type mailServer struct {
	address string
	mu      sync.Mutex
	ids     map[string]int // by Message-ID
}

func newMailServer(t *testing.T, pause time.Duration) *mailServer {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	x := &mailServer{address: l.Addr().String(), ids: map[string]int{}}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go x.serve(conn, pause)
		}
	}()
	return x
}

func (x *mailServer) serve(conn net.Conn, pause time.Duration) {
	defer conn.Close()
	say := func(text string) { _, _ = io.WriteString(conn, text+"\r\n") }
	say("220 mail.example")
	in, data, id := bufio.NewScanner(conn), false, ""
	for in.Scan() {
		line := in.Text()
		switch {
		case data && line == ".":
			time.Sleep(pause)
			x.mu.Lock()
			x.ids[id]++
			x.mu.Unlock()
			say("250 accepted")
			return
		case data:
			if name, value, _ := strings.Cut(line, ":"); strings.EqualFold(name, "Message-ID") {
				id = strings.TrimSpace(value)
			}
		case line == "DATA":
			data = true
			say("354 go on")
		default:
			say("250 ok")
		}
	}
}

// A service that answers 410 is sent nothing more until a person says so: its interface is
// paused, what is still to come waits, and goes out once after that.
func TestEndedSubscriptionIsSentNothingMore(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	gone := atomic.Bool{}
	gone.Store(true)
	r := newReceiver(t, func(w http.ResponseWriter, _ *http.Request, _ int) {
		if gone.Load() {
			w.WriteHeader(http.StatusGone)
		}
	})
	c := r.connect(w, "Ended", map[string]string{"atOnce": "1"})
	many(t, w, c, 5)
	dispatching(t, w)
	waiting := `interface_id = $1 AND state = 'waiting' AND code = 'subscription-ended'`
	eventually(t, "the interface is paused", func() bool {
		c, err := connectionstore.FindInterface(t.Context(), w.Store, c.ID)
		return err == nil && c.PausedAt != nil
	})
	eventually(t, "what was under way has ended", func() bool {
		return counted(t, w, `interface_id = $1 AND begun_at IS NOT NULL`, c.ID) == 0
	})
	calls, _ := r.total()
	assert.Equal(t, calls, counted(t, w, waiting, c.ID), "whoever was sent waits for a person")
	assert.Equal(t, 5-calls, counted(t, w, `interface_id = $1 AND attempts = 0`, c.ID))
	assert.Positive(t, 5-calls, "not everything was tried")
	audit, err := db.Values[string](t.Context(), w.Store, "", `SELECT what FROM audit_entries
		WHERE subject = $1 AND what LIKE '%410%'`, "interface/"+c.ID)
	require.NoError(t, err)
	assert.Len(t, audit, 1, "once")

	gone.Store(false)
	no := false
	_, err = w.Connections.Update(t.Context(), "test", c.ID, 0, connections.Change{Paused: &no})
	require.NoError(t, err)
	_, err = w.Deliveries.RetryAll(t.Context(), "test", deliverystore.DeliveryFilter{InterfaceID: c.ID})
	require.NoError(t, err)
	eventually(t, "all arrived", allDelivered(t, w, c))
	_, ids := r.total()
	assert.Equal(t, 5, ids)
}
