package pipeline

import (
	"context"
	"sync"
	"time"
)

// together writes what several goroutines want written at the same moment with one
// transaction: while one is under way, what comes gathers for the next.
type together[T any] struct {
	write func(context.Context, []T) error

	mu      sync.Mutex
	waiting []wish[T]
	writing bool
	writers sync.WaitGroup
}

type wish[T any] struct {
	what T
	done chan error
}

func newTogether[T any](write func(context.Context, []T) error) *together[T] {
	return &together[T]{write: write}
}

// mostTogether bounds what one transaction writes.
const mostTogether = 200

// busy is how many must have come together for the next ones to be waited for, and linger
// how long: fewer and larger transactions cost less.
const (
	busy   = 4
	linger = 3 * time.Millisecond
)

// writeWithin bounds how long one transaction takes; the caller's patience ends earlier
// when its context does.
const writeWithin = time.Minute

// do writes something and waits until that is done, with others or, where what is written
// together fails, alone: nobody's fault is anybody else's.
func (g *together[T]) do(ctx context.Context, what T) error {
	w := wish[T]{what, make(chan error, 1)}
	g.mu.Lock()
	g.waiting = append(g.waiting, w)
	if !g.writing {
		g.writing = true
		g.writers.Go(g.work)
	}
	g.mu.Unlock()
	select {
	case err := <-w.done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// close waits until everything is written.
func (g *together[T]) close() { g.writers.Wait() }

func (g *together[T]) work() {
	for last := 0; ; {
		if last > busy {
			time.Sleep(linger)
		}
		g.mu.Lock()
		n := min(len(g.waiting), mostTogether)
		last = n
		if n == 0 {
			g.writing = false
			g.mu.Unlock()
			return
		}
		now := g.waiting[:n:n]
		g.waiting = g.waiting[n:]
		g.mu.Unlock()
		list := make([]T, n)
		for i, w := range now {
			list[i] = w.what
		}
		err := g.attempt(list)
		for i, w := range now {
			if err != nil && n > 1 {
				w.done <- g.attempt(list[i : i+1])
			} else {
				w.done <- err
			}
		}
	}
}

func (g *together[T]) attempt(list []T) error {
	ctx, cancel := context.WithTimeout(context.Background(), writeWithin)
	defer cancel()
	return g.write(ctx, list)
}
