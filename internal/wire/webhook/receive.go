package webhook

import (
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode"

	"github.com/cloudevents/sdk-go/v2/event"
)

// ErrNoEvent means that a request is none of the modes of a CloudEvent.
var ErrNoEvent = errors.New("this is no CloudEvent: send application/cloudevents+json, application/cloudevents-batch+json, or ce- headers")

// Received is one event of a request, or why it cannot be used.
type Received struct {
	Event
	Data json.RawMessage
	Err  error
}

// Receive reads the events of a request in structured, batch or binary mode
// (CloudEvents HTTP binding 3). An event of a batch that cannot be used says why in
// its own place; batch tells the modes apart. An error is about the whole request.
func Receive(h http.Header, body []byte) (list []Received, batch bool, err error) {
	kind, _, _ := mime.ParseMediaType(h.Get("Content-Type"))
	switch {
	case strings.HasPrefix(kind, "application/cloudevents-batch"):
		var raw []json.RawMessage
		if err := json.Unmarshal(body, &raw); err != nil {
			return nil, true, fmt.Errorf("the body is no list of events: %w", err)
		}
		for _, text := range raw {
			list = append(list, structured(text))
		}
		return list, true, nil
	case strings.HasPrefix(kind, "application/cloudevents"):
		return []Received{structured(body)}, false, nil
	case h.Get("ce-specversion") != "" || h.Get("ce-id") != "":
		return []Received{binary(h, kind, body)}, false, nil
	}
	return nil, false, ErrNoEvent
}

func structured(text []byte) Received {
	var ce event.Event
	if err := json.Unmarshal(text, &ce); err != nil {
		return Received{Err: fmt.Errorf("reading a CloudEvent: %w", err)}
	}
	return received(ce)
}

// binary reads attributes from headers, whose values are percent-encoded (HTTP
// binding 3.1.3.2), and data from the body.
func binary(h http.Header, kind string, body []byte) Received {
	attribute := func(name string) string {
		value := h.Get("ce-" + name)
		if plain, err := url.PathUnescape(value); err == nil {
			return plain
		}
		return value
	}
	ce := event.New(attribute("specversion"))
	ce.SetID(attribute("id"))
	ce.SetSource(attribute("source"))
	ce.SetType(attribute("type"))
	if s := attribute("subject"); s != "" {
		ce.SetSubject(s)
	}
	if at := attribute("time"); at != "" {
		parsed, err := time.Parse(time.RFC3339Nano, at)
		if err != nil {
			return Received{Err: fmt.Errorf("ce-time %q is no time such as 2026-01-15T09:00:00Z", at)}
		}
		ce.SetTime(parsed)
	}
	if len(body) > 0 {
		var data any = string(body)
		if kind == "" || kind == event.ApplicationJSON || strings.HasSuffix(kind, "+json") {
			data = json.RawMessage(body)
			if !json.Valid(body) {
				return Received{Err: errors.New("the data is no JSON, although its type says so")}
			}
		}
		if err := ce.SetData(event.ApplicationJSON, data); err != nil {
			return Received{Err: err}
		}
	}
	return received(ce)
}

// mostAttribute is how long an attribute of an event may be, in bytes.
const mostAttribute = 2_000

func received(ce event.Event) Received {
	if err := ce.Validate(); err != nil {
		return Received{Err: fmt.Errorf("the event is not valid: %s",
			strings.ReplaceAll(strings.TrimSpace(err.Error()), "\n", "; "))}
	}
	for name, value := range map[string]string{
		"id": ce.ID(), "source": ce.Source(), "type": ce.Type(),
		"subject": ce.Subject(),
	} {
		if len(value) > mostAttribute {
			return Received{Err: fmt.Errorf("the event's %s has %d bytes, at most %d can be used", name, len(value),
				mostAttribute)}
		}
		if strings.ContainsFunc(value, unicode.IsControl) { // CloudEvents 1.0.2, type system
			return Received{Err: fmt.Errorf("the event's %s holds control characters", name)}
		}
	}
	data := json.RawMessage(ce.Data())
	if len(data) == 0 || !json.Valid(data) {
		text, err := json.Marshal(string(data))
		if err != nil {
			return Received{Err: err}
		}
		data = text
	}
	return Received{Event: Event{
		ID: ce.ID(), Source: ce.Source(), Type: ce.Type(), Subject: ce.Subject(),
		Time: ce.Time(),
	}, Data: data}
}
