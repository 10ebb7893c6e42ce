package registers_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/standin/register"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/oneroster"
)

// texts are the files of a package, by name.
func texts(t testing.TB, tables map[string]oneroster.Table) map[string]string {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, oneroster.WritePackage(&out, "Test", tables))
	z, err := zip.NewReader(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	files := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		files[f.Name] = string(text)
	}
	return files
}

func zipped(t testing.TB, files map[string]string) []byte {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for name, text := range files {
		f, err := z.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(f, text)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return out.Bytes()
}

// damage changes one file of a package and says what it did. It knows nothing of how files
// are read: it makes no record into another one that says something else, so that nobody has
// a reason to lose anything by it.
func damage(files map[string]string, r *rand.Rand) string {
	names := []string{
		"orgs", "academicSessions", "courses", "classes", "users", "users", "roles", "enrollments",
		"enrollments", "enrollments",
	}
	name := names[r.IntN(len(names))] + ".csv"
	lines := strings.SplitAfter(files[name], "\r\n")
	lines = lines[:len(lines)-1]
	at := 1 + r.IntN(len(lines)-1)
	line := lines[at]
	bare := strings.TrimSuffix(line, "\r\n")
	inside := func(text string) int { return r.IntN(len(text)) }
	values := strings.Split(bare, ",") // no value of the school's holds a comma
	put := func(text string) { lines[at] = text }
	kinds := map[string]func(){
		"cut":   func() { lines = append(lines[:at:at], line[:1+inside(bare)]) },
		"quote": func() { i := inside(bare); put(bare[:i] + `"` + bare[i:] + "\r\n") },
		"two quotes": func() {
			i := inside(bare)
			put(bare[:i] + `"` + bare[i:] + "\r\n")
			if at+3 < len(lines) {
				i = inside(lines[at+3])
				lines[at+3] = lines[at+3][:i] + `"` + lines[at+3][i:]
			}
		},
		"byte": func() {
			i := inside(bare)
			put(bare[:i] + []string{
				"\x00", "\xff", "\x80", "\n", "\r", ";", "Q", "\t",
				"\\",
			}[r.IntN(9)] + bare[i+1:] + "\r\n")
		},
		"lost bytes": func() { i := inside(bare); put(bare[:i] + bare[i+r.IntN(len(bare)-i):] + "\r\n") },
		"lost end":   func() { put(bare) },
		"more":       func() { i := inside(bare); put(bare[:i] + "," + bare[i:] + "\r\n") },
		"fewer": func() {
			i := r.IntN(len(values))
			put(strings.Join(slices.Delete(values, i, i+1),
				",") + "\r\n")
		},
		"header": func() {
			names := strings.Split(strings.TrimSuffix(lines[0], "\r\n"), ",")
			names[r.IntN(len(names))] += "Q"
			lines[0] = strings.Join(names, ",") + "\r\n"
		},
		"header twice": func() {
			names := strings.Split(strings.TrimSuffix(lines[0], "\r\n"), ",")
			names[r.IntN(len(names))] = names[r.IntN(len(names))]
			lines[0] = strings.Join(names, ",") + "\r\n"
		},
		"case": func() {
			words := strings.NewReplacer(",student,", ",STUDENT,", ",teacher,", ",Teacher,", ",true,", ",True,",
				",false,", ",FALSE,", ",primary,", ",Primary,", ",secondary,", ",SECONDARY,", ",scheduled,",
				",Scheduled,", ",term,", ",TERM,")
			for i := range lines[1:] {
				lines[i+1] = words.Replace(lines[i+1])
			}
		},
		"date": func() {
			wrong := []string{"31.12.2026", "2026-13-45", "0000-00-00", "tomorrow", "2026-9-1"}[r.IntN(5)]
			for i, v := range values {
				if len(v) == 10 && v[4] == '-' && v[7] == '-' {
					values[i] = wrong
				}
			}
			put(strings.Join(values, ",") + "\r\n")
		},
		"word": func() {
			values[r.IntN(len(values)-1)+1] = "gibberish"
			put(strings.Join(values, ",") + "\r\n")
		},
		"size": func() {
			values[r.IntN(len(values))] = strings.Repeat("x", []int{300, 3000, 70_000, 300_000, 3_000_000}[r.IntN(5)])
			put(strings.Join(values, ",") + "\r\n")
		},
		"lines swapped": func() { to := 1 + r.IntN(len(lines)-1); lines[at], lines[to] = lines[to], lines[at] },
		"line twice":    func() { lines = slices.Insert(lines, at, line) },
		"semicolons": func() {
			lines = strings.SplitAfter(strings.ReplaceAll(strings.Join(lines, ""), ",", ";"),
				"\n")
		},
		"CR alone": func() { lines = []string{strings.ReplaceAll(strings.Join(lines, ""), "\n", "")} },
		"UTF-16": func() {
			var out strings.Builder
			for _, u := range utf16.Encode([]rune("\ufeff" + strings.Join(lines, ""))) {
				out.WriteByte(byte(u))
				out.WriteByte(byte(u >> 8))
			}
			lines = []string{out.String()}
		},
	}
	all := make([]string, 0, len(kinds))
	for kind := range kinds {
		all = append(all, kind)
	}
	slices.Sort(all)
	kind := all[r.IntN(len(all))]
	kinds[kind]()
	files[name] = strings.Join(lines, "")
	return fmt.Sprintf("%s line %d: %s", name, at+1, kind)
}

// places are who is in which section as what, in order.
func places(t *testing.T, w *apptest.World, register connectionstore.Interface) []string {
	t.Helper()
	rows, err := w.Store.Pool.Query(t.Context(), `SELECT e.person || ' in ' || e.section || ' as ' || e.role
		FROM enrolments e
		JOIN people p ON p.interface_id = $1 AND p.sourced_id = e.person AND p.gone_at IS NULL AND p.enabled
		JOIN sections s ON s.interface_id = $1 AND s.sourced_id = e.section AND s.gone_at IS NULL
		JOIN courses c ON c.interface_id = $1 AND c.sourced_id = s.course AND c.gone_at IS NULL
		WHERE e.interface_id = $1 AND e.gone_at IS NULL AND e.role IN ('student', 'teacher') ORDER BY 1`, register.ID)
	require.NoError(t, err)
	all, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	slices.Sort(all)
	return all
}

// spared checks that whatever is damaged in a package takes nobody's place away: only those
// who really left may be gone.
func spared(t *testing.T, w *apptest.World, files connectionstore.Interface, seed uint64) {
	t.Helper()
	good := register.Tables(w.Standins.School)
	run := upload(t, w, files, pack(t, good), true)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	before := places(t, w, files)
	events := count(t, w, `SELECT count(*) FROM events WHERE type = 'section.left'`)
	r := rand.New(rand.NewPCG(seed, 1))
	left := map[string]bool{}
	e := good[oneroster.FileEnrollments]
	e.Rows = slices.Clone(e.Rows)
	for range r.IntN(3) {
		i := r.IntN(len(e.Rows))
		left[e.Rows[i]["userSourcedId"]+" in "+e.Rows[i]["classSourcedId"]+" as "+e.Rows[i]["role"]] = true
		e.Rows = slices.Delete(e.Rows, i, i+1)
	}
	good[oneroster.FileEnrollments] = e
	content := texts(t, good)
	what := fmt.Sprintf("seed %d, %s", seed, damage(content, r))
	run = upload(t, w, files, zipped(t, content), false)
	assert.Contains(t, []string{runstore.Finished, runstore.NeedsPerson, runstore.Failed}, run.State, what)
	if run.State == runstore.Failed {
		assert.NotEmpty(t, run.ErrorCode, "%s: %s", what, run.Error)
		assert.NotContains(t, run.Error, "SQLSTATE", what)
	}
	t.Logf("%s: %s %s %v", what, run.State, run.Error, run.Findings)
	for _, gone := range missing(before, places(t, w, files)) {
		assert.True(t, left[gone], "%s: %s lost their place; %s %v", what, gone, run.State, run.Findings)
	}
	assert.LessOrEqual(t, count(t, w, `SELECT count(*) FROM events WHERE type = 'section.left'`)-events, len(left),
		"%s: nobody else is told to have left", what)
}

func missing(before, after []string) (gone []string) {
	for _, x := range before {
		if _, there := slices.BinarySearch(after, x); !there {
			gone = append(gone, x)
		}
	}
	return gone
}

func TestWhateverIsDamagedTakesNobodyAway_R1(t *testing.T) {
	w := apptest.New(t)
	files := w.Connect("oneroster-csv", "Files", nil)
	for seed := range uint64(80) {
		spared(t, w, files, seed)
	}
}

func FuzzDamagedPackage(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) {
		w := apptest.New(t)
		spared(t, w, w.Connect("oneroster-csv", "Files", nil), seed)
	})
}

