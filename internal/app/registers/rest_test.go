package registers_test

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/registers"
	"kanban/internal/apptest"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/mirror"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/oneroster"
)

// between stands between Kanban and the register, counts what is asked for and
// refuses what stop says.
type between struct {
	mu    sync.Mutex
	asked []string
	stop  func(r *http.Request) bool
	// refuse answers 400 instead of passing a request on.
	refuse func(r *http.Request) bool
}

func (b *between) taken() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	was := b.asked
	b.asked = nil
	return was
}

func watched(t *testing.T, w *apptest.World) (*between, connectionstore.Interface) {
	t.Helper()
	b := &between{}
	register, err := url.Parse(w.Standins.Addresses.Register)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(register)
	s := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		b.mu.Lock()
		b.asked = append(b.asked, r.URL.Path[strings.LastIndex(r.URL.Path,
			"/")+1:]+" "+r.URL.Query().Get("offset")+r.URL.Query().Get("filter"))
		stop := b.stop != nil && b.stop(r)
		refused := b.refuse != nil && b.refuse(r)
		b.mu.Unlock()
		if refused {
			http.Error(rw, "unknown filter", http.StatusBadRequest)
			return
		}
		if stop {
			http.Error(rw, "broken", http.StatusInternalServerError)
			return
		}
		proxy.ServeHTTP(rw, r)
	}))
	t.Cleanup(s.Close)
	return b, w.Connect("oneroster", "Watched", map[string]string{
		"address":      s.URL,
		"tokenAddress": s.URL + "/oauth/token", "clientId": "kanban", "clientSecret": "green-fingers",
	})
}

