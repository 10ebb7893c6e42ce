package gradebook_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/standin/fault"
	"kanban/internal/standin/gradebook"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

// one is a school with one class of two.
type one struct{}

func (one) Has(class, student string) bool {
	return class == "c1" && (student == "ada" || student == "bram")
}
func (one) Class(id string) bool { return id == "c1" }
func (one) Period(id string) (gradebook.Period, bool) {
	return gradebook.Period{ID: "p1", Title: "Autumn", Start: day("2026-09-01"), End: day("2026-10-31")}, id == "p1"
}

func day(text string) time.Time {
	at, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err)
	}
	return at
}

// served is a gradebook on loopback with a token endpoint, the switch of its faults and a client of it.
type served struct {
	*gradebook.Gradebook
	fault  *fault.Switch
	client *oneroster.Client
	tokens int // given out so far
}

func serve(t *testing.T, rules gradebook.Rules, scopes ...string) *served {
	t.Helper()
	s := &served{fault: fault.NewSwitch()}
	s.Gradebook = gradebook.New(rules, func(r *http.Request, scope string) bool {
		for _, granted := range scopes {
			if granted == scope {
				return true
			}
		}
		return len(scopes) == 0
	}, one{}, func() time.Time { return day("2026-09-15") })
	mux := http.NewServeMux()
	mux.HandleFunc("POST /token", func(w http.ResponseWriter, r *http.Request) {
		s.tokens++
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{
			"access_token": fmt.Sprint("t",
				s.tokens), "token_type": "Bearer", "expires_in": 600, "scope": r.FormValue("scope"),
		})
	})
	mux.Handle("/", s.fault.Wrap(s.Gradebook))
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	s.client = oneroster.NewGradebook(oneroster.V12, server.URL, server.URL+"/token", "id", "secret",
		[]string{oneroster.ScopeGradebookRead, oneroster.ScopeGradebookPut, oneroster.ScopeGradebookDelete},
		call.Options{Timeout: 5 * time.Second, WaitMin: time.Millisecond})
	return s
}

func number(n float64) *oneroster.Number { v := oneroster.Number(n); return &v }
func ref(id string) *oneroster.Ref       { return &oneroster.Ref{SourcedID: id} }

func essay() oneroster.LineItem {
	return oneroster.LineItem{
		Title: "Essay", Class: *ref("c1"), Category: ref("cat"), GradingPeriod: ref("p1"),
		AssignDate: oneroster.Moment{Time: day("2026-09-02")}, DueDate: oneroster.Moment{Time: day("2026-09-20")},
		ResultValueMax: number(10),
	}
}

func result(student string, score float64) oneroster.Result {
	return oneroster.Result{
		LineItem: *ref("li"), Student: *ref(student), ScoreStatus: oneroster.ScoreFullyGraded, Score: number(score),
		ScoreDate: oneroster.Moment{Time: day("2026-09-10")}, Comment: "Wohlüberlegt", Late: true,
	}
}

// filled is a gradebook with a category and a line item that were put.
func filled(t *testing.T, rules gradebook.Rules) *served {
	t.Helper()
	s := serve(t, rules)
	_, err := s.client.Put(t.Context(), oneroster.FileCategories, "cat", oneroster.Category{Title: "Tests"})
	require.NoError(t, err)
	id, err := s.client.Put(t.Context(), oneroster.FileLineItems, "li", essay())
	require.NoError(t, err)
	require.Equal(t, "li", id)
	return s
}

