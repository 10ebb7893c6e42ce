// Package rest decides when a service that keeps failing, or one operation of it that
// keeps being refused the same way, is left alone for a while.
//
//	var r rest.Record
//	r = r.Failed(rest.Failure{Began: began, Ended: now, Reason: "unreachable"})
//	if r.Until.After(now) { … } // it rests
package rest

import "time"

// Record is what is known of the latest failures in a row. The zero value has none; a
// success ends it.
type Record struct {
	Failures int       // counted in a row
	Since    time.Time // when the first of them began
	Counted  time.Time // when the latest of them was counted
	Until    time.Time // zero when it does not rest
	Rests    int       // how often in a row it has rested, which makes rests longer
	Reason   string    // the latest failure, as people read it
}

// Failure is a call that failed.
type Failure struct {
	Began, Ended time.Time
	Reason       string
	RetryAfter   time.Duration // how long the service asks to be left alone, 0 when it does not
	Many         int           // failures in a row after which this service rests, 0 for the usual number
}

// A service rests after so many failures one after another, or after as few as
// FewFailures once it has done nothing but fail for LongEnough.
const (
	ManyFailures = 5
	FewFailures  = 2
	LongEnough   = 30 * time.Second
	First        = 10 * time.Second // the first rest; each further one lasts twice as long
	Longest      = 10 * time.Minute
	// LongestAsked bounds what a service can ask for with Retry-After.
	LongestAsked = time.Hour
)

// An operation rests after so many refusals that read the same.
const (
	SameRefusals     = 10
	FirstRefused     = 10 * time.Minute
	LongestRefused   = 6 * time.Hour
	mostDoublings    = 20
	smallestRetryGap = time.Second
)

// Failed counts a failure of a service. Calls that fail side by side are one failure: a
// call counts when it began after the latest counted one had ended. A service that says
// for how long it wants to be left alone is left alone, without that being counted.
func (r Record) Failed(f Failure) Record {
	r.Reason = f.Reason
	if f.RetryAfter >= smallestRetryGap {
		if until := f.Ended.Add(min(f.RetryAfter, LongestAsked)); until.After(r.Until) {
			r.Until = until
		}
		return r
	}
	switch {
	case r.Failures == 0:
		r.Since = f.Began
	case !f.Began.After(r.Counted):
		return r
	}
	r.Failures, r.Counted = r.Failures+1, f.Ended
	tooMany := r.Failures >= ManyFailures || r.Failures >= FewFailures && f.Ended.Sub(r.Since) >= LongEnough
	if f.Many > 0 {
		tooMany = r.Failures >= f.Many
	}
	if r.Rests > 0 || tooMany {
		r.Until = f.Ended.Add(doubled(First, r.Rests, Longest))
		r.Rests++
	}
	return r
}

// Refused counts a refusal of an operation. One that reads otherwise than the latest
// begins anew.
func (r Record) Refused(f Failure) Record {
	if r.Failures == 0 || r.Reason != f.Reason {
		r = Record{Since: f.Began}
	}
	r.Reason, r.Failures, r.Counted = f.Reason, r.Failures+1, f.Ended
	if r.Failures >= SameRefusals && !r.Until.After(f.Began) {
		r.Until = f.Ended.Add(doubled(FirstRefused, r.Rests, LongestRefused))
		r.Rests++
	}
	return r
}

func doubled(first time.Duration, times int, most time.Duration) time.Duration {
	return min(first<<min(times, mostDoublings), most)
}
