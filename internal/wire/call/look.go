package call

import (
	"context"
	"time"
)

// LookAgain calls see at growing intervals until it has seen what it looks for, or late is
// over: a service may show only after a while what it has carried out. With late 0 it
// looks once.
func LookAgain(ctx context.Context, late time.Duration, see func() (bool, error)) (seen bool, err error) {
	until := time.Now().Add(late)
	for pause := 100 * time.Millisecond; ; pause *= 2 {
		if seen, err = see(); err != nil || seen {
			return seen, err
		}
		left := time.Until(until)
		if left <= 0 {
			return false, nil
		}
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-time.After(min(pause, left)):
		}
	}
}
