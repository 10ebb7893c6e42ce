package pipeline_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pipeline"
	"kanban/internal/apptest"
	"kanban/internal/core/learning"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/wire/xapi"
)

func statement(id, who, activity, verb string) (xapi.Statement, json.RawMessage) {
	raw := json.RawMessage(fmt.Sprintf(`{"id":"00000000-0000-4000-8000-%012s","actor":{"account":{"homePage":"http://p.example","name":%q}},"verb":{"id":"http://adlnet.gov/expapi/verbs/%s"},"object":{"id":"http://p.example/%s"}}`, id, who, verb, activity))
	list, _, err := xapi.Parse(raw)
	if err != nil {
		panic(err)
	}
	return list[0], raw
}

func TestStatementsBecomeEventsOnce_E1(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	course := w.Section("PROP-A").CourseID
	o, err := w.Outlines.LoadCartridge(t.Context(), "test", course, "http://p.example/", []byte(apptest.Manifest))
	require.NoError(t, err)
	assert.Equal(t, []learning.Activity{
		{ID: "http://p.example/a1", Title: "Read", Kind: learning.Lesson},
		{ID: "http://p.example/a2", Title: "Check", Kind: learning.Assessment},
	}, o.Modules[0].Activities)
	assert.Equal(t, learning.Assignment, o.Modules[1].Activities[0].Kind)
	_, err = w.Outlines.LoadCartridge(t.Context(), "test", course, "", []byte("<html/>"))
	assert.Error(t, err)
	_, err = w.Outlines.LoadCartridge(t.Context(), "test", db.NewID(), "", []byte(apptest.Manifest))
	assert.ErrorContains(t, err, "there is no course")

	platform := w.Connect("xapi", "Platform", nil)
	take := func(ids ...string) error {
		var list []xapi.Statement
		var raw []json.RawMessage
		for _, id := range ids {
			parts := strings.Split(id, " ")
			s, r := statement(parts[0], parts[1], parts[2], parts[3])
			list, raw = append(list, s), append(raw, r)
		}
		_, err := w.Facts.Take(t.Context(), platform.ID, list, raw)
		return err
	}
	// The same statements and the same facts from many sides at once, in any order.
	all := []string{
		"1 stu-001 a1 completed", "2 stu-001 a2 failed", "3 stu-001 a2 passed", "4 stu-002 a1 completed",
		"5 nobody a1 completed", "6 stu-001 elsewhere completed", "7 stu-039 a1 completed",
	}
	var group sync.WaitGroup
	for i := range 6 {
		group.Go(func() {
			mine := append(append([]string{}, all[i:]...), all[:i]...)
			assert.NoError(t, take(mine...))
			assert.NoError(t, take(fmt.Sprintf("1%d stu-001 a1 completed", i)), "the same fact under another id")
		})
	}
	group.Wait()
	got := map[string]int{}
	events, err := eventstore.Events(t.Context(), w.Store, eventstore.EventFilter{Limit: 1000})
	require.NoError(t, err)
	for _, e := range events {
		if e.Type != "section.joined" {
			got[e.Type+" "+e.Person]++
		}
	}
	assert.Equal(t, map[string]int{
		"activity.completed Ada Alder": 2, "assessment.failed Ada Alder": 1, "assessment.passed Ada Alder": 1,
		"module.completed Ada Alder": 1,
		"progress.crossed Ada Alder": 2, "activity.completed Bram Birch": 1, "progress.crossed Bram Birch": 1,
	}, got)
	var notes int
	require.NoError(t, w.Store.Pool.QueryRow(t.Context(),
		`SELECT count(*) FROM statements WHERE note <> ''`).Scan(&notes))
	assert.Equal(t, 3, notes, "unknown people, activities and places are stored with a note")
	assert.ErrorIs(t, take("1 stu-002 a1 completed"), pipeline.ErrConflict)
}

// The same statements in two orders at once do not stop each other, and each is listed
// in an order in which somebody sent them.
func TestSameStatementsFromTwoSides_E1(t *testing.T) {
	w := apptest.New(t)
	platform := w.Connect("xapi", "Platform", nil)
	const n = 400
	forwards, backwards := make([]xapi.Statement, n), make([]xapi.Statement, n)
	raw, back := make([]json.RawMessage, n), make([]json.RawMessage, n)
	for round := range 3 {
		for i := range n {
			forwards[i], raw[i] = statement(fmt.Sprint(round*n+i), "nobody", "a1", "completed")
			backwards[n-1-i], back[n-1-i] = forwards[i], raw[i]
		}
		var group sync.WaitGroup
		for range 3 {
			group.Go(func() {
				_, err := w.Facts.Take(t.Context(), platform.ID, forwards, raw)
				assert.NoError(t, err)
			})
			group.Go(func() {
				_, err := w.Facts.Take(t.Context(), platform.ID, backwards, back)
				assert.NoError(t, err)
			})
		}
		group.Wait()
	}
	list, _, err := eventstore.Statements(t.Context(), w.Store,
		eventstore.StatementQuery{InterfaceID: platform.ID, Ascending: true, Limit: 4 * n})
	require.NoError(t, err)
	require.Len(t, list, 3*n)
	for round := range 3 {
		first, _ := statement(fmt.Sprint(round*n), "nobody", "a1", "completed")
		last, _ := statement(fmt.Sprint(round*n+n-1), "nobody", "a1", "completed")
		page := list[round*n : (round+1)*n]
		assert.ElementsMatch(t, []string{first.ID, last.ID}, []string{page[0].ID, page[n-1].ID},
			"all of one side, as it sent them")
	}
}

