package oneroster

import (
	"bytes"
	"encoding/json"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNumbers(t *testing.T) {
	for text, want := range map[string]float64{
		"87.5": 87.5, "87,5": 87.5, " 0 ": 0, "-3": -3, "1e2": 100, ".5": .5,
	} {
		got, err := ParseNumber(text)
		require.NoError(t, err, text)
		assert.InDelta(t, want, got, 0, text)
	}
	for _, text := range []string{
		"", "A", "1,234.5", "1,2,3", "NaN", "Inf", "-infinity", "0x10", "1_000", "12 5",
		"1e999",
	} {
		_, err := ParseNumber(text)
		require.ErrorIs(t, err, ErrNumber, text)
	}
	var r Result
	require.NoError(t, json.Unmarshal([]byte(`{"score":"87,5"}`), &r))
	assert.InDelta(t, 87.5, float64(*r.Score), 0)
	require.Error(t, json.Unmarshal([]byte(`{"score":"good"}`), &r))
	require.NoError(t, json.Unmarshal([]byte(`{"score":null}`), &r))
}

func TestMoments(t *testing.T) {
	for text, want := range map[string]string{
		"2026-09-20T21:59:00.000Z": "2026-09-20T21:59:00.000Z", "2026-09-20T23:59:00+02:00": "2026-09-20T21:59:00.000Z",
		"2026-09-20": "2026-09-20T00:00:00.000Z", "2026-09-20T10:00:00": "2026-09-20T00:00:00.000Z",
	} {
		var l LineItem
		require.NoError(t, json.Unmarshal([]byte(`{"dueDate":"`+text+`"}`), &l))
		assert.Equal(t, want, l.get("dueDate"), text)
	}
	var l LineItem
	require.NoError(t, json.Unmarshal([]byte(`{"dueDate":""}`), &l))
	assert.Empty(t, l.get("dueDate"))
	for _, text := range []string{`"20.9.2026"`, `"soon"`, `12`, `"2026-13-01"`} {
		require.Error(t, json.Unmarshal([]byte(`{"dueDate":`+text+`}`), &l), text)
	}
}

// gradebookPackage is a package with a gradebook in it.
func gradebookPackage(t *testing.T) []byte {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, WritePackage(&out, "Fernmoor", map[string]Table{
		FileCategories: {Bulk, []map[string]string{{"sourcedId": "cat", "title": "Tests", "weight": "40"}}},
		FileLineItems: {Bulk, []map[string]string{{
			"sourcedId": "li", "title": `Essay, "long"`, "classSourcedId": "c1", "categorySourcedId": "cat",
			"assignDate": "2026-09-02", "dueDate": "2026-09-20T21:59:00Z", "resultValueMax": "10",
			"gradingPeriodSourcedId": "p1",
		}}},
		FileResults: {Bulk, []map[string]string{{
			"sourcedId": "r1", "lineItemSourcedId": "li", "studentSourcedId": "ada", "scoreStatus": "fully graded",
			"score": "8,5", "late": "true", "comment": "well\ndone",
		}}},
		FileScoreScales: {Bulk, []map[string]string{{
			"sourcedId": "s", "title": "Letters", "type": "letter", "scoreScaleValue": "{A:90-100},{B:80-89}",
		}}},
	}))
	return out.Bytes()
}

var gradebookFiles = []string{FileCategories, FileLineItems, FileResults, FileScoreScales}

func TestAGradebookAsFiles(t *testing.T) {
	text := gradebookPackage(t)
	p, err := OpenPackage(bytes.NewReader(text), int64(len(text)), Limits{})
	require.NoError(t, err)
	got := map[string]Row{}
	for _, file := range gradebookFiles {
		require.NoError(t, p.Rows(file, func(r Row) error {
			got[file] = r
			switch file {
			case FileLineItems:
				assert.Equal(t, `Essay, "long"`, r.Get("title"))
				due, err := ParseMoment(r.Get("dueDate"))
				require.NoError(t, err)
				assert.Equal(t, time.Date(2026, 9, 20, 21, 59, 0, 0, time.UTC), due.UTC())
			case FileResults:
				score, err := ParseNumber(r.Get("score"))
				require.NoError(t, err)
				assert.InDelta(t, 8.5, score, 0)
			case FileScoreScales:
				assert.Equal(t, []ScaleValue{{"A", "90-100"}, {"B", "80-89"}}, ScaleValues(r.Get("scoreScaleValue")))
			}
			return nil
		}, func(b Bad) error { t.Errorf("%s: %+v", file, b); return nil }, func(column string) {
			t.Errorf("%s: the column %s is not known", file, column)
		}))
	}
	assert.Len(t, got, len(gradebookFiles))
}

// However a gradebook's files are damaged, reading them ends, and no number comes out that nobody wrote.
func TestDamagedGradebooks(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	whole := gradebookPackage(t)
	for range 3000 {
		text := bytes.Clone(whole)
		for range 1 + r.IntN(4) {
			text[r.IntN(len(text))] = byte(r.IntN(256))
		}
		if r.IntN(3) == 0 {
			text = text[:r.IntN(len(text))]
		}
		p, err := OpenPackage(bytes.NewReader(text), int64(len(text)), Limits{Unpacked: 1 << 20, Rows: 1000})
		if err != nil {
			require.ErrorIs(t, err, ErrPackage)
			continue
		}
		for _, file := range gradebookFiles {
			err := p.Rows(file, func(row Row) error {
				if n, err := ParseNumber(row.Get("score")); err == nil {
					assert.False(t, math.IsNaN(n) || math.IsInf(n, 0))
				}
				_, _ = ParseMoment(row.Get("dueDate"))
				ScaleValues(row.Get("scoreScaleValue"))
				return nil
			}, func(Bad) error { return nil }, func(string) {})
			if err != nil {
				require.ErrorIs(t, err, ErrPackage)
			}
		}
	}
}

func TestTheIDThatAServiceGives(t *testing.T) {
	for body, want := range map[string]string{
		``: "mine", `{}`: "mine", `[]`: "mine", `{"sourcedIdPairs":[{"suppliedSourcedId":"other","allocatedSourcedId":"x"}]}`: "mine",
		`{"sourcedIdPairs":[{"suppliedSourcedId":"mine","allocatedSourcedId":"theirs"}]}`: "theirs",
		`{"result":{"sourcedId":"theirs"}}`:                                               "theirs",
	} {
		assert.Equal(t, want, allocated([]byte(body), FileResults, "mine"), body)
	}
}
