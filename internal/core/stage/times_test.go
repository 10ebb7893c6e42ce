package stage

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func days(n int) time.Time { return time.Date(2026, 9, 1, 8, 0, 0, 0, time.UTC).AddDate(0, 0, n) }

// A stage takes from the required one before it, or from coming in; who waits there for long is stuck; what was found
// reached took nobody knows how long.
func TestTimesOfStages(t *testing.T) {
	p := Plan{Stages: []Stage{{ID: "a"}, {ID: "x", Optional: true}, {ID: "b"}}}
	all := []Reaching{
		{Since: days(0), Reached: map[string]time.Time{"a": days(2), "x": days(5), "b": days(6)}},
		{Since: days(1), Reached: map[string]time.Time{"a": days(5)}},
		{Since: days(0), Found: days(10), Reached: map[string]time.Time{"a": days(10), "b": days(11)}},
		{Since: days(19)},
	}
	got := p.Times(all, days(20), 14*24*time.Hour)
	const day = 24 * time.Hour
	assert.Equal(t, Times{Took: 2, Median: 3 * day}, got[0])
	assert.Equal(t, Times{Took: 1, Median: 3 * day, Stuck: 1, Longest: 15 * day}, got[1], "optional ones hold nobody up")
	assert.Equal(t, Times{Took: 1, Median: 4 * day, Stuck: 1, Longest: 15 * day}, got[2],
		"since it was found it is not known how long it took")
	p.AnyOrder = true
	assert.Equal(t, Times{Took: 2, Median: 17 * day / 2, Stuck: 1, Longest: 19 * day},
		p.Times(all, days(20), 14*day)[2])
	assert.Equal(t, days(0), p.At(2, all[0]))
	assert.Equal(t, make([]Times, 3), p.Times(nil, days(20), 0))
}

// The median lies in the middle, whatever the order and the number.
func TestMedianOfRandomTimes(t *testing.T) {
	for n := range 200 {
		all := make([]time.Duration, n+1)
		for i := range all {
			all[i] = time.Duration(rand.N(50))
		}
		m := median(slices.Clone(all))
		below, above := 0, 0
		for _, x := range all {
			if x < m {
				below++
			}
			if x > m {
				above++
			}
		}
		assert.LessOrEqual(t, below, len(all)/2)
		assert.LessOrEqual(t, above, len(all)/2)
	}
}