// A voided statement no longer counts: what it had finished is open again, once,
// even when what voids it comes first.
func TestVoidedStatementsReopen_E2(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	_, err := w.Outlines.LoadCartridge(t.Context(), "test", w.Section("PROP-A").CourseID, "http://p.example/",
		[]byte(apptest.Manifest))
	require.NoError(t, err)
	platform := w.Connect("xapi", "Platform", nil)
	take := func(id, who, activity, verb string) {
		t.Helper()
		s, r := statement(id, who, activity, verb)
		_, err := w.Facts.Take(t.Context(), platform.ID, []xapi.Statement{s}, []json.RawMessage{r})
		require.NoError(t, err)
	}
	void := func(id, target string) {
		t.Helper()
		raw := json.RawMessage(fmt.Sprintf(`{"id":"00000000-0000-4000-8000-%012s","actor":{"mbox":"mailto:office@fernmoor.example"},"verb":{"id":"http://adlnet.gov/expapi/verbs/voided"},"object":{"objectType":"StatementRef","id":"00000000-0000-4000-8000-%012s"}}`, id, target))
		list, _, err := xapi.Parse(raw)
		require.NoError(t, err)
		_, err = w.Facts.Take(t.Context(), platform.ID, list, []json.RawMessage{raw})
		require.NoError(t, err)
	}
	percent := func() (n int) {
		require.NoError(t, w.Store.Pool.QueryRow(t.Context(), `SELECT coalesce(max(percent), 0) FROM progress
			WHERE person_id = $1`, w.Person("stu-001").ID).Scan(&n))
		return n
	}
	count := func(kind rule.Trigger) (n int) {
		events, err := eventstore.Events(t.Context(), w.Store, eventstore.EventFilter{Type: string(kind), Limit: 100})
		require.NoError(t, err)
		return len(events)
	}
	take("1", "stu-001", "a1", "completed")
	take("2", "stu-001", "a2", "passed")
	take("3", "stu-001", "a1", "completed")
	assert.Equal(t, 66, percent())
	void("10", "1")
	assert.Equal(t, 66, percent(), "another statement says the same")
	assert.Zero(t, count(rule.ActivityReopened))
	void("11", "3")
	void("12", "3")
	void("13", "11")
	assert.Equal(t, 33, percent())
	assert.Equal(t, 1, count(rule.ActivityReopened))
	assert.Equal(t, 1, count(rule.ModuleReopened))
	void("14", "4")
	take("4", "stu-001", "a1", "completed")
	assert.Equal(t, 33, percent(), "it was voided before it came")
	take("5", "stu-001", "a1", "completed")
	assert.Equal(t, 66, percent())
	assert.Equal(t, 1, count(rule.ModuleCompleted), "what a rule has acted on once is not done again")
}

// What is said about somebody or something not known yet counts once it is.
func TestUnknownIsResolvedLater_E1(t *testing.T) {
	w := apptest.New(t)
	platform := w.Connect("xapi", "Platform", nil)
	take := func(id, who, activity, verb string) {
		t.Helper()
		s, r := statement(id, who, activity, verb)
		_, err := w.Facts.Take(t.Context(), platform.ID, []xapi.Statement{s}, []json.RawMessage{r})
		require.NoError(t, err)
	}
	take("1", "stu-001", "a1", "completed")
	take("2", "stu-001", "a2", "passed")
	take("3", "nobody", "a1", "completed")
	take("4", "stu-001", "a1", "shared")
	notes := func() (n int) {
		require.NoError(t, w.Store.Pool.QueryRow(t.Context(),
			`SELECT count(*) FROM statements WHERE note <> ''`).Scan(&n))
		return n
	}
	assert.Equal(t, 4, notes(), "there is not even a register")
	w.Read(w.Register(), false)
	require.NoError(t, w.Facts.Resolve(t.Context()))
	assert.Equal(t, 4, notes(), "there is no outline")
	_, err := w.Outlines.LoadCartridge(t.Context(), "test", w.Section("PROP-A").CourseID, "http://p.example/",
		[]byte(apptest.Manifest))
	require.NoError(t, err)
	for range 2 {
		require.NoError(t, w.Facts.Resolve(t.Context()))
	}
	assert.Equal(t, 2, notes())
	events, err := eventstore.Events(t.Context(), w.Store,
		eventstore.EventFilter{Type: string(rule.ModuleCompleted), Limit: 10})
	require.NoError(t, err)
	assert.Len(t, events, 1, "once")
}
