package cli

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
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