// The same over the register's address: whatever a value of a record is replaced by, the
// others go in and nobody loses a place.
func TestWhateverARecordHoldsTakesNobodyAway_R1(t *testing.T) {
	w := apptest.New(t)
	address, err := url.Parse(w.Standins.Addresses.Register)
	require.NoError(t, err)
	var spoil func(collection string, items []map[string]json.RawMessage)
	proxy := httputil.NewSingleHostReverseProxy(address)
	proxy.ModifyResponse = func(resp *http.Response) error {
		collection := path.Base(resp.Request.URL.Path)
		var body map[string][]map[string]json.RawMessage
		text, err := io.ReadAll(resp.Body)
		if err == nil && spoil != nil && json.Unmarshal(text, &body) == nil && len(body) == 1 {
			for _, items := range body {
				spoil(collection, items)
			}
			text, err = json.Marshal(body)
		}
		text = bytes.ReplaceAll(text, []byte("BAD-BYTE"), []byte{0xff})
		resp.Body = io.NopCloser(bytes.NewReader(text))
		resp.ContentLength = int64(len(text))
		resp.Header.Set("Content-Length", strconv.Itoa(len(text)))
		return err
	}
	s := httptest.NewServer(proxy)
	t.Cleanup(s.Close)
	c := w.Connect("oneroster", "Damaged", map[string]string{
		"address": s.URL, "tokenAddress": s.URL + "/oauth/token",
		"clientId": "kanban", "clientSecret": "green-fingers",
	})
	require.Equal(t, runstore.Finished, w.Read(c, false).State)
	before := places(t, w, c)
	require.NotEmpty(t, before)
	values := map[string]string{
		"NUL": `"a\u0000b"`, "byte": `"aBAD-BYTEb"`, "size": `"` + strings.Repeat("x",
			300_000) + `"`, "number": `17`, "object": `{"x":[1]}`, "list": `[[]]`, "null": `null`,
		"word": `"gibberish"`, "": ``,
	}
	r := rand.New(rand.NewPCG(5, 5))
	for range 70 {
		kinds := slices.Sorted(maps.Keys(values))
		kind, at, only := kinds[r.IntN(len(kinds))], r.IntN(1000), []string{
			"orgs", "academicSessions", "courses",
			"classes", "users", "enrollments",
		}[r.IntN(6)]
		what, done := "", false
		spoil = func(collection string, items []map[string]json.RawMessage) {
			if collection != only || len(items) == 0 || done {
				return
			}
			done = true
			item := items[at%len(items)]
			fields := slices.Sorted(maps.Keys(item))
			field := fields[at%len(fields)]
			what = fmt.Sprintf("%s %s of %s: %q", collection, field, item["sourcedId"], kind)
			if item[field] = json.RawMessage(values[kind]); kind == "" {
				delete(item, field)
			}
		}
		run := w.Read(c, false)
		assert.NotContains(t, run.Error, "SQLSTATE", what)
		assert.Contains(t, []string{runstore.Finished, runstore.NeedsPerson}, run.State, "%s: %s", what, run.Error)
		assert.Empty(t, missing(before, places(t, w, c)), "%s: %s %v", what, run.State, run.Findings)
		spoil = nil
		require.Contains(t, []string{runstore.Finished, runstore.NeedsPerson}, w.Read(c, true).State, what)
	}
	assert.Zero(t, count(t, w, `SELECT count(*) FROM events WHERE type = 'section.left'`))
}
