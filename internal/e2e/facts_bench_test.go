package e2e_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/access"
	"kanban/internal/apptest"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/scenario"
	"kanban/internal/service"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/stagestore"
	"kanban/internal/store/storetest"
	"kanban/internal/wire/webhook"
	"kanban/internal/wire/xapi"
)

// Sizes of the benchmarks of facts.
const (
	factLearners   = 6_000
	factActivities = 120
	factBatch      = 100
	factSeconds    = 60
	factSenders    = 8
)

// factory is a service over a durable database, with a course of many learners.
type factory struct {
	*apptest.World
	b        *testing.B
	address  string
	key      string
	secret   string
	course   string
	token    string
	platform connectionstore.Interface
	url      string
}

func newFactory(b *testing.B) *factory {
	url, key := storetest.Durable(b)
	db, err := db.Open(b.Context(), db.Options{URL: url, Keyset: key, MaxConnections: 10})
	require.NoError(b, err)
	b.Cleanup(db.Close)
	w := apptest.Over(b, db)
	w.LargeRegister(20, factLearners/10)
	f := &factory{World: w, b: b, url: url}
	require.NoError(b, db.Pool.QueryRow(b.Context(),
		`SELECT id::text FROM courses WHERE sourced_id = 'c0'`).Scan(&f.course))
	o := learning.Outline{}
	for m := range 10 {
		module := learning.Module{ID: fmt.Sprintf("m%d", m), Title: fmt.Sprintf("Module %d", m)}
		for a := range factActivities / 10 {
			module.Activities = append(module.Activities,
				learning.Activity{
					ID:    fmt.Sprintf("https://platform.example/a%d", m*factActivities/10+a),
					Title: "Activity", Kind: learning.Lesson,
				})
		}
		o.Modules = append(o.Modules, module)
	}
	require.NoError(b, w.Outlines.SetOutline(b.Context(), "bench", f.course, o))
	c, made := f.ConnectMade("xapi", "Platform", nil)
	f.platform, f.key, f.secret = c, made["key"], made["secret"]

	// Before the service starts: it makes a set-up link of its own where there is no administrator.
	secret, err := f.Access.SetupSecret(b.Context())
	require.NoError(b, err)
	caller, err := f.Access.SetUp(b.Context(), secret, "Maud Marrow", scenario.Email, scenario.Password)
	require.NoError(b, err)
	f.token, err = f.Access.NewToken(b.Context(), caller, access.TokenDraft{Name: "bench"})
	require.NoError(b, err)

	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	f.address = l.Addr().String()
	require.NoError(b, l.Close())
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() {
		ended <- service.Run(ctx, service.Options{
			Address: f.address, DatabaseURL: url, SecretsKey: string(key),
			Roles: []string{service.RoleAPI, service.RoleWorker}, Call: apptest.Quick,
			Log: slog.New(slog.DiscardHandler),
		})
	}()
	b.Cleanup(func() { stop(); <-ended })
	require.Eventually(b, func() bool {
		resp, err := http.Get("http://" + f.address + "/readyz")
		if err == nil {
			resp.Body.Close()
		}
		return err == nil && resp.StatusCode == http.StatusOK
	}, 20*time.Second, 50*time.Millisecond)
	return f
}

// rules makes 195 rules that never match and five that match every completed activity
// of the course; the condition of the five holds for one person.
func (f *factory) rules(actions ...rule.Action) {
	for i := range 195 {
		f.Rule(rule.Draft{
			Name: fmt.Sprintf("elsewhere %d", i), Trigger: "activity.completed",
			Scope: rule.Scope{Activity: fmt.Sprintf("https://elsewhere.example/%d", i)}, Actions: actions,
		})
	}
	for i := range 5 {
		f.Rule(rule.Draft{
			Name: fmt.Sprintf("matches %d", i), Trigger: "activity.completed",
			Scope: rule.Scope{Course: f.course}, Condition: fmt.Sprintf(`person.identifier == "p%d"`,
				i), Actions: actions,
		})
	}
}

