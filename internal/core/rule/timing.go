package rule

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// ErrTiming is wrapped by every error about a span, a time of day or a limit.
var ErrTiming = errors.New("time cannot be used")

// MostSpan is the longest delay that can be asked for.
const MostSpan = 366 * 24 * time.Hour

// Span reads a length of time as people write it: "90m", "2h" or "3d". An empty
// text is no time at all.
func Span(text string) (time.Duration, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return 0, nil
	}
	unit, ok := map[byte]time.Duration{'m': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour}[text[len(text)-1]]
	n, err := strconv.Atoi(strings.TrimSpace(text[:len(text)-1]))
	if !ok || err != nil || n < 0 {
		return 0, fmt.Errorf("%w: %q is not a number with m, h or d behind it, such as 90m, 2h or 3d", ErrTiming,
			text)
	}
	if n > int(MostSpan/unit) {
		return 0, fmt.Errorf("%w: %s is longer than a year", ErrTiming, text)
	}
	return time.Duration(n) * unit, nil
}

// QuietHours are the hours of a day in which a rule does nothing; what falls into them
// waits until they end. Both are written 22:00, in the institution's time zone; From
// after To spans midnight. The zero value is never.
type QuietHours struct {
	From string `json:"from,omitempty" doc:"Written 22:00"`
	To   string `json:"to,omitempty" doc:"Written 07:00; the next day when it is before from"`
}

// Check reports what is wrong.
func (q QuietHours) Check() error {
	if q == (QuietHours{}) {
		return nil
	}
	for _, text := range []string{q.From, q.To} {
		if _, err := time.Parse("15:04", text); err != nil {
			return fmt.Errorf("%w: %q is not a time of day such as 22:00", ErrTiming, text)
		}
	}
	if q.From == q.To {
		return fmt.Errorf("%w: quiet hours that begin and end at %s leave no time", ErrTiming, q.From)
	}
	return nil
}

// String is the hours as people read them, such as "quiet hours from 22:00 to 07:00".
func (q QuietHours) String() string { return fmt.Sprintf("quiet hours from %s to %s", q.From, q.To) }

// Until gives when the quiet hours that hold at the time end: the time itself when
// none do. A day on which the clocks change is as long as it is.
func (q QuietHours) Until(at time.Time, zone *time.Location) time.Time {
	if q == (QuietHours{}) || q.Check() != nil {
		return at
	}
	local := at.In(zone)
	of := func(text string, days int) time.Time {
		t, _ := time.Parse("15:04", text)
		return time.Date(local.Year(), local.Month(), local.Day()+days, t.Hour(), t.Minute(), 0, 0, zone)
	}
	for days := -1; days <= 0; days++ { // hours that began yesterday, or today
		from, to := of(q.From, days), of(q.To, days)
		if !to.After(from) {
			to = of(q.To, days+1)
		}
		if !at.Before(from) && at.Before(to) {
			return to
		}
	}
	return at
}

// Limit bounds how often a rule calls outside. The zero value is no bound.
type Limit struct {
	Most int    `json:"most,omitempty" minimum:"0" doc:"How many calls; 0 is no limit"`
	Per  string `json:"per,omitempty" enum:"hour,day" doc:"In how long: hour or day"`
}

// String is the limit as people read it, such as "2 calls an hour".
func (l Limit) String() string {
	calls, per := "calls", "an hour"
	if l.Most == 1 {
		calls = "call"
	}
	if l.Per == "day" {
		per = "a day"
	}
	return fmt.Sprintf("%d %s %s", l.Most, calls, per)
}

// Window is in how long the calls are counted.
func (l Limit) Window() time.Duration {
	if l.Per == "day" {
		return 24 * time.Hour
	}
	return time.Hour
}

// Check reports what is wrong.
func (l Limit) Check() error {
	if l.Most < 0 || l.Per != "" && l.Per != "hour" && l.Per != "day" {
		return fmt.Errorf("%w: a limit is a number of calls per hour or per day", ErrTiming)
	}
	return nil
}
