package clock_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"kanban/internal/core/clock"
)

func TestClock(t *testing.T) {
	var machine clock.Clock
	before := time.Now().Truncate(time.Microsecond)
	now := machine.Now()
	assert.False(t, now.Before(before), "%s is before %s", now, before)
	assert.False(t, now.After(time.Now()))
	assert.Equal(t, time.UTC, now.Location())

	at := time.Date(2026, 9, 1, 8, 0, 0, 123_456_789, time.FixedZone("", 2*60*60))
	set := clock.Clock(func() time.Time { return at })
	assert.Equal(t, time.Date(2026, 9, 1, 6, 0, 0, 123_456_000, time.UTC), set.Now())
}

func ExampleClock() {
	monday := clock.Clock(func() time.Time { return time.Date(2026, 9, 7, 9, 30, 0, 0, time.UTC) })
	fmt.Println(monday.Now().Weekday())
	// Output: Monday
}
