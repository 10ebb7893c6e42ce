package pipeline_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
	"kanban/internal/wire/xapi"
)

// moves takes somebody out of one section, puts them into another, and reads the register.
func moves(t *testing.T, w *apptest.World, register connectionstore.Interface, who, from, to string) {
	t.Helper()
	if from != "" {
		require.NoError(t, w.Standins.School.Withdraw(who, from))
	}
	if to != "" {
		require.NoError(t, w.Standins.School.Enrol(who, to))
	}
	w.Read(register, true)
	require.NoError(t, w.Facts.Resolve(t.Context()))
}

func percent(t *testing.T, w *apptest.World, who, section string) int {
	t.Helper()
	o, err := w.Facts.Progress(t.Context(), w.Person(who).ID, w.Section(section).ID)
	require.NoError(t, err)
	return o.Percent
}

func eventsOf(t *testing.T, w *apptest.World, kind string) int {
	t.Helper()
	list, err := eventstore.Events(t.Context(), w.Store, eventstore.EventFilter{Type: kind, Limit: 100})
	require.NoError(t, err)
	return len(list)
}

// What somebody reached in one section of a course counts in the next one they come into,
// and nothing happens a second time for it. What comes late about somebody who has left
// counts where they were; what came while they were away counts when they are back.
func TestProgressGoesWithPeopleWhoMove(t *testing.T) {
	w := apptest.New(t)
	register := w.Register()
	w.Read(register, false)
	w.Outlined()
	platform := w.Connect("xapi", "Platform", nil).ID
	const who = "stu-006"
	w.Completes(platform, who, "one", time.Now().UTC().Add(-time.Hour))
	assert.Equal(t, 50, percent(t, w, who, "PROP-A"))
	completed := eventsOf(t, w, "activity.completed")

	moves(t, w, register, who, "sec-prop-a", "sec-prop-b")
	require.NoError(t, w.Facts.Recount(t.Context(), jobs.RecountCourse{
		CourseID: w.Section("PROP-B").CourseID,
		People:   []string{w.Person(who).ID},
	}))
	assert.Equal(t, 50, percent(t, w, who, "PROP-B"))
	assert.Equal(t, 50, percent(t, w, who, "PROP-A"), "it stays reachable there")
	assert.Equal(t, completed, eventsOf(t, w, "activity.completed"), "it happened once")
	w.Completes(platform, who, "two", time.Now().UTC())
	assert.Equal(t, 100, percent(t, w, who, "PROP-B"))
	assert.Equal(t, 1, eventsOf(t, w, "course.completed"), "both halves together")

	const other = "stu-007"
	left := time.Now().UTC()
	moves(t, w, register, other, "sec-prop-a", "")
	w.Completes(platform, other, "one", left.Add(-time.Minute))
	assert.Equal(t, 50, percent(t, w, other, "PROP-A"), "done before they left, told after")
	w.Completes(platform, other, "two", time.Now().UTC().Add(time.Minute))
	assert.Equal(t, 50, percent(t, w, other, "PROP-A"), "they were not in it")
	moves(t, w, register, other, "", "sec-prop-a")
	assert.Equal(t, 100, percent(t, w, other, "PROP-A"), "they are back")

	require.NoError(t, w.Facts.SetAcross(t.Context(), "test", false))
	const third = "stu-008"
	w.Completes(platform, third, "one", time.Now().UTC())
	moves(t, w, register, third, "sec-prop-a", "sec-prop-b")
	require.NoError(t, w.Facts.Recount(t.Context(), jobs.RecountCourse{Everybody: true}))
	assert.Zero(t, percent(t, w, third, "PROP-B"), "switched off")
	require.NoError(t, w.Facts.SetAcross(t.Context(), "test", true))
	require.NoError(t, w.Facts.Recount(t.Context(), jobs.RecountCourse{Everybody: true}))
	assert.Equal(t, 50, percent(t, w, third, "PROP-B"), "and on again, for everybody")
}

// The same name at two home pages is two people; numbers are kept as they came.
func TestAccountsAndNumbersAreExact(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	w.Outlined()
	platform := w.Connect("xapi", "Platform", nil).ID
	take := func(home, extra string) error {
		body := `{"id": "` + db.NewID() + `", "actor": {"account": {"homePage": "` + home + `", "name": "stu-006"}}, "verb": {"id": "` + xapi.ADL + `completed"}, "object": {"id": "` + apptest.Activities + `one"}` + extra + `}`
		list, raw, err := xapi.Parse([]byte(body))
		if err == nil {
			_, err = w.Facts.Take(t.Context(), platform, list, raw)
		}
		return err
	}
	require.NoError(t, take("https://other.example", ""))
	require.NoError(t, take("https://elsewhere.example", ""))
	waiting, err := eventstore.WaitingStatements(t.Context(), w.Store, "", 0, 10)
	require.NoError(t, err)
	require.Len(t, waiting, 1)
	assert.Contains(t, waiting[0].Note, "home page")

	require.NoError(t, take("https://other.example/",
		`, "result": {"extensions": {"https://x.example/n": 9007199254740993}}`))
	for _, bad := range []string{"1e400", "-1E999", "1e-400"} {
		assert.ErrorIs(t, take("https://other.example",
			`, "result": {"extensions": {"https://x.example/n": `+bad+`}}`), xapi.ErrStatement, bad)
	}
	stored, _, err := eventstore.Statements(t.Context(), w.Store,
		eventstore.StatementQuery{InterfaceID: platform, Limit: 10})
	require.NoError(t, err)
	found := false
	for _, x := range stored {
		text, err := xapi.Stored(x.Body, x.ID, x.StoredAt, xapi.Agent{Mbox: "mailto:a@b.example"}, "")
		require.NoError(t, err)
		found = found || json.Valid(text) && strings.Contains(string(text), "9007199254740993")
	}
	assert.True(t, found, "2^53 + 1 is no other number")
}
