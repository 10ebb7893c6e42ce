package gradebooks_test

import (
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/adapter"
	"kanban/internal/adapter/gradebooks"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/standin/fault"
	"kanban/internal/standin/gradebook"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

var (
	today = time.Date(2026, 9, 15, 12, 0, 0, 0, time.UTC)
	all   = []string{
		oneroster.ScopeGradebookRead, oneroster.ScopeGradebookPut, oneroster.ScopeGradebookDelete,
	}
)

// class is a school with one class.
type class map[string]bool

func (c class) Has(id, student string) bool { return id == "c1" && c[student] }
func (class) Class(id string) bool          { return id == "c1" }
func (class) Period(id string) (gradebook.Period, bool) {
	return gradebook.Period{ID: id, Start: today.AddDate(0, -1, 0), End: today.AddDate(0, 1, 0)}, id == "p1"
}

type reader = gradebooks.Gradebook

// side is a gradebook on loopback, with what reads and writes it.
type side struct {
	*gradebook.Gradebook
	*reader
	fault *fault.Switch
}

func open(t *testing.T, rules gradebook.Rules, people ...string) side {
	t.Helper()
	in := class{}
	for _, p := range people {
		in[p] = true
	}
	g := gradebook.New(rules, func(*http.Request, string) bool { return true }, in, func() time.Time { return today })
	s := fault.NewSwitch()
	mux := http.NewServeMux()
	mux.HandleFunc("POST /token", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{
			"access_token": "t", "token_type": "Bearer", "expires_in": 600, "scope": r.FormValue("scope"),
		})
	})
	mux.Handle("/", s.Wrap(g))
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	book := gradebooks.New(adapter.Interface{
		ID:       "i",
		Settings: map[string]string{"address": server.URL, "tokenAddress": server.URL + "/token", "clientId": "id"},
		Secret:   map[string]string{"clientSecret": "secret"},
	}, all, call.Options{WaitMin: time.Millisecond})
	return side{g, book, s}
}

func number(n float64) *oneroster.Number { v := oneroster.Number(n); return &v }

// results reads all results of a side.
func (s side) results(t *testing.T, held bool) []gradebooks.Result {
	t.Helper()
	var list []gradebooks.Result
	require.NoError(t, s.Each(t.Context(), oneroster.FileResults, time.Time{}, func(r oneroster.Record) error {
		var x gradebooks.Result
		var err error
		if held {
			x, err = gradebooks.HeldOf(r)
		} else {
			x, err = gradebooks.ResultOf(r, gradebooks.Usual(), today)
		}
		list = append(list, x)
		return err
	}, func(_ int, err error) error { return err }))
	return list
}

