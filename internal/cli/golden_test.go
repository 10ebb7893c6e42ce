package cli_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/csv"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/cli"
	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/service"
	"kanban/internal/standin"
	"kanban/internal/store/storetest"
	"kanban/internal/wire/api"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var update = flag.Bool("update", false, "write the golden files anew")

// played is a service in this process on which the demo's story was played.
type played struct {
	address, token string
	database       string // its address
	key            []byte // with which its secrets are sealed
}

// log keeps what the service says at its start.
type log struct {
	mu   sync.Mutex
	text strings.Builder
}

func (l *log) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *log) find(pattern string) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if m := regexp.MustCompile(pattern).FindStringSubmatch(l.text.String()); m != nil {
		return m[1]
	}
	return ""
}

// play starts a service and stand-ins and plays the story.
func play(t *testing.T) *played {
	t.Helper()
	outside, err := standin.Start(0)
	require.NoError(t, err)
	t.Cleanup(outside.Stop)
	url, key := storetest.URL(t)
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "secrets.key"), key, 0o600))
	ctx, cancel := context.WithCancel(context.Background())
	ended, said := make(chan error, 1), &log{}
	go func() {
		ended <- service.Run(ctx, service.Options{
			Address: "127.0.0.1:0", DatabaseURL: url, Data: folder, Roles: []string{
				service.RoleAPI,
				service.RoleWorker,
			}, Zone: time.UTC,
			Log: slog.New(slog.NewTextHandler(said, nil)), Console: fstest.MapFS{}, StopWithin: 5 * time.Second,
		})
	}()
	t.Cleanup(func() { cancel(); require.NoError(t, <-ended) })
	require.Eventually(t, func() bool { return said.find(`msg=(ready)`) != "" }, time.Minute, 10*time.Millisecond)
	p := &played{address: said.find(`msg=ready address=(\S+)`), database: url, key: key}
	a := outside.Addresses
	s := scenario.New(p.address, scenario.Addresses{
		Control: a.Control, Register: a.Register, Platform: a.Platform,
		Workspace: a.Workspace, Contacts: a.Contacts, Inbox: a.Inbox, SMTP: a.SMTP, Shop: a.Shop, Wallet: a.Wallet,
	}, io.Discard)
	require.NoError(t, s.Play(t.Context(), said.find(`setup\?secret=([^"\s]+)`)))
	t.Setenv("XDG_CONFIG_HOME", folder)
	t.Setenv("TZ", "UTC")
	made, err := client.Post[api.Token](t.Context(), s.Client, "/tokens", api.NewToken{Name: "golden"})
	require.NoError(t, err)
	p.token = made.Token
	return p
}

var dump = flag.String("dump", "",
	"write the database after the story to this file, as test data of a release: VERSION.sql.gz, with VERSION.key beside it")

