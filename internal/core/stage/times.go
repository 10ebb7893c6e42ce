package stage

import (
	"slices"
	"time"
)

// Reaching is how one person has come along a plan in time.
type Reaching struct {
	Since time.Time // when they came into the plan
	// when stages were found that they had reached at an unknown time before; zero for never
	Found   time.Time
	Reached map[string]time.Time // by stage
}

// Times says how long one stage takes.
type Times struct {
	// Took counts those who reached it and whose time is known; Median is zero when there are none.
	Took   int
	Median time.Duration
	// Stuck counts those who are at it for so long as was asked, of whom Longest is at it for the longest time.
	Stuck   int
	Longest time.Duration
}

// At is since when somebody is at a stage, which they have not reached: since the last
// required stage before it, or since they came into the plan.
func (p Plan) At(i int, r Reaching) time.Time {
	since := r.Since
	if p.AnyOrder {
		return since
	}
	for _, s := range p.Stages[:i] {
		if at, there := r.Reached[s.ID]; there && !s.Optional && at.After(since) {
			since = at
		}
	}
	return since
}

// Times says how long each stage takes, and who has been at it for a time and longer. What
// was reached before it was first looked took nobody knows how long, and is not counted.
func (p Plan) Times(all []Reaching, now time.Time, stuck time.Duration) []Times {
	out, took := make([]Times, len(p.Stages)), make([][]time.Duration, len(p.Stages))
	for _, r := range all {
		waits := false // a required stage before is not reached
		for i, s := range p.Stages {
			since := p.At(i, r)
			at, reached := r.Reached[s.ID]
			switch {
			case reached && !at.Equal(r.Found) && (r.Found.IsZero() || !since.Equal(r.Found)):
				took[i] = append(took[i], max(0, at.Sub(since)))
			case !reached && (p.AnyOrder || !waits) && now.Sub(since) >= stuck:
				out[i].Stuck++
				out[i].Longest = max(out[i].Longest, now.Sub(since))
			}
			waits = waits || !reached && !s.Optional
		}
	}
	for i, list := range took {
		out[i].Took, out[i].Median = len(list), median(list)
	}
	return out
}

// median is the middle of some durations, or the mean of the two in the middle.
func median(all []time.Duration) time.Duration {
	n := len(all)
	if n == 0 {
		return 0
	}
	slices.Sort(all)
	if n%2 == 1 {
		return all[n/2]
	}
	return all[n/2-1]/2 + all[n/2]/2 + (all[n/2-1]%2+all[n/2]%2)/2
}
