package cli

import (
	"strings"
	"testing"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestLayOutLosesNothingAndFits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		words := rapid.StringMatching(`([a-zé日本]{1,14} ?){0,12}`).Draw(t, "text")
		width := rapid.IntRange(2, 20).Draw(t, "width")
		lines := strings.Split(layOut([][]string{{words, "|"}}, []int{width, 1}), "\n")
		got := ""
		for i, l := range lines {
			if i == 0 {
				l = strings.TrimSuffix(l, "|")
			}
			if text.StringWidthWithoutEscSequences(strings.TrimRight(l, " ")) > width {
				t.Fatalf("%q is wider than %d", l, width)
			}
			got += strings.Join(strings.Fields(l), "")
		}
		if got != strings.Join(strings.Fields(words), "") {
			t.Fatalf("%q became %q", words, lines)
		}
	})
}

// Letters that take two cells of a terminal do not push the next column aside.
func TestColumnsStandBelowEachOther(t *testing.T) {
	rows := [][]string{{"NAME", "AT"}, {"日本", "a"}, {"Ada", "b"}}
	assert.Equal(t, "NAME  AT\n日本  a\nAda   b", layOut(rows, columnWidths(rows)))
}

func TestShrinkTakesFromTheWidest(t *testing.T) {
	widths := []int{12, 60, 40}
	shrink(widths, 80)
	assert.Equal(t, []int{12, 32, 32}, widths)
	shrink(widths, 5)
	assert.Equal(t, []int{10, 10, 10}, widths, "never narrower than can be read")
}

// Times in CSV have date, year and zone; people read them short.
func TestTimesInTables(t *testing.T) {
	at := time.Date(2026, 3, 1, 8, 30, 0, 0, time.UTC)
	rows := [][]string{{moment(&at), "plain", moment(nil)}}
	program := cells(rows, true)[0]
	read, err := time.Parse(time.RFC3339, program[0])
	require.NoError(t, err)
	assert.True(t, at.Equal(read))
	assert.Equal(t, []string{"plain", ""}, program[1:])
	people := cells(rows, false)[0]
	assert.Equal(t, when(&at), people[0])
	assert.Equal(t, "–", people[2])
	past := time.Date(2019, 3, 1, 8, 30, 0, 0, time.Local)
	assert.Equal(t, "1 Mar 2019 08:30", when(&past), "another year is said")
}