// The database of a release is kept, so that every later version proves that it carries it
// over: go test ./internal/cli -run TestDumpOfRelease -dump FILE
func TestDumpOfRelease(t *testing.T) {
	if *dump == "" {
		t.Skip("only when a release is closed")
	}
	p := play(t)
	out, err := exec.Command("pg_dump", "--inserts", "--rows-per-insert=100", "--no-owner", "--no-privileges",
		p.database).Output()
	require.NoError(t, err)
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	for line := range strings.Lines(string(out)) {
		if !strings.HasPrefix(line, `\`) { // for the terminal, not for the server
			_, err := io.WriteString(w, line)
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(*dump, packed.Bytes(), 0o644))
	require.NoError(t, os.WriteFile(strings.TrimSuffix(*dump, ".sql.gz")+".key", p.key, 0o644))
}

// run calls the command line, and gives what it prints and its exit code.
func (p *played) run(args ...string) (out, complaints string, code int) {
	var o, e bytes.Buffer
	app := cli.App("test")
	app.Writer, app.ErrWriter = &o, &e
	code = cli.Run(context.Background(), app, append([]string{"kanban", "--address", p.address, "--token", p.token},
		args...))
	return o.String(), e.String(), code
}

var changing = []struct {
	pattern *regexp.Regexp
	instead string
}{
	{regexp.MustCompile(`[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}`), "<id>"},
	{regexp.MustCompile(`\b[0-9a-f]{32}\b`), "<fingerprint>"},
	{regexp.MustCompile(`(?m)^\d{4}-\d\d(,|  )0\D.*\n`), ""}, // a month that began while the tests ran
	{regexp.MustCompile(`(?m)^\d{4}-\d\d(,|  )`), "<month>$1"},
	{regexp.MustCompile(`\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]\d\d:\d\d)`), "<time>"},
	{regexp.MustCompile(`\d{4}-\d\d-\d\d( \d\d:\d\d(:\d\d)?)?`), "<day>"},
	{
		regexp.MustCompile(`\d{1,2} (January|February|March|April|May|June|July|August|September|October|November|December)` +
			` \d{4}( \d\d:\d\d)?`),
		"<date>",
	},
	{
		regexp.MustCompile(`\d{1,2} (Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)( \d{4})?(,? \d\d:\d\d(:\d\d)?)?`),
		"<date>",
	},
	{regexp.MustCompile(`\b[0-9a-f]{16}\b`), "<key>"},
	{regexp.MustCompile(`127\.0\.0\.1:\d+`), "<host>"},
	{regexp.MustCompile(`\d+(\.\d+)? ?(ms|s)\b`), "<duration>"},
	{regexp.MustCompile(`\d+ (days?|hours?|minutes?|seconds?)( ago)?`), "<span>"},
	{regexp.MustCompile(`\d+ a second`), "<rate>"},
	{regexp.MustCompile(`\d+\.\d MB`), "<size>"},
	{regexp.MustCompile(` {2,}`), "  "},
	{regexp.MustCompile(`\d+ ?%`), "<share>"},
}

// steady takes from a text what is another one at each run.
func steady(text string) string {
	for _, c := range changing {
		text = c.pattern.ReplaceAllString(text, c.instead)
	}
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n")
}

// shape gives the members of JSON and the kinds of their values, each once.
func shape(t *testing.T, text string) string {
	t.Helper()
	var value any
	require.NoError(t, json.Unmarshal([]byte(text), &value), text)
	seen := map[string]bool{}
	var walk func(at string, v any)
	walk = func(at string, v any) {
		switch v := v.(type) {
		case map[string]any:
			seen[at+" object"] = true
			if strings.HasSuffix(at, ".data") || strings.HasSuffix(at, ".result") {
				return // what events hold depends on what happened
			}
			for name, x := range v {
				walk(at+"."+steady(name), x)
			}
		case []any:
			seen[at+" list"] = true
			for _, x := range v {
				walk(at+"[]", x)
			}
		case nil:
			seen[at+" null"] = true
		default:
			seen[fmt.Sprintf("%s %T", at, v)] = true
		}
	}
	walk("", value)
	all := []string{}
	for s := range seen {
		all = append(all, s)
	}
	slices.Sort(all)
	return strings.Join(all, "\n")
}

// readings are the calls that change nothing. Of those whose lines come in no fixed order,
// because the service works at several at once, the lines are compared sorted.
var readings = []struct {
	name   string
	sorted bool
	args   []string
}{
	{"today", true, []string{"today"}},
	{"findings", true, []string{"findings", "list"}},
	{"explain", false, []string{"explain", "address-shared"}},
	{"connections", false, []string{"connections", "list"}},
	{"connection", false, []string{"connections", "show", "Course platform"}},
	{"interfaces", false, []string{"interfaces", "list"}},
	{"interface", false, []string{"interfaces", "show", "School register"}},
	{"kinds", false, []string{"interfaces", "kinds"}},
	{"kind", false, []string{"interfaces", "kinds", "scim"}},
	{"sections", false, []string{"sections", "list"}},
	{"sections-sorted", false, []string{"sections", "list", "--sort", "learners", "--descending"}},
	{"hidden", false, []string{"sections", "hidden"}},
	{"roster", true, []string{"sections", "roster", "PROP-A"}},
	{"movements", true, []string{"sections", "roster", "PROP-A", "--movements"}},
	{"linkable", false, []string{"sections", "linkable", "PROP-A"}},
	{"proposals", false, []string{"sections", "proposals"}},
	{"sets", false, []string{"sections", "sets"}},
	{"organisations", false, []string{"lists", "organisations"}},
	{"people", false, []string{"people", "find", "stu-00"}},
	{"person", true, []string{"people", "show", "stu-001"}},
	{"progress", false, []string{"people", "progress", "stu-001", "PROP-A"}},
	{"matching", false, []string{"matching", "show", "Chat workspace"}},
	{"pairings", false, []string{"pairings", "list"}},
	{"pairing", false, []string{"pairings", "show", "PROP-A"}},
	{"comparison", false, []string{"pairings", "compare", "PROP-A"}},
	{"preview", false, []string{"pairings", "preview", "PROP-A"}},
	{"templates", false, []string{"pairings", "templates"}},
	{"next-term", false, []string{"pairings", "next-term"}},
	{"next-term-days", false, []string{"pairings", "next-term", "--days", "400"}},
	{"runs", true, []string{"runs", "list"}},
	{"courses", false, []string{"courses", "list"}},
	{"outline", false, []string{"courses", "show", "Propagation"}},
	{"verbs", false, []string{"courses", "verbs"}},
	{"rules", false, []string{"rules", "list"}},
	{"names", false, []string{"rules", "names", "section.joined"}},
	{"offers", false, []string{"offers", "list"}},
	{"accesses", false, []string{"offers", "accesses"}},
	{"operations", false, []string{"operations", "list", "Plant news: labels"}},
	{"events", true, []string{"events", "list", "--type", "section.joined"}},
	{"deliveries", true, []string{"deliveries", "list"}},
	{"tasks", false, []string{"tasks", "list"}},
	{"reports", false, []string{"reports", "list"}},
	{"proofs", false, []string{"proofs", "list"}},
	{"report-mails", false, []string{"reports", "mails", "list"}},
	{"report-completion", false, []string{"reports", "show", "completion", "--course", "PROP"}},
	{"report-rules", false, []string{"reports", "show", "rules"}},
	{"report-holdings", false, []string{"reports", "show", "holdings", "--section", "PROP-A"}},
	{"badges", false, []string{"badges", "list"}},
	{"issuers", false, []string{"badges", "issuers"}},
	{"awards", true, []string{"badges", "awards"}},
	{"stages", false, []string{"stages", "list"}},
	{"history", false, []string{"history"}},
	{"ready-rules", false, []string{"rules", "ready"}},
	{"config-waiting", false, []string{"config", "waiting"}},
	{"config-compare", false, []string{"config", "compare", "testdata/set-up"}},
}

// Every call that shows something prints a table for people, and the same as CSV and as
// JSON for programs, as the golden files have it: go test ./internal/cli -update
func TestWhatCallsPrint(t *testing.T) {
	p := play(t)
	for _, c := range readings {
		t.Run(c.name, func(t *testing.T) {
			var whole strings.Builder
			fmt.Fprintf(&whole, "$ kanban %s\n", strings.Join(c.args, " "))
			for _, format := range []string{"table", "csv", "json"} {
				text, complaints, code := p.run(append([]string{"--output", format}, c.args...)...)
				if code != cli.ExitNeedsPerson && !assert.Zero(t, code, "%s", complaints) {
					continue
				}
				switch format {
				case "csv":
					r := csv.NewReader(strings.NewReader(text))
					records, err := r.ReadAll()
					assert.NoError(t, err, "every line has as many cells")
					assert.NotEmpty(t, records, "there is a line of column names")
				case "json":
					if !assert.True(t, json.Valid([]byte(text)), text) {
						continue
					}
					text = shape(t, text)
				}
				text = steady(text)
				if c.sorted && format != "json" {
					lines := strings.Split(text, "\n")
					slices.Sort(lines[min(1, len(lines)):])
					text = strings.TrimLeft(strings.Join(lines, "\n"), "\n")
				}
				fmt.Fprintf(&whole, "\n--- %s\n%s\n", format, strings.TrimSpace(text))
			}
			golden(t, c.name, whole.String())
		})
	}
	t.Run("wrong use", func(t *testing.T) { wrong(t, p) })
	t.Run("the same numbers", func(t *testing.T) { sameNumbers(t, p) })
}

// sameNumbers holds reports against the lists that say the same.
func sameNumbers(t *testing.T, p *played) {
	lines := func(args ...string) [][]string {
		text, complaints, code := p.run(append([]string{"--output", "csv"}, args...)...)
		require.Zero(t, code, complaints)
		list, err := csv.NewReader(strings.NewReader(text)).ReadAll()
		require.NoError(t, err)
		return list[1:]
	}
	column := func(rows [][]string, columns ...int) (out [][]string) {
		for _, r := range rows {
			var line []string
			for _, c := range columns {
				line = append(line, r[c])
			}
			out = append(out, line)
		}
		return out
	}
	rules := lines("rules", "list")
	require.NotEmpty(t, rules)
	assert.Equal(t, column(rules, 0, 6, 7), column(lines("reports", "show", "rules"), 0, 3, 5), "rule, fired, delivered")
	badges := lines("badges", "list")
	require.NotEmpty(t, badges)
	assert.Equal(t, column(badges, 0, 4, 5), column(lines("reports", "show", "badges"), 0, 1, 3), "badge, held by, revoked")
}

func golden(t *testing.T, name, text string) {
	t.Helper()
	path := filepath.Join("testdata", "golden", name+".txt")
	if *update {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err, "make it with: go test ./internal/cli -update")
	assert.Equal(t, string(want), text)
}

// What is wrong in a call ends with the code of its kind and says what to do instead;
// nothing is done, and nothing is printed that could be taken for an answer.
func wrong(t *testing.T, p *played) {
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{cli.ExitUsage, "has no command", []string{"sections", "lst"}},
		{cli.ExitUsage, "no-such-flag", []string{"sections", "list", "--no-such-flag"}},
		{cli.ExitUsage, "kanban offers add --help", []string{"offers", "add", "Nothing"}},
		{cli.ExitUsage, "there is no ready rule", []string{"rules", "ready", "nothing"}},
		{cli.ExitUsage, "choose one of Cuttings, Grafter, Propagation", []string{"rules", "ready", "module-badge"}},
		{cli.ExitUsage, "name a folder or files", []string{"config", "compare"}},
		{cli.ExitUsage, "no-such.yaml", []string{"config", "apply", "no-such.yaml"}},
		{cli.ExitUsage, "holds no .yaml file", []string{"config", "apply", "testdata"}},
		{cli.ExitUsage, "limit", []string{"events", "list", "--limit", "many"}},
		{cli.ExitUsage, "not one of table, json, csv", []string{"--output", "xml", "sections", "list"}},
		{cli.ExitUsage, "there is no section", []string{"pairings", "show", "NONE-A"}},
		{cli.ExitUsage, "2 arguments given, 1 needed", []string{"sections", "roster", "Propagation A", "surplus"}},
		{cli.ExitUsage, "argument", []string{"people", "show"}},
		{cli.ExitUsage, "stu-999", []string{"people", "show", "stu-999"}},
		{cli.ExitUsage, "no interface", []string{"interfaces", "show", "Nothing of this name"}},
		{cli.ExitUsage, "no rule", []string{"rules", "show", "Nothing of this name"}},
		{cli.ExitUsage, "there is no code", []string{"explain", "no-such-code"}},
		{cli.ExitUsage, "", []string{"sections", "roster", "PROP-A", "--at", "yesterday"}},
		{cli.ExitUsage, "", []string{"badges", "revoke", "stu-001"}},
		{cli.ExitUsage, "", []string{"deliveries", "list", "--state", "lost"}},
		{cli.ExitUsage, "", []string{"pairings", "many", "juggle", "PROP-A"}},
		{cli.ExitUsage, "what the class is called", []string{
			"pairings", "many", "pair", "PROP-A", "--interface", "Chat workspace", "--name", "PROP-A=",
		}},
	} {
		t.Run(strings.Join(c.args, " "), func(t *testing.T) {
			out, complaints, code := p.run(c.args...)
			assert.Equal(t, c.code, code, "%s%s", out, complaints)
			assert.Contains(t, complaints, c.says)
			assert.Contains(t, complaints, "kanban:")
			assert.Empty(t, out, "what is wrong is not said where an answer would be")
		})
	}
	nobody := &played{address: "http://127.0.0.1:1", token: "x"}
	_, complaints, code := nobody.run("today")
	assert.Equal(t, cli.ExitUnreachable, code, complaints)
	stranger := &played{address: p.address, token: "kbt_none"}
	out, complaints, code := stranger.run("today")
	assert.Equal(t, cli.ExitFailed, code)
	assert.Empty(t, out)
	assert.Contains(t, complaints, "sign-in")
	resp, err := http.Get(p.address + "/livez")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusOK, resp.StatusCode, "the service goes on")
}
