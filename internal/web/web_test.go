package web_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/access"
	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/storetest"
	"kanban/internal/web"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const password = "grow-more-plants"

// site is the HTTP side over a world, with an administrator.
type site struct {
	*apptest.World
	*httptest.Server
	t     testing.TB
	web   *web.Server
	token string
}

func open(t testing.TB, change func(*web.Server)) *site {
	t.Helper()
	x := bare(t, change)
	secret, err := x.Access.SetupSecret(t.Context())
	require.NoError(t, err)
	c, err := x.Access.SetUp(t.Context(), secret, "Maud", "maud@fernmoor.example", password)
	require.NoError(t, err)
	x.token, err = x.Access.NewToken(t.Context(), c, access.TokenDraft{Name: "test"})
	require.NoError(t, err)
	return x
}

// bare is a site that nobody has set up yet.
func bare(t testing.TB, change func(*web.Server)) *site {
	t.Helper()
	w := apptest.New(t)
	s := &web.Server{
		Store: w.Store, UseCases: w.UseCases, Public: "http://kanban.example", Log: slog.New(slog.DiscardHandler),
		Console: fstest.MapFS{
			"index.html":    {Data: []byte("<!doctype html><title>Kanban</title>")},
			"assets/app.js": {Data: []byte("1")},
		},
	}
	if change != nil {
		change(s)
	}
	ctx, cancel := context.WithCancel(context.Background())
	x := &site{World: w, Server: httptest.NewServer(s.Handler(ctx)), t: t, web: s}
	t.Cleanup(func() { cancel(); x.Server.CloseClientConnections(); x.Server.Close() })
	return x
}

// ask makes a request; header holds name and value by turns.
func (x *site) ask(method, path, body string, header ...string) (*http.Response, string) {
	x.t.Helper()
	req, err := http.NewRequest(method, x.URL+path, strings.NewReader(body))
	require.NoError(x.t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	resp, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(x.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(x.t, err)
	return resp, string(text)
}

func (x *site) bearer() []string { return []string{"Authorization", "Bearer " + x.token} }

// What is not there is a problem, whoever asks and however; only who asks for a page of the
// console gets one.
func TestUnknownAddresses(t *testing.T) {
	x := open(t, nil)
	html := []string{"Accept", "text/html,application/xhtml+xml"}
	for _, c := range []struct {
		method, path string
		header       []string
		status       int
	}{
		{"GET", "/", nil, 200},
		{"GET", "/rules/anything", html, 200},
		{"HEAD", "/rules/anything", html, 200},
		{"GET", "/rules/anything", []string{"Accept", "application/json"}, 404},
		{"GET", "/rules/anything", nil, 404},
		{"POST", "/rules/anything", html, 404},
		{"DELETE", "/", html, 405},
		{"PROPFIND", "/", html, 405},
		{"PUT", "/assets/app.js", html, 405},
		{"GET", "/assets/app.js", nil, 200},
		{"GET", "/assets", html, 200}, // a route of the console, not a listing
		{"GET", "/assets/none.js", html, 404},
		{"GET", "/login.php", nil, 404},
		{"GET", "/xapi/nothing", html, 404},
		{"GET", "/open/nothing", html, 404},
		{"GET", "/api/v1/nothing", append(html, x.bearer()...), 404},
		{"DELETE", "/xapi/statements", nil, 405},
		{"DELETE", "/reported/x", nil, 405},
	} {
		resp, body := x.ask(c.method, c.path, "", c.header...)
		assert.Equal(t, c.status, resp.StatusCode, "%s %s", c.method, c.path)
		if c.status >= 400 {
			assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"), "%s %s: %s", c.method,
				c.path, body)
		}
	}
	for _, path := range []string{"/xapi/statements/", "/pickup/enrolments.zip/", "/xapi/about/"} {
		resp, _ := x.ask("GET", path, "")
		assert.NotEqual(t, 404, resp.StatusCode, "a slash at the end of %s", path)
	}
}

// Repeats that come side by side do the work once and get one answer.
func TestKeysAreClaimedBeforeTheWork(t *testing.T) {
	x := open(t, nil)
	body := `{"name": "Plant news", "interfaces": [{"kind": "webhook", "values": {"address": "https://news.example/events", "secret": "whsec_RmVybm1vb3ItR2FyZGVuLVNjaG9vbC1kZW1vLXNlY3JldA=="}}]}`
	var answers sync.Map
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			resp, text := x.ask("POST", "/api/v1/connections", body, append(x.bearer(), "Idempotency-Key", "one")...)
			assert.Equal(t, 201, resp.StatusCode, text)
			assert.Equal(t, `"1"`, resp.Header.Get("ETag"))
			answers.Store(i, text)
		})
	}
	all.Wait()
	var first string
	answers.Range(func(_, v any) bool {
		if first == "" {
			first = v.(string)
		}
		return assert.Equal(t, first, v)
	})
	list, err := connectionstore.Interfaces(t.Context(), x.Store)
	require.NoError(t, err)
	assert.Len(t, list, 1)
	resp, _ := x.ask("POST", "/api/v1/connections", strings.Replace(body, "Plant", "Other", 1),
		append(x.bearer(), "Idempotency-Key", "one")...)
	assert.Equal(t, 422, resp.StatusCode, "another request")
	resp, text := x.ask("POST", "/api/v1/connections", body,
		append(x.bearer(), "Idempotency-Key", strings.Repeat("k", 256))...)
	assert.Equal(t, 400, resp.StatusCode, text)
	// What was refused is free to be tried again under its key.
	resp, _ = x.ask("POST", "/api/v1/connections", strings.Replace(body, "https", "ftp", 1),
		append(x.bearer(), "Idempotency-Key", "two")...)
	assert.Equal(t, 422, resp.StatusCode)
	resp, text = x.ask("POST", "/api/v1/connections", strings.Replace(body, "Plant", "Other", 1),
		append(x.bearer(), "Idempotency-Key", "two")...)
	assert.Equal(t, 201, resp.StatusCode, text)
}