func TestWhatIsPutIsThere(t *testing.T) {
	s := filled(t, gradebook.Rules{Decimals: 1, MaxComment: 6})
	for range 2 { // doing it again does the same
		_, err := s.client.Put(t.Context(), oneroster.FileResults, "r1", result("ada", 8.26))
		require.NoError(t, err)
	}
	got, found, err := s.client.One(t.Context(), oneroster.FileResults, "r1")
	require.NoError(t, err)
	require.True(t, found)
	for column, want := range map[string]string{
		"sourcedId": "r1", "lineItemSourcedId": "li", "studentSourcedId": "ada", "score": "8.3", "late": "true",
		"missing": "false", "scoreStatus": "fully graded", "comment": "Wohlüb", "status": "active",
		"classSourcedId": "c1",
	} {
		assert.Equal(t, want, got.Get(column), column)
	}
	item, _, err := s.client.One(t.Context(), oneroster.FileLineItems, "li")
	require.NoError(t, err)
	assert.Equal(t, "2026-09-20T00:00:00.000Z", item.Get("dueDate"))
	assert.Equal(t, "10", item.Get("resultValueMax"))
	assert.Len(t, gradebook.All[oneroster.Result](s.Gradebook, oneroster.FileResults), 1)

	require.NoError(t, s.client.Delete(t.Context(), oneroster.FileResults, "r1"))
	require.NoError(t, s.client.Delete(t.Context(), oneroster.FileResults, "r1"), "that it is gone is what was wanted")
	_, found, err = s.client.One(t.Context(), oneroster.FileResults, "r1")
	require.NoError(t, err)
	assert.False(t, found)
}

func TestPagesOfAGradebook(t *testing.T) {
	s := filled(t, gradebook.Rules{Decimals: -1})
	for i := range 120 {
		s.Enter(oneroster.FileResults, fmt.Sprint("r", i), result("ada", 1))
	}
	for _, first := range []string{
		s.client.First(oneroster.FileResults, time.Time{}),
		s.client.First(oneroster.FileResults, day("2026-09-16")),
	} {
		file, want := oneroster.FileResults, 120
		if first != s.client.First(file, time.Time{}) {
			want = 0 // nothing changed since
		}
		n := 0
		require.NoError(t, s.client.Pages(t.Context(), file, first, 0, func(p oneroster.Page) error {
			for _, raw := range p.Items {
				_, err := oneroster.Parse(file, raw)
				require.NoError(t, err)
				n++
			}
			return nil
		}))
		assert.Equal(t, want, n, first)
	}
}

// Everything that the gradebook can want, each refused with its words, and nothing kept.
func TestWhatAGradebookRefuses(t *testing.T) {
	s := filled(t, gradebook.Rules{
		DueInPeriod: true, Points: true, Category: true, LockMade: true, NoDelete: true,
		Decimals: -1,
	})
	s.Enter(oneroster.FileLineItems, "term", oneroster.LineItem{Title: "Term grade", Class: *ref("c1")})
	s.Term("term")
	item := func(change func(*oneroster.LineItem)) oneroster.LineItem {
		l := essay()
		change(&l)
		return l
	}
	for id, x := range map[string]struct {
		file   string
		record any
		says   string
	}{
		"a": {
			oneroster.FileLineItems, item(func(l *oneroster.LineItem) { l.DueDate = oneroster.Moment{} }),
			"needs a due date",
		},
		"b": {
			oneroster.FileLineItems, item(func(l *oneroster.LineItem) { l.DueDate.Time = day("2026-11-02") }),
			"outside the grading period Autumn",
		},
		"c": {
			oneroster.FileLineItems, item(func(l *oneroster.LineItem) { l.GradingPeriod = nil }),
			"needs a grading period",
		},
		"d": {
			oneroster.FileLineItems, item(func(l *oneroster.LineItem) { l.ResultValueMax = number(0) }),
			"more than zero points",
		},
		"e": {
			oneroster.FileLineItems, item(func(l *oneroster.LineItem) { l.Category = ref("none") }),
			"needs a category",
		},
		"f": {oneroster.FileLineItems, item(func(l *oneroster.LineItem) { l.Class = *ref("c9") }), "no class c9"},
		"li": {
			oneroster.FileLineItems, item(func(l *oneroster.LineItem) { l.ResultValueMax = number(20) }),
			"only title and dates",
		},
		"term": {oneroster.FileLineItems, essay(), "A term grade cannot be changed"},
		"g":    {oneroster.FileResults, result("cleo", 1), "no such student"},
		"h":    {oneroster.FileResults, result("ada", -1), "not below zero"},
		"i":    {oneroster.FileCategories, oneroster.Category{}, "needs a title"},
	} {
		_, err := s.client.Put(t.Context(), x.file, id, x.record)
		assert.ErrorContains(t, err, x.says, id)
		assert.Zero(t, s.Writes(x.file, id)-map[string]int{"li": 1}[id], id)
	}
	assert.ErrorContains(t, s.client.Delete(t.Context(), oneroster.FileLineItems, "li"), "cannot be deleted")
	_, err := s.client.Put(t.Context(), oneroster.FileLineItems, "li",
		item(func(l *oneroster.LineItem) { l.Title = "Essay 2" }))
	require.NoError(t, err)
	s.Set(func(r *gradebook.Rules) { r.Closes = day("2026-09-14") })
	_, err = s.client.Put(t.Context(), oneroster.FileResults, "r", result("ada", 1))
	assert.ErrorContains(t, err, "Grades are taken")
}

