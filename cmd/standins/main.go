// Command standins runs the simulated outside systems of the demo until it is
// interrupted. Its first line of output is their addresses as JSON.
package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"kanban/internal/standin"
)

func main() {
	first := flag.Int("ports-from", 7710, "first of the ports to listen on, 0 for free ones")
	flag.Parse()
	s, err := standin.Start(*first)
	if err != nil {
		fmt.Fprintln(os.Stderr, "standins:", err)
		os.Exit(1)
	}
	defer s.Stop()
	if err := json.NewEncoder(os.Stdout).Encode(s.Addresses); err != nil {
		return
	}
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, os.Interrupt, syscall.SIGTERM)
	<-stop
}
