// Package clock tells the time to what decides by it, so that a test can say what time it is.
//
//	s := &runs.Service{}                                    // the machine's own time
//	s.Clock = func() time.Time { return someMonday }        // a test's
//	due := s.Clock.Now()
package clock

import "time"

// Clock gives the time. The zero value goes by the machine's own.
type Clock func() time.Time

// Now is the time in UTC, as finely as the database keeps it: microseconds. How long something
// took is measured with time.Since instead, which no change of the machine's time disturbs.
func (c Clock) Now() time.Time {
	now := time.Now
	if c != nil {
		now = c
	}
	return now().UTC().Truncate(time.Microsecond)
}
