// Package schedule says when a pairing runs by itself.
//
//	s := schedule.Schedule{Kind: schedule.Daily, At: "06:30"}
//	next := s.Next(time.Now(), zone, 5*time.Minute)
//
// It reads no clock: time comes in.
package schedule

import (
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"time"
)

// Kind of schedule.
type Kind string

// The kinds.
const (
	ByHand    Kind = "by-hand"    // never by itself; the zero value means the same
	AfterRead Kind = "after-read" // whenever a read of the register changed its people
	Every     Kind = "every"      // every so many minutes, and after such a read
	Daily     Kind = "daily"      // at a time of day in the institution's zone
)

// Kinds lists them all.
var Kinds = []Kind{ByHand, AfterRead, Every, Daily}

// Bounds of Minutes: often enough for a class, seldom enough for a service.
const (
	minMinutes = 5
	maxMinutes = 24 * 60
)

// Schedule is when something runs by itself. The first run is always by hand.
type Schedule struct {
	Kind Kind `json:"kind,omitempty" enum:"by-hand,after-read,every,daily" doc:"By hand when absent"`
	// Minutes between runs, for every; 5 to 1440.
	Minutes int `json:"minutes,omitempty"`
	// At is the time of day, for daily, written 06:30.
	At string `json:"at,omitempty"`
	// Days on which a daily run happens; every day when empty.
	Days []string `json:"days,omitempty" doc:"For example monday; every day when absent"`
}

var days = []string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}

// Check reports what is wrong.
func (s Schedule) Check() error {
	switch s.Kind {
	case "", ByHand, AfterRead:
		return nil
	case Every:
		if s.Minutes < minMinutes || s.Minutes > maxMinutes {
			return fmt.Errorf("every %d minutes is not between %d and %d", s.Minutes, minMinutes, maxMinutes)
		}
		return nil
	case Daily:
		if _, err := time.Parse("15:04", s.At); err != nil {
			return fmt.Errorf("%q is not a time of day such as 06:30", s.At)
		}
		for _, d := range s.Days {
			if !slices.Contains(days, d) {
				return fmt.Errorf("%q is not a day such as monday", d)
			}
		}
		return nil
	}
	return fmt.Errorf("%q is not one of by-hand, after-read, every, daily", s.Kind)
}

// String says in words when something runs.
func (s Schedule) String() string {
	switch s.Kind {
	case AfterRead:
		return "after reads that change its people"
	case Every:
		return fmt.Sprintf("every %d minutes", s.Minutes)
	case Daily:
		if len(s.Days) == 0 {
			return "daily at " + s.At
		}
		return "at " + s.At + " on " + strings.Join(s.Days, ", ")
	}
	return "by hand only"
}

// ReactsToReads reports whether a read that changed people starts a run.
func (s Schedule) ReactsToReads() bool { return s.Kind == AfterRead || s.Kind == Every }

// Next gives the first time after a moment at which a run is due; the zero time
// when no clock starts it. shift, from Spread, keeps many from starting at once.
// A time of day that the clocks skip is taken at the moment they jump; one that
// comes twice is taken the first time.
func (s Schedule) Next(after time.Time, zone *time.Location, shift time.Duration) time.Time {
	switch s.Kind {
	case Every:
		step := time.Duration(s.Minutes) * time.Minute
		base := after.Truncate(step).Add(shift % step)
		for !base.After(after) {
			base = base.Add(step)
		}
		return base
	case Daily:
		at, err := time.Parse("15:04", s.At)
		if err != nil {
			return time.Time{}
		}
		local := after.In(zone)
		for n := range 9 { // a week, and the shift may lead into one more day
			day := time.Date(local.Year(), local.Month(), local.Day()+n-1, 0, 0, 0, 0, time.UTC)
			if len(s.Days) > 0 && !slices.Contains(s.Days, days[day.Weekday()]) {
				continue
			}
			if due := clock(day, at.Hour(), at.Minute(), zone).Add(shift); due.After(after) {
				return due
			}
		}
	}
	return time.Time{}
}

// clock gives the moment at which clocks of a zone show a time on a day.
func clock(day time.Time, hour, minute int, zone *time.Location) time.Time {
	t := time.Date(day.Year(), day.Month(), day.Day(), hour, minute, 0, 0, zone)
	if earlier := t.Add(-time.Hour); shows(earlier, hour, minute) {
		return earlier // it comes twice
	}
	if shows(t, hour, minute) {
		return t
	}
	// It is skipped: find where the clocks jump, to the minute.
	start := time.Date(day.Year(), day.Month(), day.Day(), 0, 0, 0, 0, zone)
	for m := start; m.Before(start.Add(26 * time.Hour)); m = m.Add(time.Minute) {
		if h, n := m.Hour(), m.Minute(); h*60+n > hour*60+minute && m.Day() == day.Day() {
			return m
		}
	}
	return t
}

func shows(t time.Time, hour, minute int) bool { return t.Hour() == hour && t.Minute() == minute }

// Spread gives a pairing its place within a span, always the same one.
func Spread(id string, span time.Duration) time.Duration {
	if span <= 0 {
		return 0
	}
	h := fnv.New64a()
	_, _ = h.Write([]byte(id))
	return time.Duration(h.Sum64() % uint64(span)).Truncate(time.Second)
}
