package cli

import (
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestWrapLosesNothingAndFits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`([a-zé]{1,14} ?){0,12}`).Draw(t, "text")
		width := rapid.IntRange(1, 20).Draw(t, "width")
		lines := wrap(text, width)
		for _, l := range lines {
			if utf8.RuneCountInString(l) > width {
				t.Fatalf("%q is wider than %d", l, width)
			}
		}
		if strings.Join(strings.Fields(strings.Join(lines, "")), "") != strings.Join(strings.Fields(text), "") {
			t.Fatalf("%q became %q", text, lines)
		}
	})
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
