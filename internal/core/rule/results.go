package rule

import (
	"slices"
	"strings"
	"time"
)

// Counts says which result of an assessment counts for a rule that does something for one
// result and reverts it for the other.
type Counts string

// The results that can count. EveryResult is for rules that take nothing back: each result
// sets them off.
const (
	EveryResult  Counts = ""
	LatestResult Counts = "latest" // by the time at which it was reached
	BestResult   Counts = "best"   // a pass, if there ever was one
	FirstResult  Counts = "first"  // by the time at which it was reached
)

// Result is one pass or fail of one person in one assessment.
type Result struct {
	Trigger Trigger // AssessmentPassed or AssessmentFailed
	At      time.Time
	Key     string // tells results of the same moment apart
}

// IsResult reports whether a trigger is a pass or a fail.
func IsResult(t Trigger) bool { return t == AssessmentPassed || t == AssessmentFailed }

// ResultThatCounts says which results count for a rule: what its author chose or, when it
// reverts for one result what it did for the other, the latest.
func (d Draft) ResultThatCounts() Counts {
	if d.Counts != EveryResult || !IsResult(Trigger(d.Trigger)) {
		return d.Counts
	}
	if slices.ContainsFunc(d.UndoneBy, func(t string) bool { return IsResult(Trigger(t)) && t != d.Trigger }) {
		return LatestResult
	}
	return EveryResult
}

// Holds reports whether, of all results of a person in an assessment, what counts is the
// trigger's. It does not matter in which order they are given or became known.
func (c Counts) Holds(t Trigger, all []Result) bool {
	switch {
	case c == EveryResult || len(all) == 0:
		return true
	case c == BestResult:
		passed := slices.ContainsFunc(all, func(r Result) bool { return r.Trigger == AssessmentPassed })
		return passed == (t == AssessmentPassed)
	}
	order := func(a, b Result) int {
		if n := a.At.Compare(b.At); n != 0 {
			return n
		}
		return strings.Compare(a.Key, b.Key)
	}
	if c == FirstResult {
		return slices.MinFunc(all, order).Trigger == t
	}
	return slices.MaxFunc(all, order).Trigger == t
}