// Whatever is refused, what was sent is not repeated: it may be a secret.
func TestProblemsHoldNoSecret(t *testing.T) {
	x := open(t, nil)
	const secret = "kbt-hunter2-hunter2"
	for _, body := range []string{
		`{"name": "n", "interfaces": [{"kind": "scim", "values": {"address": "` + secret + `", "token": "t"}}]}`,
		`{"name": "n", "interfaces": [{"kind": "scim", "values": {"address": "https://x.example", "token": " ` + secret + `", "atOnce": "` + secret + `"}}]}`,
		`{"name": "n", "interfaces": [{"kind": "scim", "values": ["` + secret + `"]}]}`,
		`{"name": 5, "interfaces": [{"kind": "scim", "values": {"token": "` + secret + `"}}]}`,
		`{"name": "n", "interfaces": [{"kind": "smtp", "values": {"server": "h:1", "from": "a@b.example", "security": "` + secret + `"}}]}`,
	} {
		resp, text := x.ask("POST", "/api/v1/connections", body, x.bearer()...)
		assert.GreaterOrEqual(t, resp.StatusCode, 400)
		assert.NotContains(t, text, secret)
	}
}

// Nothing that a caller makes up is kept for ever.
func TestMetricsHaveFixedLabels(t *testing.T) {
	x := open(t, nil)
	long := "X" + strings.Repeat("Y", 50_000)
	for _, method := range []string{long, "BREW"} {
		resp, _ := x.ask(method, "/livez", "")
		assert.GreaterOrEqual(t, resp.StatusCode, 400)
	}
	_, text := x.ask("GET", "/metrics", "", x.bearer()...)
	assert.NotContains(t, text, "YYYY")
	assert.NotContains(t, text, "BREW")
	assert.Contains(t, text, `method="other"`)
}

// Answers about people are kept by nobody on their way; files of the console are.
func TestAnswersAboutPeopleAreNotKept(t *testing.T) {
	x := open(t, func(s *web.Server) { s.Public = "https://kanban.example" })
	resp, _ := x.ask("GET", "/api/v1/people?text=ada", "", x.bearer()...)
	assert.Equal(t, "no-store", resp.Header.Get("Cache-Control"))
	assert.NotEmpty(t, resp.Header.Get("Strict-Transport-Security"))
	resp, _ = x.ask("GET", "/assets/app.js", "")
	assert.Contains(t, resp.Header.Get("Cache-Control"), "immutable")
}

func (x *site) signIn(email, password string, header ...string) (*http.Response, string) {
	body, _ := json.Marshal(map[string]string{"email": email, "password": password})
	return x.ask("POST", "/api/v1/session", string(body), header...)
}

