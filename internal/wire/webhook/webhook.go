// Package webhook writes and checks signed events: CloudEvents 1.0 in
// structured JSON mode, signed as Standard Webhooks 1.0.
//
//	body, _ := webhook.Encode(event)
//	header, _ := webhook.Sign(event.ID, now, body, secret)
package webhook

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// ContentType of a structured CloudEvent (CloudEvents HTTP binding 3.2).
const ContentType = event.ApplicationCloudEventsJSON

// Event is one message (CloudEvents 1.0.2, "Context Attributes"); what is empty is not sent.
type Event struct {
	ID      string
	Source  string // URI-reference of who speaks
	Type    string
	Subject string
	Time    time.Time
	Data    any
}

// Encode writes the event in structured mode (CloudEvents JSON format 1.0.2, 3).
func Encode(e Event) ([]byte, error) {
	ce := event.New()
	ce.SetID(e.ID)
	ce.SetSource(e.Source)
	ce.SetType(e.Type)
	if e.Subject != "" {
		ce.SetSubject(e.Subject)
	}
	ce.SetTime(e.Time.UTC())
	if err := ce.SetData(event.ApplicationJSON, e.Data); err != nil {
		return nil, fmt.Errorf("writing the data of event %s: %w", e.ID, err)
	}
	if err := ce.Validate(); err != nil {
		return nil, fmt.Errorf("event %s is not valid: %w", e.ID, err)
	}
	return json.Marshal(ce)
}

// Decode reads one structured event (CloudEvents JSON format 1.0.2, 3) and leaves its data as JSON.
func Decode(body []byte) (Event, json.RawMessage, error) {
	var ce event.Event
	if err := json.Unmarshal(body, &ce); err != nil {
		return Event{}, nil, fmt.Errorf("reading a CloudEvent: %w", err)
	}
	return Event{
		ID: ce.ID(), Source: ce.Source(), Type: ce.Type(), Subject: ce.Subject(),
		Time: ce.Time(),
	}, ce.Data(), nil
}

// NewSecret makes a signing secret: "whsec_" and 32 random bytes in base64 (Standard Webhooks 1.0,
// "Secrets").
func NewSecret() string {
	key := make([]byte, 32)
	_, _ = rand.Read(key) // never fails, see crypto/rand
	return "whsec_" + base64.StdEncoding.EncodeToString(key)
}

// ErrSecret means that a text is no signing secret.
var ErrSecret = errors.New(`a signing secret is "whsec_" followed by base64 of 24 to 64 bytes`)

// CheckSecret reports whether the secret can be used for signing.
func CheckSecret(secret string) error {
	rest, ok := strings.CutPrefix(secret, "whsec_")
	key, err := base64.StdEncoding.DecodeString(rest)
	if !ok || err != nil || len(key) < 24 || len(key) > 64 {
		return ErrSecret
	}
	return nil
}

// ErrID means that a message has an id that cannot be signed: a full stop in it would make the text
// that is signed mean two things.
var ErrID = errors.New("the id of a message must not be empty nor hold a full stop")

// Sign gives the three headers of a signed message (Standard Webhooks 1.0). The id stays the same
// in every attempt, so that the receiver can drop repeats. While a secret is changed, each of the
// secrets signs, so that receivers with any of them take it; empty ones do not.
func Sign(id string, at time.Time, body []byte, secrets ...string) (http.Header, error) {
	if id == "" || strings.Contains(id, ".") {
		return nil, fmt.Errorf("%w: %q", ErrID, id)
	}
	var signatures []string
	for i, secret := range secrets {
		if secret == "" && i > 0 {
			continue
		}
		if err := CheckSecret(secret); err != nil {
			return nil, err
		}
		hook, err := standardwebhooks.NewWebhook(secret)
		if err != nil {
			return nil, fmt.Errorf("using the signing secret: %w", err)
		}
		signature, err := hook.Sign(id, at, body)
		if err != nil {
			return nil, fmt.Errorf("signing message %s: %w", id, err)
		}
		signatures = append(signatures, signature)
	}
	h := http.Header{}
	h.Set(standardwebhooks.HeaderWebhookID, id)
	h.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(at.Unix(), 10))
	h.Set(standardwebhooks.HeaderWebhookSignature, strings.Join(signatures, " "))
	return h, nil
}

// Verify checks the signature and that the message is at most five minutes old
// or ahead. It returns the message id.
func Verify(secret string, header http.Header, body []byte) (id string, err error) {
	hook, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		return "", fmt.Errorf("using the signing secret: %w", err)
	}
	if err := hook.Verify(body, header); err != nil {
		return "", fmt.Errorf("message is not properly signed: %w", err)
	}
	return header.Get(standardwebhooks.HeaderWebhookID), nil
}
