// Package hooks sends signed events to services that take them.
package hooks

import (
	"bytes"
	"context"
	"net/http"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/wire/call"
	"kanban/internal/wire/webhook"
)

// Hook is a connected service.
type Hook struct {
	address, secret string
	http            *call.Client
}

// New uses a connection of kind webhook.
func New(c adapter.Connection, o call.Options) *Hook {
	switch c.Settings["redirects"] {
	case adapter.PublicRedirects:
		o.Redirects = call.PublicRedirects
	case adapter.AllRedirects:
		o.Redirects = call.AllRedirects
	}
	return &Hook{c.Settings["address"], c.Secret["secret"], call.New(adapter.WithTransport(c, o))}
}

// Sent is what went out and what came back.
type Sent struct {
	Request string
	Status  int
	Answer  string
}

// Send signs and sends one event. The event's id is the message id: the same in
// every attempt, so that the receiver can drop repeats.
func (h *Hook) Send(ctx context.Context, e webhook.Event, at time.Time) (Sent, error) {
	body, err := webhook.Encode(e)
	if err != nil {
		return Sent{}, err
	}
	header, err := webhook.Sign(h.secret, e.ID, at, body)
	if err != nil {
		return Sent{}, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, h.address, bytes.NewReader(body))
	if err != nil {
		return Sent{}, err
	}
	req.Header = header
	req.Header.Set("Content-Type", webhook.ContentType)
	answer, err := h.http.Do(ctx, req)
	return Sent{
		Request: "POST " + h.address + "\n" + string(body), Status: answer.Status,
		Answer: call.Excerpt(answer.Body, 500),
	}, err
}

// Probe sends a signed event of type kanban.probe, which receivers ignore.
func (h *Hook) Probe(ctx context.Context, source string, at time.Time) []adapter.Report {
	id := "probe-" + at.UTC().Format("20060102T150405.000000000")
	_, err := h.Send(ctx, webhook.Event{
		ID: id, Source: source, Type: "kanban.probe", Time: at,
		Data: map[string]any{},
	}, at)
	return []adapter.Report{adapter.ReportOf(adapter.MessagesOut, "A signed probe event was accepted.", err)}
}