// Whoever guesses is slowed down; nobody else is locked out by that.
func TestGuessingLocksNobodyElseOut(t *testing.T) {
	x := open(t, func(s *web.Server) { s.TrustedProxies = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")} })
	from := func(address string) []string { return []string{"X-Forwarded-For", address} }
	resp, text := x.signIn("maud@fernmoor.example", password, from("198.51.100.1")...)
	require.Equal(t, 200, resp.StatusCode, text)
	var browser string
	for _, c := range resp.Cookies() {
		if c.Name == "kanban_browser" {
			browser = c.Name + "=" + c.Value
		}
	}
	require.NotEmpty(t, browser)
	refused := 0
	for range 12 {
		resp, _ := x.signIn("maud@fernmoor.example", "wrong-wrong-wrong", from("203.0.113.9")...)
		if resp.StatusCode == http.StatusTooManyRequests {
			refused++
			assert.NotEmpty(t, resp.Header.Get("Retry-After"))
		}
	}
	assert.Equal(t, 2, refused, "ten tries a minute for an account from one address")
	resp, _ = x.signIn("maud@fernmoor.example", password, from("198.51.100.1")...)
	assert.Equal(t, 200, resp.StatusCode, "from her own address")
	for i := range 100 { // as many addresses as anybody likes
		_, _ = x.signIn("maud@fernmoor.example", "wrong-wrong-wrong", from(fmt.Sprintf("2001:db8::%x", i))...)
	}
	resp, _ = x.signIn("maud@fernmoor.example", password, from("192.0.2.77")...)
	assert.Equal(t, http.StatusTooManyRequests, resp.StatusCode, "the account as a whole is bounded")
	resp, text = x.signIn("maud@fernmoor.example", password, append(from("192.0.2.77"), "Cookie", browser)...)
	assert.Equal(t, 200, resp.StatusCode, "not for a browser that was in it before: %s", text)
	// A made-up header of somebody who is no proxy is not believed: it is the proxy's word
	// that counts.
	resp, _ = x.signIn("maud@fernmoor.example", "wrong-wrong-wrong", "X-Forwarded-For", "10.9.9.9, 203.0.113.9")
	assert.Equal(t, http.StatusTooManyRequests, resp.StatusCode)
}

// A dump of the database signs nobody in, and signing out ends pages and tokens.
func TestSigningOutEndsEverything(t *testing.T) {
	x := open(t, nil)
	resp, _ := x.signIn("maud@fernmoor.example", password)
	var cookie string
	for _, c := range resp.Cookies() {
		if c.Name == "kanban_session" {
			cookie = c.Name + "=" + c.Value
			var kept int
			require.NoError(t, x.Store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM sessions WHERE token = $1`,
				c.Value).Scan(&kept))
			assert.Zero(t, kept, "what the browser holds is not what the database holds")
		}
	}
	ended := make(chan bool, 2)
	var heard atomic.Int32
	listen := func(name, value string) {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, x.URL+"/api/v1/live", nil)
		assert.NoError(t, err)
		req.Header.Set(name, value)
		resp, err := http.DefaultTransport.RoundTrip(req)
		if assert.NoError(t, err) && assert.Equal(t, 200, resp.StatusCode) {
			lines := bufio.NewScanner(resp.Body)
			for lines.Scan() {
				if strings.HasPrefix(lines.Text(), "data:") {
					heard.Add(1)
				}
			}
			resp.Body.Close()
		}
		ended <- true
	}
	go listen("Cookie", cookie)
	go listen("Authorization", "Bearer "+x.token)
	require.Eventually(t, func() bool { return heard.Load() >= 2 }, 20*time.Second, 10*time.Millisecond)
	resp, text := x.ask("DELETE", "/api/v1/session", "", "Cookie", cookie)
	require.Equal(t, 200, resp.StatusCode, text)
	<-ended
	resp, _ = x.ask("GET", "/api/v1/session", "", "Cookie", cookie)
	assert.Equal(t, 401, resp.StatusCode)
	resp, _ = x.ask("GET", "/api/v1/session", "", x.bearer()...)
	assert.Equal(t, 200, resp.StatusCode, "another sign-in goes on")
	resp, text = x.ask("DELETE", "/api/v1/session", "", x.bearer()...)
	require.Equal(t, 200, resp.StatusCode, text)
	<-ended
	resp, _ = x.ask("GET", "/api/v1/session", "", x.bearer()...)
	assert.Equal(t, 401, resp.StatusCode, "the token has ended")
}

// A link in a mail ends one rule's mails to one address, by one click of a program or a
// person; a look at it ends nothing.
func TestUnsubscribing(t *testing.T) {
	x := open(t, nil)
	x.Read(x.Register(), false)
	r := x.Rule(rule.Draft{
		Name: "Nudge", Trigger: "section.joined",
		Actions: []rule.Action{{
			Kind: rule.Mail, InterfaceID: x.Mail().ID, Subject: "Hello",
			Text: "Dear {{.person.givenName}}, see https://fernmoor.example/a?b=1&c=2.",
		}},
	})
	joined := func() string {
		p, s := x.Person("stu-014"), x.Section("PROP-A")
		e := x.Record(eventstore.Event{
			Type: "section.joined", NaturalKey: db.NewID(), PersonID: &p.ID,
			SectionID: &s.ID, CourseID: &s.CourseID, Data: map[string]any{"role": "student"},
			OccurredAt: time.Now().UTC(),
		})
		x.Deliver()
		list := x.DeliveriesOf(e.ID)
		require.Len(t, list, 1)
		return list[0].State + " " + list[0].Held
	}
	assert.Equal(t, "delivered ", joined())
	m := x.Standins.Inbox.Mails()[0]
	assert.Equal(t, "auto-generated", m.Header.Get("Auto-Submitted"))
	assert.Equal(t, "List-Unsubscribe=One-Click", m.Header.Get("List-Unsubscribe-Post"))
	assert.Empty(t, m.Header.Get("User-Agent")+m.Header.Get("X-Mailer"))
	assert.Contains(t, m.HTML, `<a href="https://fernmoor.example/a?b=1&amp;c=2">`)
	link := strings.Trim(m.Header.Get("List-Unsubscribe"), "<>")
	assert.NotContains(t, link, "@", "it tells nobody who that is")
	path := strings.TrimPrefix(link, "http://kanban.example")
	resp, page := x.ask("GET", path, "")
	require.Equal(t, 200, resp.StatusCode)
	assert.Contains(t, page, "Nudge")
	assert.Equal(t, "delivered ", joined(), "a look ends nothing")
	for range 2 {
		req, err := http.NewRequest(http.MethodPost, x.URL+path, strings.NewReader("List-Unsubscribe=One-Click"))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		resp, err = http.DefaultTransport.RoundTrip(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, 200, resp.StatusCode, "without sign-in and without a redirect (RFC 8058)")
	}
	assert.Equal(t, "skipped unsubscribed", joined())
	assert.Len(t, x.Standins.Inbox.Mails(), 2)
	_, text := x.ask("GET", "/api/v1/rules/"+r.ID, "", x.bearer()...)
	assert.Contains(t, text, `"unsubscribed":1`)
	_, text = x.ask("GET", "/api/v1/rules/"+r.ID+"/unsubscribed", "", x.bearer()...)
	assert.Contains(t, text, x.Person("stu-014").Email)
	resp, _ = x.ask("DELETE", "/api/v1/rules/"+r.ID+"/unsubscribed/"+strings.ReplaceAll(x.Person("stu-014").Email,
		"@", "%40"), "", x.bearer()...)
	assert.Equal(t, 204, resp.StatusCode)
	assert.Equal(t, "delivered ", joined(), "and back")
	for _, broken := range []string{
		path[:len(path)-3], path + "AA",
		"/open/unsubscribe/" + strings.Repeat("A", 200),
	} {
		resp, _ = x.ask("POST", broken, "")
		assert.Equal(t, 404, resp.StatusCode)
	}
}

// Sheets are found whatever their names hold.
func TestSheetsOfAnyName(t *testing.T) {
	x := open(t, nil)
	for i, name := range []string{"Plain", "Seeds & bulbs", "Week 1/2", "9:00", "50 %", "Grüße?"} {
		require.NoError(t, x.Store.InTx(t.Context(), func(tx *db.Tx) error {
			return deliverystore.AppendRow(t.Context(), tx, name, db.NewID(), map[string]any{"n": i})
		}))
		var escaped strings.Builder
		for _, b := range []byte(name) {
			fmt.Fprintf(&escaped, "%%%02X", b)
		}
		for _, kind := range []string{"csv", "xlsx"} {
			resp, text := x.ask("GET", "/api/v1/sheets/"+escaped.String()+"."+kind, "", x.bearer()...)
			assert.Equal(t, 200, resp.StatusCode, "%s: %s", name, text)
			if kind == "csv" {
				assert.Contains(t, text, fmt.Sprint(i))
			} else {
				assert.True(t, strings.HasPrefix(text, "PK"))
			}
		}
	}
}

// What is under way when the service gives up waiting is answered that it may be tried
// again, never as if something were wrong with it.
func TestGivenUpRequestsMayBeTriedAgain(t *testing.T) {
	x := open(t, nil)
	x.Read(x.Register(), false)
	held := make(chan struct{})
	require.NoError(t, x.Store.InTx(t.Context(), func(tx *db.Tx) error {
		// Whoever makes a rule waits for this transaction.
		if _, err := tx.PGX.Exec(t.Context(), `LOCK TABLE rules IN ACCESS EXCLUSIVE MODE`); err != nil {
			return err
		}
		answered := make(chan int, 1)
		go func() {
			resp, text := x.ask("POST", "/api/v1/rules",
				`{"name": "n", "trigger": "section.joined", "actions": [{"kind": "task", "subject": "x"}]}`,
				x.bearer()...)
			assert.NotEmpty(t, resp.Header.Get("Retry-After"), text)
			answered <- resp.StatusCode
		}()
		require.Eventually(t, func() bool {
			var waiting int
			err := x.Store.Quick.QueryRow(t.Context(), `SELECT count(*) FROM pg_stat_activity
				WHERE wait_event_type = 'Lock' AND datname = current_database()`).Scan(&waiting)
			return err == nil && waiting > 0
		}, 20*time.Second, 20*time.Millisecond)
		x.web.Drain()
		resp, _ := x.ask("GET", "/readyz", "")
		assert.Equal(t, 503, resp.StatusCode)
		x.web.GiveUp()
		assert.Equal(t, 503, <-answered)
		close(held)
		return nil
	}))
	<-held
}

// Bodies are bounded in time: one that stops half-way does not hold a connection.
func TestBodiesThatStopHalfWay(t *testing.T) {
	x := open(t, func(s *web.Server) { s.BodyWithin = 300 * time.Millisecond })
	conn, err := net.Dial("tcp", strings.TrimPrefix(x.URL, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	_, err = fmt.Fprintf(conn,
		"POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{")
	require.NoError(t, err)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	defer resp.Body.Close()
	var text bytes.Buffer
	_, _ = io.Copy(&text, resp.Body)
	assert.GreaterOrEqual(t, resp.StatusCode, 400)
	assert.Less(t, resp.StatusCode, 500, text.String())
}

// Removing is refused with what depends on the interface, and can be undone over the API.
func TestRemovingAndRestoring(t *testing.T) {
	x := open(t, nil)
	register := x.Register()
	x.Read(register, false)
	at := "/api/v1/interfaces/" + register.ID
	resp, text := x.ask("DELETE", at, "", x.bearer()...)
	assert.Equal(t, 409, resp.StatusCode)
	assert.Contains(t, text, "9 sections")
	_, text = x.ask("GET", at+"/removal", "", x.bearer()...)
	assert.Contains(t, text, `"n":9`)
	resp, _ = x.ask("DELETE", at+"?name=Register", "", x.bearer()...)
	assert.Equal(t, 204, resp.StatusCode)
	resp, _ = x.ask("GET", at, "", x.bearer()...)
	assert.Equal(t, 404, resp.StatusCode)
	resp, text = x.ask("GET", "/api/v1/interfaces?removed=true", "", x.bearer()...)
	assert.Equal(t, 200, resp.StatusCode, text)
	assert.Contains(t, text, register.ID)
	_, text = x.ask("GET", "/api/v1/sections", "", x.bearer()...)
	assert.NotContains(t, text, "Propagation")
	resp, text = x.ask("POST", at+"/restore", "{}", x.bearer()...)
	assert.Equal(t, 200, resp.StatusCode, text)
	_, text = x.ask("GET", "/api/v1/sections", "", x.bearer()...)
	assert.Contains(t, text, "Propagation")
}