// batch is the n-th batch of statements: every learner completes the first activity,
// then every learner the second, and so on.
func (f *factory) batch(n int) []byte {
	list := make([]xapi.Statement, factBatch)
	for i := range list {
		k := n*factBatch + i
		list[i] = xapi.Statement{
			ID: uuid.NewString(), Version: xapi.Version, Timestamp: time.Now().UTC(),
			Actor: xapi.Agent{ObjectType: "Agent", Account: &xapi.Account{
				HomePage: "https://platform.example",
				Name:     "p" + strconv.Itoa(k%factLearners),
			}},
			Verb: xapi.Verb{ID: xapi.ADL + "completed", Display: map[string]string{"en": "completed"}},
			Object: xapi.Object{
				ObjectType: "Activity",
				ID:         "https://platform.example/a" + strconv.Itoa(k/factLearners%factActivities),
				Definition: &xapi.Definition{
					Name: map[string]string{"en": "An activity"},
					Type: "http://adlnet.gov/expapi/activities/lesson",
				},
			},
		}
	}
	text, err := json.Marshal(list)
	require.NoError(f.b, err)
	return text
}

func (f *factory) send(c *http.Client, body []byte) error {
	req, err := http.NewRequest(http.MethodPost, "http://"+f.address+"/xapi/statements", bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.SetBasicAuth(f.key, f.secret)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set(xapi.VersionHeader, xapi.Version)
	resp, err := c.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", resp.Status, text)
	}
	return err
}

// during lets senders work for a time and gives how often one did, a second.
func during(b *testing.B, seconds int, work func(sender, n int) error) float64 {
	b.Helper()
	var done atomic.Int64
	var next atomic.Int64
	var group sync.WaitGroup
	started := time.Now()
	for sender := range factSenders {
		group.Go(func() {
			for time.Since(started) < time.Duration(seconds)*time.Second {
				if err := work(sender, int(next.Add(1)-1)); err != nil {
					b.Error(err)
					return
				}
				done.Add(1)
			}
		})
	}
	group.Wait()
	return float64(done.Load()) / time.Since(started).Seconds()
}

// BenchmarkFactsIn prints how many facts a second a service takes in by batches of
// 100, each answered when it is durable, sustained for a minute with 200 rules of which
// five match; and, in the same run on the same server, how many of the same rows of
// statements, activities' progress, events and their keys plain batched inserts write.
func BenchmarkFactsIn(b *testing.B) {
	for b.Loop() {
		f := newFactory(b)
		f.rules(rule.Action{Kind: rule.AppendRow, Sheet: "bench", Fields: map[string]string{"who": "person.name"}})
		c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: factSenders}}
		rate := during(b, factSeconds, func(_, n int) error { return f.send(c, f.batch(n)) }) * factBatch
		b.ReportMetric(rate, "facts/s")
		var stored, events, behind int
		require.NoError(b, f.Store.Pool.QueryRow(b.Context(), `SELECT (SELECT count(*)
			FROM statements), (SELECT count(*) FROM events WHERE type <> 'section.joined'), (SELECT count(*)
			FROM river_job WHERE kind = 'react' AND state <> 'completed')`).Scan(&stored, &events, &behind))
		b.ReportMetric(float64(events)/float64(stored), "events/fact")
		b.ReportMetric(float64(behind), "reactions-behind")
		plain := f.plainInserts(float64(events) / float64(stored))
		b.ReportMetric(plain, "plain-rows-of-facts/s")
		b.ReportMetric(rate/plain, "of-plain")
	}
}

// BenchmarkFactsWithStages prints the same rate where everybody is on a stage plan with
// a stage for each module of the course, how many stages were reached, and how long after
// the last fact they were all worked out.
func BenchmarkFactsWithStages(b *testing.B) {
	for b.Loop() {
		f := newFactory(b)
		f.rules(rule.Action{Kind: rule.AppendRow, Sheet: "bench", Fields: map[string]string{"who": "person.name"}})
		p := stagestore.StagePlan{Name: "Modules", CourseID: f.course}
		for m := range 10 {
			p.Stages = append(p.Stages, stage.Stage{
				Title:    fmt.Sprintf("Stage %d", m),
				Criteria: []stage.Criterion{{Kind: stage.Module, ModuleID: fmt.Sprintf("m%d", m)}},
			})
		}
		p, err := f.Stages.Save(b.Context(), "bench", "", 0, p)
		require.NoError(b, err)
		_, err = f.Stages.Switch(b.Context(), "bench", p.ID, true)
		require.NoError(b, err)
		c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: factSenders}}
		rate := during(b, factSeconds, func(_, n int) error { return f.send(c, f.batch(n)) }) * factBatch
		b.ReportMetric(rate, "facts/s")
		ended := time.Now()
		var modules, stages int
		require.Eventually(b, func() bool {
			require.NoError(b, f.Store.Pool.QueryRow(b.Context(), `SELECT count(*) FILTER (WHERE type =
				'module.completed'), count(*) FILTER (WHERE type = 'stage.reached') FROM events`).Scan(&modules, &stages))
			return modules == stages
		}, 3*time.Minute, 100*time.Millisecond)
		b.ReportMetric(float64(stages), "stages")
		b.ReportMetric(time.Since(ended).Seconds(), "s-behind")
	}
}

