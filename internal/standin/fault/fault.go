// Package fault makes any HTTP handler misbehave on demand, the way real
// services do: slow, throttling, failing, cutting the line, lying.
//
//	s := fault.NewSwitch()
//	server := s.Wrap(handler)
//	s.Set(fault.Fault{Kind: fault.Status, Status: 429, RetryAfter: 1, Count: 3})
package fault

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Kind of misbehaviour.
type Kind string

// The kinds.
const (
	// does the work and answers properly, after Millis, whether or not the caller still waits
	Latency  Kind = "latency"
	Status   Kind = "status"   // answers Status instead, with RetryAfter seconds if set
	Cut      Kind = "cut"      // does the work, then cuts the connection without an answer
	Truncate Kind = "truncate" // does the work, then sends half of the answer and cuts
	Swallow  Kind = "swallow"  // answers 204 and does nothing
)

// Fault is what a service is to do wrong.
type Fault struct {
	Kind Kind `json:"kind"`
	// Millis of delay, for Latency.
	Millis int `json:"millis,omitempty"`
	// Status to answer, for Status; 500 when zero.
	Status int `json:"status,omitempty"`
	// RetryAfter in seconds is sent with Status when not zero.
	RetryAfter int `json:"retryAfter,omitempty"`
	// Count of requests it hits, 0 for all until it is cleared.
	Count int `json:"count,omitempty"`
	// After lets this many matching requests pass first.
	After int `json:"after,omitempty"`
	// Method and Path narrow it: an equal method, a path that contains the text.
	Method string `json:"method,omitempty"`
	Path   string `json:"path,omitempty"`
}

// Switch holds the fault of one service. The zero value misbehaves never.
type Switch struct {
	mu      sync.Mutex
	fault   *Fault
	delayed int
}

// NewSwitch is a switch that is off.
func NewSwitch() *Switch { return &Switch{} }

// Set switches a fault on, replacing any other. It refuses unknown kinds.
func (s *Switch) Set(f Fault) error {
	switch f.Kind {
	case Latency, Status, Cut, Truncate, Swallow:
	default:
		return fmt.Errorf("unknown kind of fault %q; use latency, status, cut, truncate or swallow", f.Kind)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fault = &f
	return nil
}

// Clear switches any fault off.
func (s *Switch) Clear() {
	s.mu.Lock()
	s.fault = nil
	s.mu.Unlock()
}

// Settle waits until every request that was delayed has been served, so that what it did
// can be counted.
func (s *Switch) Settle() {
	for {
		s.mu.Lock()
		n := s.delayed
		s.mu.Unlock()
		if n == 0 {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
}

func (s *Switch) delay(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.delayed += n
}

// Take returns the fault that hits this request, if any, and counts it.
func (s *Switch) Take(method, path string) (Fault, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f := s.fault
	if f == nil || f.Method != "" && f.Method != method || !strings.Contains(path, f.Path) {
		return Fault{}, false
	}
	if f.After > 0 {
		f.After--
		return Fault{}, false
	}
	if f.Count > 0 {
		if f.Count--; f.Count == 0 {
			s.fault = nil
		}
	}
	return *f, true
}

// Wrap gives next the switch's faults.
func (s *Switch) Wrap(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f, hit := s.Take(r.Method, r.URL.Path)
		if !hit {
			next.ServeHTTP(w, r)
			return
		}
		switch f.Kind {
		case Latency:
			body, err := io.ReadAll(r.Body) // it cannot be read any more once the caller is gone
			if err != nil {
				return
			}
			s.delay(1)
			defer s.delay(-1)
			time.Sleep(time.Duration(f.Millis) * time.Millisecond)
			r = r.WithContext(context.WithoutCancel(r.Context()))
			r.Body = io.NopCloser(bytes.NewReader(body))
			next.ServeHTTP(w, r)
		case Status:
			if f.RetryAfter > 0 {
				w.Header().Set("Retry-After", strconv.Itoa(f.RetryAfter))
			}
			status := f.Status
			if status == 0 {
				status = http.StatusInternalServerError
			}
			http.Error(w, "switched fault", status)
		case Swallow:
			w.WriteHeader(http.StatusNoContent)
		case Cut, Truncate:
			answer := httptest.NewRecorder()
			next.ServeHTTP(answer, r)
			cut(w, answer, f.Kind == Truncate)
		}
	})
}

// cut ends the connection, after half of the answer if half is set.
func cut(w http.ResponseWriter, answer *httptest.ResponseRecorder, half bool) {
	conn, buffer, err := http.NewResponseController(w).Hijack()
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	defer conn.Close()
	if half {
		body := answer.Body.Bytes()
		var head bytes.Buffer
		fmt.Fprintf(&head, "HTTP/1.1 %d %s\r\nContent-Length: %d\r\n", answer.Code, http.StatusText(answer.Code),
			max(len(body), 2))
		_ = answer.Header().Write(&head)
		head.WriteString("\r\n")
		_, _ = buffer.Write(head.Bytes())
		_, _ = buffer.Write(body[:len(body)/2])
		_ = buffer.Flush()
	}
}
