package rest_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"kanban/internal/core/rest"
)

var noon = time.Date(2031, 5, 4, 12, 0, 0, 0, time.UTC)

func Example() {
	var r rest.Record
	for n := range 5 { // one after another, each a second long
		began := noon.Add(time.Duration(n) * 2 * time.Second)
		r = r.Failed(rest.Failure{Began: began, Ended: began.Add(time.Second), Reason: "broken (500)"})
	}
	fmt.Println(r.Failures, r.Until.Format(time.TimeOnly), r.Reason)
	// Output: 5 12:00:19 broken (500)
}

func TestCallsThatFailSideBySideAreOneFailure(t *testing.T) {
	var r rest.Record
	for range 30 {
		r = r.Failed(rest.Failure{Began: noon, Ended: noon.Add(time.Second)})
	}
	assert.Equal(t, 1, r.Failures)
	assert.True(t, r.Until.IsZero())
}

func TestAServiceThatHangsRestsWithinAMinute(t *testing.T) {
	var r rest.Record
	at := noon
	for r.Until.IsZero() {
		r = r.Failed(rest.Failure{Began: at, Ended: at.Add(25 * time.Second)})
		at = at.Add(25*time.Second + time.Millisecond)
	}
	assert.LessOrEqual(t, at.Sub(noon), time.Minute)
}

func TestRetryAfterIsObeyedWithinABoundAndCountsNothing(t *testing.T) {
	var r rest.Record
	for range 12 {
		r = r.Failed(rest.Failure{Began: noon, Ended: noon, RetryAfter: time.Minute})
	}
	assert.Equal(t, noon.Add(time.Minute), r.Until)
	assert.Zero(t, r.Failures)
	r = r.Failed(rest.Failure{Began: noon, Ended: noon, RetryAfter: 100 * time.Hour})
	assert.Equal(t, noon.Add(rest.LongestAsked), r.Until)
}

func TestRestsGrowToABound(t *testing.T) {
	var r rest.Record
	at := noon
	var last time.Duration
	for range 40 {
		r = r.Failed(rest.Failure{Began: at, Ended: at.Add(time.Millisecond)})
		if r.Until.After(at) {
			length := r.Until.Sub(at.Add(time.Millisecond))
			assert.GreaterOrEqual(t, length, last)
			assert.LessOrEqual(t, length, rest.Longest)
			last, at = length, r.Until
		}
		at = at.Add(time.Second)
	}
	assert.Equal(t, rest.Longest, last)
}

func TestOnlyTheSameRefusalMakesAnOperationRest(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		reasons := rapid.SliceOfN(rapid.SampledFrom([]string{"no such label", "no such person"}), 1, 40).Draw(t,
			"reasons")
		var r rest.Record
		inARow, last := 0, ""
		for i, reason := range reasons {
			if reason != last {
				inARow = 0
			}
			inARow, last = inARow+1, reason
			at := noon.Add(time.Duration(i) * time.Second)
			r = r.Refused(rest.Failure{Began: at, Ended: at, Reason: reason})
			if (inARow >= rest.SameRefusals) != r.Until.After(at) {
				t.Fatalf("after %d in a row it rests until %v", inARow, r.Until)
			}
		}
	})
}

func TestAServiceRestsAfterAsManyFailuresAsAreSaid(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		many := rapid.IntRange(1, 40).Draw(t, "many")
		var r rest.Record
		for n := 1; n <= many; n++ {
			began := noon.Add(time.Duration(n) * time.Minute) // well beyond rest.LongEnough
			r = r.Failed(rest.Failure{Began: began, Ended: began.Add(time.Second), Many: many})
			if r.Until.IsZero() != (n < many) {
				t.Fatalf("after %d of %d it rests until %v", n, many, r.Until)
			}
		}
	})
}