// plainInserts writes the same rows as taking facts does, batch by batch, into tables
// of the same shape, and nothing else.
func (f *factory) plainInserts(eventsPerFact float64) float64 {
	b, ctx := f.b, f.b.Context()
	pool, err := pgxpool.New(ctx, f.url)
	require.NoError(b, err)
	defer pool.Close()
	for _, sql := range []string{
		`CREATE TABLE plain_statements (LIKE statements INCLUDING ALL)`, `CREATE TABLE plain_events (LIKE events
			INCLUDING ALL)`,
		`CREATE TABLE plain_keys (LIKE event_keys INCLUDING ALL)`, `CREATE TABLE plain_progress (LIKE
			activity_progress INCLUDING ALL)`,
	} {
		_, err := pool.Exec(ctx, sql)
		require.NoError(b, err)
	}
	people := make([]string, factLearners)
	for i := range people {
		people[i] = uuid.NewString()
	}
	section := uuid.NewString()
	return factBatch * during(b, factSeconds, func(_, n int) error {
		var raw []json.RawMessage
		if err := json.Unmarshal(f.batch(n), &raw); err != nil {
			return err
		}
		tx, err := pool.Begin(ctx)
		if err != nil {
			return err
		}
		defer func() { _ = tx.Rollback(ctx) }()
		column := func(of func(i int) string) (out []string) {
			for i := range raw {
				out = append(out, of(i))
			}
			return out
		}
		ids := column(func(int) string { return uuid.NewString() })
		bodies := column(func(i int) string { return string(raw[i]) })
		who := column(func(i int) string { return people[(n*factBatch+i)%factLearners] })
		actors := column(func(i int) string { return "https://platform.example p" + strconv.Itoa((n*factBatch+i)%factLearners) })
		activities := column(func(i int) string {
			return "https://platform.example/a" + strconv.Itoa((n*factBatch+i)/factLearners%factActivities)
		})
		if _, err := tx.Exec(ctx, `INSERT INTO plain_statements (id, interface_id, body, person_id, actor, verb,
			object) SELECT w.id, $3, w.body, w.who, w.actor, $4, w.activity
			FROM unnest($1::text[]::uuid[], $2::jsonb[], $5::text[]::uuid[], $6::text[], $7::text[]) AS w (id, body,
				who, actor, activity)`, ids, bodies, f.platform.ID, xapi.ADL+"completed", who, actors, activities); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `INSERT INTO plain_progress SELECT w.who, $3, w.activity, now(), now(), true, false,
			false FROM unnest($1::text[]::uuid[], $2::text[]) AS w (who, activity)
			ON CONFLICT DO NOTHING`, who, activities, section); err != nil {
			return err
		}
		for left := eventsPerFact; left > 0.005; left-- {
			some := int(min(left, 1) * factBatch)
			keys := column(func(int) string { return uuid.NewString() })
			events := column(func(int) string { return db.NewID() })
			if _, err := tx.Exec(ctx, `INSERT INTO plain_keys SELECT w.id FROM unnest($1::text[]::uuid[]) AS w (id)`,
				keys[:some]); err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `INSERT INTO plain_events (id, type, natural_key, person_id, section_id,
				course_id, module_id, activity_id, data, occurred_at)
				SELECT w.id, 'activity.completed', 'activity.completed/' || w.who || '/' || $4::uuid || '/' ||
					w.activity, w.who, $4::uuid, $4::uuid, 'm1', w.activity, '{"percent": 10}', now()
				FROM unnest($1::text[]::uuid[], $2::text[]::uuid[], $3::text[]) AS w (id, who, activity)`, events[:some], who[:some], activities[:some], section); err != nil {
				return err
			}
		}
		return tx.Commit(ctx)
	})
}

