// Package hooks sends signed events to services that take them.
package hooks

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/core/finding"
	"kanban/internal/wire/call"
	"kanban/internal/wire/webhook"
)

// Hook is a connected service.
type Hook struct {
	address string
	secrets []string // the present one first, then the earlier one while it is being changed
	http    *call.Client
}

// New uses an interface of kind webhook.
func New(c adapter.Interface, o call.Options) *Hook {
	switch c.Settings["redirects"] {
	case adapter.PublicRedirects:
		o.Redirects = call.PublicRedirects
	case adapter.AllRedirects:
		o.Redirects = call.AllRedirects
	}
	secrets := []string{c.Secret["secret"], c.Secret["earlier"]}
	return &Hook{c.Settings["address"], secrets, call.New(adapter.Limited(c, o))}
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
	header, err := webhook.Sign(e.ID, at, body, h.secrets...)
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
	if p, ok := call.As(err); ok && p.Status == http.StatusGone {
		err = fmt.Errorf("%w: %w", ErrEnded, err)
	}
	return Sent{
		Request: "POST " + h.address + "\n" + string(body), Status: answer.Status,
		Answer: call.Excerpt(answer.Body, 500),
	}, err
}

// ErrEnded means that the service takes no more events at this address: it answered 410 (Standard
// Webhooks 1.0, "Delivery"). It is to be sent nothing more until a person says so.
var ErrEnded = errors.New("the service has ended this subscription")

// Probe asks whether the service takes events from source, where it takes part in that handshake,
// and sends a signed event of type kanban.probe, which receivers ignore. perMinute is how many
// events it allows in a minute, 0 for any number.
func (h *Hook) Probe(ctx context.Context, source string, at time.Time) (reports []adapter.Report, perMinute int) {
	origin := webhook.Origin(source)
	allowance, err := h.allowance(ctx, origin)
	if err == nil && allowance.Refused {
		return []adapter.Report{{
			Capability: adapter.MessagesOut, State: adapter.NotAllowed, Code: finding.NotAllowed,
			Detail: "the service takes events from others only; let it allow " + origin,
		}}, 0
	}
	_, err = h.Send(ctx, webhook.Event{
		ID: fmt.Sprint("probe-", at.UnixNano()), Source: source, Type: "kanban.probe", Time: at,
		Data: map[string]any{},
	}, at)
	detail := "A signed probe event was accepted."
	if allowance.PerMinute > 0 {
		detail = fmt.Sprintf("A signed probe event was accepted; the service allows %d events a minute.",
			allowance.PerMinute)
	}
	return []adapter.Report{adapter.ReportOf(adapter.MessagesOut, detail, err)}, allowance.PerMinute
}

// patience is how long an answer to a question is waited for that few services know.
const patience = 5 * time.Second

// allowance asks what the service allows. One that knows nothing of the question, or cannot be
// asked, forbids nothing by that.
func (h *Hook) allowance(ctx context.Context, origin string) (webhook.Allowance, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodOptions, h.address, nil)
	if err != nil {
		return webhook.Allowance{}, err
	}
	webhook.Ask(req, origin)
	answer, err := h.http.Do(ctx, req)
	if err != nil {
		return webhook.Allowance{}, err
	}
	return webhook.Allowed(answer.Header, origin), nil
}