// Scores are read at the source, compared, written to the book, read there again, and then
// nothing is left to carry.
func TestScoresAreCarriedAndThere(t *testing.T) {
	ctx := t.Context()
	source := open(t, gradebook.Rules{Decimals: -1}, "ada", "bram", "cleo", "dario")
	book := open(t, gradebook.Rules{Decimals: 1, DueInPeriod: true, Category: true, Points: true}, "ada", "bram",
		"cleo")
	source.Enter(oneroster.FileLineItems, "essay", oneroster.LineItem{
		Title: "Essay", Class: oneroster.Ref{SourcedID: "c1"}, ResultValueMax: number(20),
		DueDate: oneroster.Moment{Time: today},
	})
	enter := func(student, status string, score float64, change func(*oneroster.Result)) {
		r := oneroster.Result{
			LineItem: oneroster.Ref{SourcedID: "essay"}, Student: oneroster.Ref{SourcedID: student},
			ScoreStatus: status, Score: number(score), ScoreDate: oneroster.Moment{Time: today},
		}
		if change != nil {
			change(&r)
		}
		source.Enter(oneroster.FileResults, "r-"+student, r)
	}
	enter("ada", "fully graded", 17.33, nil)
	enter("bram", "partially graded", 5, nil)
	enter("cleo", "fully graded", 12, func(r *oneroster.Result) { r.Late = true })
	enter("dario", "fully graded", 3, nil)

	category, err := book.PutCategory(ctx, grade.Category{
		ID:    gradebooks.ID("i", "category", "Tests"),
		Title: "Tests", Weight: 40,
	})
	require.NoError(t, err)
	item, err := book.PutItem(ctx, gradebooks.Item{
		LineItem: grade.LineItem{
			ID: gradebooks.ID("i", "item",
				"essay"), Title: "Essay", Category: category, Period: "p1", Due: today, Maximum: 100,
		}, Class: "c1",
	})
	require.NoError(t, err)

	carried := []grade.Carried{}
	compare := func() grade.Plan {
		x := grade.Item{
			ID: "link", Source: grade.LineItem{Maximum: 20}, Book: &grade.LineItem{Maximum: 100},
			Carried: carried,
		}
		inBook := map[string]bool{"ada": true, "bram": true, "cleo": true}
		for _, r := range source.results(t, false) {
			r.Who, r.NotInBook = r.Student, !inBook[r.Student]
			x.Results = append(x.Results, r.Result)
		}
		for _, r := range book.results(t, true) {
			x.Held = append(x.Held, grade.Held{Who: r.Student, Mark: r.Mark})
		}
		policy := grade.DefaultPolicy()
		policy.Book.Decimals = 1
		return grade.Compare([]grade.Item{x}, policy)
	}
	plan := compare()
	got := map[string]finding.Code{}
	for _, e := range plan.Items[0].Entries {
		got[e.Who] = e.Reason
	}
	assert.Equal(t, map[string]finding.Code{
		"ada": finding.ScoreNew, "bram": finding.ScorePartly, "cleo": finding.ScoreNew,
		"dario": finding.ScoreNotInBook,
	}, got)
	// The line is cut after the first was done: it is there once all the same.
	require.NoError(t, book.fault.Set(fault.Fault{Kind: fault.Cut, Count: 1, Method: http.MethodPut}))
	for _, e := range plan.Items[0].Entries {
		if !e.Outcome.Writes() {
			continue
		}
		id := gradebooks.ID("i", "result", "link", e.Who)
		_, err := book.PutResult(ctx, id, item, e.Who, e.Ours, today)
		require.NoError(t, err)
		back, found, err := book.ReadResult(ctx, id)
		require.NoError(t, err)
		require.True(t, found)
		assert.Equal(t, e.Ours, back.Mark)
		carried = append(carried, grade.Carried{Who: e.Who, Mark: e.Ours})
	}
	assert.Len(t, gradebook.All[oneroster.Result](book.Gradebook, oneroster.FileResults), 2)
	assert.Equal(t, 0, compare().Counts().Changes())
	assert.Equal(t, 2, compare().Counts()[grade.Unchanged])

	// Somebody changes one in the book: it stays, and is shown.
	id := gradebooks.ID("i", "result", "link", "ada")
	book.Enter(oneroster.FileResults, id, oneroster.Result{
		LineItem: oneroster.Ref{SourcedID: item}, Student: oneroster.Ref{SourcedID: "ada"},
		ScoreStatus: "fully graded",
		Score:       number(50),
	})
	assert.Equal(t, 1, compare().Counts()[grade.Conflict])
	require.NoError(t, book.DeleteResult(ctx, id))
	_, found, err := book.ReadResult(ctx, id)
	require.NoError(t, err)
	assert.False(t, found)
	assert.Equal(t, 1, compare().Counts()[grade.Conflict], "one that was emptied there is not filled again by itself")
}

func TestGrants(t *testing.T) {
	read, write, remove, err := open(t, gradebook.Rules{}).Grants(t.Context())
	require.NoError(t, err)
	assert.True(t, read && write && remove)
}

