package cli

import (
	"context"
	"time"

	"kanban/internal/client"
)

// waitFor reads a record again and again until it has come to rest, or for so long, and gives it as it is then.
func waitFor[T any](ctx context.Context, c *client.Client, path string, long time.Duration, rests func(T) bool) (T,
	error,
) {
	until := time.Now().Add(long)
	for {
		x, err := client.GetAgain[T](ctx, c, path)
		if err != nil || rests(x) || time.Now().After(until) {
			return x, err
		}
		select {
		case <-ctx.Done():
			return x, ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}