func TestAGradebookThatDoesNotDoWhatItSays(t *testing.T) {
	s := serve(t, gradebook.Rules{Decimals: -1, OtherIDs: true})
	id, err := s.client.Put(t.Context(), oneroster.FileCategories, "cat", oneroster.Category{Title: "Tests"})
	require.NoError(t, err)
	assert.Equal(t, "own-cat", id, "it is known under which id it is there")

	s = filled(t, gradebook.Rules{Decimals: -1, Forget: true})
	_, err = s.client.Put(t.Context(), oneroster.FileResults, "r", result("ada", 1))
	require.NoError(t, err)
	_, found, err := s.client.One(t.Context(), oneroster.FileResults, "r")
	require.NoError(t, err)
	assert.False(t, found, "only reading it again shows that it forgot")
}

// A line that is cut after the work, a service that throttles or is slow: it is there once in the end.
func TestAGradebookInTrouble(t *testing.T) {
	for _, f := range []fault.Fault{
		{Kind: fault.Cut, Count: 1},
		{Kind: fault.Truncate, Count: 1},
		{Kind: fault.Status, Status: 503, Count: 2},
		{Kind: fault.Status, Status: 429, RetryAfter: 1, Count: 1},
		{Kind: fault.Latency, Millis: 50},
	} {
		s := filled(t, gradebook.Rules{Decimals: -1})
		require.NoError(t, s.fault.Set(f))
		_, err := s.client.Put(t.Context(), oneroster.FileResults, "r", result("ada", 7))
		require.NoError(t, err, f.Kind)
		list := gradebook.All[oneroster.Result](s.Gradebook, oneroster.FileResults)
		require.Len(t, list, 1, f.Kind)
		assert.InDelta(t, 7, float64(*list[0].Score), 0)
	}
	s := filled(t, gradebook.Rules{Decimals: -1})
	require.NoError(t, s.fault.Set(fault.Fault{Kind: fault.Status, Status: http.StatusUnauthorized, Count: 1}))
	_, err := s.client.Put(t.Context(), oneroster.FileResults, "r", result("ada", 7))
	require.NoError(t, err)
	assert.Equal(t, 2, s.tokens, "a token that is no longer known is renewed once")

	s = serve(t, gradebook.Rules{}, oneroster.ScopeGradebookRead)
	_, err = s.client.Put(t.Context(), oneroster.FileCategories, "cat", oneroster.Category{Title: "Tests"})
	assert.ErrorContains(t, err, "does not grant gradebook.createput")
	p, is := call.As(err)
	require.True(t, is)
	assert.Equal(t, call.NotAllowed, p.Kind)
}