// What is written reads as what it was.
func TestMarksComeBack(t *testing.T) {
	book := open(t, gradebook.Rules{Decimals: -1}, "ada")
	book.Enter(oneroster.FileLineItems, "li", oneroster.LineItem{
		Title: "Essay",
		Class: oneroster.Ref{SourcedID: "c1"},
	})
	rapid.Check(t, func(t *rapid.T) {
		m := grade.Mark{
			Kind: grade.Kind(rapid.IntRange(0, 3).Draw(t, "kind")), Comment: rapid.SampledFrom([]string{
				"",
				"well\ndone", "„gut“",
			}).Draw(t, "comment"),
			Flags: grade.Flags(rapid.IntRange(0, 15).Draw(t, "flags")),
		}
		switch m.Kind {
		case grade.Points:
			m.Points = rapid.Float64Range(0, 1000).Draw(t, "points")
		case grade.Text:
			m.Text = rapid.SampledFrom([]string{"A", "very good", "ö"}).Draw(t, "text")
		case grade.Done:
			m.Flags &^= grade.Exempt // exempt and done is exempt
		case grade.None:
		}
		_, err := book.PutResult(t.Context(), "r", "li", "ada", m, today)
		require.NoError(t, err)
		back, found, err := book.ReadResult(t.Context(), "r")
		require.NoError(t, err)
		require.True(t, found)
		require.Equal(t, m, back.Mark)
	})
}

// record is a record of files.
type record map[string]string

func (r record) Get(column string) string { return r[column] }
func (record) Sum() uint64                { return 0 }

func TestWhatSourcesSay(t *testing.T) {
	whole := func(change record) record {
		r := record{
			"sourcedId": "r", "lineItemSourcedId": "li", "studentSourcedId": "ada", "scoreStatus": "fully graded",
			"score":     "8,5",
			"scoreDate": "2026-09-10",
		}
		for k, v := range change {
			r[k] = v
		}
		return r
	}
	for name, x := range map[string]struct {
		change record
		status grade.Status
		mark   string
	}{
		"final":              {nil, grade.Final, "8.5"},
		"in capitals":        {record{"scoreStatus": " Fully Graded "}, grade.Final, "8.5"},
		"a word of its own":  {record{"scoreStatus": "ext:moderated"}, grade.Draft, "8.5"},
		"no word":            {record{"scoreStatus": ""}, grade.Draft, "8.5"},
		"handed in":          {record{"scoreStatus": "submitted", "score": ""}, grade.Unmarked, "–"},
		"handed in, a score": {record{"scoreStatus": "submitted"}, grade.Draft, "8.5"},
		"partly":             {record{"scoreStatus": "partially graded"}, grade.Partly, "8.5"},
		"exempt":             {record{"scoreStatus": "exempt", "score": ""}, grade.Final, "– (exempt)"},
		"not handed in": {
			record{"scoreStatus": "not submitted", "score": "", "missing": "TRUE"},
			grade.Unmarked, "– (missing, not submitted)",
		},
		"a text":               {record{"score": "", "textScore": "good"}, grade.Final, "good"},
		"graded without value": {record{"score": ""}, grade.Final, "–"},
		"no number":            {record{"score": "1,234.5"}, grade.Final, "NaN"},
	} {
		got, err := gradebooks.ResultOf(whole(x.change), gradebooks.Usual(), today)
		require.NoError(t, err, name)
		assert.Equal(t, x.status, got.Status, name)
		assert.Equal(t, x.mark, got.Mark.String(), name)
	}
	for column, value := range map[string]string{
		"sourcedId": "", "lineItemSourcedId": "", "studentSourcedId": "", "late": "perhaps", "scoreDate": "soon",
	} {
		_, err := gradebooks.ResultOf(whole(record{column: value}), gradebooks.Usual(), today)
		require.ErrorIs(t, err, gradebooks.ErrRecord, column)
	}
	deleted, err := gradebooks.ResultOf(whole(record{"status": "tobedeleted"}), gradebooks.Usual(), today)
	require.NoError(t, err)
	assert.True(t, deleted.Deleted)
	byDate := gradebooks.Usual()
	byDate.ByDate = true
	for day, want := range map[string]grade.Status{
		"2026-09-10": grade.Final, "2026-09-20": grade.Unreleased,
		"": grade.Unreleased,
	} {
		got, err := gradebooks.ResultOf(whole(record{"scoreDate": day}), byDate, today)
		require.NoError(t, err)
		assert.Equal(t, want, got.Status, day)
	}
	held, err := gradebooks.HeldOf(whole(record{"score": ""}))
	require.NoError(t, err)
	assert.Equal(t, grade.Done, held.Mark.Kind)
}

