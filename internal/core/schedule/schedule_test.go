package schedule_test

import (
	"fmt"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/core/schedule"
)

func zone(t require.TestingT) *time.Location {
	z, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	return z
}

func ExampleSchedule_Next() {
	s := schedule.Schedule{Kind: schedule.Daily, At: "06:30", Days: []string{"monday"}}
	friday := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	fmt.Println(s.Next(friday, time.UTC, 0).Format("Monday 2 January 15:04"))
	// Output: Monday 23 November 06:30
}

func TestDailyAcrossClockChanges_R4(t *testing.T) {
	z := zone(t)
	for _, c := range []struct{ at, after, want string }{
		{"06:30", "2026-11-23T05:00:00+01:00", "2026-11-23T06:30:00+01:00"},
		{"06:30", "2026-11-23T06:30:00+01:00", "2026-11-24T06:30:00+01:00"}, // strictly after
		{"02:30", "2026-03-28T12:00:00+01:00", "2026-03-29T03:00:00+02:00"}, // skipped: when the clocks jump
		{"02:30", "2026-03-29T03:00:00+02:00", "2026-03-30T02:30:00+02:00"},
		{"02:30", "2026-10-24T12:00:00+02:00", "2026-10-25T02:30:00+02:00"}, // twice: the first time
		{"02:30", "2026-10-25T02:30:00+02:00", "2026-10-26T02:30:00+01:00"}, // and not again
		{"00:15", "2026-12-31T23:59:00+01:00", "2027-01-01T00:15:00+01:00"},
	} {
		after, err := time.Parse(time.RFC3339, c.after)
		require.NoError(t, err)
		got := schedule.Schedule{Kind: schedule.Daily, At: c.at}.Next(after, z, 0)
		assert.Equal(t, c.want, got.In(z).Format(time.RFC3339), "%s after %s", c.at, c.after)
	}
}

// Whatever the moment: the next run is after it, never further than the schedule
// says, and asking from there leads on.
func TestNextIsAlwaysAhead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		z := zone(t)
		after := time.Unix(rapid.Int64Range(1_700_000_000, 1_900_000_000).Draw(t, "after"), 0)
		s := schedule.Schedule{Kind: schedule.Every, Minutes: rapid.IntRange(5, 1440).Draw(t, "minutes")}
		limit := time.Duration(s.Minutes) * time.Minute
		if rapid.Bool().Draw(t, "daily") {
			s = schedule.Schedule{
				Kind: schedule.Daily,
				At: fmt.Sprintf("%02d:%02d", rapid.IntRange(0, 23).Draw(t, "hour"),
					rapid.IntRange(0, 59).Draw(t, "minute")),
			}
			limit = 26 * time.Hour
		}
		if err := s.Check(); err != nil {
			t.Fatal(err)
		}
		shift := schedule.Spread(rapid.String().Draw(t, "id"), 5*time.Minute)
		next := s.Next(after, z, shift)
		if !next.After(after) || next.Sub(after) > limit {
			t.Fatalf("%+v after %s gave %s", s, after.In(z), next.In(z))
		}
		if again := s.Next(next, z, shift); again.Sub(next) < limit/2 && s.Kind == schedule.Daily {
			t.Fatalf("%+v: %s is followed by %s", s, next.In(z), again.In(z))
		}
	})
}

func TestScheduleIsChecked(t *testing.T) {
	for want, s := range map[string]schedule.Schedule{
		"not between 5":      {Kind: schedule.Every, Minutes: 1},
		"not a time of day":  {Kind: schedule.Daily, At: "25:00"},
		"not a day such as":  {Kind: schedule.Daily, At: "06:30", Days: []string{"someday"}},
		"not one of by-hand": {Kind: "hourly"},
	} {
		assert.ErrorContains(t, s.Check(), want)
	}
	assert.NoError(t, schedule.Schedule{}.Check())
	assert.True(t, schedule.Schedule{}.Next(time.Now(), time.UTC, 0).IsZero())
}
