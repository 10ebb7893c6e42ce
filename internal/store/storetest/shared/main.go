// Command shared runs tests with one PostgreSQL server for all packages.
//
//	go run ./internal/store/storetest/shared go test -race ./...
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"syscall"
	"time"

	"kanban/internal/store/storetest"
)

func main() { os.Exit(run()) }

func run() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	starting, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	server, err := storetest.Start(starting)
	if err != nil {
		fmt.Fprintln(os.Stderr, "starting PostgreSQL for the tests:", err)
		return 1
	}
	defer server.Stop()
	c := exec.CommandContext(ctx, os.Args[1], os.Args[2:]...)
	c.Cancel = func() error { return c.Process.Signal(os.Interrupt) }
	c.WaitDelay = 20 * time.Second
	c.Env = append(os.Environ(), server.Environment()...)
	c.Stdout, c.Stderr = os.Stdout, os.Stderr
	err = c.Run()
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit) && exit.ExitCode() > 0:
		return exit.ExitCode()
	case err != nil:
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return 0
}