func TestAssignmentsCategoriesAndScales(t *testing.T) {
	item, err := gradebooks.ItemOf(record{
		"sourcedId": "li", "classSourcedId": "c1", "title": " Essay ", "dueDate": "2026-09-20",
		"resultValueMax":    "12,5",
		"categorySourcedId": "cat", "gradingPeriodSourcedId": "p1", "status": "tobedeleted",
	})
	require.NoError(t, err)
	assert.Equal(t, "Essay", item.Title)
	assert.InDelta(t, 12.5, item.Maximum, 0)
	assert.True(t, item.Gone)
	for column, value := range map[string]string{
		"sourcedId": "", "classSourcedId": "", "dueDate": "20.9.",
		"resultValueMax": "ten",
	} {
		r := record{"sourcedId": "li", "classSourcedId": "c1", "title": "Essay"}
		r[column] = value
		_, err := gradebooks.ItemOf(r)
		require.ErrorIs(t, err, gradebooks.ErrRecord, column)
	}
	c, err := gradebooks.CategoryOf(record{"sourcedId": "c", "title": "Tests"})
	require.NoError(t, err)
	assert.Negative(t, c.Weight)
	_, err = gradebooks.CategoryOf(record{"sourcedId": "c", "title": "Tests", "weight": "much"})
	require.ErrorIs(t, err, gradebooks.ErrRecord)
	s, err := gradebooks.ScaleOf(record{"sourcedId": "s", "scoreScaleValue": "{A:90-100},{B:80%},{P:passed}"})
	require.NoError(t, err)
	assert.Equal(t, grade.Scale{
		"a": {Kind: grade.Points, Points: 100}, "b": {Kind: grade.Points, Points: 80}, "p": {
			Kind: grade.Text,
			Text: "passed",
		},
	}, s.Values)
	_, err = gradebooks.ScaleOf(record{"sourcedId": "s", "scoreScaleValue": "A=1"})
	require.ErrorIs(t, err, gradebooks.ErrRecord)
}

// Whatever stands in the columns, nothing but an error or a mark that was written comes of it.
func TestDamagedRecords(t *testing.T) {
	texts := []string{
		"", "8", "-1", "NaN", "1e400", "fully graded", "exempt", "true", "2026-09-10", "\x00", "ö",
		"9,9", "{A:1}",
	}
	columns := []string{
		"sourcedId", "lineItemSourcedId", "studentSourcedId", "scoreStatus", "score", "textScore", "scoreDate",
		"late", "missing",
		"incomplete", "status", "classSourcedId", "dueDate", "resultValueMax", "title", "weight", "scoreScaleValue",
	}
	rapid.Check(t, func(t *rapid.T) {
		r := record{}
		for _, c := range columns {
			r[c] = rapid.SampledFrom(texts).Draw(t, c)
		}
		x, err := gradebooks.ResultOf(r, gradebooks.Usual(), today)
		if err != nil {
			require.ErrorIs(t, err, gradebooks.ErrRecord)
		} else if x.Mark.Kind == grade.Points && !math.IsNaN(x.Mark.Points) {
			require.Contains(t, []float64{8, -1, 9.9}, x.Mark.Points, fmt.Sprint(r))
		}
		for _, err := range []error{
			second(gradebooks.ItemOf(r)), second(gradebooks.CategoryOf(r)), second(gradebooks.ScaleOf(r)),
		} {
			if err != nil {
				require.ErrorIs(t, err, gradebooks.ErrRecord)
			}
		}
	})
}

func second[T any](_ T, err error) error { return err }