// A read that broke off goes on at the page where it broke.
func TestReadResumesAtThePageWhereItBroke_R10(t *testing.T) {
	w := apptest.New(t)
	b, c := watched(t, w)
	b.stop = func(r *http.Request) bool { return r.URL.Query().Get("offset") == "100" }
	r, err := w.Registers.Start(t.Context(), "test", registers.Request{InterfaceID: c.ID})
	require.NoError(t, err)
	require.Error(t, w.Registers.Work(t.Context(), r.ID, false), "to be tried again")
	assert.Contains(t, b.taken(), "enrollments 0")
	// What was under way for other collections when one of them failed may or may not be kept.
	rows, err := w.Store.Pool.Query(t.Context(), `SELECT DISTINCT collection FROM register_pages`)
	require.NoError(t, err)
	kept, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	require.Contains(t, kept, "enrollments")
	b.stop = nil
	require.NoError(t, w.Registers.Work(t.Context(), r.ID, true))
	again := b.taken()
	for _, collection := range kept {
		assert.NotContains(t, again, collection+" 0")
	}
	assert.Contains(t, again, "enrollments 100")
	run, err := runstore.FindRun(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	require.Equal(t, runstore.Finished, run.State, run.Error)
	assert.Equal(t, 70, run.Counts["people"])
	assert.Zero(t, count(t, w, `SELECT count(*) FROM register_pages`), "kept pages are dropped")
}

// A page that a try kept when it was cut off, without knowing, is no hindrance to the next.
func TestPageThatIsKeptAlready_R10(t *testing.T) {
	w := apptest.New(t)
	_, c := watched(t, w)
	r, err := w.Registers.Start(t.Context(), "test", registers.Request{InterfaceID: c.ID})
	require.NoError(t, err)
	shelf := mirror.RegisterPages{Database: w.Store, RunID: r.ID}
	for _, item := range []string{`{"sourcedId":"old"}`, `{"sourcedId":"new"}`} {
		require.NoError(t, shelf.Keep(t.Context(), oneroster.FileCourses,
			oneroster.Page{Items: []json.RawMessage{json.RawMessage(item)}, Read: 1, Total: 1}))
	}
	var items []string
	require.NoError(t, shelf.Pages(t.Context(), oneroster.FileCourses, func(page []json.RawMessage) error {
		for _, x := range page {
			items = append(items, string(x))
		}
		return nil
	}))
	assert.Equal(t, []string{`{"sourcedId":"new"}`}, items)
}

// A read of changes asks only for them, and what is not named stays.
func TestChangesAreReadAlone_R1(t *testing.T) {
	w := apptest.New(t)
	b, c := watched(t, w)
	changes := func() runstore.Run {
		r, err := w.Registers.Start(t.Context(), "test", registers.Request{InterfaceID: c.ID, Changes: true})
		require.NoError(t, err)
		require.NoError(t, w.Registers.Work(t.Context(), r.ID, true))
		r, err = runstore.FindRun(t.Context(), w.Store, r.ID)
		require.NoError(t, err)
		require.Equal(t, runstore.Finished, r.State, r.Error)
		return r
	}
	assert.Equal(t, 70, changes().Counts["people"], "the first read asks for everything")
	b.taken()
	require.NoError(t, w.Standins.School.SetEmail("stu-010", "jori@new.example"))
	require.NoError(t, w.Standins.School.Withdraw("stu-011", "sec-prop-a"))
	r := changes()
	assert.Equal(t, 1, r.Counts["people"])
	assert.Equal(t, 1, r.Counts["changed"])
	assert.Equal(t, 1, r.Counts["left"])
	for _, asked := range b.taken() {
		assert.True(t, strings.Contains(asked, "dateLastModified>") || strings.HasPrefix(asked, "token"), asked)
	}
	assert.Equal(t, 70, count(t, w, `SELECT count(*) FROM people WHERE gone_at IS NULL`))
	assert.Equal(t, "jori@new.example", w.Person("stu-010").Email)
}

// A register that cannot filter is asked for everything.
func TestRegisterWithoutFilterIsReadWhole_R1(t *testing.T) {
	w := apptest.New(t)
	b, c := watched(t, w)
	w.Read(c, false)
	b.refuse = func(r *http.Request) bool { return r.URL.Query().Get("filter") != "" }
	require.NoError(t, w.Standins.School.Withdraw("stu-011", "sec-prop-a"))
	r, err := w.Registers.Start(t.Context(), "test", registers.Request{InterfaceID: c.ID, Changes: true})
	require.NoError(t, err)
	require.NoError(t, w.Registers.Work(t.Context(), r.ID, true))
	r, err = runstore.FindRun(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	require.Equal(t, runstore.Finished, r.State, r.Error)
	assert.Equal(t, 70, r.Counts["people"])
	assert.Equal(t, 1, r.Counts["left"])
	assert.Nil(t, r.Since, "and the report says so")
}

// A read that is stopped leaves the mirror as it was.
func TestReadCanBeStopped_R8(t *testing.T) {
	w := apptest.New(t)
	c := w.Register()
	r, err := w.Registers.Start(t.Context(), "test", registers.Request{InterfaceID: c.ID})
	require.NoError(t, err)
	_, err = w.Runs.Cancel(t.Context(), "test", r.ID)
	require.NoError(t, err)
	require.NoError(t, w.Registers.Work(t.Context(), r.ID, false))
	r, err = runstore.FindRun(t.Context(), w.Store, r.ID)
	require.NoError(t, err)
	assert.Equal(t, runstore.Cancelled, r.State)
	assert.Zero(t, count(t, w, `SELECT count(*) FROM people`))
	_, err = w.Runs.Cancel(t.Context(), "test", r.ID)
	assert.ErrorContains(t, err, "has ended already")
	assert.Equal(t, runstore.Finished, w.Read(c, false).State, "and it can be read again")
}

// A process that dies half-way through the merge leaves nothing of it.
func TestMergeThatIsCutOffLeavesNothing_R10(t *testing.T) {
	w := apptest.New(t)
	c := w.Register()
	r, err := w.Registers.Start(t.Context(), "test", registers.Request{InterfaceID: c.ID})
	require.NoError(t, err)
	_, err = w.Store.Pool.Exec(t.Context(), `CREATE FUNCTION slow() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
		PERFORM pg_sleep(60); RETURN NULL; END $$;
		CREATE TRIGGER slow AFTER UPDATE OF findings ON runs FOR EACH ROW WHEN (NEW.kind = 'read') EXECUTE FUNCTION
			slow()`)
	require.NoError(t, err)
	ctx, cut := context.WithCancel(t.Context())
	done := make(chan error)
	go func() { done <- w.Registers.Work(ctx, r.ID, false) }()
	require.Eventually(t, func() bool {
		return count(t, w, `SELECT count(*) FROM pg_stat_activity WHERE wait_event = 'PgSleep'`) > 0
	}, 20e9, 10e6)
	cut()
	require.Error(t, <-done)
	assert.Zero(t, count(t, w, `SELECT count(*) FROM people`))
	assert.Zero(t, count(t, w, `SELECT count(*) FROM events`))
	_, err = w.Store.Pool.Exec(t.Context(), `DROP TRIGGER slow ON runs`)
	require.NoError(t, err)
	require.NoError(t, w.Registers.Work(t.Context(), r.ID, false))
	assert.Equal(t, 70, count(t, w, `SELECT count(*) FROM people`))
}

// Who was in a section on a day can be asked later.
func TestRosterAsOfADay_P5(t *testing.T) {
	w := apptest.New(t)
	c := w.Register()
	w.Read(c, false)
	before := time.Now()
	require.NoError(t, w.Standins.School.Withdraw("stu-025", "sec-prop-c"))
	require.NoError(t, w.Standins.School.Enrol("stu-001", "sec-prop-c"))
	w.Read(c, false)
	section := w.Section("PROP-C").ID
	names := func(at time.Time) map[string]bool {
		list, err := rosterstore.RosterOn(t.Context(), w.Store, section, at)
		require.NoError(t, err)
		out := map[string]bool{}
		for _, l := range list {
			out[l.Identifier] = true
		}
		return out
	}
	assert.True(t, names(before)["stu-025"])
	assert.False(t, names(before)["stu-001"] && !names(before)["stu-025"])
	assert.False(t, names(time.Now())["stu-025"])
	assert.True(t, names(time.Now())["stu-001"])
	assert.Len(t, names(before.AddDate(0, 0, -30)), 13, "what the first read found counts from its first day")
	assert.Empty(t, names(before.AddDate(-1, 0, 0)))
	moved, err := rosterstore.Movements(t.Context(), w.Store, section, 10)
	require.NoError(t, err)
	require.Len(t, moved, 2)
}
