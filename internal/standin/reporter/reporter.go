// Package reporter lets stand-ins report events to an address that a person enters on their page, as signed
// CloudEvents.
package reporter

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"sync"
	"time"

	"kanban/internal/wire/webhook"
)

// Reporter reports events to one address.
type Reporter struct {
	mu      sync.Mutex
	address string
	secret  string
	http    http.Client
}

// New makes one that does not know yet where to report.
func New() *Reporter { return &Reporter{http: http.Client{Timeout: 10 * time.Second}} }

// ErrNowhere says that nobody has said where to report.
var ErrNowhere = errors.New("nobody has said where to")

// Address is where it reports, "" for nowhere.
func (x *Reporter) Address() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.address
}

// Set takes the form with the address and the signing secret, and goes back to a page.
func (x *Reporter) Set(back string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		address, secret := r.FormValue("address"), r.FormValue("secret")
		if u, err := url.Parse(address); err != nil || !u.IsAbs() || webhook.CheckSecret(secret) != nil {
			http.Error(w, "an address and a signing secret are needed", http.StatusUnprocessableEntity)
			return
		}
		x.mu.Lock()
		x.address, x.secret = address, secret
		x.mu.Unlock()
		http.Redirect(w, r, back, http.StatusSeeOther)
	}
}

// Tell reports an event, a few times if need be.
func (x *Reporter) Tell(ctx context.Context, e webhook.Event) error {
	x.mu.Lock()
	address, secret := x.address, x.secret
	x.mu.Unlock()
	if address == "" {
		return ErrNowhere
	}
	body, err := webhook.Encode(e)
	if err != nil {
		return err
	}
	for try := 0; ; try++ {
		err = x.post(ctx, address, secret, e.ID, body)
		if err == nil || try == 3 || ctx.Err() != nil {
			return err
		}
		time.Sleep(200 * time.Millisecond << try)
	}
}

func (x *Reporter) post(ctx context.Context, address, secret, id string, body []byte) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	if req.Header, err = webhook.Sign(id, time.Now(), body, secret); err != nil {
		return err
	}
	req.Header.Set("Content-Type", webhook.ContentType)
	resp, err := x.http.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 500))
	if resp.StatusCode >= 300 {
		return fmt.Errorf("%s: %s", resp.Status, text)
	}
	return nil
}
