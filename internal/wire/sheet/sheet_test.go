package sheet_test

import (
	"bytes"
	"errors"
	"iter"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"kanban/internal/wire/sheet"
)

func TestCellsAreNeverFormulas(t *testing.T) {
	var out strings.Builder
	require.NoError(t, sheet.CSV(&out, []string{"a", "b"},
		[][]string{{"=1+1", "@x"}, {"plain", "a \"b\", c"}, {"", "-"}, {"-5", "+1.5e3"}}))
	assert.Equal(t, "a,b\n'=1+1,'@x\nplain,\"a \"\"b\"\", c\"\n,'-\n-5,+1.5e3\n", out.String())
}

func of(rows [][]any, err error) iter.Seq2[[]any, error] {
	return func(yield func([]any, error) bool) {
		for _, r := range rows {
			if !yield(r, nil) {
				return
			}
		}
		if err != nil {
			yield(nil, err)
		}
	}
}

func TestBookKeepsNumbersTimesAndNames(t *testing.T) {
	at := time.Date(2026, 11, 30, 8, 15, 0, 0, time.UTC)
	var out bytes.Buffer
	require.NoError(t, sheet.Book(&out, []sheet.Sheet{
		{
			Name: "By section: all / of them, each", Header: []string{"name", "n", "of all", "at", "none"},
			Shares: []bool{false, false, true, false, false},
			Rows:   of([][]any{{"=1+1", 12, 0.25, at, nil}, {"Ελένη", 0, nil, at, nil}}, nil),
		},
		{Name: "By section: all / of them, each", Header: []string{"x"}, Rows: of(nil, nil)},
	}))
	f, err := excelize.OpenReader(&out)
	require.NoError(t, err)
	names := f.GetSheetList()
	assert.Len(t, names, 2)
	assert.NotEqual(t, names[0], names[1])
	rows, err := f.GetRows(names[0])
	require.NoError(t, err)
	assert.Equal(t, []string{"=1+1", "12", "25%"}, rows[1][:3])
	assert.Equal(t, "Ελένη", rows[2][0])
	formula, err := f.GetCellFormula(names[0], "A2")
	require.NoError(t, err)
	assert.Empty(t, formula)
	kind, err := f.GetCellType(names[0], "B2")
	require.NoError(t, err)
	assert.NotEqual(t, excelize.CellTypeInlineString, kind, "a number stays one")
}

func TestHalfATableIsNoFile(t *testing.T) {
	broken := errors.New("the database went away")
	var out bytes.Buffer
	assert.ErrorIs(t, sheet.Book(&out, []sheet.Sheet{{Name: "x", Header: []string{"a"}, Rows: of([][]any{{"1"}},
		broken)}}), broken)
	assert.Zero(t, out.Len())
	err := sheet.Stream(&out, []string{"a"}, func(yield func([]string, error) bool) {
		_ = yield([]string{"1"}, nil) &&
			yield(nil, broken)
	})
	assert.ErrorIs(t, err, broken)
}