// BenchmarkDeliveries prints how many deliveries a second reach a receiver on loopback,
// and how long it takes from a fact's request to the receiver at 200 facts a second.
func BenchmarkDeliveries(b *testing.B) {
	for b.Loop() {
		f := newFactory(b)
		var received atomic.Int64
		var mu sync.Mutex
		arrived := map[string]time.Time{}
		receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			body, _ := io.ReadAll(r.Body)
			_, data, _ := webhook.Decode(body)
			var in struct{ Who, What string }
			_ = json.Unmarshal(data, &in)
			mu.Lock()
			arrived[in.Who+" "+in.What] = time.Now()
			mu.Unlock()
			received.Add(1)
			w.WriteHeader(http.StatusNoContent)
		}))
		// as many as a process made before services had slots of their own
		c := f.Connect("webhook", "Receiver", map[string]string{
			"address": receiver.URL,
			"secret":  webhook.NewSecret(), "atOnce": "48",
		})
		f.Rule(rule.Draft{
			Name: "tell", Trigger: "activity.completed",
			Actions: []rule.Action{{
				Kind: rule.SendEvent, InterfaceID: c.ID,
				Fields: map[string]string{"who": "person.identifier", "what": "event.percent"},
			}},
		})
		sender := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}

		// Facts at once, from one batch to another, until all are received.
		burst := func(from, to int) float64 {
			received.Store(0)
			started := time.Now()
			for n := from; n < to; n++ {
				require.NoError(b, f.send(sender, f.batch(n)))
			}
			for received.Load() < int64(to-from)*factBatch {
				require.Less(b, time.Since(started), 3*time.Minute, "received %d", received.Load())
				time.Sleep(10 * time.Millisecond)
			}
			return float64(to-from) * factBatch / time.Since(started).Seconds()
		}
		// PostgreSQL looks at new tables within a minute of their filling; here it is asked to.
		const before, many = 20, 120
		burst(0, before)
		_, err := f.Store.Pool.Exec(b.Context(), `ANALYZE`)
		require.NoError(b, err)
		b.ReportMetric(burst(before, before+many), "deliveries/s")
		var again int
		require.NoError(b, f.Store.Pool.QueryRow(b.Context(),
			`SELECT count(*) FROM deliveries WHERE attempts > 1`).Scan(&again))
		b.ReportMetric(float64(again), "tried-again")
		b.ReportMetric(latencies(b, f, sender, &mu, arrived, before+many), "ms-median")
		receiver.Close()
	}
}

// latencies sends 200 facts a second, one to a request, for ten seconds, and gives the
// median time until each has been received, in milliseconds; it reports the 99th of
// a hundred too.
func latencies(b *testing.B, f *factory, c *http.Client, mu *sync.Mutex, arrived map[string]time.Time,
	from int,
) float64 {
	b.Helper()
	mu.Lock()
	clear(arrived)
	mu.Unlock()
	const each = 5 * time.Millisecond
	const total = 2_000
	sent := make([]time.Time, total)
	var group sync.WaitGroup
	ticker := time.NewTicker(each)
	defer ticker.Stop()
	var list []xapi.Statement
	for n := range total / factBatch {
		var part []xapi.Statement
		require.NoError(b, json.Unmarshal(f.batch(from+n), &part))
		list = append(list, part...)
	}
	for i, st := range list {
		<-ticker.C
		body, err := json.Marshal([]xapi.Statement{st})
		require.NoError(b, err)
		sent[i] = time.Now()
		group.Go(func() {
			if err := f.send(c, body); err != nil {
				b.Error(err)
			}
		})
	}
	group.Wait()
	var took []float64
	deadline := time.Now().Add(time.Minute)
	for len(took) < total {
		require.True(b, time.Now().Before(deadline), "only %d of %d were received", len(took), total)
		time.Sleep(50 * time.Millisecond)
		mu.Lock()
		took = took[:0]
		byWho := map[string]time.Time{}
		for key, at := range arrived {
			who, _, _ := strings.Cut(key, " ")
			byWho[who] = at
		}
		for i, st := range list {
			if at, ok := byWho[st.Actor.Account.Name]; ok {
				took = append(took, float64(at.Sub(sent[i]).Microseconds())/1000)
			}
		}
		mu.Unlock()
	}
	slices.Sort(took)
	b.ReportMetric(took[len(took)*99/100], "ms-99th")
	return took[len(took)/2]
}
