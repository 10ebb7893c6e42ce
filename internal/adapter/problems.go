package adapter

import (
	"time"

	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rest"
	"kanban/internal/wire/call"
)

// CodeOf gives the finding code for the error of an outside call.
func CodeOf(err error) finding.Code {
	p, ok := call.As(err)
	if !ok {
		return finding.Broken
	}
	switch p.Kind {
	case call.Unreachable:
		return finding.Unreachable
	case call.WrongCredential:
		return finding.WrongCredential
	case call.NotAllowed:
		return finding.NotAllowed
	case call.NotEnabled:
		return finding.NotEnabled
	case call.NotFound:
		return finding.NotThere
	case call.Throttled:
		return finding.Throttled
	}
	return finding.Broken
}

// RunCodeOf gives the finding code for the error that ended a run: that of a
// refusal, of an outside call, or that the run stopped for a cause of our own.
func RunCodeOf(err error) finding.Code {
	if r, ok := refusal.As(err); ok && r.Code != "" {
		return r.Code
	}
	if _, ok := call.As(err); ok {
		return CodeOf(err)
	}
	return finding.RunFailed
}

// MayPass reports whether the cause of an error may go away by itself: a service
// that does not answer, or trouble of our own such as a database that restarts.
// What was refused stays refused.
func MayPass(err error) bool {
	if p, ok := call.As(err); ok {
		return p.Passing()
	}
	_, refused := refusal.As(err)
	return !refused
}

// Asked reports whether a service said for how long it wants to be left alone, within the
// bound that is obeyed.
func Asked(err error) (wait time.Duration, yes bool) {
	p, ok := call.As(err)
	if !ok || p.RetryAfter <= 0 || p.RetryAfter > rest.LongestAsked {
		return 0, false
	}
	return p.RetryAfter, true
}

// MayWait reports whether work that began at a time may wait for as long as a service asks
// for: all in all no longer than the bound that is obeyed.
func MayWait(err error, began *time.Time) bool {
	_, asked := Asked(err)
	return asked && began != nil && time.Since(*began) < rest.LongestAsked
}
