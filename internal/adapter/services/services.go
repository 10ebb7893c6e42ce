// Package services calls operations of a service's own HTTP API.
package services

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/rule"
	"kanban/internal/wire/call"
)

// Service is a connected API.
type Service struct {
	address    string
	settings   map[string]string
	credential string
	http       *call.Client
}

// New uses an interface of kind http-api.
func New(c adapter.Interface, o call.Options) *Service {
	return &Service{
		strings.TrimRight(c.Settings["address"], "/"), c.Settings, c.Secret["token"],
		call.New(adapter.Limited(c, o)),
	}
}

// Answer is what came back, as a success condition sees it.
type Answer struct {
	Request string // what was sent, without credentials
	Status  int
	Body    any // parsed when it is JSON, else text
	Excerpt string
}

// Do makes one call. key is the same in every attempt, so that a service that knows
// the Idempotency-Key header can drop repeats.
func (s *Service) Do(ctx context.Context, r rule.Request, key string) (Answer, error) {
	req, err := http.NewRequestWithContext(ctx, r.Method, s.address+r.Path, bytes.NewReader(r.Body))
	if err != nil {
		return Answer{}, err
	}
	if r.Body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	req.Header.Set("Accept", "application/json")
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	switch header := s.settings["header"]; {
	case s.credential == "":
	case s.settings["userName"] != "":
		req.SetBasicAuth(s.settings["userName"], s.credential)
	case header != "":
		req.Header.Set(header, s.credential)
	default:
		req.Header.Set("Authorization", "Bearer "+s.credential)
	}
	out := Answer{Request: r.Method + " " + s.address + r.Path}
	if r.Body != nil {
		out.Request += "\n" + string(r.Body)
	}
	got, err := s.http.Do(ctx, req)
	out.Status, out.Excerpt = got.Status, call.Excerpt(got.Body, 500)
	if json.Unmarshal(got.Body, &out.Body) != nil {
		out.Body = string(got.Body)
	}
	return out, err
}

// Probe asks for the path that the interface names for this.
func (s *Service) Probe(ctx context.Context) []adapter.Report {
	path := s.settings["probe"]
	if path == "" {
		path = "/"
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	_, err := s.Do(ctx, rule.Request{Method: http.MethodGet, Path: path}, "")
	return []adapter.Report{adapter.ReportOf(adapter.MessagesOut, "GET "+path+" was answered.", err)}
}
